"""Doors as rows of the program.

Some gate on the way has to stop each visitor, by the effective value of its control.

Only what is asked of gates from below is written down beforehand (no one gets further than …, certainly); the rest is
learned.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property

from ..door.gates import IN_LINK, ROOM, Gate, HeldControl, Panel, gates
from ..door.hosts import MAY_START, START
from ..door.visitors import OUTCOMES, PASSCODES, PERSONAL, TELEPHONE_PASSCODE, Visit, asks_callers, kinds_of, ways_of
from ..organisation.services import Service
from ..verdicts.codes import LOOSE, SETTLING
from ..verdicts.condition import Leaf
from ..verdicts.rules import DOOR_CONTROLS, Rule
from ..words.catalogue import Catalogue
from .integer_program import NOTHING, ONE, IntegerProgram, Term, total
from .walks import EquivalenceClass, Item

Accepting = Callable[[EquivalenceClass, str, Sequence[bool], Term], None]


class DoorRows:
    """Writes down what a leaf about doors asks of some subjects alike."""

    def __init__(self, service: Service, catalogue: Catalogue, program: IntegerProgram, accept: Accepting) -> None:
        self._service, self._catalogue, self._programme, self._accept = service, catalogue, program, accept
        self._known: dict[tuple[int, str, tuple[bool, ...]], Term] = {}
        self._asked = sorted((DOOR_CONTROLS - {MAY_START, START}) & service.controls)
        self._stops: dict[Visit, list[tuple[Gate, dict[str, int]]]] = {}

    def require(
        self, alike: EquivalenceClass, rule: Rule, leaf: Leaf, goodness: int, term: Term, kind: str, guest: bool
    ) -> None:
        """Where `term` is 1, a leaf has to be at least so good; `kind` is a planned meeting's ("" for a host)."""
        assert leaf.visitor_selection is not None and leaf.comparison is not None
        good = [leaf.comparison.passes(word) for word in OUTCOMES[:3]]
        if goodness < SETTLING or good != sorted(good) or not any(good):
            return
        least = good.index(True)
        held = goodness > LOOSE and rule.pinned
        visits = leaf.visitor_selection.visits((kind,) if kind else kinds_of(self._service), ways_of(self._service))
        if kind and kind not in leaf.visitor_selection.kinds:
            return
        nowhere = [] if kind else self._starts_nothing(alike, guest)
        for visit in visits:
            ways = [*nowhere, *self._gates(alike, visit, least, rule.pinned if held else "")]
            if visit.kind == PERSONAL and ROOM in self._service.controls:
                ways.append(self._literal(alike, ROOM, lambda item: item.value == "off"))
            if any(not way.of and way.constant for way in ways):
                continue
            self._programme.at_least(total([*ways, term.times(-1)]), 0)

    def _starts_nothing(self, alike: EquivalenceClass, guest: bool) -> list[Term]:
        found = []
        if MAY_START in self._service.controls:
            found.append(self._literal(alike, MAY_START, lambda item: item.value == "off"))
        if START in self._service.controls and guest:
            found.append(self._literal(alike, START, lambda item: item.value == "members"))
        return found

    def _gates(self, alike: EquivalenceClass, visit: Visit, least: int, pinned: str) -> list[Term]:
        found = []
        for gate, gives in self._giving(visit):
            stops = {value for value, least_given in gives.items() if least_given >= least}
            part = self._literal(alike, gate.control, self._stopping(gate.control, stops, pinned))
            if gate.beside:
                link = self._literal(alike, gate.beside, self._stopping(gate.beside, {"off"}, pinned))
                part = self._both(part, link)
            found.append(part)
        return [part for part in found if part.of or part.constant]

    def _stopping(self, control: str, stops: set[str], pinned: str) -> Callable[[Item], bool]:
        """Return whether an item stops; where `pinned` is said, only what the host cannot change counts."""
        changeable = pinned == "strict" or (pinned == "true" and self._service.changeable(control))
        return lambda item: item.value in stops and (item.pinned or not changeable)

    def _both(self, one: Term, other: Term) -> Term:
        if not one.of:
            return other if one.constant else NOTHING
        if not other.of:
            return one if other.constant else NOTHING
        both = self._programme.variable()
        for each in (one, other):
            self._programme.at_least(total([each, both.times(-1)]), 0)
        return both

    def _literal(self, alike: EquivalenceClass, control: str, fits: Callable[[Item], bool]) -> Term:
        """Return whether what counts of a control is an item that fits."""
        if control in alike.fixed:
            value = alike.fixed[control]
            standing = Item(
                place=None,
                given=None,
                strength=(),
                standing=(True, 0, 0),
                value=value,
                pinned=True,
                young=False,
                current=True,
                scope="licence",
            )
            return ONE if value is not None and fits(standing) else NOTHING
        items = alike.items.get(control, [])
        good = tuple(fits(item) for item in items)
        if not any(good):
            return NOTHING
        if all(good):
            return ONE
        key = alike.name, control, good
        if key not in self._known:
            self._known[key] = self._programme.variable()
            self._accept(alike, control, good, self._known[key])
        return self._known[key]

    def _giving(self, visit: Visit) -> list[tuple[Gate, dict[str, int]]]:
        """Return the gates that a visitor meets, each with what every value of its control gives at least.

        Of a passcode, if the link is bare.
        """
        if visit not in self._stops:
            panel, at = self._every
            self._stops[visit] = [
                (gate, {value: int(gate.least[row]) for value, row in at.get(gate.control, {}).items()})
                for gate in gates(panel, visit)
            ]
        return self._stops[visit]

    @cached_property
    def _every(self) -> tuple[Panel, dict[str, dict[str, int]]]:
        """Return a panel with a row for each value of each control, the others being such that each gate shows what its
        own control gives; and where each is set.
        """
        weakest = self._weakest()
        rows: list[dict[str, str]] = [weakest]
        at: dict[str, dict[str, int]] = {}
        for control in self._asked:
            for value in self._catalogue.index[control].kind.words:
                at.setdefault(control, {})[value] = len(rows)
                rows.append({**weakest, control: value})
        held = {
            control: HeldControl.of([row.get(control) for row in rows], [False] * len(rows)) for control in self._asked
        }
        return Panel(len(rows), held, self._catalogue, asks_callers(self._service)), at

    def _weakest(self) -> dict[str, str]:
        """Return the weakest value of each control; of passcodes such that the one asked shows what it gives."""
        codes = {*PASSCODES.values(), TELEPHONE_PASSCODE}
        kinds = {control: self._catalogue.index[control].kind for control in self._asked}
        found = {control: kind.words[0] for control, kind in kinds.items() if kind.words}
        found |= {control: "on" for control in codes if control in found}
        return found | ({IN_LINK: "off"} if IN_LINK in found else {})
