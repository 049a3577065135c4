"""The table people: who there is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import cached_property

import numpy as np

from ...words.addresses import misleading_logins
from ...words.faults import Faults, quoted
from ...words.record import record
from ...words.vocabulary import MFA_WORDS, PERSON_KINDS, PROTECTION_WORDS
from ..columns import MISSING, Bools, Coded, Ints, Longs
from ..people import OWNER, People, others_of
from ..units import Units, lineage
from .checks import checked, filled, flags, ids_once, one_of, tidy_sets, times, unit_fault
from .table import FLAG, LIST, TIME, CellColumn, Spec, Table

TIMES = ("created_at", "last_sign_in_at", "expires_at", "reviewed_at")
PEOPLE = Spec(
    "people",
    ("id", "login", "kind"),
    (
        "name",
        "unit",
        "roles",
        "licences",
        "active",
        "break_glass",
        "home_domain",
        "sponsor",
        "mfa",
        "protection",
        *TIMES,
    ),
    {"roles": LIST, "licences": LIST, "active": FLAG, "break_glass": FLAG, **dict.fromkeys(TIMES, TIME)},
)


@record
class PeopleRegister:
    """The people, with what later tables need to find them.

    `ids` and `logins` as in the table, and for each of its rows the number of the active person (MISSING for an
    inactive one), and whether it is a member's.
    """

    people: People
    inactive: People
    ids: CellColumn
    logins: CellColumn
    active_number: Ints
    units: Units | None
    unit_paths: frozenset[str]
    is_member: Bools

    @cached_property
    def _rows_of_logins(self) -> Mapping[str, int]:
        every = self.logins.texts().take(np.arange(len(self.logins), dtype=np.int32))
        return {login.casefold(): row for row, login in enumerate(every) if login}

    def rows(self, column: CellColumn, others: Bools | None = None) -> Ints:
        """Return for each cell the row of the person whose id it is, else whose login (without case).

        MISSING for no one.

        What `others` holds speaks of something else: its logins are not looked for.
        """
        rows = column.index_in(self.ids)
        unknown = rows == MISSING if others is None else (rows == MISSING) & ~others
        unknown[column.empty_rows()] = False
        left = np.flatnonzero(unknown)
        if len(left):
            found = [
                self._rows_of_logins.get(cell.casefold(), MISSING)
                for cell in column.texts(left).take(np.arange(len(left)))
            ]
            rows = rows.copy()
            rows[left] = found
        return rows

    @cached_property
    def _rows_of_ids(self) -> Mapping[str, int]:
        every = self.ids.texts().take(np.arange(len(self.ids), dtype=np.int32))
        return {name.casefold(): row for row, name in enumerate(every)}

    def login_of(self, name: str) -> str:
        """Return the login of the person whose id this is, without case.

        The text itself where it is a login, or no one's id.
        """
        folded = name.casefold()
        row = MISSING if folded in self._rows_of_logins else self._rows_of_ids.get(folded, MISSING)
        return name if row == MISSING else self.logins.texts(np.array([row])).take(np.array([0]))[0]

    def id_of(self, row: int) -> str:
        """Return the id in a row."""
        return self.ids.texts(np.array([row])).take(np.array([0]))[0]

    def numbers(self, column: CellColumn, others: Bools | None = None) -> tuple[Ints, Bools]:
        """Return for each cell, the number of the active person with that id or login, and whether anyone has it.

        `others` as for `rows`.
        """
        rows = self.rows(column, others)
        numbers = np.concatenate((self.active_number, [MISSING]))[rows].astype(np.int32)
        return numbers, rows != MISSING


def build_people(table: Table, faults: Faults, cut: tuple[int, int] | None = None) -> PeopleRegister:
    """Return the register of a table of people; with faults, one that must not be used.

    `cut` leaves only the active people from one number to before another in their order; whatever speaks of others is
    then left out as what speaks of inactive people is, and what counts over everyone is counted all the same.
    """
    filled(table, faults)
    if not table.rows:
        faults.note(f"{table.name} has no rows: no one is judged")
    ids = table.columns["id"]
    order = ids.order()
    ids_once(table, faults, order, "account")
    _logins_once(table, faults)
    if cut is None:
        _note_misleading_logins(table, faults)
    active = flags(table, "active", True, faults)
    rows = np.arange(table.rows) if order is None else order
    kept = rows if active is None else rows[active[rows]]
    columns = _Columns(table, faults)
    owned = None if cut is None else others_of(columns.owner(kept))
    everybody = np.zeros(table.rows, bool)
    everybody[kept] = True
    kept = kept if cut is None else kept[slice(*cut)]
    numbers = np.full(table.rows, MISSING, np.int32)
    numbers[kept] = np.arange(len(kept))
    inactive = columns.people(rows[:0] if active is None else rows[~active[rows]])
    units, paths = (None, frozenset[str]()) if columns.unit is None else _units(columns.unit, kept)
    people = columns.people(kept)
    if cut is not None and owned is not None:
        people = replace(people, others_owned=owned[slice(*cut)])
    kind = table.columns["kind"].coded()
    is_member = kind.where([word == "member" for word in kind.words])
    register = PeopleRegister(
        people=people,
        inactive=inactive,
        ids=ids,
        logins=table.columns["login"],
        active_number=numbers,
        units=units,
        unit_paths=paths,
        is_member=is_member,
    )
    if "sponsor" not in table.columns:
        return register
    numbered, _ = register.numbers(table.columns["sponsor"])
    sponsor_rows = register.rows(table.columns["sponsor"])
    numbered = np.where(np.append(is_member, False)[sponsor_rows], numbered, MISSING).astype(np.int32)
    named = np.ones(table.rows, bool)
    named[table.columns["sponsor"].empty_rows()] = False
    lost = kept[(named & (numbered == MISSING))[kept]]
    if len(lost) and cut is None:
        subject = f"{len(lost)} people have a sponsor who is" if len(lost) > 1 else "a sponsor is"
        faults.note(f"{table.where(int(lost.min()))}: {subject} not an active member; it counts as no sponsor")
    sponsors = numbered[kept]
    if cut is not None:  # someone's sponsor may be among the others, and is no less there for it
        named_row = sponsor_rows[kept]
        counts = (named_row != MISSING) & everybody[named_row] & is_member[named_row]
        sponsors = np.where(counts, np.maximum(sponsors, 0), MISSING).astype(np.int32)
    return replace(register, people=replace(register.people, sponsors=sponsors))


class _Columns:
    """The columns of the table, each checked once."""

    def __init__(self, table: Table, faults: Faults) -> None:
        self._table = table
        kind = checked(table, "kind", faults, one_of(PERSON_KINDS))
        assert kind is not None
        self._kind, self.unit = kind, checked(table, "unit", faults, unit_fault)
        self._mfa = checked(table, "mfa", faults, one_of(MFA_WORDS))
        self._protection = checked(table, "protection", faults, one_of(PROTECTION_WORDS))
        self._break_glass = flags(table, "break_glass", False, faults)
        self._times = {name: column for name in TIMES if (column := times(table, name, faults)) is not None}
        self._roles, self._licences = (
            tidy_sets(table.columns[name].coded()) if name in table.columns else None for name in ("roles", "licences")
        )
        self._home = table.columns["home_domain"].coded() if "home_domain" in table.columns else None
        self._attributes = {name: column.coded() for name, column in table.columns.items() if name.startswith("attr.")}

    def owner(self, kept: Longs) -> Coded | None:
        """Return whose account each of some rows is."""
        found = self._attributes.get(OWNER)
        return None if found is None else Coded(found.codes[kept], found.words)

    def people(self, kept: Longs) -> People:
        """Return the people of some rows, in their order."""

        def part(coded: Coded | None) -> Coded | None:
            return None if coded is None else Coded(coded.codes[kept], coded.words)

        columns = self._table.columns
        every = len(kept) == self._table.rows and bool(np.all(kept == np.arange(len(kept))))
        rows = None if every else kept
        return People(
            ids=columns["id"].texts(rows),
            logins=columns["login"].texts(rows),
            names=columns["name"].texts(rows) if "name" in columns else None,
            kind=Coded(self._kind.codes[kept], self._kind.words),
            unit=part(self.unit),
            roles=part(self._roles),
            licences=part(self._licences),
            break_glass=None if self._break_glass is None else self._break_glass[kept],
            home_domain=part(self._home),
            mfa=part(self._mfa),
            protection=part(self._protection),
            times={name: column[kept] for name, column in self._times.items()},
            attributes={name: Coded(coded.codes[kept], coded.words) for name, coded in self._attributes.items()},
        )


def _logins_once(table: Table, faults: Faults) -> None:
    """Report the logins that two people have: a reference to such a login would be ambiguous."""
    logins = table.columns["login"]
    if not logins.alike_without_case():
        return
    first: dict[str, int] = {}
    found = 0
    for row, login in enumerate(logins.texts().take(np.arange(len(logins), dtype=np.int32))):
        other = first.setdefault(login.casefold(), row) if login else row
        if other != row and found < 50:
            found += 1
            message = (
                f"the login {quoted(login)} occurs here and in {table.line(other)}; give each account a login of its "
                "own"
            )
            table.fault(row, message, faults)


def _note_misleading_logins(table: Table, faults: Faults) -> None:
    """Notes the logins that look like addresses and are none: no one can be written to there."""
    column = table.columns["login"]
    logins = column.texts().take(np.arange(len(column), dtype=np.int32))
    wrong = misleading_logins([login for login in logins if login])
    if wrong:
        these = "1 login is no mail address" if len(wrong) == 1 else f"{len(wrong):,} logins are no mail addresses"
        shown = ", ".join(quoted(login) for login in wrong[:3]) + (", …" if len(wrong) > 3 else "")
        faults.note(f"{table.name}: {these}, so no message can be drafted: {shown}")


def _units(unit: Coded, kept: Longs) -> tuple[Units, frozenset[str]]:
    everywhere = {above for word in unit.words if unit_fault(word) is None for above in lineage(word)}
    paths = sorted(everywhere, key=lambda path: path.rstrip("/").split("/"))
    index = {path: number for number, path in enumerate(paths)}
    places = np.array([*(index.get(word, MISSING) for word in unit.words), MISSING], np.int32)
    return Units(tuple(paths), places[unit.codes][kept]), frozenset(everywhere)
