"""The tables authenticators and passes: what people have to show when they sign in."""

from __future__ import annotations

import numpy as np

from ...words.faults import Faults
from ...words.spellings import TYPES as OTHER_TYPES
from ..columns import MISSING, NO_TIME
from ..credentials import Authenticators, Passes
from ..proofs import MEMORIZED, TYPES
from .checks import checked, filled, flags, one_of, times
from .people import Register
from .table import FLAG, TIME, Spec, Table

AUTHENTICATORS = Spec("authenticators", ("person", "type"), ("registered_at",), {"registered_at": TIME})
PASSES = Spec(
    "passes",
    ("person", "issued_at", "expires_at"),
    ("starts_at", "single_use", "used_at", "issuer"),
    {"single_use": FLAG, **dict.fromkeys(("issued_at", "starts_at", "expires_at", "used_at"), TIME)},
)


def _note_lost(table: Table, exists: np.ndarray, what: str, faults: Faults) -> None:
    lost = np.flatnonzero(~exists)
    if len(lost):
        faults.note(f"{table.where(int(lost[0]))}: {len(lost)} {what} of a person who does not exist; ignored")


def build_authenticators(table: Table | None, register: Register, faults: Faults) -> Authenticators | None:
    """What active people have registered; None where there is no such table."""
    if table is None:
        return None
    filled(table, faults)
    kind = checked(table, "type", faults, one_of(tuple(TYPES)), OTHER_TYPES)
    times(table, "registered_at", faults)
    person, exists = register.numbers(table.columns["person"])
    if faults.found or kind is None:
        return None
    _note_lost(table, exists, "authenticators", faults)
    kept = np.flatnonzero(person != MISSING)
    rows = register.rows(table.columns["person"])
    memorized = kind.where([word == MEMORIZED for word in kind.words]) & (rows != MISSING)
    lists_memorized = bool(np.any(register.is_member[rows[memorized]]))  # of guests it says nothing about members
    return Authenticators(person[kept], kind.codes[kept], kind.words, lists_memorized)


def build_passes(table: Table | None, register: Register, taken_at: int, faults: Faults) -> Passes | None:
    """The bootstrap passes of active people; None where there is no such table."""
    if table is None:
        return None
    filled(table, faults)
    found = {name: times(table, name, faults) for name in ("issued_at", "starts_at", "expires_at", "used_at")}
    single = flags(table, "single_use", False, faults)
    person, exists = register.numbers(table.columns["person"])
    issued, starts, expires, used = found.values()
    if faults.found or issued is None or expires is None:
        return None
    start = issued if starts is None else np.where(starts == NO_TIME, issued, starts)
    for row in np.flatnonzero(expires <= start)[:5].tolist():
        faults.note(f"{table.where(row)}: the pass ends before it begins, and counts nowhere")
    _note_lost(table, exists, "passes", faults)
    kept = np.flatnonzero((person != MISSING) & (expires > start))
    issuer, silent = None, np.zeros(table.rows, bool)
    if "issuer" in table.columns:
        issuer = register.numbers(table.columns["issuer"])[0][kept]
        silent[table.columns["issuer"].empty_rows()] = True
    return Passes(
        person[kept],
        issued[kept],
        start[kept],
        expires[kept],
        np.full(len(kept), NO_TIME, np.int64) if used is None else used[kept],
        None if single is None else single[kept],
        issuer,
        silent[kept],
        taken_at,
        len(register.people),
    )
