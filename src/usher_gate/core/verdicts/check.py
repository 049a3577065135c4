"""The check.

What was found of all people, at once or in parts, with what is asked of the whole, as one answer in its fixed order.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ..organisation.columns import MISSING, Bools, Longs
from ..organisation.services import Service
from ..organisation.snapshot import Snapshot
from ..sign_in.lockout import lockouts
from ..words.vocabulary import SEVERITIES
from .checker import Checker
from .codes import DRIFTS, EXEMPT, MEETS, VERDICTS
from .exceptions import in_force, taken_day
from .found import PartialResult, ServiceCount, together
from .others import judge_organisation, judge_partners
from .outcome import Root, VerdictDetail
from .planned import judge_meetings
from .remedy import Remedies, Somewhere
from .result import CheckResult, ExceptionRow, OtherCount, OtherFinding, ServiceRow
from .rules import AgreedException, Baseline, Rule
from .run import Narrowing, Pair, Run, reported
from .scope import not_applicable, pairs, unsupported_notes
from .tally import NO_SEVERITY, RootCount, root_rows, shares


class Workers:
    """Judges the people; subclasses divide them among several processes."""

    def __init__(self, checker: Checker, narrowing: Narrowing) -> None:
        self._run = Run(checker, narrowing)

    def judge(self, asked: Sequence[Pair], progress: Callable[[int, int], None] | None) -> list[PartialResult]:
        """Return what each part has found, in the order of the people.

        `progress(done, whole)` is called now and then.
        """
        return [self._run.judge(asked, progress)]

    def somewhere(self, method: str, asked: Any) -> list[Any]:
        """Return what each says to a question to its Mending."""
        return [getattr(self._run.mending(), method)(asked)]


def check(
    snapshot: Snapshot,
    baseline: Baseline,
    exceptions: Sequence[AgreedException] = (),
    narrowing: Narrowing | None = None,
    progress: Callable[[int, int], None] | None = None,
    workers: Callable[[Checker, Narrowing], Workers] = Workers,
) -> CheckResult:
    """Judge a snapshot against a baseline; `progress(done, whole)` is called now and then.

    `workers` may divide the people.

    Whatever exceptions and groups need to be counted whole is judged; narrowing only chooses what is reported.
    """
    narrowing, notes = narrowing or Narrowing(), set[str]()
    checker = Checker(snapshot, baseline, exceptions)
    every = asked(snapshot, baseline, exceptions, narrowing, notes)
    executor = workers(checker, narrowing)
    found = together(executor.judge([pair for pair in every if pair[0].subject == "people"], progress))
    found.notes |= notes
    others = Others(checker, narrowing, found)
    for rule, service in every:
        if rule.subject != "people":
            others.judge(rule, service)
    return _conclude(checker, narrowing, found, others, executor.somewhere)


def asked(
    snapshot: Snapshot, baseline: Baseline, exceptions: Sequence[AgreedException], narrowing: Narrowing, notes: set[str]
) -> list[Pair]:
    """Return the pairs of rule and service that have to be judged; what is to be said of some is added to the notes."""
    every = pairs(baseline, snapshot, narrowing.keeps, notes)
    return [pair for pair in every if narrowing.needs(pair[0], exceptions)]


class Others:
    """Rules about the organisation, its partners and planned meetings, judged on the whole.

    Their counts go to what was found of people.
    """

    def __init__(self, checker: Checker, narrowing: Narrowing, counts: PartialResult) -> None:
        self._checker, self._narrowing, self._counts = checker, narrowing, counts
        self.found: list[OtherFinding] = []
        self._verdicts: dict[str, Longs] = {}  # by type of subject, then code
        self._worst: dict[
            str, dict[str, int]
        ] = {}  # by type and id the worst severity that drifts, as its place in SEVERITIES

    def counts(self) -> tuple[OtherCount, ...]:
        """Return how many subjects of each type are judged and drift."""
        found = []
        for kind, worst in sorted(self._worst.items()):
            by_severity = np.bincount(np.fromiter(worst.values(), np.int64), minlength=NO_SEVERITY + 1)
            verdicts = tuple(self._verdicts[kind].tolist())
            found.append(OtherCount(kind, len(worst), tuple(by_severity[: len(SEVERITIES)].tolist()), verdicts))
        return tuple(found)

    def _count(self, rule: Rule, judged: Sequence[tuple[tuple[str, str], VerdictDetail]]) -> None:
        for (kind, name), detail in judged:
            if detail.verdict == EXEMPT:
                continue
            self._verdicts.setdefault(kind, np.zeros(len(VERDICTS), np.int64))[detail.verdict] += 1
            worst = self._worst.setdefault(kind, {})
            drifts = SEVERITIES.index(rule.severity) if detail.verdict == DRIFTS else NO_SEVERITY
            worst[name] = min(worst.get(name, NO_SEVERITY), drifts)

    def judge(self, rule: Rule, service: Service | None) -> None:
        """One rule on one service."""
        checker, counts = self._checker, self._counts
        if rule.subject == "partners":
            judged = judge_partners(rule, checker.snapshot, checker.exceptions)
        elif rule.subject == "meetings":
            judged = judge_meetings(rule, service, checker)
        else:
            judged = judge_organisation(rule, service, checker.resolver)
        if any(detail.verdict != EXEMPT for _, detail in judged.found) or rule.subject != "meetings":
            counts.judging.add(rule.id)
        for name, covered in judged.covers.items():
            counts.covers[name] = counts.covers.get(name, 0) + covered
        people = self._narrowing.people
        if not self._narrowing.keeps(rule, service.id if service else None):
            return
        counts.notes.update(judged.notes)
        if service is not None and rule.subject == "meetings":
            counts.notes.update(unsupported_notes(rule, service))
        if people is not None and judged.organisers is None:
            return
        whose = [MISSING] * len(judged.found) if judged.organisers is None else judged.organisers.tolist()
        # a report about some people speaks of them alone, and of their meetings
        mine = [
            (subject, detail, who)
            for (subject, detail), who in zip(judged.found, whose, strict=True)
            if people is None or (who != MISSING and people[who])
        ]
        self._count(rule, [(subject, detail) for subject, detail, _ in mine])
        counted = np.bincount([detail.verdict for _, detail, _ in mine], minlength=len(VERDICTS))
        counts.counts[rule.id] = counts.counts.get(rule.id, 0) + counted
        counts.by_pair[rule.id, service.id if service else None] = counted
        labels = self._labels() if rule.subject == "meetings" else {}
        verdicts = self._narrowing.verdicts
        for subject, detail, who in mine:
            if detail.verdict in (MEETS, EXEMPT):
                continue
            if detail.verdict == DRIFTS and detail.root is not None:
                self._root(detail.root, rule)
            if verdicts is None or VERDICTS[detail.verdict] in verdicts:
                label = labels.get(subject[1], "")
                self.found.append(
                    OtherFinding(
                        rule=rule,
                        service=service.id if service else None,
                        subject=subject,
                        detail=detail,
                        label=label,
                        organiser=who,
                    )
                )

    def _root(self, root: Root, rule: Rule) -> None:
        roots, more = self._counts.roots, RootCount(frozenset((rule.id,)), 0, 1)
        roots[root] = roots[root].plus(more) if root in roots else more

    def _labels(self) -> dict[str, str]:
        table = self._checker.snapshot.meetings
        if table is None or table.labels is None:
            return {}
        every = np.arange(len(table))
        return dict(zip(table.ids.take(every), table.labels.take(every), strict=True))


def _conclude(
    checker: Checker, narrowing: Narrowing, found: PartialResult, others: Others, somewhere: Somewhere
) -> CheckResult:
    """Return the whole answer, in its fixed order."""
    snapshot, chosen = checker.snapshot, reported(checker, narrowing)
    rules = tuple(rule for rule in checker.baseline.rules if rule.id in found.counts or narrowing.keeps(rule, None))
    locked = lockouts(checker.gatekeeper)
    stranded = tuple(
        replace(each, people=each.people[chosen[each.people]])
        for each in locked.stranded
        if np.any(chosen[each.people])
    )
    notes = found.notes | locked.notes | checker.gatekeeper.notes | set(snapshot.notes)
    notes |= _of_settings(checker) | _strange(checker, found.reported_rules)
    none = (0,) * len(VERDICTS)
    groups, units = snapshot.groups, snapshot.units
    drifts, worst = found.everybody(len(chosen))
    remedies = Remedies(checker, narrowing.keeps, found.wanted, found.at_doors, somewhere, narrowing.people)
    return CheckResult(
        snapshot=snapshot,
        baseline=checker.baseline,
        chosen=chosen,
        rules=rules,
        counts=tuple(_of_people(rules, found).tolist()),
        rule_counts={
            rule.id: tuple(found.counts[rule.id].tolist()) if rule.id in found.counts else none for rule in rules
        },
        pair_counts={pair: tuple(counted.tolist()) for pair, counted in found.by_pair.items()},
        blocks=tuple(sorted(found.blocks, key=lambda block: (block.rule.id, block.service or ""))),
        others=tuple(sorted(others.found, key=lambda other: (other.rule.id, other.service or "", other.subject))),
        groups=shares(found.groups, *((groups.ids, groups.names) if groups is not None else ((), ())), "group"),
        units=shares(
            found.units, units.paths if units is not None else (), (None,) * len(units.paths if units else ()), "unit"
        ),
        roots=root_rows(found.roots, {rule.id: rule.severity for rule in checker.baseline.rules}, remedies.of),
        exceptions=_exceptions(checker, found),
        clashes=tuple(sorted(found.clashes, key=lambda clash: (clash.service, clash.first, clash.second))),
        clashing_people=found.clashing,
        drifting_people=len(found.drifting),
        drifts_of=drifts,
        worst_of=worst,
        lockouts=locked.found,
        conditional=locked.conditional,
        notes=tuple(sorted(notes)),
        stranded=stranded,
        contests=tuple(
            sorted(found.contests, key=lambda each: (each.service, each.control, each.value, each.settings))
        ),
        judging_nobody=_judging_nobody(snapshot, rules, found),
        services=_services(checker, narrowing, chosen, found),
        other_counts=others.counts(),
        unclear_people=found.unclear,
        wanted=narrowing.verdicts,
    )


def _of_people(rules: Sequence[Rule], found: PartialResult) -> Longs:
    """Return all verdicts about people, by code."""
    counted = [found.counts[rule.id] for rule in rules if rule.subject == "people" and rule.id in found.counts]
    return sum(counted, np.zeros(len(VERDICTS), np.int64))


def _judging_nobody(snapshot: Snapshot, rules: Sequence[Rule], found: PartialResult) -> tuple[str, ...]:
    """Return the rules that judge no one, and do not say that they may."""
    nobody = len(snapshot.people) == 0
    return tuple(
        rule.id
        for rule in rules
        if rule.id not in found.judging and (not rule.may_judge_nobody or (nobody and rule.subject == "people"))
    )


def _services(checker: Checker, narrowing: Narrowing, chosen: Bools, found: PartialResult) -> tuple[ServiceRow, ...]:
    """Return services side by side."""
    return tuple(
        ServiceRow(
            id=service.id,
            title=service.title,
            accounts=int(np.count_nonzero(checker.resolver.accounts(service) & chosen)),
            worst=tuple(counted.worst.tolist()),
            counts=tuple(counted.counts.tolist()),
            not_applicable=tuple(rule.id for rule in not_applicable(checker.baseline, service, narrowing.keeps)),
        )
        for service in checker.snapshot.services or ()
        if narrowing.services is None or service.id in narrowing.services
        for counted in (found.services.get(service.id, ServiceCount()),)
    )


def _exceptions(checker: Checker, found: PartialResult) -> tuple[ExceptionRow, ...]:
    """Return the state of every exception today, and how many verdicts it covers."""
    today = taken_day(checker.snapshot)
    rows = []
    for exception in checker.exceptions:
        covers = found.covers.get(exception.id, 0)
        is_used = "in-force" if covers else "idle"
        state = is_used if in_force(exception, checker.snapshot) else "expired"
        days_left = (exception.until - today).days
        rows.append(
            ExceptionRow(
                id=exception.id,
                rules=exception.rules,
                state=state,
                covers=covers,
                until=exception.until.isoformat(),
                days_left=days_left,
            )
        )
    return tuple(rows)


def _strange(checker: Checker, reported_rules: set[str]) -> set[str]:
    """Return notes about values in selectors that no one has.

    Of rules about people only those that the report speaks of.
    """
    snapshot, scopes, notes = checker.snapshot, checker.scopes, set[str]()
    for rule in checker.baseline.rules:
        if rule.id in reported_rules:
            notes.update(scopes.strange(rule.audience, f"the audience of rule {rule.id}"))
            notes.update(scopes.strange(rule.exempted, f"the key except of rule {rule.id}"))
        for leaf in rule.leaves:
            notes.update(scopes.strange(leaf.selector, f"the count of rule {rule.id}"))
    used = {rule.audience for rule in checker.baseline.rules}
    for name, audience in checker.baseline.audiences.items():
        if audience not in used:
            notes.update(scopes.strange(audience, f"the audience {name}, which no rule uses,"))
    for exception in checker.exceptions:
        notes.update(scopes.strange(exception.who, f"the key who of exception {exception.id}"))
    for service in snapshot.services or ():
        notes.update(scopes.strange(service.accounts, f"the key accounts of service {service.id}"))
    for access_rule in snapshot.access_rules or ():
        for selector, whose in ((access_rule.include, "include"), (access_rule.exclude, "exclude")):
            notes.update(scopes.strange(selector, f"the key {whose} of access rule {access_rule.id}"))
    return notes


def _of_settings(checker: Checker) -> set[str]:
    """Notes about the settings."""
    snapshot = checker.snapshot
    settings = snapshot.settings
    notes = {
        f"{count} settings of service {service} at the level {level} are ignored: the service has no such level"
        for (service, level), count in checker.resolver.left_out.items()
    }
    if settings is not None and not settings.timed:
        notes.add("settings has no column changed_at: nothing is known to have settled, so no setting counts as young")
    if settings is not None and (late := int(np.count_nonzero(settings.changed > snapshot.taken_at))):
        notes.add(f"{late} settings were changed after the snapshot was taken, and count as young")
    return notes
