"""The tables people, groups and members: who there is, and who belongs to what."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..core.organisation.columns import MISSING, Bools, Coded, Ints, Longs
from ..core.organisation.facts import MFA, PROTECTION
from ..core.organisation.groups import Groups, close_groups
from ..core.organisation.people import People
from ..core.organisation.units import Units, lineage
from .faults import Faults, nearest, quoted
from .tables import Shelf
from .tables.interface import FLAG, LIST, TIME, Column, Spec, Table

KINDS = ("member", "guest", "service")
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
GROUPS = Spec("groups", ("id", "name"), ("owner",))
MEMBERS = Spec("members", ("group", "member"), ("type",))


def unit_fault(path: str) -> str | None:
    """What is wrong with a unit's path, and what would be right."""
    if not path.startswith("/"):
        return f"the unit {quoted(path)} does not begin with a slash; write {quoted('/' + path.strip('/'))}"
    if path != "/" and (path.endswith("/") or "//" in path):
        right = "/" + "/".join(part for part in path.split("/") if part)
        return f"the unit {quoted(path)} has an empty part; write {quoted(right)}"
    return None


def checked(table: Table, name: str, faults: Faults, wrong: Any) -> Coded | None:
    """A column with every distinct word checked: `wrong(word)` says what is wrong with it, or None."""
    if name not in table.columns:
        return None
    coded = table.columns[name].coded()
    for code, word in enumerate(coded.words):
        message = wrong(word)
        if message is not None:
            for row in np.flatnonzero(coded.codes == code)[:50].tolist():
                table.fault(row, f"{name}: {message}", faults)
    return coded


def one_of(words: tuple[str, ...]) -> Any:
    """A check that a word is one of these."""
    return lambda word: (
        None if word in words else f"{quoted(word)} is none of {', '.join(words)}; {nearest(word, words)}"
    )


def flags(table: Table, name: str, missing: bool, faults: Faults) -> Bools | None:
    """A column of flags; an empty cell is `missing`."""
    coded = checked(
        table,
        name,
        faults,
        lambda word: None if word in ("true", "false") else f"{quoted(word)} is not a flag; write true or false",
    )
    if coded is None:
        return None
    return np.array([*(word == "true" for word in coded.words), missing])[coded.codes]


def times(table: Table, name: str, faults: Faults) -> Longs | None:
    """A column of times."""
    if name not in table.columns:
        return None
    found, wrong = table.columns[name].times()
    if len(wrong):
        cells = table.columns[name].texts(wrong[:50]).take(np.arange(min(len(wrong), 50)))
        for row, cell in zip(wrong.tolist(), cells, strict=False):
            table.fault(
                row, f"{name}: {quoted(cell)} is not a time with an offset; write it as 2026-11-20T06:00:00Z", faults
            )
    return found


def filled(table: Table, faults: Faults) -> None:
    """Names the rows in which a column that must be filled is not."""
    for name in table.spec.required:
        for row in table.columns[name].empty_rows()[:50].tolist():
            table.fault(row, f"the cell {name} is empty; {table.spec.name} needs it in every row", faults)


@dataclass(frozen=True)
class Register:
    """The people, with what later tables need to find them: `ids` as in the file, and for each row of the file the
    number of the active person (MISSING for an inactive one)."""

    people: People
    ids: Column
    active_number: Ints
    units: Units | None
    unit_paths: frozenset[str]
    table: Table

    def numbers(self, column: Column) -> tuple[Ints, Bools]:
        """For each cell, the number of the active person with that id, and whether anybody has it."""
        rows = column.index_in(self.ids)
        numbers = np.concatenate((self.active_number, [MISSING]))[rows].astype(np.int32)
        return numbers, rows != MISSING


def read_people(shelf: Shelf, faults: Faults) -> Register | None:
    """The table people; None, with faults, where there is no use in reading on."""
    table = shelf.table(PEOPLE, faults)
    if table is None:
        if not any(fault.file.startswith(str(shelf.folder / "people")) for fault in faults.found):
            faults.add(
                str(shelf.folder), 0, "has no people table; write people.csv with the columns id, login and kind"
            )
        return None
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
    kept = np.arange(table.rows) if order is None else order
    if active is not None:
        kept = kept[active[kept]]
    people, units, paths = _people(table, kept, faults)
    numbers = np.full(table.rows, MISSING, np.int32)
    numbers[kept] = np.arange(len(kept))
    return Register(people, ids, numbers, units, paths, table)


def _people(table: Table, kept: Longs, faults: Faults) -> tuple[People, Units | None, frozenset[str]]:
    def part(coded: Coded | None) -> Coded | None:
        return None if coded is None else Coded(coded.codes[kept], coded.words)

    def sets(name: str) -> Coded | None:
        return part(tidy_sets(table.columns[name].coded())) if name in table.columns else None

    kind = checked(table, "kind", faults, one_of(KINDS))
    unit = checked(table, "unit", faults, unit_fault)
    mfa, protection = (
        checked(table, name, faults, one_of(words.words)) for name, words in (("mfa", MFA), ("protection", PROTECTION))
    )
    break_glass = flags(table, "break_glass", False, faults)
    whole = slice(None) if len(kept) == table.rows and bool(np.all(kept == np.arange(len(kept)))) else kept
    rows = None if isinstance(whole, slice) else kept
    logins = table.columns["login"].texts(rows)
    sponsor = None
    if "sponsor" in table.columns:
        there = np.ones(table.rows, bool)
        there[table.columns["sponsor"].empty_rows()] = False
        sponsor = there[kept]
    found_times = {name: column[kept] for name in TIMES if (column := times(table, name, faults)) is not None}
    units, paths = (None, frozenset[str]()) if unit is None else _units(unit, kept)
    assert kind is not None
    left = np.ones(table.rows, bool)
    left[kept] = False
    inactive = np.flatnonzero(left)
    gone = table.columns["id"].texts(inactive).take(np.arange(len(inactive)))
    people = People(
        table.columns["id"].texts(rows),
        logins,
        table.columns["name"].texts(rows) if "name" in table.columns else None,
        Coded(kind.codes[kept], kind.words),
        part(unit),
        sets("roles"),
        sets("licences"),
        None if break_glass is None else break_glass[kept],
        part(table.columns["home_domain"].coded()) if "home_domain" in table.columns else None,
        sponsor,
        part(mfa),
        part(protection),
        found_times,
        {
            name: Coded(coded.codes[kept], coded.words)
            for name in table.columns
            if name.startswith("attr.")
            for coded in [table.columns[name].coded()]
        },
        frozenset(gone),
    )
    return people, units, paths


