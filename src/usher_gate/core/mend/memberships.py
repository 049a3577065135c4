"""Memberships as edits: a plan may take people out of groups, beside changing settings.

One removed membership is one edit, no cheaper than a setting. Removals must be harmless by themselves: no verdict gets
worse, no value gets weaker for people with nothing to fix, no value changes that an exception or an `except` protects,
and the same rules judge the same people. For each set of removals the best plan of settings is computed anew, as long
as the time suffices. Spec: mending 1.3.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from ..changes.apply import Applied, apply_changes
from ..changes.compare import Compared, ValueMoved
from ..changes.model import Changes, Members
from ..organisation.build.table import Table
from ..organisation.columns import Bools
from ..organisation.settings import GROUP
from ..organisation.snapshot import Snapshot
from ..verdicts.checker import Checker
from ..verdicts.codes import EXCEPTED, EXEMPT
from ..words.faults import Faults
from .ended import count_findings
from .leftovers import SEEN, LeftOver
from .mending import Membership, MendingRequest, MendingResult, OnProgress, mend, title_of

_MOST_TRIED = 400  # sets of removals
_SHARE = 0.2  # of the time for the plan without memberships, at most
Removals = tuple[Members, ...]
Need = Mapping[tuple[str, str], Bools]  # by service and control, a mask of the people with something to fix


def mend_with_memberships(
    snapshot: Snapshot,
    tables: Mapping[str, Table],
    asked: MendingRequest,
    clock: Callable[[], float],
    seconds: float,
    on_progress: OnProgress | None = None,
) -> MendingResult:
    """Find the fewest edits of settings and memberships within so many seconds; see `mend`."""
    until = clock() + seconds
    plain = mend(snapshot, tables, asked, clock, seconds * _SHARE, on_progress)
    search = _Search(snapshot, tables, asked, plain)
    best, is_complete = search.best(clock, until)
    notes = set(best.notes)
    if not is_complete:
        notes.add(
            "not every choice of memberships was tried: there may be plans of fewer edits; --seconds gives it longer"
        )
    if search.refused_count:
        count = search.refused_count
        kept = "1 membership stays" if count == 1 else f"{count:,} memberships stay"
        notes.add(f"{kept} although what the group sets drifts: without it something else would get worse or weaker")
    return replace(best, notes=tuple(sorted(notes)), tried_all=is_complete)


class _Search:
    """The search among sets of removals, starting from the plan without any."""

    def __init__(
        self, snapshot: Snapshot, tables: Mapping[str, Table], asked: MendingRequest, plain: MendingResult
    ) -> None:
        self._snapshot, self._tables, self._asked, self._plain = snapshot, tables, asked, plain
        self._need: Need = {
            (part.found.judging.service.id, control): mask
            for part in plain.parts
            for control, mask in part.found.judging.need.items()
        }
        self.refused_count = 0  # memberships whose removal alone would hurt

    def best(self, clock: Callable[[], float], until: float) -> tuple[MendingResult, bool]:
        """Return the best plan, and whether every set of removals was tried."""
        best, tried_count = self._plain, 0
        candidates = list(self._candidates())
        level: list[tuple[Removals, int]] = [((), 0)]  # harmless sets, each with the first candidate that may join it
        while level:
            next_level: list[tuple[Removals, int]] = []
            for removals, start in level:
                # A larger set cannot be better than the best plan, unless that leaves something unfixed.
                if len(removals) >= best.many and not best.left:
                    continue
                for place in range(start, len(candidates)):
                    if clock() > until or tried_count >= _MOST_TRIED:
                        return best, False
                    tried_count += 1
                    larger = (*removals, candidates[place])
                    applied = self._apply_if_harmless(larger)
                    if applied is None:
                        self.refused_count += not removals
                        continue
                    next_level.append((larger, place + 1))
                    plan = self._plan(larger, applied, clock, until)
                    if plan is not None and _preference(plan) < _preference(best):
                        best = plan
            level = next_level
        return best, True

    def _candidates(self) -> Iterator[Members]:
        """Yield the direct memberships of people with something to fix in a control that the group sets.

        Settings of groups around it count, too. Controls that few people have to fix come first: a person who does not
        belong in a group is alone there.
        """
        groups, settings = self._snapshot.groups, self._snapshot.settings
        if groups is None or settings is None:
            return
        services = {service.id: number for number, service in enumerate(self._snapshot.services or ())}
        counts: dict[tuple[int, int], list[int]] = {}  # by group and person, how many people need each control
        for (service, control), need_mask in self._need.items():
            if control not in settings.controls:
                continue
            rows = (settings.kind == GROUP) & (settings.service == services[service])
            rows &= settings.control == settings.controls.index(control)
            for group in sorted(set(settings.target[rows].tolist())):
                members = groups.members(group)
                needing = members[need_mask[members]]
                for inner in self._within(group):
                    for person in np.intersect1d(needing, groups.direct.of(inner)).tolist():
                        counts.setdefault((inner, person), []).append(len(needing))
        for group, person in sorted(counts, key=lambda key: (min(counts[key]), -len(counts[key]), key)):
            yield Members(groups.ids[group], (), (self._snapshot.people.ids.take(np.array([person]))[0],))

    def _within(self, group: int) -> list[int]:
        """Return a group and the groups nested in it."""
        groups = self._snapshot.groups
        assert groups is not None
        found, waiting = {group}, [group]
        while waiting:
            inner = set(groups.inside.of(waiting.pop()).tolist()) - found
            found |= inner
            waiting += inner
        return sorted(found)

    def _apply_if_harmless(self, removals: Removals) -> Applied | None:
        """Apply the removals from groups if no one is worse off after them, else return None."""
        compared = self._compared(removals)
        if compared is None:
            return None
        comparison, terms = compared.comparison(), self._asked.terms
        weaker = {(value.service, value.control, value.person) for value in comparison.weaker}
        affected = {(value.service, value.control, value.person) for value in comparison.affected}
        is_harmful = (
            comparison.begun
            or comparison.worse
            or comparison.locked_begun
            or comparison.stranded
            or any(EXEMPT in move for move in comparison.moves)
            or (comparison.protected and not terms.through_exceptions)
            or (weaker & affected and not terms.weaken)
            or (any(meeting.turned_away for meeting in comparison.meetings) and not terms.turn_away)
            or (not terms.through_exceptions and self._changes_excepted_value(compared))
        )
        return None if is_harmful else compared.applied

    def _compared(self, removals: Sequence[Members], settings: Changes | None = None) -> Compared | None:
        """Return the comparison with these removals and changes of settings; None where they cannot be applied."""
        changes = (*removals, *(settings.changes if settings is not None else ()))
        whole = Changes(title_of(len(changes)), None, changes, (0,) * len(changes))
        faults = Faults()
        applied = apply_changes(self._snapshot, self._tables, whole, "the plan", faults)
        if applied is None or faults.found:
            return None
        return Compared(self._snapshot, applied, whole, self._asked.baseline, self._asked.exceptions)

    def _changes_excepted_value(self, compared: Compared) -> bool:
        """Return whether a value changes that an agreed exception covers."""
        checker = compared.checkers[0]
        values = compared.values_moved()
        for service in self._snapshot.services or ():
            here = [value for value in values if value.service == service.id]
            for rule in checker.baseline.rules if here else ():
                if rule.subject != "people" or not rule.applies_to(service):
                    continue
                verdicts = checker.judge(rule, service).verdict
                looked_at = [value for value in here if rule.looks_at(value.control, service)]
                if any(verdicts[self._number(value.person)] == EXCEPTED for value in looked_at):
                    return True
        return False

    def _number(self, person: str) -> int:
        return self._snapshot.people.ids.find(person)[0]

    def _has_need(self, value: ValueMoved) -> bool:
        mask = self._need.get((value.service, value.control))
        return mask is not None and bool(mask[self._number(value.person)])

    def _plan(
        self, removals: Removals, applied: Applied, clock: Callable[[], float], until: float
    ) -> MendingResult | None:
        """Return the best plan with these removals; None where it would have too many edits or hurt."""
        plain, limit = self._plain, self._asked.limit
        if limit is not None and limit < len(removals):
            return None
        asked = replace(self._asked, limit=None if limit is None else limit - len(removals))
        rest = mend(applied.snapshot, applied.tables, asked, clock, max(until - clock(), 0.0))
        whole = self._compared(removals, rest.changes)
        if whole is None:
            return None
        comparison = whole.comparison()
        if comparison.begun or comparison.worse:
            return None
        values = whole.values_moved()
        affected = tuple(value for value in values if not self._has_need(value))
        seen = tuple(self._seen_otherwise(rest, whole.checkers[1]))
        counts = count_findings(*whole.checkers, self._asked.terms)
        ended, people = counts.ended, self._snapshot.people
        return replace(
            rest,
            snapshot=self._snapshot,
            changes=whole.changes,
            comparison=comparison,
            memberships=tuple(self._membership(removal, removals, rest.changes, ended) for removal in removals),
            drifting=plain.drifting,
            mendable=plain.mendable,
            ended=ended,
            freed=tuple(zip(people.ids.take(counts.freed), people.logins.take(counts.freed), strict=True)),
            touched=len(values),
            without=len(affected),
            affected=affected,
            limit=limit,
            left=rest.left + len(seen),
            left_over=(*rest.left_over, *seen),
        )

    def _seen_otherwise(self, rest: MendingResult, after: Checker) -> Iterator[LeftOver]:
        """Yield verdicts that a setting made drift and that now drift by an observation, which `rest` does not know."""
        known = {(left.rule, left.service, left.subject) for left in rest.left_over}
        for part in self._plain.parts:
            judging = part.found.judging
            for rule in judging.rules:
                if rule.subject != "people":
                    continue
                left = np.flatnonzero(judging.left_of(rule, judging.said(rule, after)))
                for name in self._snapshot.people.ids.take(left):
                    if (rule.id, judging.service.id, ("person", name)) not in known:
                        yield LeftOver(rule.id, judging.service.id, ("person", name), *SEEN)

    def _membership(self, removal: Members, removals: Removals, settings: Changes, ended: int) -> Membership:
        """Return one removed membership: what would be left without it, and what else changes with it alone."""
        without = self._compared([other for other in removals if other is not removal], settings)
        alone = self._compared([removal])
        assert without is not None and alone is not None
        (name,) = removal.remove
        person = self._number(name)
        before, after = (checker.gatekeeper for checker in alone.checkers)
        return Membership(
            group=removal.group,
            person=name,
            login=self._snapshot.people.logins.take(np.array([person]))[0],
            ended=ended - count_findings(*without.checkers, self._asked.terms).ended,
            also=tuple(value for value in alone.values_moved() if not self._has_need(value)),
            rules=tuple(
                rule.id
                for number, rule in enumerate(before.rules)
                if bool(before.included(number)[person]) != bool(after.included(number)[person])
            ),
        )


def _preference(plan: MendingResult) -> tuple[int, int, int, int]:
    return plan.left, plan.many, plan.without, plan.touched
