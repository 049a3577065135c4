"""The tables authenticators and passes: what people have to show when they sign in."""

from __future__ import annotations

import numpy as np

from ..core.organisation.columns import MISSING, NO_TIME, Ints, Longs
from ..core.organisation.credentials import Authenticators, Passes
from ..core.organisation.proofs import MEMORIZED, TYPES
from .faults import Faults
from .people import Register, checked, filled, flags, one_of, times
from .tables import Shelf
from .tables.interface import FLAG, TIME, Spec, Table

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
        faults.note(
            f"{table.name}:{table.line_of(int(lost[0]))}: {len(lost)} {what} of a person who does not exist; ignored"
        )


def read_authenticators(shelf: Shelf, register: Register, faults: Faults) -> Authenticators | None:
    """What active people have registered; None where there is no such table."""
    table = shelf.table(AUTHENTICATORS, faults)
    if table is None:
        return None
    filled(table, faults)
    kind = checked(table, "type", faults, one_of(tuple(TYPES)))
    times(table, "registered_at", faults)
    person, exists = register.numbers(table.columns["person"])
    if faults.found or kind is None:
        return None
    _note_lost(table, exists, "authenticators", faults)
    kept = np.flatnonzero(person != MISSING)
    return Authenticators(person[kept], kind.codes[kept], kind.words, MEMORIZED in kind.words)


def read_passes(shelf: Shelf, register: Register, taken_at: int, faults: Faults) -> Passes | None:
    """The live bootstrap passes of active people; None where there is no such table."""
    table = shelf.table(PASSES, faults)
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
    for row in np.flatnonzero(expires <= start)[:50].tolist():
        table.fault(row, "expires_at: the pass ends before it begins; write an end after its start", faults)
    _note_lost(table, exists, "passes", faults)
    spent = np.zeros(table.rows, bool)
    if single is not None and used is not None:
        spent = single & (used != NO_TIME) & (used <= taken_at)
    rows = np.flatnonzero((person != MISSING) & (start <= taken_at) & (taken_at < expires) & ~spent)
    size = len(register.people)
    longest = np.zeros(size, np.int64)
    np.maximum.at(longest, person[rows], (expires - start)[rows])

    def counted(which: Longs) -> Ints:
        return np.bincount(person[which], minlength=size).astype(np.int32)

    reusable = None if single is None else counted(rows[~single[rows]])
    own = None
    if "issuer" in table.columns:
        issuer, _ = register.numbers(table.columns["issuer"])
        own = counted(rows[issuer[rows] == person[rows]])
        silent = np.intersect1d(rows, table.columns["issuer"].empty_rows())
        own[person[silent]] = MISSING
    return Passes(counted(rows), longest, reusable, own)