def tidy_sets(coded: Coded) -> Coded:
    """A column of sets with each set's text in its one form."""
    from ..core.words.values import join_words, split_words

    tidy = [join_words(tuple(split_words(word))) for word in coded.words]
    words: dict[str, int] = {}
    places = np.array([*(words.setdefault(word, len(words)) for word in tidy), MISSING], np.int32)
    return Coded(places[coded.codes], tuple(words))


def _units(unit: Coded, kept: Longs) -> tuple[Units, frozenset[str]]:
    everywhere = {above for word in unit.words if unit_fault(word) is None for above in lineage(word)}
    paths = sorted(everywhere, key=lambda path: path.rstrip("/").split("/"))
    index = {path: number for number, path in enumerate(paths)}
    places = np.array([*(index.get(word, MISSING) for word in unit.words), MISSING], np.int32)
    return Units(tuple(paths), places[unit.codes][kept]), frozenset(everywhere)


@dataclass(frozen=True)
class GroupsRead:
    """The groups (None without a members table), the numbers and names of all that are known, and whether these are all."""

    groups: Groups | None
    ids: Mapping[str, int]
    titles: tuple[str | None, ...]
    known: bool


def read_groups(shelf: Shelf, register: Register | None, faults: Faults) -> GroupsRead:
    """The tables groups and members. Without members nobody's membership is known, and `groups` is None."""
    table, members = shelf.table(GROUPS, faults), shelf.table(MEMBERS, faults)
    names: dict[str, str | None] = {}
    lines: dict[str, int] = {}
    if table is not None:
        filled(table, faults)
        everything = np.arange(table.rows)
        for row, (group, name) in enumerate(
            zip(
                table.columns["id"].texts().take(everything),
                table.columns["name"].texts().take(everything),
                strict=True,
            )
        ):
            if group in names and group:
                table.fault(
                    row,
                    f"the group {quoted(group)} stands here and in line {table.line_of(lines[group])}; "
                    "give each group an id of its own",
                    faults,
                )
            names[group] = name
            lines.setdefault(group, row)
    if members is None or register is None:
        ordered = sorted(names)
        return GroupsRead(
            None,
            {group: number for number, group in enumerate(ordered)},
            tuple(names[group] for group in ordered),
            table is not None,
        )
    return _members(members, register, names, table is not None, faults)


def _members(
    members: Table, register: Register, names: dict[str, str | None], listed: bool, faults: Faults
) -> GroupsRead:
    filled(members, faults)
    group = members.columns["group"].coded()
    kind = checked(members, "type", faults, one_of(("person", "group")))
    nested = np.zeros(members.rows, bool) if kind is None else kind.where([word == "group" for word in kind.words])
    member = members.columns["member"]
    inner_rows = np.flatnonzero(nested)
    inner_ids = member.texts(inner_rows).take(np.arange(len(inner_rows)))
    if not listed:
        names = dict.fromkeys([*group.words, *(each for each in inner_ids if each)])
    ordered = sorted(names)
    index = {each: number for number, each in enumerate(ordered)}
    outer = np.array([*(index.get(word, MISSING) for word in group.words), MISSING], np.int32)[group.codes]
    _note_rows(
        members,
        np.flatnonzero((outer == MISSING) & (group.codes != MISSING)),
        "name a group that does not exist",
        faults,
    )
    numbers, exists = register.numbers(member)
    empty = np.zeros(members.rows, bool)
    empty[member.empty_rows()] = True
    _note_rows(members, np.flatnonzero(~nested & ~exists & ~empty), "name a person who does not exist", faults)
    inner = np.array([index.get(each, MISSING) for each in inner_ids], np.int32)
    _note_rows(members, inner_rows[inner == MISSING], "name a nested group that does not exist", faults)
    direct = np.flatnonzero(~nested & (numbers != MISSING) & (outer != MISSING))
    good = (inner != MISSING) & (outer[inner_rows] != MISSING)
    groups = close_groups(
        ordered,
        [names[each] for each in ordered],
        (outer[direct], numbers[direct]),
        (outer[inner_rows][good], inner[good]),
        len(register.people),
    )
    return GroupsRead(groups, index, groups.names, True)


def _note_rows(table: Table, rows: Longs, fault: str, faults: Faults) -> None:
    """One note for all rows of a kind, with where the first stands."""
    if len(rows):
        count = len(rows)
        verb = fault if count > 1 else fault.replace("name ", "names ", 1)
        faults.note(
            f"{table.name}:{table.line_of(int(rows[0]))}: {count} row{'s' if count > 1 else ''} "
            f"{verb}; {'they are' if count > 1 else 'it is'} ignored"
        )
