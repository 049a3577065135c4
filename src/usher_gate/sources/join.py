"""Bringing the sources together: people joined by id, else by login.

Where two sources contradict each other, the first one counts.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from ..core.words.faults import times
from .columns import Columns
from .interface import Gathered, Row

_KEYS: Mapping[str, tuple[str, ...]] = {
    "units": ("path",),
    "groups": ("id",),
    "members": ("group", "member", "type"),
    "settings": ("service", "control", "scope", "active"),
    "partners": ("domain",),
    "meetings": ("id",),
}
JOINABLE = frozenset(_KEYS)  # the tables of which rows of several sources are brought together
_OF_PERSON = ("observations", "authenticators", "passes", "sign_ins")
_NAMED = 20


@dataclass
class Joined:
    """The tables of all sources together, and every contradiction between two of them (the first few by name, all by
    number).
    """

    tables: dict[str, Sequence[Row]] = field(default_factory=dict)
    contradictions: Counter[tuple[str, str, str]] = field(default_factory=Counter)
    examples: dict[tuple[str, str, str], list[str]] = field(default_factory=dict)
    givers: dict[str, tuple[str, ...]] = field(default_factory=dict)  # by person, where several sources give people

    def people_by_givers(self) -> dict[tuple[str, ...], list[str]]:
        """Return the ids of people by the sources that gave them, if several sources give people."""
        found: dict[tuple[str, ...], list[str]] = {}
        for person, sources in self.givers.items():
            found.setdefault(sources, []).append(person)
        return found

    def contradict(self, what: str, first: str, second: str, text: str) -> None:
        """Notes that two sources say different things."""
        key = (what, first, second)
        self.contradictions[key] += 1
        if len(shown := self.examples.setdefault(key, [])) < _NAMED:
            shown.append(text)

    def notes(self) -> list[str]:
        """Return the contradictions in words."""
        return [
            f"{first} and {second} contradict each other about {what} ({times(number)}; {first} counts): "
            + "; ".join(self.examples[key][:3])
            for key, number in sorted(self.contradictions.items())
            for what, first, second in [key]
        ]


def join(sources: Sequence[tuple[str, Gathered]]) -> Joined:
    """Joins what the sources gave, in the order in which they count."""
    joined = Joined()
    people = _People(joined)
    givers = Counter(table for _, gathered in sources for table in gathered.tables)
    several = frozenset(table for table, number in givers.items() if number > 1)
    finals = []  # for each source, its ids that another source calls otherwise
    for name, gathered in sources:
        rows = gathered.tables.get("people", ())
        finals.append(people.take(rows, name) if "people" not in several else people.add(rows, name))
    if "people" not in several:
        joined.givers.clear()
    for (name, gathered), final in zip(sources, finals, strict=True):
        for table, rows in gathered.tables.items():
            if table == "settings":
                rows = [people.scope_by_id(row) for row in rows]
            if table != "people":
                _add_rows(table, rows, name if table in several else None, final, joined)
    if len(people.rows):
        joined.tables["people"] = people.rows
    _key_by_value(joined, several)
    return joined


class _People:
    """People by id, else by login, and which source named each first."""

    def __init__(self, joined: Joined) -> None:
        self._joined = joined
        self._known: dict[str, tuple[Row, str]] = {}
        self._logins: dict[str, str] = {}
        self._whole: Columns | None = None  # of the one source that gives people, where all of them differ

    @property
    def rows(self) -> Sequence[Row]:
        """Everyone."""
        return self._whole if self._whole is not None else [row for row, _ in self._known.values()]

    @cached_property
    def _ids(self) -> tuple[Container[str], Mapping[str, str]]:
        """Everyone's ids, and the id of each login."""
        if self._whole is None:
            return self._known, self._logins
        ids, logins = self._whole.column("id"), self._whole.column("login")
        return set(ids), {login.casefold(): name for login, name in zip(logins, ids, strict=True) if login}

    def scope_by_id(self, row: Row) -> Row:
        """Return a setting of a person with the person's id, if their login was written."""
        kind, _, who = row.get("scope", "").partition(":")
        if kind != "person":
            return row
        ids, logins = self._ids
        if who in ids or who.casefold() not in logins:
            return row
        return {**row, "scope": f"person:{logins[who.casefold()]}"}

    def take(self, rows: Sequence[Row], source: str) -> dict[str, str]:
        """Return the people of the only source that gives any."""
        if isinstance(rows, Columns):
            ids, logins = rows.column("id"), [login.casefold() for login in rows.column("login") if login]
            if all(ids) and len(set(ids)) == len(ids) and len(set(logins)) == len(logins):
                self._whole = rows
                return {}
        return self.add(rows, source)

    def add(self, rows: Sequence[Row], source: str) -> dict[str, str]:
        """Brings in the people of a source; returns those of its ids that another source calls otherwise."""
        final: dict[str, str] = {}
        for row in rows:
            self._add(row, source, final)
        return final

    def _add(self, row: Row, source: str, final: dict[str, str]) -> None:
        """Join one row of people to the person with the same id or login, and record where sources contradict."""
        people, logins, joined = self._known, self._logins, self._joined
        name, login = row.get("id", ""), row.get("login", "").casefold()
        by_login = logins.get(login) if login else None
        mine = name if name in people else by_login
        if mine is None:
            people[name] = (row, source)
            joined.givers[name] = (source,)
            if login:
                logins.setdefault(login, name)
            return
        if mine != name and name:
            final[name] = mine
        if source not in joined.givers[mine]:
            joined.givers[mine] += (source,)
        known, first = people[mine]
        if first == source and mine == name:
            joined.contradict("people", first, source, f"{name} occurs there twice")
        for column, cell in row.items():
            if column == "id" or cell == "":
                continue
            if known.get(column, "") == "":
                known[column] = cell
            elif known[column] != cell and not (column == "login" and known[column].casefold() == cell.casefold()):
                joined.contradict(f"people's {column}", first, source, f"{mine}: {known[column]} or {cell}")


def _add_rows(table: str, rows: Sequence[Row], source: str | None, final: Mapping[str, str], joined: Joined) -> None:
    if not final and source is None:
        joined.tables[table] = rows
        return
    kept = joined.tables.setdefault(table, [])
    assert isinstance(kept, list)
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
            for column in sorted({*row, *known} - {"", "note", "set"}):
                if known.get(column, "") != row.get(column, ""):
                    text = f"{' '.join(key[:3])}: {known.get(column) or 'nothing'} or {row.get(column) or 'nothing'}"
                    joined.contradict(f"{table}' {column}", known[""], source, text)
        if table in joined.tables:
            joined.tables[table] = [{column: cell for column, cell in row.items() if column} for row in first.values()]
