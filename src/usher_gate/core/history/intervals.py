"""Intervals: runs of consecutive checks with the same verdict about one subject.

What is new, gone and back is read off them.

A finding is open from the first interval in which it drifts until it is judged and does not drift, or its subject or
rule is gone. What is not known, or covered by an exception, in between does not end it: its age goes on. Spec: history
1.2 and 2.1.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from ..door.visitors import SHOWS
from ..organisation.columns import MISSING, sorted_unique
from ..organisation.snapshot import Snapshot
from ..verdicts.codes import DRIFTS, VERDICTS
from ..verdicts.outcome import Root
from ..verdicts.result import CheckResult, FindingBlock
from ..words.record import record
from ..words.vocabulary import SEVERITIES

NOT_JUDGED = "not-judged"  # a finding that could not be judged at a check, because what it needs was missing
KEPT = frozenset(("drifts", "loose", "unknown", "unavailable", "settling", "excepted", NOT_JUDGED))
NEW, BACK, STILL, GONE, LEFT, NEW_RULE, NO_RULE = "new", "back", "still", "gone", "left", "new-rule", "no-rule"
DRIFTING, NOT_KNOWN, COVERED = "drifts", "not-known-now", "excepted"  # what an open finding is at a check
STATES = {
    "drifts": DRIFTING,
    **dict.fromkeys(("unknown", "unavailable", "settling", NOT_JUDGED), NOT_KNOWN),
    "excepted": COVERED,
}  # of the verdicts that do not end a finding
WHAT = (NEW, BACK, NEW_RULE, STILL, NOT_KNOWN, COVERED, GONE, LEFT, NO_RULE)  # in the order in which they are shown
DECIDED = "decided"  # the kind of count that a review's decision is
MOVES = tuple(word for word in WHAT if word != STILL)
WORSE = (NEW, BACK)


class IntervalKey(NamedTuple):
    """Describes what a verdict is about: rule, service ("" for none), and the subject's type and id."""

    rule: str
    service: str
    type: str
    id: str


@record
class Interval:
    """A run of checks with one verdict: from which (by number) to which (None: it lasts).

    `left` says that the subject is no longer there.
    """

    key: IntervalKey
    verdict: str
    first: int
    last: int | None
    left: bool


class FindingGroup(NamedTuple):
    """Describes what some findings have in common: rule, service ("" for none), the subjects' type, and the verdict."""

    rule: str
    service: str
    type: str
    verdict: str

    def key(self, name: str) -> IntervalKey:
        """Return what the finding about a subject of this id is about."""
        return IntervalKey(self.rule, self.service, self.type, name)


Lots = Mapping[FindingGroup, Collection[str]]  # by group of findings the ids of its subjects
Standing = Mapping[FindingGroup, Mapping[str, int]]  # by group of findings and id the check in which the interval began
Open = Mapping[
    FindingGroup, Mapping[str, int]
]  # open findings: by group of findings (`verdict` is one of STATES' words) and id the check in which they began


def kept_findings(result: CheckResult) -> dict[FindingGroup, list[str]]:
    """Return the findings of a check that are kept."""
    found: dict[FindingGroup, list[str]] = {}
    ids = result.snapshot.people.ids
    for finding in result.findings():
        service = finding.service or ""
        if not isinstance(finding, FindingBlock):
            finding_group = FindingGroup(finding.rule.id, service, finding.subject[0], VERDICTS[finding.detail.verdict])
            found.setdefault(finding_group, []).append(finding.subject[1])
            continue
        verdicts = np.array([detail.verdict for detail in finding.details], np.int8)[finding.detail]
        for verdict in sorted_unique(verdicts.astype(np.int64)).tolist():
            finding_group = FindingGroup(finding.rule.id, service, "person", VERDICTS[verdict])
            if finding_group.verdict in KEPT:
                found.setdefault(finding_group, []).extend(ids.take(finding.people[verdicts == verdict]))
    return {finding_group: names for finding_group, names in found.items() if finding_group.verdict in KEPT}


@record
class Present:
    """Describes what can be judged at a check.

    The ids of active people and of meetings that are still to come, the services, whether partners and all people are
    known, and the rules. None means a table that the snapshot does not have.
    """

    people: frozenset[str]
    meetings: frozenset[str] | None
    services: frozenset[str] | None = None
    partners_known: bool = True
    people_whole: bool = True
    rules: frozenset[str] = frozenset()

    def lacks(self, key: IntervalKey) -> bool:
        """Return whether the subject of a verdict is gone.

        A person who is not active any more, a meeting that has passed, or whose organiser is not active any more.
        """
        if key.type == "person":
            return key.id not in self.people
        return key.type == "meeting" and self.meetings is not None and key.id not in self.meetings

    def cannot_judge(self, key: IntervalKey) -> bool:
        """Return whether a finding cannot be judged, because its service, a table or a source is missing."""
        if key.rule not in self.rules:
            return False
        if key.service and (self.services is None or key.service not in self.services):
            return True
        if key.type == "person":
            return not self.people_whole and key.id not in self.people
        return not self.partners_known if key.type == "partner" else key.type == "meeting" and self.meetings is None


