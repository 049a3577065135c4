"""Two snapshots judged by one baseline, and compared.

Verdicts, doors, planned meetings, lock-outs, and how far each change reaches.

Spec: changes 3.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ..door.agenda import Planned
from ..door.doors import Doors
from ..door.hosts import hosts_of
from ..door.visitors import kinds_of
from ..organisation.columns import MISSING, Bools, Ints, Longs
from ..organisation.facts import FACTS, fact
from ..organisation.services import Service
from ..organisation.snapshot import Snapshot
from ..sign_in.lockout import Lockout, lockouts
from ..verdicts.checker import Checker
from ..verdicts.codes import DRIFTS, EXCEPTED, EXEMPT, MEETS, VERDICTS
from ..verdicts.others import OtherVerdicts, judge_organisation, judge_partners
from ..verdicts.planned import judge_meetings
from ..verdicts.rules import DOOR_CONTROLS_AND_LISTS, AgreedException, Baseline, Rule
from ..verdicts.scope import services_of
from ..words.record import record
from .access import AccessMoved, access_moves
from .apply import Applied, scope_by_id
from .baselines import RuleMoved, rules_moved
from .model import Changes, Members, PartnerFlags, PeopleChange, RegisterChange, Rules, SecondFactor, Set, Unset

NOT_JUDGED = len(VERDICTS)  # of a subject that is not there
WORDS = (*VERDICTS, "not-judged")
_BY_ACCESS_RULES = ("denying-rules", "requiring-rules")
# In the order of worse these rank with `meets`: an excepted verdict is compared by what it would be.
_AS_MET = (EXEMPT, EXCEPTED, NOT_JUDGED)


@record
class VerdictMoved:
    """One verdict that is other than it was.

    Of which rule, service and subject (type, id, login or label), from what to what.
    """

    rule: str
    service: str | None
    subject: tuple[str, str, str]
    before: int
    after: int


@record
class ValueMoved:
    """A value of someone that is other than it was.

    Of which control on which service, whose (id, login), from what to what (None: none).

    `rule` names the rule whose `except` leaves them out, if that is why the value is listed.
    """

    service: str
    control: str
    person: str
    login: str
    before: str | None
    after: str | None
    rule: str = ""


@record
class NewlyMet:
    """Describes what is new at one planned meeting.

    For its invitees, and whether it is open to a stranger (`was_open` before, None where that is not known; afterwards
    as the meeting says).
    """

    meeting: Planned
    turned_away: tuple[str, ...]
    waiting: tuple[str, ...]
    walking_in: tuple[str, ...]
    need_account: tuple[str, ...]
    was_open: bool | None

    @property
    def series(self) -> tuple[object, ...]:
        """Return what the occurrences of one series have in common, at which the same is new.

        A meeting of its own is alone.
        """
        name = self.meeting.id.rpartition("/")[0] if self.meeting.recurring else ""
        lists = self.turned_away, self.waiting, self.walking_in, self.need_account
        return self.meeting.service, name or self.meeting.id, self.was_open, self.meeting.open, *lists


@record
class ChangeReach:
    """Describes how many people have another value (or fact) because of one change, and how many of these had no
    finding there to mend.
    """

    change: int
    people: int
    without_need: int


@record
class LockedOut:
    """Someone locked out of a resource: id, resource, and of which kind."""

    resource: str
    of: str
    person: str


@record
class BaselineMoved:
    """Two baselines (name and version).

    The rules that are other, and the exceptions (ids) that cover someone now and no one then.
    """

    before: tuple[str, str]
    after: tuple[str, str]
    rules: tuple[RuleMoved, ...]
    idle: tuple[str, ...]


@record
class OpenDoors:
    """Describes how many doors are open to a stranger, and of how many that is not known."""

    open: int
    unknown: int


@record
class ChangeComparison:
    """All that is other.

    `counts` are verdicts by code, before and after; `drifting` people, before and after; `moves` how many verdicts went
    from one word to another; `open_doors` None where no door is touched.
    """

    before: Snapshot
    after: Snapshot
    changes: Changes
    counts: tuple[tuple[int, ...], tuple[int, ...]]
    drifting: tuple[int, int]
    moves: Mapping[tuple[int, int], int]
    begun: tuple[VerdictMoved, ...]
    ended: tuple[VerdictMoved, ...]
    worse: tuple[VerdictMoved, ...]
    rules: Mapping[str, tuple[int, int]]
    open_doors: tuple[OpenDoors, OpenDoors] | None
    meetings: tuple[NewlyMet, ...]
    locked_begun: tuple[LockedOut, ...]
    locked_ended: tuple[LockedOut, ...]
    stranded: tuple[
        tuple[str, tuple[str, ...]], ...
    ]  # who newly gets in nowhere at a resource until they register something
    reach: tuple[ChangeReach, ...]
    access: tuple[AccessMoved, ...]  # whose possible sign-ins meet something else
    affected: tuple[ValueMoved, ...]  # of people with nothing to mend there
    weaker: tuple[ValueMoved, ...]
    protected: tuple[ValueMoved, ...]  # of people that a rule about the control leaves out by its `except`
    newly: tuple[tuple[str, str], ...]  # who drifts and did not (id, login)
    no_longer: tuple[tuple[str, str], ...]  # who drifted and does not
    still: tuple[tuple[str, str], ...]  # who drifted and does
    baseline: BaselineMoved | None  # where another baseline is rehearsed
    notes: tuple[str, ...]

    @property
    def hurts(self) -> bool:
        """Return whether a finding begins, or someone is newly locked out, stranded, turned away or not protected."""
        turned_away = any(each.turned_away for each in self.meetings)
        return bool(self.begun or self.locked_begun or self.stranded or turned_away or self.protected)


@record
class _Value:
    """A value that is other: whose (a place in the names), before and after, and the scopes that cause it."""

    service: str
    control: str
    place: int
    values: tuple[str | None, str | None]
    causes: tuple[str | None, str | None]


@dataclass
class _Tally:
    """Describes what is collected pair by pair."""

    counts: tuple[Longs, Longs] = field(
        default_factory=lambda: (np.zeros(len(VERDICTS), np.int64), np.zeros(len(VERDICTS), np.int64))
    )
    moves: dict[tuple[int, int], int] = field(default_factory=dict)
    begun: list[VerdictMoved] = field(default_factory=list)
    ended: list[VerdictMoved] = field(default_factory=list)
    worse: list[VerdictMoved] = field(default_factory=list)
    rules: dict[str, list[int]] = field(default_factory=dict)
    covered: tuple[set[str], set[str]] = field(
        default_factory=lambda: (set(), set())
    )  # the exceptions that cover someone

    def move(self, moved: VerdictMoved) -> None:
        """One verdict that is other."""
        begins, ends = moved.after == DRIFTS != moved.before, moved.before == DRIFTS != moved.after
        if begins:
            self.begun.append(moved)
            self.rules.setdefault(moved.rule, [0, 0])[0] += 1
        if ends:
            self.ended.append(moved)
            self.rules.setdefault(moved.rule, [0, 0])[1] += 1


class Compared:
    """Judges before and after: another snapshot, by another baseline where one is given."""

    def __init__(
        self,
        before: Snapshot,
        applied: Applied,
        changes: Changes,
        baseline: Baseline,
        exceptions: Sequence[AgreedException],
        then: tuple[Baseline, Sequence[AgreedException]] | None = None,
    ) -> None:
        self.changes, self.applied = changes, applied
        self._is_other_baseline = then is not None
        self.checkers = (
            Checker(before, baseline, exceptions),
            Checker(applied.snapshot, *(then or (baseline, exceptions))),
        )
        ids = [snapshot.people.ids.take(np.arange(len(snapshot.people))) for snapshot in (before, applied.snapshot)]
        self.names = sorted({*ids[0], *ids[1]})
        index = {name: number for number, name in enumerate(self.names)}
        self.places: tuple[Longs, Longs] = (
            np.array([index[name] for name in ids[0]], np.int64),
            np.array([index[name] for name in ids[1]], np.int64),
        )
        self.settings_only = all(isinstance(change, (Set, Unset)) for change in changes.changes)
        self.rules_only = all(isinstance(change, (Rules, SecondFactor)) for change in changes.changes)

    def comparison(self) -> ChangeComparison:
        """Return everything that is other."""
        tally = _Tally()
        drifts = [np.zeros(len(self.names), bool), np.zeros(len(self.names), bool)]
        logins = self._logins
        need: dict[tuple[str | None, str], set[int]] = {}
        before, after = self.checkers
        for pair in self._pairs():
            services = dict.fromkeys(
                service.id if service else None
                for rule, checker in zip(pair, self.checkers, strict=True)
                if rule is not None
                for service in services_of(rule, checker.snapshot.services)
            )
            for name in services:
                if any(rule is not None and rule.subject == "people" for rule in pair):
                    self._people(pair, name, tally, drifts, logins, need)
                else:
                    self._others(pair, name, tally, need)
        locked = self._lockouts()
        return ChangeComparison(
            before=before.snapshot,
            after=after.snapshot,
            changes=self.changes,
            counts=(tuple(tally.counts[0].tolist()), tuple(tally.counts[1].tolist())),
            drifting=(int(drifts[0].sum()), int(drifts[1].sum())),
            moves=dict(sorted(tally.moves.items())),
            begun=tuple(sorted(tally.begun, key=_order)),
            ended=tuple(sorted(tally.ended, key=_order)),
            worse=tuple(sorted(tally.worse, key=_order)),
            rules={rule: (counted[0], counted[1]) for rule, counted in sorted(tally.rules.items())},
            open_doors=self._open_doors(),
            meetings=tuple(self._meetings()),
            locked_begun=locked[0],
            locked_ended=locked[1],
            stranded=self._stranded(),
            reach=tuple(self._reach(need)),
            access=() if self.settings_only else access_moves(before.snapshot, after.snapshot),
            affected=tuple(
                self._value_moved(one)
                for one in self._moved
                if one.place not in need.get((one.service, one.control), ())
            ),
            weaker=tuple(map(self._value_moved, self._weaker())),
            protected=tuple(self._protected()),
            newly=self._named(drifts[1] & ~drifts[0], logins),
            no_longer=self._named(drifts[0] & ~drifts[1], logins),
            still=self._named(drifts[0] & drifts[1], logins),
            baseline=self._baseline_moved(tally),
            notes=self.applied.notes,
        )

    def _named(self, mask: Bools, logins: Sequence[str]) -> tuple[tuple[str, str], ...]:
        """Return some people (a mask over all names) by id and login."""
        return tuple((self.names[place], logins[place]) for place in np.flatnonzero(mask).tolist())

    def _pairs(self) -> Iterator[tuple[Rule | None, Rule | None]]:
        """Yield each rule as it is and as it would be, by id; None where there is none, or one about other subjects."""
        old, new = ({rule.id: rule for rule in checker.baseline.rules} for checker in self.checkers)
        for name in sorted({*old, *new}):
            was, then = old.get(name), new.get(name)
            if was is not None and then is not None and was.subject != then.subject:
                yield was, None
                yield None, then
            else:
                yield was, then

    def _baseline_moved(self, tally: _Tally) -> BaselineMoved | None:
        if not self._is_other_baseline:
            return None
        before, after = (checker.baseline for checker in self.checkers)
        rules = tuple(rules_moved(before, after, self.checkers[0].snapshot.catalogue))
        idle = tuple(sorted(tally.covered[0] - tally.covered[1]))
        return BaselineMoved((before.name, before.version), (after.name, after.version), rules, idle)

    @cached_property
    def _logins(self) -> list[str]:
        found = [""] * len(self.names)
        for checker, places in zip(self.checkers, self.places, strict=True):
            every = checker.snapshot.people.logins.take(np.arange(len(places)))
            for place, login in zip(places.tolist(), every, strict=True):
                found[place] = login
        return found

    def _touched(self, rule: Rule, name: str | None) -> bool:
        """Return whether a verdict of a pair may be other.

        Settings touch the pairs that look at them, access rules what sign-ins show.
        """
        if self.rules_only:
            return any(leaf.about == "proof" or leaf.name in _BY_ACCESS_RULES for leaf in rule.leaves)
        if not self.settings_only or (rule.subject == "meetings" and self._doors_touched):
            return True
        if name is None:
            return False
        service = self._service(name, self.checkers[0].snapshot)
        return any(place[0] == name and rule.looks_at(place[1], service) for place in self.applied.places)

    @staticmethod
    def _service(name: str, snapshot: Snapshot) -> Service:
        return next(service for service in snapshot.services or () if service.id == name)

    def _people(
        self,
        pair: tuple[Rule | None, Rule | None],
        name: str | None,
        tally: _Tally,
        drifts: list[np.ndarray],
        logins: list[str],
        need: dict[tuple[str | None, str], set[int]],
    ) -> None:
        """Compare the verdicts of one rule about people on one service, before and after, and add them to the tally."""
        rule = pair[0] or pair[1]
        assert rule is not None
        said, would = self._judged(pair, name, tally, self._is_other_baseline or self._touched(rule, name))
        for turn in (0, 1):
            counted = np.bincount(said[turn], minlength=NOT_JUDGED + 1)[: len(VERDICTS)]
            tally.counts[turn][:] += counted
            drifts[turn] |= said[turn] == DRIFTS
        _add_need(need, pair[0], name, np.flatnonzero(said[0] == DRIFTS).tolist())
        other = np.flatnonzero(said[0] != said[1])
        pairs, counts = np.unique(np.stack((said[0][other], said[1][other])), axis=1, return_counts=True)
        for (first, second), count in zip(pairs.T.tolist(), counts.tolist(), strict=True):
            tally.moves[first, second] = tally.moves.get((first, second), 0) + count
        worse = _goodness(would[1]) < _goodness(would[0])
        for place in np.flatnonzero((said[0] != said[1]) | worse).tolist():
            subject = "person", self.names[place], logins[place]
            tally.move(
                VerdictMoved(
                    rule=rule.id, service=name, subject=subject, before=int(said[0][place]), after=int(said[1][place])
                )
            )
            if worse[place]:
                tally.worse.append(
                    VerdictMoved(
                        rule=rule.id,
                        service=name,
                        subject=subject,
                        before=int(would[0][place]),
                        after=int(would[1][place]),
                    )
                )

    @staticmethod
    def _is_judged(rule: Rule, service: Service | None, checker: Checker) -> bool:
        """Return whether a rule is judged on a service at all."""
        return any(one is service for one in services_of(rule, checker.snapshot.services))

    def _judged(
        self, pair: tuple[Rule | None, Rule | None], name: str | None, tally: _Tally, touched: bool
    ) -> tuple[list[Ints], list[Ints]]:
        """Return the verdicts of everyone before and after, and those without exceptions.

        Where nothing that the rule looks at is touched, those after are those before.
        """
        said: list[Ints] = []
        would: list[Ints] = []
        for turn, (mine, checker) in enumerate(list(zip(pair, self.checkers, strict=True))[: 2 if touched else 1]):
            columns = [np.full(len(self.names), NOT_JUDGED, np.int32) for _ in (said, would)]
            service = None if name is None else self._service(name, checker.snapshot)
            if mine is not None and self._is_judged(mine, service, checker):
                verdicts = checker.judge(mine, service)
                tally.covered[turn].update(
                    exception for exception, covered in verdicts.covers.items() if np.any(covered)
                )
                for column, whole in zip((verdicts.verdict, verdicts.would_be), columns, strict=True):
                    whole[self.places[turn]] = column
            said.append(columns[0])
            would.append(columns[1])
        if not touched:
            said.append(said[0])
            would.append(would[0])
            tally.covered[1].update(tally.covered[0])
        return said, would

    def _others(
        self,
        pair: tuple[Rule | None, Rule | None],
        name: str | None,
        tally: _Tally,
        need: dict[tuple[str | None, str], set[int]],
    ) -> None:
        """Compare the verdicts of one rule about subjects other than people, before and after.

        What drifts at a planned meeting is its organiser's to mend.
        """
        found: list[dict[tuple[str, str], tuple[int, int]]] = []
        rule = pair[0] or pair[1]
        assert rule is not None
        for turn, (mine, checker) in enumerate(zip(pair, self.checkers, strict=True)):
            service = None if name is None else self._service(name, checker.snapshot)
            if mine is None or not self._is_judged(mine, service, checker):
                found.append({})
                continue
            judged = _judge_other(mine, service, checker)
            tally.covered[turn].update(exception for exception, covered in judged.covers.items() if covered)
            if judged.organisers is not None and not turn:
                drifting = np.array([detail.verdict == DRIFTS for _, detail in judged.found], bool)
                _add_need(need, mine, name, self.places[0][judged.organisers[drifting]].tolist())
            found.append(
                {
                    subject: (detail.verdict, detail.verdict if detail.would_be is None else detail.would_be)
                    for subject, detail in judged.found
                }
            )
        nothing = NOT_JUDGED, NOT_JUDGED
        for subject in sorted({*found[0], *found[1]}):
            first, second = (each.get(subject, nothing) for each in found)
            worse = bool(_goodness(np.array([second[1]]))[0] < _goodness(np.array([first[1]]))[0])
            if first[0] != second[0]:
                tally.moves[first[0], second[0]] = tally.moves.get((first[0], second[0]), 0) + 1
                tally.move(
                    VerdictMoved(rule=rule.id, service=name, subject=(*subject, ""), before=first[0], after=second[0])
                )
            if worse:
                tally.worse.append(
                    VerdictMoved(rule=rule.id, service=name, subject=(*subject, ""), before=first[1], after=second[1])
                )

    # doors and meetings

    @property
    def _doors_touched(self) -> bool:
        if any(place[1] in DOOR_CONTROLS_AND_LISTS for place in self.applied.places):
            return True
        return any(
            isinstance(change, (Members, PartnerFlags))
            or (isinstance(change, PeopleChange) and bool("active" in change.cells or change.added or change.removed))
            for change in self.changes.changes
        )

    def _open_doors(self) -> tuple[OpenDoors, OpenDoors] | None:
        if not self._doors_touched:
            return None
        found = []
        for checker in self.checkers:
            doors = [
                door
                for service in checker.snapshot.services or ()
                if kinds_of(service)
                for door in Doors(hosts_of(checker.resolver, service)).doors()
            ]
            found.append(OpenDoors(sum(door.open for door in doors), sum(door.unknown for door in doors)))
        return found[0], found[1]

    def _meetings(self) -> Iterator[NewlyMet]:
        """Yield the planned meetings at which someone is newly turned away, let in, made to wait or to sign in."""
        if not self._doors_touched:
            return
        before = {(each.service, each.id): each for each in self.checkers[0].agenda.all()}
        for after in self.checkers[1].agenda.all():
            was = before.get((after.service, after.id))
            if was is None:
                continue
            turned, waiting, walking, needing = (
                tuple(address for address in getattr(after, name) if address not in set(getattr(was, name)))
                for name in ("turned_away", "waiting", "walking_in", "need_account")
            )
            if turned or waiting or walking or needing or was.open != after.open:
                yield NewlyMet(
                    meeting=after,
                    turned_away=turned,
                    waiting=waiting,
                    walking_in=walking,
                    need_account=needing,
                    was_open=was.open,
                )

    # lock-outs

    def _lockouts(self) -> tuple[tuple[LockedOut, ...], tuple[LockedOut, ...]]:
        if self.settings_only:
            return (), ()
        sets = [_locked(lockouts(checker.gatekeeper).found) for checker in self.checkers]
        begun, ended = sorted(sets[1] - sets[0]), sorted(sets[0] - sets[1])
        return tuple(LockedOut(*each) for each in begun), tuple(LockedOut(*each) for each in ended)

    def _stranded(self) -> tuple[tuple[str, tuple[str, ...]], ...]:
        if self.settings_only:
            return ()
        found: list[dict[str, set[str]]] = []
        for checker in self.checkers:
            ids = checker.snapshot.people.ids
            found.append({each.resource: set(ids.take(each.people)) for each in lockouts(checker.gatekeeper).stranded})
        new = {resource: people - found[0].get(resource, set()) for resource, people in found[1].items()}
        return tuple((resource, tuple(sorted(people))) for resource, people in sorted(new.items()) if people)

    # reach

    def _reach(self, need: Mapping[tuple[str | None, str], set[int]]) -> Iterator[ChangeReach]:
        by_place = self._by_place()
        for number, change in enumerate(self.changes.changes, 1):
            people: set[int] = set()
            without: set[int] = set()
            if number in self.applied.real:
                chosen = self._chosen(number, change)
                for key, mine in self._reached(number, change, by_place):
                    mine = mine if chosen is None else mine & chosen
                    people |= mine
                    without |= mine - need.get(key, set())
            yield ChangeReach(number, len(people), len(without))

    def _chosen(self, number: int, change: object) -> set[int] | None:
        """Return the people that a change is about: those chosen, or those in the group only before or only after.

        None means a change that chooses no people.
        """
        if isinstance(change, Members):
            return self._members(0, change.group) ^ self._members(1, change.group)
        chosen = self.applied.chosen_people.get(number)
        return None if chosen is None else {place for place, name in enumerate(self.names) if name in chosen}

    def _members(self, turn: int, group: str) -> set[int]:
        """Return the people in a group before (turn 0) or after (1), members of groups inside it included."""
        snapshot = self.checkers[turn].snapshot
        if snapshot.groups is None or group not in snapshot.group_index:
            return set()
        return set(self.places[turn][snapshot.groups.members(snapshot.group_index[group])].tolist())

    def _reached(
        self, number: int, change: object, by_place: Mapping[tuple[str, str, str], set[int]]
    ) -> Iterator[tuple[tuple[str | None, str], set[int]]]:
        """Yield the values that one change reaches, as (service, control or fact) with the numbers of the people."""
        if isinstance(change, (Set, Unset)):
            for place, numbers in self.applied.places.items():
                if number in numbers:
                    yield (place[0], place[1]), by_place.get(place, set())
            return
        names: Sequence[str] = ()
        if isinstance(change, (Members, PeopleChange)):
            yield from self._by_no_setting.items()
        if isinstance(change, PeopleChange):
            names = [*change.cells, *change.added]
        elif isinstance(change, RegisterChange):
            names = [name for name in FACTS if name.startswith("authenticators.") or name == "can-show"]
        elif isinstance(change, Members):
            names = ["denying-rules", "requiring-rules"]
        elif isinstance(change, (PartnerFlags, Rules, SecondFactor)):
            names = ["denying-rules", "requiring-rules", *(["can-show"] if isinstance(change, PartnerFlags) else [])]
        for name in names:
            if name == "active":
                yield (None, name), set(np.setxor1d(*self.places).tolist())
            elif name in FACTS:
                yield (None, name), self._other_fact(name)

    def _other_fact(self, name: str) -> set[int]:
        columns = []
        for checker, places in zip(self.checkers, self.places, strict=True):
            column = fact(name, checker.snapshot)
            whole: list[str | None] = [None] * len(self.names)
            if column is not None:
                for place, code in zip(places.tolist(), column.codes.tolist(), strict=True):
                    whole[place] = None if code == MISSING else column.words[code]
            columns.append(whole)
        both = set(self.places[0].tolist()) & set(self.places[1].tolist())
        return {place for place in both if columns[0][place] != columns[1][place]}

    @cached_property
    def _by_no_setting(self) -> dict[tuple[str | None, str], set[int]]:
        """Return the people whose value differs although no changed setting gives it, neither before nor after."""
        found: dict[tuple[str | None, str], set[int]] = {}
        for one in self._values:
            if not any((one.service, one.control, scope) in self.applied.places for scope in one.causes):
                found.setdefault((one.service, one.control), set()).add(one.place)
        return found

    def _by_place(self) -> dict[tuple[str, str, str], set[int]]:
        """Return the people whose value is other, by each place that caused it before or after."""
        found: dict[tuple[str, str, str], set[int]] = {}
        for one in self._values:
            for scope in one.causes:
                if scope is not None:
                    found.setdefault((one.service, one.control, scope), set()).add(one.place)
        return found

    @cached_property
    def _values(self) -> list[_Value]:
        """Return every value of someone that is other, by service, control and person."""
        asked = {(place[0], place[1]) for place in self.applied.places}
        if any(isinstance(change, (Members, PeopleChange)) for change in self.changes.changes):
            resolver = self.checkers[0].resolver
            for one in self.checkers[0].snapshot.services or ():
                needing = one.controls & one.needs.keys()
                # A person who loses or gets an account loses or gets the service's defaults with it.
                defaults = frozenset(() if one.accounts is None else one.factory)
                asked |= {(one.id, control) for control in resolver.controls_set(one) | needing | defaults}
        found: list[_Value] = []
        names = dict(zip(self._logins_folded(), self.names, strict=True)) | {name: name for name in self.names}
        for service, control in sorted(asked):
            words: dict[str | None, int] = {None: 0}
            codes, at = np.zeros((2, len(self.names)), np.int64), np.full((2, len(self.names)), MISSING)
            sides: list[list[tuple[str | None, str | None]]] = []  # of each place what it says, and its scope
            for turn, (checker, places) in enumerate(zip(self.checkers, self.places, strict=True)):
                at_service = self._service(service, checker.snapshot)
                effective = checker.resolver.effective(at_service, control)
                causes = [effective.cause(number) for number in range(len(effective))]
                sides.append([(each.value, scope_by_id(each.scope, names)) for each in causes])
                has = checker.resolver.accounts(at_service)
                if effective.unlicensed and effective.lacking is not None:
                    has = has & ~effective.lacking
                here = effective.places[has]
                numbers = np.array([words.setdefault(each.value, len(words)) for each in causes], np.int64)
                codes[turn, places[has]], at[turn, places[has]] = numbers[here], here
            for place in np.flatnonzero(codes[0] != codes[1]).tolist():
                (was, by), (then, then_by) = (
                    (None, None) if at[turn, place] == MISSING else sides[turn][int(at[turn, place])] for turn in (0, 1)
                )
                found.append(
                    _Value(service=service, control=control, place=place, values=(was, then), causes=(by, then_by))
                )
        return found

    @cached_property
    def _moved(self) -> list[_Value]:
        """Return the values that differ, of people who are there before and after, of controls that their service
        supports.
        """
        both = set(self.places[0].tolist()) & set(self.places[1].tolist())
        controls = {service.id: service.controls for service in self.checkers[0].snapshot.services or ()}
        return [one for one in self._values if one.place in both and one.control in controls[one.service]]

    def values_moved(self) -> list[ValueMoved]:
        """Return every value that changes, for people who are active before and after."""
        return [self._value_moved(one) for one in self._moved]

    def _value_moved(self, one: _Value, rule: str = "") -> ValueMoved:
        before, after = one.values
        return ValueMoved(
            service=one.service,
            control=one.control,
            person=self.names[one.place],
            login=self._logins[one.place],
            before=before,
            after=after,
            rule=rule,
        )

    def _weaker(self) -> Iterator[_Value]:
        """Yield the changed values that are weaker than before; each pair of values is compared once."""
        catalogue = self.checkers[0].snapshot.catalogue.index
        is_weaker: dict[tuple[str, tuple[str | None, str | None]], bool] = {}
        for one in self._moved:
            key = one.control, one.values
            if key not in is_weaker:
                kind, (before, after) = catalogue[one.control].kind, one.values
                is_weaker[key] = before is not None and (
                    after is None or kind.strictness(after) < kind.strictness(before)
                )
            if is_weaker[key]:
                yield one

    def _protected(self) -> Iterator[ValueMoved]:
        """Yield the values of people that a rule about the control leaves out by its `except`, before the changes."""
        # For each service and control, the rules whose `except` leaves out someone, with these people.
        left_out: dict[tuple[str, str], list[tuple[str, frozenset[int]]]] = {}
        for one in self._moved:
            key = one.service, one.control
            if key not in left_out:
                left_out[key] = list(self._left_out(*key))
            for rule, places in left_out[key]:
                if one.place in places:
                    yield self._value_moved(one, rule)

    def _left_out(self, name: str, control: str) -> Iterator[tuple[str, frozenset[int]]]:
        """Yield each rule (id) about a control of a service, and the people that its `except` leaves out now."""
        checker = self.checkers[0]
        service = self._service(name, checker.snapshot)
        for rule in checker.baseline.rules:
            mask = checker.scopes.left_out_of([rule], service, control)
            if mask is not None and np.any(mask):
                yield rule.id, frozenset(self.places[0][mask].tolist())

    def _logins_folded(self) -> list[str]:
        return [login.casefold() for login in self._logins]


def _add_need(
    need: dict[tuple[str | None, str], set[int]], rule: Rule | None, service: str | None, people: Sequence[int]
) -> None:
    """Note that some people have something to mend where a rule looks: by service (None for facts) and control."""
    if rule is None or not people:
        return
    for leaf in rule.leaves:
        if leaf.about in ("control", "person"):
            need.setdefault((service if leaf.about == "control" else None, leaf.name), set()).update(people)
        elif leaf.about == "door":
            for control in DOOR_CONTROLS_AND_LISTS:
                need.setdefault((service, control), set()).update(people)


def _judge_other(rule: Rule, service: Service | None, checker: Checker) -> OtherVerdicts:
    if rule.subject == "partners":
        return judge_partners(rule, checker.snapshot, checker.exceptions)
    if rule.subject == "meetings":
        return judge_meetings(rule, service, checker)
    return judge_organisation(rule, service, checker.resolver)


def _goodness(codes: np.ndarray) -> np.ndarray:
    """Verdicts in the order of worse: what is exempt, excepted or not judged ranks with what meets."""
    return np.where(np.isin(codes, _AS_MET), MEETS, codes)


def _locked(found: Sequence[Lockout]) -> set[tuple[str, str, str]]:
    return {(each.resource, each.of, person) for each in found for person in each.people}


def _order(moved: VerdictMoved) -> tuple[str, str, str, str]:
    return moved.rule, moved.service or "", moved.subject[0], moved.subject[1]
