"""Spells: runs of consecutive checks with the same verdict about one subject; what is new, gone and back is read off them.

A finding is open from the first spell in which it drifts until it is judged and does not drift, or its subject or rule is gone. What is not
known, or covered by an exception, in between does not end it: its age goes on. Source: history, section 1 and 2; readings 41 and 42;
answers, F 40.
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
from ..verdicts.result import Block, CheckResult
from ..words.record import record

NOT_JUDGED = "not-judged"  # a finding that could not be judged at a check, because what it needs was missing
KEPT = frozenset(("drifts", "loose", "unknown", "unavailable", "settling", "excepted", NOT_JUDGED))
NEW, BACK, STILL, GONE, LEFT, NEW_RULE, NO_RULE = "new", "back", "still", "gone", "left", "new-rule", "no-rule"
DRIFTING, NOT_KNOWN, COVERED = "drifts", "not-known-now", "excepted"  # what an open finding is at a check
STATES = {
    "drifts": DRIFTING,
    **dict.fromkeys(("unknown", "unavailable", "settling", NOT_JUDGED), NOT_KNOWN),
    "excepted": COVERED,
}  # of the verdicts that do not end a finding
WHAT = (NEW, BACK, NEW_RULE, STILL, NOT_KNOWN, COVERED, GONE, LEFT, NO_RULE)  # in the order in which they are told
DECIDED = "decided"  # the kind of count that a review's decision is
MOVES = tuple(word for word in WHAT if word != STILL)
WORSE = (NEW, BACK)


class Key(NamedTuple):
    """What a verdict is about: rule, service ("" for none), and the subject's type and id."""

    rule: str
    service: str
    type: str
    id: str


@record
class Spell:
    """A run of checks with one verdict: from which (by number) to which (None: it lasts); `left` says that whom it was about has gone."""

    key: Key
    verdict: str
    first: int
    last: int | None
    left: bool


class Lot(NamedTuple):
    """What some findings have in common: rule, service ("" for none), the subjects' type, and the verdict."""

    rule: str
    service: str
    type: str
    verdict: str

    def key(self, name: str) -> Key:
        """What the finding about a subject of this id is about."""
        return Key(self.rule, self.service, self.type, name)


Lots = Mapping[Lot, Collection[str]]  # by lot the ids of its subjects
Standing = Mapping[Lot, Mapping[str, int]]  # by lot and id the check in which the spell began
Open = Mapping[
    Lot, Mapping[str, int]
]  # open findings: by lot (`verdict` is one of STATES' words) and id the check in which they began


def kept_findings(result: CheckResult) -> dict[Lot, list[str]]:
    """The findings of a check that are kept."""
    found: dict[Lot, list[str]] = {}
    ids = result.snapshot.people.ids
    for finding in result.findings():
        service = finding.service or ""
        if not isinstance(finding, Block):
            lot = Lot(finding.rule.id, service, finding.subject[0], VERDICTS[finding.tail.verdict])
            found.setdefault(lot, []).append(finding.subject[1])
            continue
        verdicts = np.array([tail.verdict for tail in finding.tails], np.int8)[finding.tail]
        for verdict in sorted_unique(verdicts.astype(np.int64)).tolist():
            lot = Lot(finding.rule.id, service, "person", VERDICTS[verdict])
            if lot.verdict in KEPT:
                found.setdefault(lot, []).extend(ids.take(finding.people[verdicts == verdict]))
    return {lot: names for lot, names in found.items() if lot.verdict in KEPT}


@record
class There:
    """What can be judged at a check: the ids of active people and of meetings that are still to come, the services, whether partners and
    all people are known, and the rules. None stands for a table that the snapshot does not have."""

    people: frozenset[str]
    meetings: frozenset[str] | None
    services: frozenset[str] | None = None
    partners_known: bool = True
    people_whole: bool = True
    rules: frozenset[str] = frozenset()

    def lacks(self, key: Key) -> bool:
        """Whether the subject of a verdict is gone: a person who is not active any more, a meeting that has passed, or whose organiser is
        not active any more."""
        if key.type == "person":
            return key.id not in self.people
        return key.type == "meeting" and self.meetings is not None and key.id not in self.meetings

    def cannot_judge(self, key: Key) -> bool:
        """Whether a finding cannot be judged, because its service, a table or a source is missing."""
        if key.rule not in self.rules:
            return False
        if key.service and (self.services is None or key.service not in self.services):
            return True
        if key.type == "person":
            return not self.people_whole and key.id not in self.people
        return not self.partners_known if key.type == "partner" else key.type == "meeting" and self.meetings is None


def there(snapshot: Snapshot, rules: Collection[str]) -> There:
    """What can be judged at a snapshot's time."""
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
    return There(people, meetings, services, partners, snapshot.people_whole, frozenset(rules))


def unjudged(lasting: Standing, found: Lots, around: There) -> dict[Lot, list[str]]:
    """The findings that could not be judged, to be kept as such: of those in lasting spells that may be open, and of which nothing else was
    found."""
    told: dict[tuple[str, str, str], set[str]] = {}
    for lot, names in found.items():
        told.setdefault(lot[:3], set()).update(names)
    made: dict[Lot, list[str]] = {}
    for lot, some in lasting.items():
        if lot.verdict in STATES:
            missing = some.keys() - told.get(lot[:3], set())
            names = [name for name in missing if around.cannot_judge(lot.key(name))]
            if names:
                made.setdefault(lot._replace(verdict=NOT_JUDGED), []).extend(names)
    return made


