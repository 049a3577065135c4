"""The tables groups and members: who belongs to what."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ...words.faults import Faults, quoted
from ...words.record import record
from ..columns import MISSING, Longs
from ..groups import Groups, close_groups
from .checks import checked, filled, one_of
from .people import PeopleRegister
from .table import Spec, Table

GROUPS = Spec("groups", ("id", "name"), ("owner",))
MEMBERS = Spec("members", ("group", "member"), ("type",))


@record
class GroupsBuilt:
    """The groups (None without a members table), the numbers and names of all that are known, and whether these are
    all.
    """

    groups: Groups | None
    ids: Mapping[str, int]
    titles: tuple[str | None, ...]
    known: bool


def build_groups(
    table: Table | None, members: Table | None, register: PeopleRegister | None, faults: Faults
) -> GroupsBuilt:
    """Return the tables groups and members. Without members no one's membership is known, and `groups` is None."""
    names: dict[str, str | None] = {}
    owners: dict[str, str | None] = {}
    lines: dict[str, int] = {}
    if table is not None:
        filled(table, faults)
        everything = np.arange(table.rows)
        columns = [
            table.columns[name].texts().take(everything) if name in table.columns else [""] * table.rows
            for name in ("id", "name", "owner")
        ]
        for row, (group, name, owner) in enumerate(zip(*columns, strict=True)):
            if group in names and group:
                table.fault(
                    row,
                    f"the group {quoted(group)} occurs here and in {table.line(lines[group])}; "
                    "give each group an id of its own",
                    faults,
                )
            names[group], owners[group] = name, owner or None
            lines.setdefault(group, row)
    if members is None or register is None:
        ordered = sorted(names)
        return GroupsBuilt(
            None,
            {group: number for number, group in enumerate(ordered)},
            tuple(names[group] for group in ordered),
            table is not None,
        )
    owned = owners if table is not None and "owner" in table.columns else None
    return _members(members, register, names, owned, table is not None, faults)


def _members(
    members: Table,
    register: PeopleRegister,
    names: dict[str, str | None],
    owners: dict[str, str | None] | None,
    listed: bool,
    faults: Faults,
) -> GroupsBuilt:
    """Build the groups from the members table, closing nested groups, and note the rows that name nothing."""
    filled(members, faults)
    group = members.columns["group"].coded()
    kind = checked(members, "type", faults, one_of(("person", "group")))
    nested = np.zeros(members.rows, bool) if kind is None else kind.where([word == "group" for word in kind.words])
    member = members.columns["member"]
    inner_rows = np.flatnonzero(nested)
    inner_ids = member.texts(inner_rows).take(np.arange(len(inner_rows)))
    if not listed:
        names = dict.fromkeys([*group.words, *(one_group for one_group in inner_ids if one_group)])
    ordered = sorted(names)
    index = {group_id: number for number, group_id in enumerate(ordered)}
    outer = np.array([*(index.get(word, MISSING) for word in group.words), MISSING], np.int32)[group.codes]
    _note_rows(
        members,
        np.flatnonzero((outer == MISSING) & (group.codes != MISSING)),
        "name a group that does not exist",
        faults,
    )
    numbers, exists = register.numbers(member, nested)
    empty = np.zeros(members.rows, bool)
    empty[member.empty_rows()] = True
    _note_rows(members, np.flatnonzero(~nested & ~exists & ~empty), "name a person who does not exist", faults)
    inner = np.array([index.get(one_group, MISSING) for one_group in inner_ids], np.int32)
    _note_rows(members, inner_rows[inner == MISSING], "name a nested group that does not exist", faults)
    direct = np.flatnonzero(~nested & (numbers != MISSING) & (outer != MISSING))
    good = (inner != MISSING) & (outer[inner_rows] != MISSING)
    groups = close_groups(
        ordered,
        [names[one_group] for one_group in ordered],
        (outer[direct], numbers[direct]),
        (outer[inner_rows][good], inner[good]),
        len(register.people),
        None if owners is None else tuple(owners[one_group] for one_group in ordered),
    )
    return GroupsBuilt(groups, index, groups.names, True)


def _note_rows(table: Table, rows: Longs, fault: str, faults: Faults) -> None:
    """One note for all rows of a kind, with the place of the first."""
    if len(rows):
        count = len(rows)
        verb = fault if count > 1 else fault.replace("name ", "names ", 1)
        faults.note(
            f"{table.where(int(rows[0]))}: {count} row{'s' if count > 1 else ''} "
            f"{verb}; {'they are' if count > 1 else 'it is'} ignored"
        )
