"""Which edits are allowed: at which places, with which values.

Spec: mending 1.1 and 1.2.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property
from itertools import combinations

import numpy as np

from ..door.agenda import own_settings
from ..door.hosts import MAY_START, START
from ..organisation.columns import MISSING, distinct
from ..organisation.settings import GROUP, MEETING, ORGANISATION, PERSON, UNIT
from ..settings.edited import NewValue, SettingTarget
from ..settings.effective import EVERYBODY
from ..verdicts.condition import Leaf
from ..verdicts.remedy import weakest
from ..verdicts.rules import DOOR_CONTROLS, Rule
from ..words.compare import Comparison
from ..words.values import Kind
from ..words.vocabulary import LEVELS
from .constraints import Plan, last_key
from .judging import Judging, PlanScore

ONLY_BY_NAME = frozenset((MAY_START, START, "door.personal-room"))
_MOST_LEAVES = 10  # about one control, of which every set is satisfied together


class CandidateEdits:
    """The allowed edits about the controls of one component."""

    def __init__(self, judging: Judging) -> None:
        self.judging, self.service = judging, judging.service
        self.snapshot = judging.base.snapshot
        self._values: dict[str, tuple[str, ...]] = {}
        self._standing: dict[str, dict[tuple[int, int], NewValue]] = {}

    @cached_property
    def named(self) -> dict[str, list[Comparison]]:
        """By control, what the leaves about it ask, each thing once."""
        found: dict[str, dict[str, Comparison]] = {}
        for rule in self.judging.rules:
            for leaf in self._leaves(rule):
                if leaf.about == "control" and leaf.comparison is not None:
                    found.setdefault(leaf.name, {}).setdefault(leaf.comparison.text, leaf.comparison)
        return {control: list(asked.values()) for control, asked in found.items()}

    def _leaves(self, rule: Rule) -> Sequence[Leaf]:
        return rule.judged_on(self.service)

    @cached_property
    def _doors(self) -> bool:
        return any(leaf.about == "door" for rule in self.judging.rules for leaf in self._leaves(rule))

    def standing(self, control: str) -> dict[tuple[int, int], NewValue]:
        """Return what is set now, by kind and number of the place; at meetings by the row in the table of settings."""
        if control not in self._standing:
            effective = self.judging.base.resolver.effective(self.service, control)
            self._standing[control] = {
                (kind, target): NewValue(value, pinned)
                for kind, target, value, pinned in zip(
                    effective.kinds.tolist(),
                    effective.targets.tolist(),
                    effective.values,
                    effective.pinned.tolist(),
                    strict=True,
                )
                if kind in (ORGANISATION, UNIT, GROUP, PERSON) and target != EVERYBODY
            }
        return self._standing[control]

    def values(self, control: str) -> tuple[str, ...]:
        """Return the one list of values that a control may be given on the service, in text order."""
        if control not in self._values:
            self._values[control] = tuple(sorted(self._found(control)))
        return self._values[control]

    def _found(self, control: str) -> set[str]:
        kind = self.snapshot.catalogue.index[control].kind
        found = self._set_anywhere(control)
        if control in self.service.factory:
            found.add(self.service.factory[control])
        asked = self.named.get(control, [])
        for each in asked:
            if each.operator in ("is", "one-of", "between"):
                found |= set(each.operands)
        bases = sorted(found | {""}) if kind.name == "set" else [""]
        for base in bases:
            found |= set(weakest_of_all(kind, base, asked))
        if self._doors and control in DOOR_CONTROLS and control not in ONLY_BY_NAME and kind.name in ("flag", "level"):
            found |= set(kind.words)
        return found

    def steps(self, control: str, value: str | None) -> int:
        """Return how many steps a value is stricter than the weakest that the control may be given.

        0 for none, and where values have no order.
        """
        kind = self.snapshot.catalogue.index[control].kind
        if value is None or not kind.ordered:
            return 0
        return len(
            {kind.strictness(each) for each in self.values(control) if kind.strictness(each) < kind.strictness(value)}
        )

    def strictness_of(self, plan: Plan) -> int:
        """Return the steps of all edits of a plan.

        What is the same in two plans is not stricter than is asked in either.
        """
        return sum(self.steps(edit_target.control, given.value) for edit_target, given in plan.items())

    def preference_key(self, weighed: PlanScore) -> tuple[tuple[int, ...], tuple[int, int, tuple[str, ...]]]:
        """Return how good a plan is: the smaller, the better."""
        left, edits, without, touched, reach = weighed.order
        return (left, edits, without, touched, self.strictness_of(weighed.plan), reach), last_key(weighed.plan)

    def canonical(self, control: str) -> frozenset[str]:
        """Return the values that do not come from settings: the service default's, and those that the rules lead to."""
        kind = self.snapshot.catalogue.index[control].kind
        asked = self.named.get(control, [])
        found = {self.service.factory[control]} if control in self.service.factory else set[str]()
        found |= set(weakest_of_all(kind, "", asked))
        found |= {
            operand for each in asked if each.operator in ("is", "one-of", "between") for operand in each.operands
        }
        if self._doors and control in DOOR_CONTROLS and control not in ONLY_BY_NAME and kind.name in ("flag", "level"):
            found |= set(kind.words)
        return frozenset(found)

    def _set_anywhere(self, control: str) -> set[str]:
        table = self.snapshot.settings
        if table is None or control not in table.controls:
            return set()
        number = [one.id for one in self.snapshot.services or ()].index(self.service.id)
        mine = (table.service == number) & (table.control == table.controls.index(control)) & (table.value != MISSING)
        return {table.values[value] for value in distinct(table.value[mine]).tolist()}

    def at_meeting(self, control: str, meeting: str) -> list[SettingTarget]:
        """Return the setting of a planned meeting's own, as a place; none where there is none."""
        scope = f"meeting:{meeting}"
        known = any(name == meeting and one == control for name, one, _ in own_settings(self.snapshot, self.service))
        return (
            [SettingTarget(service=self.service.id, control=control, kind=MEETING, target=MISSING, scope=scope)]
            if known
            else []
        )

    @cached_property
    def levels(self) -> frozenset[int]:
        """Return the kinds of places at which the service reads settings and whose people are known."""
        there = {ORGANISATION, PERSON}
        there |= {UNIT} if self.snapshot.units is not None else set()
        there |= {GROUP} if self.snapshot.groups is not None else set()
        return frozenset(kind for kind in there if LEVELS[kind] in self.service.precedence)

    def editable(self, control: str) -> bool:
        """Return whether edits of a control are allowed at all.

        A personal room and who may start meetings only where a rule asks by name.
        """
        return control not in ONLY_BY_NAME or control in self.named

    def edit_target(self, control: str, kind: int, target: int) -> SettingTarget:
        """Return a place, with its scope as it is written."""
        return SettingTarget(
            service=self.service.id, control=control, kind=kind, target=target, scope=self.scope(kind, target)
        )

    def scope(self, kind: int, target: int) -> str:
        """Return the scope of a place; a person's by id."""
        if kind == ORGANISATION:
            return "organisation"
        if kind == UNIT:
            assert self.snapshot.units is not None
            return f"unit:{self.snapshot.units.paths[target]}"
        if kind == GROUP:
            assert self.snapshot.groups is not None
            return f"group:{self.snapshot.groups.ids[target]}"
        return f"person:{self.snapshot.people.ids.take(np.array([target]))[0]}"

    def options(self, kind: int, now: NewValue | None, values: Iterable[str]) -> list[NewValue]:
        """Return what may be done at a place where `now` is set (None: nothing)."""
        if self.snapshot.settings is None:
            return []
        if kind == MEETING:
            return [NewValue(None)]
        pins = (False, True) if self.service.pins and self.snapshot.says_pinned else (False,)
        found = [NewValue(None)] if now is not None else []
        if kind == GROUP and now is None:
            return []
        found += [NewValue(value, pin) for value in values for pin in pins if now != NewValue(value, pin)]
        return found


def weakest_of_all(kind: Kind, base: str, asked: Sequence[Comparison]) -> Iterable[str]:
    """Yield for every set of what is asked the weakest value that satisfies all of it; of a set, from `base`."""
    for size in range(1, min(len(asked), _MOST_LEAVES) + 1):
        for some in combinations(asked[:_MOST_LEAVES], size):
            value = weakest(kind, base, some)
            if value is not None:
                yield value
