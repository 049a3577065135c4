"""Who has a value of a control, and by which ways.

Every setting that gives it to them, also one that something narrower hides.
"""

from __future__ import annotations

import numpy as np

from ..organisation.columns import Bools
from ..organisation.services import Service
from ..words.record import record
from .effective import Cause
from .resolver import Resolver


@record
class Ways:
    """Describes how one person comes to a value: `ways` are all that give it, narrowest last.

    `counts` is the cause of what they really get (None where that is not known), and `has` says whether that is the
    value asked for.
    """

    person: int
    ways: tuple[Cause, ...]
    counts: Cause | None
    has: bool


def ways_to(resolver: Resolver, service: Service, control: str, value: str, chosen: Bools) -> list[Ways]:
    """Return the chosen people with an account who get a (canonical) value in some way.

    People who have it first, then by person.
    """
    effective = resolver.effective(service, control)
    mask = chosen & resolver.accounts(service)
    by_person: dict[int, list[int]] = {}
    for place in range(len(effective)):
        if effective.value(place) != value:
            continue
        covered = np.arange(len(mask)) if place == 0 else effective.members(place)
        for person in covered[mask[covered]].tolist():
            by_person.setdefault(person, []).append(place)
    found = []
    for person, places in by_person.items():
        unknown = effective.licence_of(person) in ("unavailable", "unknown")
        cause = None if unknown else effective.cause(int(effective.places[person]))
        known = cause if cause is not None and cause.scope is not None else None
        ways = tuple(effective.cause(place) for place in places)
        found.append(Ways(person, ways, known, known is not None and known.value == value))
    return sorted(found, key=lambda each: (not each.has, each.person))
