"""The table meetings: what is planned."""

from __future__ import annotations

import numpy as np

from ...words.faults import Faults
from ...words.vocabulary import MEETING_KINDS
from ..columns import MISSING, Ints
from ..meetings import Meetings
from ..services import Service
from .checks import checked, filled, flags, one_of, tidy_sets, times
from .people import Register
from .table import FLAG, LIST, TIME, Spec, Table

MEETINGS = Spec(
    "meetings",
    ("id", "service", "organiser", "starts_at"),
    ("ends_at", "kind", "recurring", "invitees", "label"),
    {"starts_at": TIME, "ends_at": TIME, "recurring": FLAG, "invitees": LIST},
)


def build_meetings(
    table: Table | None, services: tuple[Service, ...] | None, register: Register, faults: Faults
) -> Meetings | None:
    """The planned meetings; None where there is no such table."""
    if table is None:
        return None
    filled(table, faults)
    kind = checked(table, "kind", faults, one_of(MEETING_KINDS))
    starts, ends = (times(table, name, faults) for name in ("starts_at", "ends_at"))
    recurring = flags(table, "recurring", False, faults)
    service = table.columns["service"].coded()
    if faults.found or starts is None:
        return None
    known = {known_service.id: number for number, known_service in enumerate(services or ())}
    numbers: Ints = np.array([*(known.get(word, MISSING) for word in service.words), MISSING], np.int32)[service.codes]
    return Meetings(
        table.columns["id"].texts(),
        numbers,
        register.numbers(table.columns["organiser"])[0],
        kind,
        starts,
        ends,
        recurring,
        tidy_sets(table.columns["invitees"].coded()) if "invitees" in table.columns else None,
        table.columns["label"].texts() if "label" in table.columns else None,
    )
