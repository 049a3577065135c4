"""A named set of settings: the people it reaches, and those with each of its settings as the effective one.

The settings of a set have the same name in the column `set`, or in the column `note` where `set` is empty.
Spec: effective-values 6.
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
    """One setting of a set, on a service and of a control.

    `reached` are the people (numbers) it covers, among those asked about who have an account. `counts` are those of
    them whose effective setting it is. `hidden` lists the causes of the other people's values, with these people; the
    cause with most people comes first.
    """

    service: str
    control: str
    cause: Cause
    reached: Longs
    counts: Longs
    hidden: tuple[tuple[Cause, Longs], ...]


def settings_of(resolver: Resolver, rows: Collection[int], chosen: Bools) -> list[SetSetting]:
    """Return the settings at these rows of the table, by service, control and precedence.

    Inactive settings and those of planned meetings are left out: they apply to no person.
    """
    settings = []
    wanted = np.array(sorted(rows), np.int64)
    for service in resolver.snapshot.services or ():
        has_account = chosen & resolver.accounts(service)
        for control in sorted(resolver.controls_set(service) & service.controls):
            effective = resolver.effective(service, control)
            for place in np.flatnonzero(np.isin(effective.rows, wanted)).tolist():
                members = effective.members(place)
                reached = members[has_account[members]].astype(np.int64)
                causes = effective.places[reached]
                hidden = [
                    (effective.cause(int(other)), reached[causes == other])
                    for other in np.unique(causes[causes != place]).tolist()
                ]
                hidden.sort(key=lambda entry: (-len(entry[1]), entry[0].scope or ""))
                settings.append(
                    SetSetting(
                        service=service.id,
                        control=control,
                        cause=effective.cause(place),
                        reached=reached,
                        counts=reached[causes == place],
                        hidden=tuple(hidden),
                    )
                )
    return settings