def there(snapshot: Snapshot, rules: Collection[str]) -> Present:
    """Return what can be judged at a snapshot's time."""
    ids = snapshot.people.ids
    people = frozenset(ids.take(np.arange(len(snapshot.people), dtype=np.int32)))
    table, meetings = snapshot.meetings, None
    if table is not None:
        coming = table.starts >= snapshot.taken_at
        if table.recurring is not None:
            coming = coming | table.recurring.astype(bool)
        coming = coming & (table.organiser != MISSING)
        meetings = frozenset(table.ids.take(np.flatnonzero(coming).astype(np.int32)))
    services = None if snapshot.services is None else frozenset(service.id for service in snapshot.services)
    partners = snapshot.partners is not None
    return Present(
        people=people,
        meetings=meetings,
        services=services,
        partners_known=partners,
        people_whole=snapshot.people_whole,
        rules=frozenset(rules),
    )


def unjudged(lasting: Standing, found: Lots, around: Present) -> dict[FindingGroup, list[str]]:
    """Return the findings that could not be judged, to be kept as such.

    Of those in lasting intervals that may be open, and of which nothing else was found.
    """
    judged_again: dict[tuple[str, str, str], set[str]] = {}
    for finding_group, names in found.items():
        judged_again.setdefault(finding_group[:3], set()).update(names)
    made: dict[FindingGroup, list[str]] = {}
    for finding_group, some in lasting.items():
        if finding_group.verdict in STATES:
            missing = some.keys() - judged_again.get(finding_group[:3], set())
            names = [name for name in missing if around.cannot_judge(finding_group.key(name))]
            if names:
                made.setdefault(finding_group._replace(verdict=NOT_JUDGED), []).extend(names)
    return made


def began_at(intervals: Iterable[Interval], number: int) -> int | None:
    """Return the check in which a finding began that is open at a check; None if it is not.

    `intervals` are those of one subject, in order.
    """
    began, end = None, None
    for interval in intervals:
        if interval.first > number or interval.verdict not in STATES:
            continue
        if end is None or interval.first != end + 1:
            began = None
        if began is None and interval.verdict == DRIFTING:
            began = interval.first
        end = interval.last
        if interval.last is None or interval.last >= number:
            return began
    return None


@record
class Changed:
    """Describes what became of one finding between two checks.

    `first` is the check in which its present (or last) interval began.
    """

    key: IntervalKey
    what: str
    first: int


@record
class Between:
    """The open findings at two checks, those that had drifted before the earlier one and were not open then, of those
    that ended in between whose subject has left, and the rules of both baselines.
    """

    before: Open
    after: Open
    ever: Lots
    left: Lots
    rules_then: frozenset[str]
    rules_now: frozenset[str]

    def moves(self) -> Iterator[tuple[FindingGroup, str, Mapping[str, int]]]:
        """Yield what became of every finding, by group of findings (of the verdict `drifts`).

        The word, and whose, with the check in which it began.
        """
        for place in sorted({finding_group[:3] for finding_group in (*self.before, *self.after)}):
            finding_group = FindingGroup(*place, DRIFTING)
            then = _of_place(self.before, place)
            now, unknown, covered = (
                self.after.get(finding_group._replace(verdict=state), {}) for state in (DRIFTING, NOT_KNOWN, COVERED)
            )
            yield finding_group, STILL, {name: first for name, first in now.items() if name in then}
            fresh = now.keys() - then.keys()
            ended = then.keys() - now.keys() - unknown.keys() - covered.keys()
            if finding_group.rule not in self.rules_then:
                yield finding_group, NEW_RULE, {name: now[name] for name in fresh}
            else:
                again = fresh.intersection(self.ever.get(finding_group, ()))
                yield finding_group, BACK, {name: now[name] for name in again}
                yield finding_group, NEW, {name: now[name] for name in fresh - again}
            yield finding_group, NOT_KNOWN, unknown
            yield finding_group, COVERED, covered
            away = ended.intersection(self.left.get(finding_group, ()))
            yield finding_group, LEFT, {name: then[name] for name in away}
            yield (
                finding_group,
                GONE if finding_group.rule in self.rules_now else NO_RULE,
                {name: then[name] for name in ended - away},
            )

    def changed(self) -> list[Changed]:
        """Return what became of every finding, by what it is about."""
        found = [
            Changed(finding_group.key(name), what, first)
            for finding_group, what, some in self.moves()
            for name, first in some.items()
        ]
        return sorted(found, key=lambda one: one.key)

    def counts(self) -> dict[str, int]:
        """Return how many findings became what."""
        found = dict.fromkeys(WHAT, 0)
        for _, what, some in self.moves():
            found[what] += len(some)
        return found


