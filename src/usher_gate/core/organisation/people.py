"""People as columns."""

from __future__ import annotations

from collections.abc import Mapping

from ..words.record import record
from .columns import Bools, Coded, Longs, Texts


@record
class People:
    """The active people, sorted by id. A column that the snapshot does not have is None."""

    ids: Texts
    logins: Texts
    names: Texts | None
    kind: Coded
    unit: Coded | None
    roles: Coded | None
    licences: Coded | None
    break_glass: Bools | None
    home_domain: Coded | None  # as the column says; see Snapshot.guest_domains
    sponsor: Bools | None
    mfa: Coded | None
    protection: Coded | None
    times: Mapping[str, Longs]
    attributes: Mapping[str, Coded]
    inactive: frozenset[str] = frozenset()

    def __len__(self) -> int:
        return len(self.ids)
