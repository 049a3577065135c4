"""The tables authenticators and passes: what people have to show when they sign in."""

from __future__ import annotations

import numpy as np

from ...words.faults import Faults
from ...words.spellings import TYPES as OTHER_TYPES
from ..columns import MISSING, NO_TIME, Ints, Longs
from ..credentials import Authenticators, Passes
from ..proofs import MEMORIZED, TYPES
from .checks import checked, filled, flags, one_of, times
from .people import PeopleRegister
from .table import FLAG, TIME, Spec, Table

AUTHENTICATORS = Spec("authenticators", ("person", "type"), ("registered_at", "id", "serial"), {"registered_at": TIME})
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


def build_authenticators(table: Table | None, register: PeopleRegister, faults: Faults) -> Authenticators | None:
    """Return what active people have registered; None where there is no such table."""
    if table is None:
        return None
    filled(table, faults)
    kind = checked(table, "type", faults, one_of(tuple(TYPES)), OTHER_TYPES)
    registered = times(table, "registered_at", faults)
    person, exists = register.numbers(table.columns["person"])
    if faults.found or kind is None:
        return None
    _note_lost(table, exists, "authenticators", faults)
    rows = register.rows(table.columns["person"])
    repeated = _repeated(table, kind.codes, rows, registered)
    if len(repeated):
        one = len(repeated) == 1
        faults.note(
            f"{table.where(int(repeated[0]))}: {len(repeated):,} row{'' if one else 's'} "
            f"{'repeats' if one else 'repeat'} an "
            "authenticator of the same person, type and registered_at, and counts as that one; the column id (or "
            "serial) "
            "distinguishes several"
        )
    is_counted = person != MISSING
    is_counted[repeated] = False
    kept = np.flatnonzero(is_counted)
    memorized = kind.where([word == MEMORIZED for word in kind.words]) & (rows != MISSING)
    lists_memorized = bool(np.any(register.is_member[rows[memorized]]))  # of guests it says nothing about members
    return Authenticators(person[kept], kind.codes[kept], kind.words, lists_memorized)


def _repeated(table: Table, kind: Ints, rows: Ints, registered: Longs | None) -> Longs:
    """Return the rows that list an authenticator once more.

    One of the same id (or serial), or, without an id, of the same moment.

    `rows` are the rows of the people, MISSING for those who do not exist. Spec: facts 4.
    """
    name = next((name for name in ("id", "serial") if name in table.columns), None)
    ids = np.full(table.rows, MISSING, np.int64) if name is None else table.columns[name].coded().codes.astype(np.int64)
    moment = np.full(table.rows, NO_TIME, np.int64) if registered is None else registered
    owner = rows.astype(np.int64) * (int(kind.max(initial=0)) + 1) + kind
    is_repeated = np.zeros(table.rows, bool)
    # Rows with an id come first, so that one without an id repeats one of the same moment that has one.
    for columns, is_asked in (((owner, moment, ids == MISSING), ids == MISSING), ((owner, ids), ids != MISSING)):
        order = np.lexsort((np.arange(table.rows), *columns[::-1]))
        order = order[rows[order] != MISSING]
        same = (columns[0][order][1:] == columns[0][order][:-1]) & (columns[1][order][1:] == columns[1][order][:-1])
        again = order[1:][same]
        is_repeated[again[is_asked[again]]] = True
    return np.flatnonzero(is_repeated)


def build_passes(table: Table | None, register: PeopleRegister, taken_at: int, faults: Faults) -> Passes | None:
    """Return the bootstrap passes of active people; None where there is no such table."""
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
        person=person[kept],
        issued=issued[kept],
        starts=start[kept],
        expires=expires[kept],
        used=np.full(len(kept), NO_TIME, np.int64) if used is None else used[kept],
        single_use=None if single is None else single[kept],
        issuer=issuer,
        silent=silent[kept],
        taken_at=taken_at,
        size=len(register.people),
    )