def _of_place(findings: Open, place: tuple[str, str, str]) -> dict[str, int]:
    """Return the open findings of a rule, service and type of subject, whatever their state."""
    return {
        name: first
        for state in (DRIFTING, NOT_KNOWN, COVERED)
        for name, first in findings.get(FindingGroup(*place, state), {}).items()
    }


def beside(kept: Between, found: Lots, now: int, around: Present) -> Between:
    """Return the open findings at a kept check beside those found at a later one, `now`, which is not kept."""
    after: dict[FindingGroup, dict[str, int]] = {}
    lasting: dict[tuple[str, str, str], dict[str, int]] = {}
    for place in {finding_group[:3] for finding_group in kept.before}:
        lasting[place] = _of_place(kept.before, place)
    unknown = unjudged({FindingGroup(*place, DRIFTING): some for place, some in lasting.items()}, found, around)
    for finding_group, names in (*found.items(), *unknown.items()):
        state, then = STATES.get(finding_group.verdict), lasting.get(finding_group[:3], {})
        if state == DRIFTING:
            began = {name: then.get(name, now) for name in names}
        else:
            began = {name: then[name] for name in names if name in then}
        if state is not None and began:
            after.setdefault(finding_group._replace(verdict=state), {}).update(began)
    left = {}
    for place, some in lasting.items():
        ended = some.keys() - _of_place(after, place).keys()
        finding_group = FindingGroup(*place, DRIFTING)
        left[finding_group] = {name for name in ended if around.lacks(finding_group.key(name))}
    return replace(kept, after=after, left=left)


def counted(result: CheckResult) -> dict[tuple[str, str], int]:
    """Return what else is kept of a check: by kind and name a number."""
    people = result.snapshot.people
    found: dict[tuple[str, str], int] = {
        ("people", ""): int(np.count_nonzero(result.chosen)),
        ("drifting", ""): result.drifting_people,
    }
    for name, number in zip(VERDICTS, result.counts, strict=True):
        found["verdict", name] = int(number)
    for rule in result.rules:
        found["rule", rule.id] = int(result.rule_counts[rule.id][DRIFTS])
    worst = result.worst_of
    for place, name in enumerate(SEVERITIES):
        found["severity", name] = int(np.count_nonzero(worst == place))
    for kind, shares in (("group", result.groups), ("unit", result.units)):
        for owner, whole, drifting in zip(
            shares.owner.tolist(), shares.as_a_whole.tolist(), shares.drifting.tolist(), strict=True
        ):
            if whole:
                found[kind, shares.ids[owner]] = max(found.get((kind, shares.ids[owner]), 0), drifting)
    for row in result.roots:
        root = row.root
        found["root", "\t".join(word or "" for word in root)] = row.verdicts
    for exception in result.exceptions:
        found["exception", exception.id] = exception.days_left
    protection, keys = people.protection, result.snapshot.authenticators
    if protection is not None and "heightened" in protection.words:
        code = protection.words.index("heightened")
        held = np.zeros(len(people), np.int64)
        if keys is not None:
            hard = [number for number, name in enumerate(keys.kinds) if name.endswith("crypto-device")]
            np.add.at(held, keys.person[np.isin(keys.kind, hard)], 1)
        some = np.flatnonzero(protection.codes == code)
        for name, number in zip(people.ids.take(some), held[some].tolist(), strict=True):
            found["heightened", name] = number
    return found


@record
class ReviewDecision:
    """Describes what a review decided of a guest's account or membership, and the check by which that was so."""

    review: str
    place: str
    fate: str
    check: int


def decision_name(review: str, guest: str, place: str, fate: str) -> str:
    """Return what a decision is counted under."""
    return json.dumps([review, guest, place, fate], ensure_ascii=False)


def decisions_of(rows: Iterable[tuple[int, str, str, int | None]], guest: str) -> list[ReviewDecision]:
    """Return the decisions about a guest, of the rows in which counts moved: (check, kind, name, number)."""
    found = []
    for check, kind, name, many in rows:
        if kind == DECIDED and many is not None:
            review, whose, place, fate = json.loads(name)
            if whose == guest:
                found.append(ReviewDecision(review, place, fate, check))
    return found


def roots_of(counts: Mapping[tuple[str, str], int]) -> dict[Root, int]:
    """Return how many drifts came from each root at a check."""
    found = {}
    for (kind, name), number in counts.items():
        if kind == "root":
            service, control, scope, value = name.split("\t", 3)
            found[Root(service or None, control, scope or None, value or None)] = number
    return found


def open_doors(counts: Mapping[tuple[str, str], int]) -> int:
    """Return how many doors were open at a check.

    Of rooms, not of shows, which are open to everyone who may watch (as `door` counts them).
    """
    return sum(
        number for (kind, name), number in counts.items() if kind == "door" and name.rpartition("\t")[2] not in SHOWS
    )
