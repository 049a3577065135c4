"""Which controls have to be looked at together.

Those of one tree, those that contradict each other, and all doors of a service.

Spec: mending 4.3.
"""

from __future__ import annotations

from collections.abc import Iterator

from ..organisation.services import Service
from ..verdicts.rules import DOOR_CONTROLS, DOOR_CONTROLS_AND_LISTS, Rule
from ..verdicts.scope import services_of
from ..verdicts.trial import Remembered
from .constraints import MendingConstraints
from .judging import Judging


def components(base: Remembered, terms: MendingConstraints) -> Iterator[Judging]:
    """Yield the components that have something to mend, by service and controls."""
    for service in sorted(base.snapshot.services or (), key=lambda service: service.id):
        rules = [
            rule
            for rule in base.baseline.rules
            if rule.of_services and rule.subject != "partners" and service in services_of(rule, base.snapshot.services)
        ]
        for controls in _together(base, service, rules):
            mine = [rule for rule in rules if any(rule.looks_at(control, service) for control in controls)]
            judging = Judging(base, service, controls, mine, terms)
            if mine and judging.to_mend_in_all():
                yield judging


def _together(base: Remembered, service: Service, rules: list[Rule]) -> list[tuple[str, ...]]:
    """Group the controls that must be mended together: one rule, door or contradiction joins them (union-find)."""
    above: dict[str, str] = {}

    def top(control: str) -> str:
        while above.setdefault(control, control) != control:
            control = above[control]
        return control

    def join(controls: list[str]) -> None:
        for control in controls:
            above[top(control)] = top(controls[0])

    asked: set[str] = set()
    for rule in rules:
        mine = sorted(control for control in service.controls if rule.looks_at(control, service))
        asked |= set(mine)
        join(mine)
    if asked & DOOR_CONTROLS:
        join(sorted(service.controls & DOOR_CONTROLS_AND_LISTS))
    for contradiction in base.snapshot.catalogue.contradictions:
        pair = [contradiction.first[0], contradiction.second[0]]
        if set(pair) <= service.controls and set(pair) & asked:
            join(pair)
    found: dict[str, list[str]] = {}
    for control in sorted(above):
        found.setdefault(top(control), []).append(control)
    return sorted(tuple(controls) for controls in found.values())
