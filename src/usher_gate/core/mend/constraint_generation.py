"""Learning from a plan that is not right: rows that it breaks and every right one keeps.

Spec: mending 4.4."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import numpy as np

from ..door.hosts import LISTED, MAY_START, START
from ..door.visitors import (
    AUDIENCES,
    BEFORE,
    OUTCOMES,
    PASSCODES,
    PERSONAL,
    SHOWS,
    TELEPHONE,
    TELEPHONE_PASSCODE,
    WAY_CONTROLS,
    Visit,
)
from ..verdicts.codes import UNKNOWN
from ..verdicts.condition import Leaf
from ..verdicts.rules import DOOR_CONTROLS_AND_LISTS, Rule
from .integer_program import NOTHING, ONE, Term, negated, total, value_of
from .judging import INVITEE, PlanScore
from .model import Model, Open
from .trees import WatchedTree
from .walks import EquivalenceClass, Item, PlaceKey


class ConstraintGeneration:
    """Adds constraints to a program that a plan breaks and every right plan keeps."""

    def __init__(self, model: Model) -> None:
        self._model, self._judging, self._walks = model, model.judging, model.walks
        self._variables, self._program = model.variables, model.program

    def learn(self, weighed: PlanScore, values: np.ndarray) -> bool:
        """Adds what a plan broke; says whether anything was added."""
        size, people = len(self._program), self._walks.of_person
        new = False
        broken: list[tuple[EquivalenceClass, Rule | None, str]] = []
        for against in weighed.against:
            rule = next((rule for rule in self._judging.rules if rule.id == against.rule), None)
            if rule is not None and rule.subject == "organisation":
                new |= self._model.include_organisation()
                assert self._walks.organisation is not None
                broken.append((self._walks.organisation, rule, against.kind))
                continue
            unknown = [person for person in against.people.tolist() if person not in people]
            new |= self._model.include_people(unknown)
            for number in against.meetings.tolist():
                new |= self._model.include_meeting(number)
            met = {
                people[person].name: people[person] for person in against.people.tolist() if person not in set(unknown)
            }
            broken += [(alike, rule, against.kind) for alike in met.values()]
            broken += [(self._walks.of_meeting[number], rule, against.kind) for number in against.meetings.tolist()]
        if new:
            return True
        for alike, rule, kind in broken:
            self._forbid(alike, rule, kind, weighed, values, NOTHING)
        for alike, rule in self._left(weighed):
            known = self._model.open.get((alike.name, rule.id))
            if known is None:
                term = self._program.variable()
                known = self._model.open[alike.name, rule.id] = Open(alike, rule, term)
            if value_of(known.term, values) < 0.5:
                self._forbid(alike, rule, "", weighed, values, known.term)
        return len(self._program) > size

    def _left(self, weighed: PlanScore) -> Iterable[tuple[EquivalenceClass, Rule]]:
        for rule in self._judging.rules:
            if rule.subject == "people":
                for person in np.flatnonzero(weighed.open_people[rule.id]).tolist():
                    if person not in self._walks.of_person:
                        self._model.include_people([person])
                    yield self._walks.of_person[person], rule
            elif rule.subject == "meetings":
                for number in np.flatnonzero(weighed.open_meetings[rule.id]).tolist():
                    self._model.include_meeting(number)
                    yield self._walks.of_meeting[number], rule
            elif weighed.open_organisation[rule.id]:
                self._model.include_organisation()
                assert self._walks.organisation is not None
                yield self._walks.organisation, rule

    def _forbid(
        self,
        alike: EquivalenceClass,
        rule: Rule | None,
        kind: str,
        weighed: PlanScore,
        values: np.ndarray,
        escape: Term,
    ) -> None:
        """A row that the plan breaks and every right one keeps.

        By which door something gets better (or stops no one any more), or else that things may not stand as they do on
        this walk.
        """
        door = self._by_door(alike, rule, kind, weighed, values, escape)
        if door:
            return
        controls = self._judging.controls if rule is None else sorted(self._judging.controls_of(rule))
        if kind == INVITEE:
            controls = [control for control in self._judging.controls if control in DOOR_CONTROLS_AND_LISTS]
        self._not_so([alike], controls, values, escape)

    def _not_so(
        self, alike: Sequence[EquivalenceClass], controls: Iterable[str], values: np.ndarray, escape: Term
    ) -> None:
        """Something has to change.

        The item that counts for one of the controls, or, for sets, the items on the walks.
        """
        controls = list(controls)
        if len(alike) == 1 and not any(self._contestable(alike[0], control) for control in controls):
            ways = []
            for control in controls:
                items = alike[0].items.get(control, [])
                standing = [item for item in items if value_of(self._variables.is_there(item), values) > 0.5]
                if standing:
                    counts = max(standing, key=lambda item: item.strength).says
                    part = self._program.variable()
                    self._variables.accept(alike[0], control, [item.says != counts for item in items], part)
                    ways.append(part)
            self._program.at_least(total([*ways, escape]), 1)
            return
        keys: dict[PlaceKey, None] = {}
        for one in alike:
            for control in controls:
                keys |= {item.place: None for item in one.items.get(control, []) if item.place is not None}
        otherwise = []
        for key in keys:
            options = self._variables.options(key)
            chosen = [term for term in options.values() if value_of(term, values) > 0.5]
            otherwise.append(negated(chosen[0]) if chosen else total(options.values()))
        self._program.at_least(total([*otherwise, escape]), 1)

    def _contestable(self, alike: EquivalenceClass, control: str) -> bool:
        """Return whether several groups may disagree about a set."""
        groups = {item.place for item in alike.items.get(control, ()) if (item.scope or "").startswith("group:")}
        return self._judging.base.snapshot.catalogue.index[control].kind.name == "set" and len(groups) > 1

    def _by_door(
        self,
        alike: EquivalenceClass,
        rule: Rule | None,
        kind: str,
        weighed: PlanScore,
        values: np.ndarray,
        escape: Term,
    ) -> bool:
        """Return rows about doors.

        Of the gates on the way of the visitor who is let in, one has to be stricter than it would be (or weaker, of
        someone who is turned away).
        """
        if kind == INVITEE:
            return self._gates(alike, None, -1, weighed, ONE, escape)
        if rule is None:
            return False
        made = False
        for watched in self._model.rules.watched.get((alike.name, rule.id), ()):
            if value_of(watched.term, values) < 0.5:
                continue
            state = self._door_now(watched, weighed)
            if state is not None and state[0] < watched.goodness:
                direction = 0 if state[0] == UNKNOWN else _direction(watched.leaf)
                made |= self._gates(alike, state[1], direction, weighed, watched.term, NOTHING)
        return made

    def _door_now(self, watched: WatchedTree, weighed: PlanScore) -> tuple[int, Visit | None] | None:
        """Return what a leaf about doors says under the plan, and of which visitor."""
        from ..verdicts.planned import judge_leaves

        trial, judging, alike = weighed.trial, self._judging, watched.alike
        assert trial is not None
        if alike.subject == "people":
            judged = trial.judge(watched.rule, judging.service).judged
            at = alike.person
        else:
            judged, at = judge_leaves(watched.rule, judging.service, trial), alike.meeting
        one = next((each for each in judged if each.leaf.number == watched.leaf.number), None)
        if one is None:
            return None
        outcome = one.outcome(int(one.codes[at]))
        return outcome.verdict, outcome.visit

    def _gates(
        self, alike: EquivalenceClass, visit: Visit | None, direction: int, weighed: PlanScore, term: Term, escape: Term
    ) -> bool:
        """Return one of the controls that decide about a visitor has to be otherwise, in the direction that helps."""
        strict = self._judging.base.snapshot.catalogue.index
        ways = []
        for control in self._judging.controls:
            if control not in alike.items or not _concerns(control, visit):
                continue
            value, pinned = self._standing(alike, control, weighed)
            items = alike.items[control]
            plain = control not in (MAY_START, START, LISTED) and strict[control].kind.ordered
            helps = self._helping(control, value, pinned, direction, plain)
            good = [helps(item) for item in items]
            if any(good):
                part = self._program.variable()
                self._variables.accept(alike, control, good, part)
                ways.append(part)
        self._program.at_least(total([*ways, term.times(-1), escape]), 0)
        return True

    def _helping(
        self, control: str, value: str | None, pinned: bool, direction: int, plain: bool
    ) -> Callable[[Item], bool]:
        """Return whether an item in place of what counts could help a visitor's outcome in a direction."""
        strictness = self._judging.base.snapshot.catalogue.index[control].kind.strictness

        def helps(item: Item) -> bool:
            if (item.value, item.pinned) == (value, pinned):
                return False
            if not plain or item.value is None or value is None or direction == 0:
                return True
            further = strictness(item.value) - strictness(value)
            return bool(further * direction > 0 or (item.pinned != pinned and direction > 0))

        return helps

    def _standing(self, alike: EquivalenceClass, control: str, weighed: PlanScore) -> tuple[str | None, bool]:
        """Return what counts of a control under the plan."""
        trial = weighed.trial
        assert trial is not None
        if alike.subject == "meetings":
            planned = trial.agenda.services[self._judging.service.id]
            value, cause = planned.value(control, alike.meeting)
            return value, cause.pinned if cause is not None else False
        effective = trial.resolver.effective(self._judging.service, control)
        place = int(effective.places[alike.person])
        return effective.values[place], bool(effective.pinned[place])


def _direction(leaf: Leaf) -> int:
    """Return whether a leaf about doors is helped by stricter gates (1), by weaker ones (-1), or by either (0)."""
    assert leaf.comparison is not None
    good = tuple(leaf.comparison.passes(word) for word in OUTCOMES[:3])
    if list(good) == sorted(good):
        return 1
    return -1 if list(good) == sorted(good, reverse=True) else 0


def _concerns(control: str, visit: Visit | None) -> bool:
    """Return whether a control can decide about a visitor."""
    if control not in DOOR_CONTROLS_AND_LISTS:
        return False
    if visit is None:
        return True
    own = {
        **{name: way == visit.way for way, name in WAY_CONTROLS.items()},
        **{name: kind == visit.kind for kind, name in PASSCODES.items()},
        **{name: kind == visit.kind for kind, name in AUDIENCES.items()},
        TELEPHONE_PASSCODE: visit.way == TELEPHONE,
        "door.telephone-waits": visit.way == TELEPHONE,
        "door.personal-room": visit.kind == PERSONAL,
        "door.host-first": visit.moment == BEFORE,
        LISTED: False,
    }
    if control in own:
        return own[control]
    return visit.kind not in SHOWS or control in (MAY_START, START, "line.encryption")
