"""Bringing the sources together: people joined by id, else by login; where two sources contradict each other, the first one counts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from .interface import Gathered, Row

_KEYS: Mapping[str, tuple[str, ...]] = {
    "groups": ("id",),
    "members": ("group", "member", "type"),
    "settings": ("service", "control", "scope", "active"),
    "partners": ("domain",),
    "meetings": ("id",),
}
_OF_PERSON = ("observations", "authenticators", "passes", "sign_ins")
_NAMED = 20


@dataclass
class Joined:
    """The tables of all sources together, and every contradiction between two of them (the first few by name, all by number)."""

    tables: dict[str, list[Row]] = field(default_factory=dict)
    contradictions: Counter[tuple[str, str, str]] = field(default_factory=Counter)
    examples: dict[tuple[str, str, str], list[str]] = field(default_factory=dict)

    def contradict(self, what: str, first: str, second: str, text: str) -> None:
        """Notes that two sources say different things."""
        key = (what, first, second)
        self.contradictions[key] += 1
        if len(shown := self.examples.setdefault(key, [])) < _NAMED:
            shown.append(text)

    def notes(self) -> list[str]:
        """The contradictions in words."""
        return [
            f"{first} and {second} contradict each other about {what} ({number} times; {first} counts): {'; '.join(self.examples[key][:3])}"
            for key, number in sorted(self.contradictions.items())
            for what, first, second in [key]
        ]


def join(sources: Sequence[tuple[str, Gathered]]) -> Joined:
    """Joins what the sources gave, in the order in which they count."""
    joined = Joined()
    people: dict[str, tuple[Row, str]] = {}
    logins: dict[str, str] = {}
    givers = Counter(table for _, gathered in sources for table in gathered.tables)
    several = frozenset(table for table, number in givers.items() if number > 1)
    for name, gathered in sources:
        final: dict[str, str] = {}  # this source's ids that another source calls otherwise
        for row in gathered.tables.get("people", ()):
            _add_person(row, name, people, logins, final, joined)
        for table, rows in gathered.tables.items():
            if table == "settings":
                rows = [_scope_by_id(row, people, logins) for row in rows]
            if table != "people":
                _add_rows(table, rows, name if table in several else None, final, joined)
    if people:
        joined.tables["people"] = [row for row, _ in people.values()]
    _key_by_value(joined, several)
    return joined


def _scope_by_id(row: Row, people: Mapping[str, object], logins: Mapping[str, str]) -> Row:
    """A setting of a person with the person's id, if their login was written."""
    kind, _, who = row.get("scope", "").partition(":")
    if kind != "person" or who in people or who.casefold() not in logins:
        return row
    return {**row, "scope": f"person:{logins[who.casefold()]}"}


def _add_person(
    row: Row,
    source: str,
    people: dict[str, tuple[Row, str]],
    logins: dict[str, str],
    final: dict[str, str],
    joined: Joined,
) -> None:
    name, login = row.get("id", ""), row.get("login", "").casefold()
    mine = name if name in people else logins.get(login) if login else None
    if mine is None:
        people[name] = (row, source)
        if login:
            logins.setdefault(login, name)
        return
    if mine != name and name:
        final[name] = mine
    known, first = people[mine]
    if first == source and mine == name:
        joined.contradict("people", first, source, f"{name} stands there twice")
    for column, cell in row.items():
        if column == "id" or cell == "":
            continue
        if known.get(column, "") == "":
            known[column] = cell
        elif known[column] != cell and not (column == "login" and known[column].casefold() == cell.casefold()):
            joined.contradict(f"people's {column}", first, source, f"{mine}: {known[column]} or {cell}")


def _add_rows(table: str, rows: Sequence[Row], source: str | None, final: Mapping[str, str], joined: Joined) -> None:
    kept = joined.tables.setdefault(table, [])
    if not final and source is None:
        kept += rows
        return
    for row in rows:
        if final:
            if table in _OF_PERSON and row.get("person", "") in final:
                row = {**row, "person": final[row["person"]]}
            elif table == "members" and row.get("type", "person") == "person" and row.get("member", "") in final:
                row = {**row, "member": final[row["member"]]}
            elif table == "settings" and row.get("scope", "")[:7] == "person:" and row["scope"][7:] in final:
                row = {**row, "scope": f"person:{final[row['scope'][7:]]}"}
        kept.append({**row, "": source} if table in _KEYS and source is not None else row)


def _key_by_value(joined: Joined, several: frozenset[str]) -> None:
    """Takes out what two sources both gave, and names what they gave differently."""
    for table, columns in _KEYS.items():
        if table not in several:
            continue
        first: dict[tuple[str, ...], Row] = {}
        for row in joined.tables.get(table, ()):
            source = row.pop("", "")
            key = tuple(row.get(column, "true" if column == "active" else "") for column in columns)
            known = first.get(key)
            if known is None:
                first[key] = {**row, "": source}
                continue
            for column in sorted({*row, *known} - {"", "note"}):
                if known.get(column, "") != row.get(column, ""):
                    text = f"{' '.join(key[:3])}: {known.get(column) or 'nothing'} or {row.get(column) or 'nothing'}"
                    joined.contradict(f"{table}' {column}", known[""], source, text)
        if table in joined.tables:
            joined.tables[table] = [{column: cell for column, cell in row.items() if column} for row in first.values()]
