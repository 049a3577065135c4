"""Planned meetings as columns."""

from __future__ import annotations

from ..words.record import record
from .columns import Bools, Coded, Ints, Longs, Ragged, Texts


@record
class Invitees:
    """Says who is invited: `addresses` as they are written, sorted, each once.

    `cells` the numbers of those in each distinct cell; `codes` the cell of each meeting (MISSING for an empty one).
    """

    addresses: tuple[str, ...]
    cells: Ragged
    codes: Ints


@record
class Meetings:
    """Meetings, one a row, as the table says.

    A column that the table does not have is None.

    `service` and `organiser` number the services and the active people, MISSING for one that does not exist (or is not
    active); `kind` has an empty cell where none is said; times are microseconds.
    """

    ids: Texts
    service: Ints
    organiser: Ints
    kind: Coded | None
    starts: Longs
    ends: Longs | None
    recurring: Bools | None
    invitees: Invitees | None
    labels: Texts | None

    def __len__(self) -> int:
        return len(self.ids)