def began_at(spells: Iterable[Spell], number: int) -> int | None:
    """The check in which a finding began that is open at a check; None if it is not. `spells` are those of one subject, in order."""
    began, end = None, None
    for spell in spells:
        if spell.first > number or spell.verdict not in STATES:
            continue
        if end is None or spell.first != end + 1:
            began = None
        if began is None and spell.verdict == DRIFTING:
            began = spell.first
        end = spell.last
        if spell.last is None or spell.last >= number:
            return began
    return None


@record
class Changed:
    """What became of one drift between two checks; `first` is the check in which its present (or last) spell began."""

    key: Key
    what: str
    first: int


@record
class Between:
    """The open findings at two checks, those that had drifted before the earlier one and were not open then, of those that ended in between
    whose subject has left, and the rules of both baselines."""

    before: Open
    after: Open
    ever: Lots
    left: Lots
    rules_then: frozenset[str]
    rules_now: frozenset[str]

    def moves(self) -> Iterator[tuple[Lot, str, Mapping[str, int]]]:
        """What became of every finding, by lot (of the verdict `drifts`): the word, and whose, with the check in which it began."""
        for place in sorted({lot[:3] for lot in (*self.before, *self.after)}):
            lot = Lot(*place, DRIFTING)
            then = _of_place(self.before, place)
            now, unknown, covered = (
                self.after.get(lot._replace(verdict=state), {}) for state in (DRIFTING, NOT_KNOWN, COVERED)
            )
            yield lot, STILL, {name: first for name, first in now.items() if name in then}
            fresh = now.keys() - then.keys()
            ended = then.keys() - now.keys() - unknown.keys() - covered.keys()
            if lot.rule not in self.rules_then:
                yield lot, NEW_RULE, {name: now[name] for name in fresh}
            else:
                again = fresh.intersection(self.ever.get(lot, ()))
                yield lot, BACK, {name: now[name] for name in again}
                yield lot, NEW, {name: now[name] for name in fresh - again}
            yield lot, NOT_KNOWN, unknown
            yield lot, COVERED, covered
            away = ended.intersection(self.left.get(lot, ()))
            yield lot, LEFT, {name: then[name] for name in away}
            yield lot, GONE if lot.rule in self.rules_now else NO_RULE, {name: then[name] for name in ended - away}

    def changed(self) -> list[Changed]:
        """What became of every finding, by what it is about."""
        found = [
            Changed(lot.key(name), what, first) for lot, what, some in self.moves() for name, first in some.items()
        ]
        return sorted(found, key=lambda one: one.key)

    def counts(self) -> dict[str, int]:
        """How many findings became what."""
        found = dict.fromkeys(WHAT, 0)
        for _, what, some in self.moves():
            found[what] += len(some)
        return found


def _of_place(findings: Open, place: tuple[str, str, str]) -> dict[str, int]:
    """The open findings of a rule, service and type of subject, whatever their state."""
    return {
        name: first
        for state in (DRIFTING, NOT_KNOWN, COVERED)
        for name, first in findings.get(Lot(*place, state), {}).items()
    }


def beside(kept: Between, found: Lots, now: int, around: There) -> Between:
    """The open findings at a kept check beside those that were found at a later one, `now`, which is not kept."""
    after: dict[Lot, dict[str, int]] = {}
    lasting: dict[tuple[str, str, str], dict[str, int]] = {}
    for place in {lot[:3] for lot in kept.before}:
        lasting[place] = _of_place(kept.before, place)
    unknown = unjudged({Lot(*place, DRIFTING): some for place, some in lasting.items()}, found, around)
    for lot, names in (*found.items(), *unknown.items()):
        state, then = STATES.get(lot.verdict), lasting.get(lot[:3], {})
        if state == DRIFTING:
            began = {name: then.get(name, now) for name in names}
        else:
            began = {name: then[name] for name in names if name in then}
        if state is not None and began:
            after.setdefault(lot._replace(verdict=state), {}).update(began)
    left = {}
    for place, some in lasting.items():
        ended = some.keys() - _of_place(after, place).keys()
        lot = Lot(*place, DRIFTING)
        left[lot] = {name for name in ended if around.lacks(lot.key(name))}
    return replace(kept, after=after, left=left)


def counted(result: CheckResult) -> dict[tuple[str, str], int]:
    """What else is kept of a check: by kind and name a number."""
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
    for place, name in enumerate(("critical", "high", "medium", "low")):
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
class Decision:
    """What a review of guests decided of a guest's account or membership, and the check by which that stood."""

    review: str
    place: str
    fate: str
    check: int


def decision_name(review: str, guest: str, place: str, fate: str) -> str:
    """What a decision is counted under."""
    return json.dumps([review, guest, place, fate], ensure_ascii=False)


def decisions_of(rows: Iterable[tuple[int, str, str, int | None]], guest: str) -> list[Decision]:
    """The decisions about a guest, of the rows in which counts moved: (check, kind, name, number)."""
    found = []
    for check, kind, name, many in rows:
        if kind == DECIDED and many is not None:
            review, whose, place, fate = json.loads(name)
            if whose == guest:
                found.append(Decision(review, place, fate, check))
    return found


def roots_of(counts: Mapping[tuple[str, str], int]) -> dict[Root, int]:
    """How many drifts came from each root at a check."""
    found = {}
    for (kind, name), number in counts.items():
        if kind == "root":
            service, control, scope, value = name.split("\t", 3)
            found[Root(service or None, control, scope or None, value or None)] = number
    return found


def open_doors(counts: Mapping[tuple[str, str], int]) -> int:
    """How many doors were open at a check: of rooms, not of shows, which are open to whoever may watch (as `door` counts them)."""
    return sum(
        number for (kind, name), number in counts.items() if kind == "door" and name.rpartition("\t")[2] not in SHOWS
    )
