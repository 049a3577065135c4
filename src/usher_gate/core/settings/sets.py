"""A named set of settings as one thing: whom it reaches, by which way, where it counts, and what hides it.

A set is what settings have in common in the column `set`, or where that says nothing in the column `note`. Source: answers, G 46.
"""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from ..organisation.columns import Bools, Longs
from ..words.record import record
from .effective import Cause
from .resolver import Resolver


@record
class SetSetting:
    """One setting of a set, on a service and of a control. `reached` are the people (numbers) whom it covers, of those who are asked
    about and have an account; `counts` those whose value it is; `hidden` says by cause who has another, most people first."""

    service: str
    control: str
    cause: Cause
    reached: Longs
    counts: Longs
    hidden: tuple[tuple[Cause, Longs], ...]


def settings_of(resolver: Resolver, rows: Collection[int], chosen: Bools) -> list[SetSetting]:
    """The settings in these rows of the table, by service, control and strength; those at planned meetings are none of people."""
    found = []
    wanted = np.array(sorted(rows), np.int64)
    for service in resolver.snapshot.services or ():
        whom = chosen & resolver.accounts(service)
        for control in sorted(resolver.controls_set(service) & service.controls):
            effective = resolver.effective(service, control)
            for place in np.flatnonzero(np.isin(effective.rows, wanted)).tolist():
                members = effective.members(place)
                reached = members[whom[members]].astype(np.int64)
                places = effective.places[reached]
                others = [
                    (effective.cause(int(other)), reached[places == other])
                    for other in np.unique(places[places != place]).tolist()
                ]
                others.sort(key=lambda one: (-len(one[1]), one[0].scope or ""))
                found.append(
                    SetSetting(
                        service.id, control, effective.cause(place), reached, reached[places == place], tuple(others)
                    )
                )
    return found
