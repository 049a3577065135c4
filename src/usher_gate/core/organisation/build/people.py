"""The table people: who there is."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...words.faults import Faults, quoted
from ...words.vocabulary import MFA_WORDS, PERSON_KINDS, PROTECTION_WORDS
from ..columns import MISSING, Bools, Coded, Ints, Longs
from ..people import People
from ..units import Units, lineage
from .checks import checked, filled, flags, one_of, tidy_sets, times, unit_fault
from .table import FLAG, LIST, TIME, Column, Spec, Table

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
    attributes=True,
)


@dataclass(frozen=True)
class Register:
    """The people, with what later tables need to find them: `ids` as in the table, and for each of its rows the
    number of the active person (MISSING for an inactive one)."""

    people: People
    inactive: People
    ids: Column
    active_number: Ints
    units: Units | None
    unit_paths: frozenset[str]

    def numbers(self, column: Column) -> tuple[Ints, Bools]:
        """For each cell, the number of the active person with that id, and whether anybody has it."""
        rows = column.index_in(self.ids)
        numbers = np.concatenate((self.active_number, [MISSING]))[rows].astype(np.int32)
        return numbers, rows != MISSING


def build_people(table: Table, faults: Faults) -> Register:
    """The register of a table of people; with faults, one that must not be used."""
    filled(table, faults)
    if not table.rows:
        faults.note(f"{table.name} has no rows: nobody is judged")
    ids = table.columns["id"]
    order = ids.order()
    for first, second in ids.repeated(order)[:50]:
        one, other = sorted((table.line_of(first), table.line_of(second)))
        cell = ids.texts(np.array([first])).take(np.array([0]))[0]
        faults.add(
            table.file,
            other,
            f"the id {quoted(cell)} stands here and in line {one}; give each account an id of its own",
        )
    active = flags(table, "active", True, faults)
    rows = np.arange(table.rows) if order is None else order
    kept = rows if active is None else rows[active[rows]]
    columns = _Columns(table, faults)
    numbers = np.full(table.rows, MISSING, np.int32)
    numbers[kept] = np.arange(len(kept))
    inactive = columns.people(rows[:0] if active is None else rows[~active[rows]])
    units, paths = (None, frozenset[str]()) if columns.unit is None else _units(columns.unit, kept)
    register = Register(columns.people(kept), inactive, ids, numbers, units, paths)
    if "sponsor" not in table.columns:
        return register
    sponsors = register.numbers(table.columns["sponsor"])[0][kept]
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
        self._sponsored: Bools | None = None
        if "sponsor" in table.columns:
            self._sponsored = np.ones(table.rows, bool)
            self._sponsored[table.columns["sponsor"].empty_rows()] = False

    def people(self, kept: Longs) -> People:
        """The people of some rows, in their order."""

        def part(coded: Coded | None) -> Coded | None:
            return None if coded is None else Coded(coded.codes[kept], coded.words)

        columns = self._table.columns
        every = len(kept) == self._table.rows and bool(np.all(kept == np.arange(len(kept))))
        rows = None if every else kept
        return People(
            columns["id"].texts(rows),
            columns["login"].texts(rows),
            columns["name"].texts(rows) if "name" in columns else None,
            Coded(self._kind.codes[kept], self._kind.words),
            part(self.unit),
            part(self._roles),
            part(self._licences),
            None if self._break_glass is None else self._break_glass[kept],
            part(self._home),
            None if self._sponsored is None else self._sponsored[kept],
            part(self._mfa),
            part(self._protection),
            {name: column[kept] for name, column in self._times.items()},
            {name: Coded(coded.codes[kept], coded.words) for name, coded in self._attributes.items()},
        )


def _units(unit: Coded, kept: Longs) -> tuple[Units, frozenset[str]]:
    everywhere = {above for word in unit.words if unit_fault(word) is None for above in lineage(word)}
    paths = sorted(everywhere, key=lambda path: path.rstrip("/").split("/"))
    index = {path: number for number, path in enumerate(paths)}
    places = np.array([*(index.get(word, MISSING) for word in unit.words), MISSING], np.int32)
    return Units(tuple(paths), places[unit.codes][kept]), frozenset(everywhere)
