"""What no rule of a baseline asks about: controls of the services, facts of people, resources.

Spec: catalogue 4.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import numpy as np

from ..door.gates import looked_at
from ..door.hosts import LISTED
from ..door.visitors import ways_of
from ..organisation.columns import MISSING
from ..organisation.facts import FACTS, fact, fact_kind
from ..organisation.services import Service
from ..organisation.snapshot import Snapshot
from ..settings.resolver import Resolver
from ..words.record import record
from ..words.vocabulary import MEETING_KINDS
from .condition import Leaf
from .rules import Baseline
from .scope import services_of

Values = tuple[
    tuple[str | None, int], ...
]  # how many people have which value, most people first; None: none that is known


@record
class UncoveredControl:
    """A control of a service that no rule asks about there.

    How many active settings there are, and what people have.
    """

    service: str
    control: str
    settings: int
    values: Values


@record
class UncoveredFact:
    """A fact of people that no rule asks about; `values` are empty for one that is a number."""

    name: str
    values: Values


@record
class Uncovered:
    """All that no rule asks about.

    `of` counts the controls that the services support or have settings for, each on each service; `resources` are those
    at which no rule asks for any proof.
    """

    controls: tuple[UncoveredControl, ...]
    of: int
    facts: tuple[UncoveredFact, ...]
    resources: tuple[str, ...]


def count_uncovered(snapshot: Snapshot, baseline: Baseline) -> tuple[int, int]:
    """Return how many controls of the services no rule asks about, and of how many."""
    pairs = [(service, control) for service in snapshot.services or () for control in _controls(snapshot, service)]
    asked = {service.id: _asked(baseline, snapshot, service) for service in snapshot.services or ()}
    return sum(control not in asked[service.id] for service, control in pairs), len(pairs)


def uncovered(snapshot: Snapshot, baseline: Baseline) -> Uncovered:
    """Return what no rule asks about, in the order of names."""
    found, of, resolver = list[UncoveredControl](), 0, Resolver(snapshot)
    for service in snapshot.services or ():
        controls = _controls(snapshot, service)
        of += len(controls)
        for control in sorted(controls.keys() - _asked(baseline, snapshot, service)):
            found.append(UncoveredControl(service.id, control, controls[control], _values(resolver, service, control)))
    return Uncovered(tuple(found), of, tuple(_facts(snapshot, baseline)), tuple(_resources(snapshot, baseline)))


def _controls(snapshot: Snapshot, service: Service) -> dict[str, int]:
    """Return the controls that a service supports or that have settings there, with the number of active settings."""
    settings = snapshot.settings
    counted: Counter[str] = Counter()
    if settings is not None:
        number = [one.id for one in snapshot.services or ()].index(service.id)
        mine = settings.control[(settings.service == number) & (settings.control != MISSING)]
        for control, many in zip(*np.unique(mine, return_counts=True), strict=True):
            counted[settings.controls[control]] = int(many)
    return {control: counted[control] for control in {*service.controls, *counted}}


def _asked(baseline: Baseline, snapshot: Snapshot, service: Service) -> set[str]:
    """Return the controls of a service that some rule asks about there."""
    found = set[str]()
    for rule in baseline.rules:
        if not any(one is service for one in services_of(rule, snapshot.services)):
            continue
        for leaf in rule.judged_on(service):
            found |= _of_leaf(leaf, service)
    return found


def _of_leaf(leaf: Leaf, service: Service) -> frozenset[str]:
    if leaf.about == "control":
        return frozenset((leaf.name,))
    if leaf.visitor_selection is not None:
        return frozenset(looked_at(leaf.visitor_selection.visits(MEETING_KINDS, ways_of(service))))
    return frozenset((LISTED,)) if leaf.about == "meeting" else frozenset()


def _values(resolver: Resolver, service: Service, control: str) -> Values:
    """Return what everyone with an account has; None where it is not known, or where a licence is lacking."""
    effective = resolver.effective(service, control)
    accounts = resolver.accounts(service)
    counted: Counter[str | None] = Counter()
    bare = effective.lacking if effective.unlicensed else None
    known = accounts if bare is None else accounts & ~bare
    if effective.licence_unknown:
        known = np.zeros(len(accounts), bool)
    for place, many in enumerate(np.bincount(effective.places[known], minlength=len(effective)).tolist()):
        if many:
            counted[effective.values[place]] += many
    rest = int(np.count_nonzero(accounts & ~known))
    if rest:
        counted[None] += rest
    return _most_first(counted)


def _most_first(counted: Counter[str | None]) -> Values:
    return tuple(sorted(counted.items(), key=lambda one: (-one[1], one[0] or "")))


def _facts(snapshot: Snapshot, baseline: Baseline) -> Iterator[UncoveredFact]:
    asked = {leaf.name for rule in baseline.rules for leaf in rule.leaves if leaf.about == "person"}
    for name in sorted({*FACTS, *snapshot.people.attributes} - asked):
        column, kind = fact(name, snapshot), fact_kind(name)
        if column is None or kind is None or not np.any(column.codes != MISSING):
            continue
        counted: Counter[str | None] = Counter()
        if kind.name != "number":
            for code, many in zip(*np.unique(column.codes, return_counts=True), strict=True):
                counted[None if code == MISSING else column.words[code]] += int(many)
        yield UncoveredFact(name, _most_first(counted))


def _resources(snapshot: Snapshot, baseline: Baseline) -> list[str]:
    asked = set[str]()
    for rule in baseline.rules:
        for leaf in rule.leaves:
            if leaf.asked is not None:
                asked |= set(leaf.asked.resources(snapshot.resources))
    return sorted(set(snapshot.resources) - asked)
