"""Values that cannot work together: whose effective values contradict each other."""

from __future__ import annotations

import numpy as np

from ..organisation.columns import Bools, Ints
from ..organisation.services import Service
from ..words.record import record
from .effective import Effective
from .resolver import Resolver


@record
class Clash:
    """The people (ascending) of a service who have two values that cannot work together.

    `first` and `second` are (control, value).
    """

    service: str
    first: tuple[str, str]
    second: tuple[str, str]
    people: Ints
    because: str


def having(effective: Effective, value: str) -> Bools:
    """Return the people whose effective value is known to be this one."""
    if effective.licence_unknown:
        return np.zeros(len(effective.places), bool)
    wanted = np.array([effective.value(place) == value for place in range(len(effective))])
    mask: Bools = wanted[effective.places]
    return mask & ~effective.lacking if effective.unlicensed and effective.lacking is not None else mask


def clashes(resolver: Resolver, chosen: Bools, services: frozenset[str] | None) -> tuple[tuple[Clash, ...], int]:
    """Return the contradictions found, by service and value, and how many of the chosen people have at least one."""
    snapshot, found = resolver.snapshot, list[Clash]()
    anybody = np.zeros(len(snapshot.people), bool)
    for service in snapshot.services or ():
        if services is not None and service.id not in services:
            continue
        for contradiction in snapshot.catalogue.contradictions:
            (first, first_values), (second, second_values) = contradiction.first, contradiction.second
            if not {first, second} <= service.controls:
                continue
            for one in first_values:
                for other in second_values:
                    people = _people(service, resolver, (first, one), (second, other)) & chosen
                    if np.any(people):
                        anybody |= people
                        found.append(
                            Clash(
                                service=service.id,
                                first=(first, one),
                                second=(second, other),
                                people=np.flatnonzero(people).astype(np.int32),
                                because=contradiction.because,
                            )
                        )
    return tuple(sorted(found, key=lambda clash: (clash.service, clash.first, clash.second))), int(
        np.count_nonzero(anybody)
    )


def _people(service: Service, resolver: Resolver, first: tuple[str, str], second: tuple[str, str]) -> Bools:
    mask = resolver.accounts(service) & having(resolver.effective(service, first[0]), first[1])
    return mask & having(resolver.effective(service, second[0]), second[1]) if np.any(mask) else mask
