"""People (and meetings, and the organisation) folded into those who are alike for a component, and what can be set on
the walk of each.

An *item* is one setting that may be at a place on a walk: the one that is there now, or the one that an edit would put
there. The strongest item of a walk counts; so a value is kept out by keeping every item with that value from being the
strongest.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ..door.agenda import own_settings
from ..organisation.columns import MISSING, NO_RANK, NO_TIME, Bools, Longs
from ..organisation.settings import GROUP, MEETING, ORGANISATION, PERSON, UNIT
from ..organisation.units import lineage
from ..settings.edited import NewValue, SettingTarget, step_of
from ..settings.effective import DEEPEST, EVERYBODY, Effective
from ..words.record import record
from ..words.values import Kind
from ..words.vocabulary import LEVELS
from .candidates import CandidateEdits
from .deadline import NEVER_PASSES, Deadline
from .judging import Judging

PlaceKey = tuple[
    str, int, Hashable
]  # of a place: control, kind, and its number (of the person place of a class: the class's name)
Strength = tuple[object, ...]


@record
class Item:
    """A setting that may be at a place: `given` is None for the one there now (always there with `place` None).

    `current` marks today's cause.
    """

    place: PlaceKey | None
    given: NewValue | None
    strength: Strength
    standing: Strength
    value: str | None
    pinned: bool
    young: bool
    current: bool
    scope: str | None

    @property
    def says(self) -> tuple[object, ...]:
        """Return everything of an item that a verdict may depend on."""
        return self.value, self.pinned, self.young, self.current, (self.scope or "").partition(":")[0], self.standing[1]


@dataclass(eq=False)
class EquivalenceClass:
    """Subjects that are alike for a component.

    `people` are their numbers; of a meeting its number, of the organisation none.

    `fixed` are the controls whose value no setting decides (for want of a licence, say), with that value; `items` the
    rest.
    """

    name: int
    subject: str
    people: Longs
    person: int
    meeting: int = MISSING
    items: dict[str, list[Item]] = field(default_factory=dict)
    fixed: dict[str, str | None] = field(default_factory=dict)

    @property
    def many(self) -> int:
        """Return how many subjects they are."""
        return max(len(self.people), 1)


def _backwards(text: str) -> tuple[int, ...]:
    """Return a key by which texts are sorted the other way round."""
    return (*(-ord(letter) for letter in text), 1)


class Walks:
    """Folds the subjects of a component, and gives the items on their walks."""

    def __init__(self, judging: Judging, offers: CandidateEdits, values: Mapping[str, Sequence[str]]) -> None:
        self.judging, self.offers, self._values = judging, offers, values
        self.service, self.snapshot = judging.service, judging.base.snapshot
        self.alike: list[EquivalenceClass] = []
        self.of_person: dict[int, EquivalenceClass] = {}
        self.of_meeting: dict[int, EquivalenceClass] = {}
        self.organisation: EquivalenceClass | None = None
        self.edit_targets: dict[
            PlaceKey, list[SettingTarget]
        ] = {}  # the places that a key means: one, or one for each person alike
        self.options: dict[PlaceKey, list[NewValue]] = {}
        self._places: dict[str, dict[tuple[int, int], int]] = {}

    def _effective(self, control: str) -> Effective:
        return self.judging.base.resolver.effective(self.service, control)

    # folding

    def add_people(self, people: Iterable[int], deadline: Deadline = NEVER_PASSES) -> list[EquivalenceClass]:
        """Folds people who are not known yet; gives the new ones. Raises OutOfTime."""
        fresh = np.array(sorted(set(people) - self.of_person.keys()), np.int64)
        if not len(fresh):
            return []
        columns = [column[fresh] for column in self._signs]
        bits = [np.packbits(mask[:, fresh], axis=0) for mask in self._memberships if len(mask)]
        columns += [row.astype(np.int64) for block in bits for row in block]
        matrix = np.stack(columns, axis=1) if columns else np.zeros((len(fresh), 1), np.int64)
        _, which = np.unique(matrix, axis=0, return_inverse=True)
        order = np.argsort(which.reshape(-1), kind="stable")
        starts = np.flatnonzero(np.concatenate(([True], np.diff(which.reshape(-1)[order]) != 0)))
        found = []
        for some in np.split(fresh[order], starts[1:]):
            deadline.check()
            alike = EquivalenceClass(len(self.alike), "people", some, int(some[0]))
            self._walk(alike)
            self.alike.append(alike)
            found.append(alike)
            for person in some.tolist():
                self.of_person[person] = alike
        return found

    @cached_property
    def _signs(self) -> list[Longs]:
        """Return what distinguishes people, one column a thing; without memberships of groups."""
        judging, size = self.judging, self.judging.size
        found: list[Longs] = []
        if self.snapshot.units is not None:
            found.append(self.snapshot.units.codes.astype(np.int64))
        for control in judging.controls:
            effective = self._effective(control)
            states: dict[tuple[object, ...], int] = {}
            # The state of each setting of a person: two people with equal ones are interchangeable.
            own = np.full(len(effective), MISSING, np.int64)
            for place in np.flatnonzero(effective.kinds == PERSON).tolist():
                state = effective.values[place], bool(effective.pinned[place]), bool(effective.young[place])
                own[place] = states.setdefault(state, len(states))
            mine = np.full(size, MISSING, np.int64)
            places = np.flatnonzero((effective.kinds == PERSON) & (effective.targets >= 0))
            mine[effective.targets[places]] = own[places]
            # Which setting is effective; -2 means a person's own, whose state is the column before.
            at_own = effective.kinds[effective.places] == PERSON
            found += [mine, np.where(at_own, -2, effective.places.astype(np.int64))]
            # What the mending may do for each person.
            for mask in (judging.there[control], judging.need[control], judging.frozen[control]):
                found.append(mask.astype(np.int64))
            if effective.lacking is not None:
                found.append(effective.lacking.astype(np.int64))
            seen = judging.base.seen(self.service, control)
            if seen is not None:
                # A person who was observed differs from everyone else.
                looked = np.full(size, MISSING, np.int64)
                looked[seen.people] = seen.people
                found.append(looked)
        # What each rule says of each person now.
        for rule in judging.rules:
            if rule.subject != "people":
                continue
            verdicts, now = judging.base.judge(rule, self.service), judging.now[rule.id]
            found += [verdicts.verdict.astype(np.int64), verdicts.would_be.astype(np.int64)]
            found += [now.rooted.astype(np.int64), judging.to_mend(rule).astype(np.int64)]
            found += [
                one.codes.astype(np.int64) for one in verdicts.judged if one.leaf.about not in ("control", "door")
            ]
        found.append(self.snapshot.people.kind.codes.astype(np.int64))
        if judging.planned is not None:
            # An organiser of planned meetings differs from everyone else.
            organises = np.full(size, MISSING, np.int64)
            organises[judging.planned.organiser] = judging.planned.organiser
            found.append(organises)
        return found

    @cached_property
    def _memberships(self) -> list[Bools]:
        """Return the members of each group that sets a control, by control."""
        found = []
        for control in self.judging.controls:
            effective = self._effective(control)
            rows = []
            for place in np.flatnonzero((effective.kinds == GROUP) & (effective.targets >= 0)).tolist():
                mask = np.zeros(self.judging.size, bool)
                mask[effective.members(place)] = True
                rows.append(mask)
            found.append(np.array(rows, bool).reshape(len(rows), self.judging.size))
        return found

    def add_organisation(self) -> EquivalenceClass:
        """Return the organisation itself, as a rule about it sees it: its own step alone."""
        if self.organisation is None:
            self.organisation = EquivalenceClass(len(self.alike), "organisation", np.empty(0, np.int64), MISSING)
            self.alike.append(self.organisation)
            for control in self.judging.controls:
                effective = self._effective(control)
                items = [self._at(control, effective, 0, None)]
                own = np.flatnonzero(effective.kinds == ORGANISATION)
                self.organisation.items[control] = items + self._place(
                    control, effective, ORGANISATION, MISSING, int(own[-1]) if len(own) else None, None
                )
        return self.organisation

    def add_meeting(self, number: int) -> EquivalenceClass:
        """Return a planned meeting: the walk of its organiser, and its own settings at the end."""
        planned = self.judging.planned
        assert planned is not None
        if number not in self.of_meeting:
            name = planned.ids[number]
            organiser = int(planned.organiser[number])
            self.add_people([organiser])
            above = self.of_person[organiser]
            alike = EquivalenceClass(
                name=len(self.alike), subject="meetings", people=np.empty(0, np.int64), person=organiser, meeting=number
            )
            self.alike.append(alike)
            self.of_meeting[number] = alike
            own = {
                control: setting
                for meeting, control, setting in own_settings(self.snapshot, self.service)
                if meeting == name
            }
            alike.fixed = dict(above.fixed)
            for control, items in above.items.items():
                alike.items[control] = list(items)
                if control in own:
                    key: PlaceKey = (control, MEETING, name)
                    if key not in self.options:
                        self.edit_targets[key] = self.offers.at_meeting(control, name)
                        self.options[key] = [NewValue(None)]
                    step = DEEPEST * (len(LEVELS) + 1)
                    pinned, value = own[control].pinned, own[control].value
                    strength = self._strength(control, pinned, step, NO_RANK, value, NO_TIME, "")
                    alike.items[control].append(
                        Item(
                            place=key,
                            given=None,
                            strength=strength,
                            standing=strength[:3],
                            value=value,
                            pinned=pinned,
                            young=False,
                            current=False,
                            scope=f"meeting:{name}",
                        )
                    )
        return self.of_meeting[number]

    # walks

    def _kind(self, control: str) -> Kind:
        return self.snapshot.catalogue.index[control].kind

    def _strength(
        self, control: str, pinned: bool, step: int, rank: int, value: str | None, changed: int, scope: str
    ) -> Strength:
        weakness: tuple[object, ...] = (1,) if value is None else (0, -self._kind(control).strictness(value))
        return (
            pinned,
            -step if pinned else step,
            -rank,
            weakness,
            _backwards(value or ""),
            changed,
            _backwards(scope),
        )

    def _walk(self, alike: EquivalenceClass) -> None:
        person = alike.person
        for control in self.judging.controls:
            effective = self._effective(control)
            licence = effective.licence_of(person)
            if licence in ("unavailable", "unknown"):
                alike.fixed[control] = None
                continue
            if licence == "without":
                alike.fixed[control] = effective.values[int(effective.places[person])]
                continue
            alike.items[control] = self._items(control, effective, alike)

    def _items(self, control: str, effective: Effective, alike: EquivalenceClass) -> list[Item]:
        """Return the settings that could be effective for one equivalence class: those that are there and those
        offered.
        """
        person, cause = alike.person, int(effective.places[alike.person])
        known = self._known(control, effective)
        found = [self._at(control, effective, 0, cause)]
        for place in np.flatnonzero(effective.targets == EVERYBODY).tolist():
            found.append(self._at(control, effective, place, cause))
        found += self._place(control, effective, ORGANISATION, MISSING, known.get((ORGANISATION, MISSING)), cause)
        units, groups, levels = self.snapshot.units, self.snapshot.groups, self.offers.levels
        if UNIT in levels and units is not None and units.codes[person] != MISSING:
            for path in lineage(units.paths[int(units.codes[person])]):
                unit = units.index[path]
                found += self._place(control, effective, UNIT, unit, known.get((UNIT, unit)), cause)
        if GROUP in levels and groups is not None:
            for group in groups.of(person).tolist():
                if (GROUP, group) in known:
                    found += self._place(control, effective, GROUP, group, known[GROUP, group], cause)
        if PERSON in levels:
            found += self._own(control, effective, known.get((PERSON, person)), cause, alike)
        return found

    def _known(self, control: str, effective: Effective) -> Mapping[tuple[int, int], int]:
        """Return the index in the effective values of each place with a setting."""
        if control not in self._places:
            pairs = zip(effective.kinds.tolist(), effective.targets.tolist(), strict=True)
            self._places[control] = {pair: place for place, pair in enumerate(pairs)}
        return self._places[control]

    def _at(
        self, control: str, effective: Effective, place: int, cause: int | None, key: PlaceKey | None = None
    ) -> Item:
        """Return the item at a place now; without a key it is always there."""
        value, pinned = effective.values[place], bool(effective.pinned[place])
        strength = self._strength(
            control,
            pinned,
            int(effective.steps[place]),
            int(effective.ranks[place]),
            value,
            int(effective.changed[place]),
            effective.cause(place).scope or "",
        )
        scope = effective.cause(place).scope
        young = bool(effective.young[place])
        return Item(
            place=key,
            given=None,
            strength=strength,
            standing=strength[:3],
            value=value,
            pinned=pinned,
            young=young,
            current=place == cause,
            scope=scope,
        )

    def _place(
        self, control: str, effective: Effective, kind: int, target: int, place: int | None, cause: int | None
    ) -> list[Item]:
        """Return the items that are, or may be, at one place."""
        key: PlaceKey = (control, kind, target)
        if not self.offers.editable(control):
            return [] if place is None else [self._at(control, effective, place, cause)]
        now = None if place is None else NewValue(effective.values[place], bool(effective.pinned[place]))
        if key not in self.options:
            self.edit_targets[key] = [self.offers.edit_target(control, kind, target)]
            self.options[key] = self.offers.options(kind, now, self._values[control])
        return self._offered(control, effective, key, place, cause, self.edit_targets[key][0])

    def _own(
        self, control: str, effective: Effective, place: int | None, cause: int | None, alike: EquivalenceClass
    ) -> list[Item]:
        """Return the items that are, or may be, at each of some people alike."""
        if not self.offers.editable(control):
            return [] if place is None else [self._at(control, effective, place, cause)]
        key: PlaceKey = (control, PERSON, ("alike", alike.name))
        now = None if place is None else NewValue(effective.values[place], bool(effective.pinned[place]))
        self.edit_targets[key] = [self.offers.edit_target(control, PERSON, person) for person in alike.people.tolist()]
        self.options[key] = self.offers.options(PERSON, now, self._values[control])
        return self._offered(control, effective, key, place, cause, self.edit_targets[key][0])

    def _offered(
        self,
        control: str,
        effective: Effective,
        key: PlaceKey,
        place: int | None,
        cause: int | None,
        edit_target: SettingTarget,
    ) -> list[Item]:
        """Return the items for one place of an edit: the setting that is there and each new value that may be given."""
        found = [] if place is None else [self._at(control, effective, place, cause, key)]
        paths = self.snapshot.units.paths if self.snapshot.units is not None else ()
        step = step_of(self.service, edit_target, paths)
        rank = NO_RANK if place is None else int(effective.ranks[place])
        for given in self.options[key]:
            if given.value is not None:
                strength = self._strength(control, given.pinned, step, rank, given.value, NO_TIME, edit_target.scope)
                found.append(
                    Item(
                        place=key,
                        given=given,
                        strength=strength,
                        standing=strength[:3],
                        value=given.value,
                        pinned=given.pinned,
                        young=False,
                        current=False,
                        scope=edit_target.scope,
                    )
                )
        return found
