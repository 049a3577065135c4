"""Groups of the same name that several sources give under different ids. Spec: gathering 2."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ..core.words.faults import quoted
from .interface import Gathered, Row


def shared_group_names(found: Sequence[tuple[str, Gathered]]) -> list[str]:
    """Return a note for each two sources that give groups of the same name under different ids."""
    first: dict[str, tuple[str, str]] = {}  # by name, the source and id of the first group
    shared: dict[tuple[str, str], list[str]] = {}
    for source, gathered in found:
        for row in gathered.tables.get("groups", ()):
            name, group = row.get("name", ""), row.get("id", "")
            other_source, other_group = first.setdefault(name.casefold(), (source, group))
            if name and other_source != source and other_group != group:
                shared.setdefault((other_source, source), []).append(name)
    notes = []
    for (one, other), names in sorted(shared.items()):
        groups = "1 group has a name" if len(names) == 1 else f"{len(names):,} groups have names"
        notes.append(
            f"{groups} that {one} and {other} both give, under different ids (here {quoted(names[0])}): "
            "they stay apart; "
            'join_groups = "name" in [gather] makes them one'
        )
    return notes


def join_groups(found: Sequence[tuple[str, Gathered]]) -> list[str]:
    """Give groups of the same name the id that the first source gives them; return a note for each source changed.

    Two groups of one source stay apart. Where several groups of the first source have the name, it is not known which
    is meant: they are left as they are, with a note. A source without a group of its own by an id means the group that
    another source gave.
    """
    ids: dict[str, set[str]] = {}  # by name, in the first source that has it
    notes = []
    renamed_of: dict[str, dict[str, str]] = {}  # by source
    own_of: dict[str, set[str]] = {}
    for source, gathered in found:
        mine: dict[str, set[str]] = {}
        for row in gathered.tables.get("groups", ()):
            if row.get("name") and row.get("id"):
                mine.setdefault(row["name"].casefold(), set()).add(row["id"])
        renamed: dict[str, str] = {}
        for name, own in mine.items():
            known = ids.setdefault(name, own)
            if known is own or own <= known:
                continue
            if len(known) > 1 or len(own) > 1:
                notes.append(f"{source}: several groups are called {quoted(name)}: they stay apart")
                continue
            renamed[next(iter(own))] = next(iter(known))
        renamed_of[source], own_of[source] = renamed, set().union(*mine.values())
        if renamed:
            count = "1 group is" if len(renamed) == 1 else f"{len(renamed):,} groups are"
            notes.append(f"{source}: {count} joined by name with those of an earlier source")
    everywhere = {group: new for renamed in renamed_of.values() for group, new in renamed.items()}
    kept = {group for source, own in own_of.items() for group in own - renamed_of[source].keys()}
    for source, gathered in found:
        others = {group: new for group, new in everywhere.items() if group not in own_of[source] | kept}
        if renamed := others | renamed_of[source]:
            gathered.tables = {table: _renamed(table, rows, renamed) for table, rows in gathered.tables.items()}
    return notes


def _renamed(table: str, rows: Sequence[Row], ids: Mapping[str, str]) -> Sequence[Row]:
    """Return the rows of a table with other ids of groups."""
    if table == "groups":
        return [{**row, "id": ids.get(row.get("id", ""), row.get("id", ""))} for row in rows]
    if table == "members":
        return [_renamed_membership(row, ids) for row in rows]
    if table == "settings":
        return [
            {**row, "scope": f"group:{ids[group]}"}
            if (group := row.get("scope", "").removeprefix("group:")) in ids and row["scope"].startswith("group:")
            else row
            for row in rows
        ]
    return rows


def _renamed_membership(row: Row, ids: Mapping[str, str]) -> Row:
    group, member = row.get("group", ""), row.get("member", "")
    is_group = row.get("type") == "group"
    return {**row, "group": ids.get(group, group), "member": ids.get(member, member) if is_group else member}
