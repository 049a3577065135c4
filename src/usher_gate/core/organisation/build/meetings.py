"""The table meetings: what is planned."""

from __future__ import annotations

import numpy as np

from ...words.faults import Faults
from ...words.values import EMPTY_SET
from ...words.vocabulary import MEETING_KINDS
from ..columns import MISSING, NO_TIME, Coded, Ints, Ragged
from ..meetings import Invitees, Meetings
from ..services import Service
from .checks import checked, filled, flags, ids_once, one_of, times
from .people import PeopleRegister
from .table import FLAG, LIST, TIME, Spec, Table

MEETINGS = Spec(
    "meetings",
    ("id", "service", "organiser", "starts_at"),
    ("ends_at", "kind", "recurring", "invitees", "label"),
    {"starts_at": TIME, "ends_at": TIME, "recurring": FLAG, "invitees": LIST},
)


def build_meetings(
    table: Table | None, services: tuple[Service, ...] | None, register: PeopleRegister, faults: Faults
) -> Meetings | None:
    """Return the planned meetings; None where there is no such table."""
    if table is None:
        return None
    filled(table, faults)
    ids_once(table, faults, table.columns["id"].order(), "meeting")
    kind = checked(table, "kind", faults, one_of(MEETING_KINDS))
    starts, ends = (times(table, name, faults) for name in ("starts_at", "ends_at"))
    recurring = flags(table, "recurring", False, faults)
    service = table.columns["service"].coded()
    if starts is not None and ends is not None:
        backwards = (starts != NO_TIME) & (ends != NO_TIME) & (ends < starts)
        for row in np.flatnonzero(backwards)[:50].tolist():
            table.fault(
                row, "ends_at: the meeting ends before it starts; write a later time, or leave the cell empty", faults
            )
    if faults.found or starts is None:
        return None
    known = {known_service.id: number for number, known_service in enumerate(services or ())}
    numbers: Ints = np.array([*(known.get(word, MISSING) for word in service.words), MISSING], np.int32)[service.codes]
    return Meetings(
        ids=table.columns["id"].texts(),
        service=numbers,
        organiser=register.numbers(table.columns["organiser"])[0],
        kind=kind,
        starts=starts,
        ends=ends,
        recurring=recurring,
        invitees=_invitees(table.columns["invitees"].coded(), register) if "invitees" in table.columns else None,
        labels=table.columns["label"].texts() if "label" in table.columns else None,
    )


def _invitees(coded: Coded, register: PeopleRegister) -> Invitees:
    """Return the addresses of every cell, of someone given by id the login.

    Blanks around one do not count, and one that occurs twice in a cell counts once. Spec: doors 5.3.
    """
    known: dict[str, str] = {}
    numbers: dict[str, int] = {}
    flat, lengths = list[int](), list[int]()
    for word in coded.words:
        parts = [part.strip() for part in word.split(";")] if word.strip() != EMPTY_SET else []
        named = [known.get(part) or known.setdefault(part, register.login_of(part)) for part in parts if part]
        mine = {numbers.setdefault(address, len(numbers)) for address in named}
        flat += mine
        lengths.append(len(mine))
    # Renumber the addresses in alphabetical order, and cut the flat list into cells.
    addresses = sorted(numbers)
    place = np.empty(len(numbers), np.int32)
    place[[numbers[address] for address in addresses]] = np.arange(len(numbers))
    starts = np.concatenate(([0], np.cumsum(lengths))).astype(np.int64)
    items = place[flat] if flat else np.empty(0, np.int32)
    return Invitees(tuple(addresses), Ragged(starts, items), coded.codes)
