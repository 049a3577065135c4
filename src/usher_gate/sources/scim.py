"""SCIM 2.0 (RFC 7643, RFC 7644).

People and groups, by index or by cursor (RFC 9865), and no one lost or doubled in silence.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Collection, Container, Iterator, Mapping, Sequence
from functools import partial
from itertools import compress
from typing import Any, TypeVar

from ..core.words.faults import quoted
from ..files.jsoncells import cell_text
from ..files.parallel import ahead
from ..files.scim import ACCOUNT, ENTERPRISE, EXTENDED
from .columns import Columns
from .interface import Context, Gathered, MappedColumn, Provides, SourceFailed
from .people import LISTS, OddValues, PeopleMapping, check_word, not_taken_note, person_cells
from .web import Access, Web

# Which attribute is which column. The account extension is the stand-in's; a directory of its own says so by `fields`.
FIELDS: Mapping[str, str] = {
    "id": "id",
    "login": "userName",
    "name": "displayName",
    "kind": "userType",
    "unit": f"{ENTERPRISE}:department",
    "roles": "roles",
    "licences": "entitlements",
    "active": "active",
    "created_at": "meta.created",
    **{name: f"{ACCOUNT}:{name}" for name in EXTENDED},
}
_Taken = TypeVar("_Taken", "_Users", "_Groups")
_PAGE = 500
_PASSES = 3  # how often a list that does not add up is asked for again
_MOST_PAGES = 100_000


class Scim:
    """A directory that speaks SCIM."""

    gives = Provides(frozenset(("people", "groups", "members")), needed=frozenset(("people",)))

    def __init__(
        self,
        access: Access,
        mapping: PeopleMapping,
        page: int = _PAGE,
        attributes: bool = True,
    ) -> None:
        self._access, self._mapping, self._page, self._attributes = access, mapping, page, attributes

    def gather(self, context: Context) -> Gathered:
        """Return people and groups."""
        found = Gathered()
        with Web(self._access, context) as web:
            cursor = self._cursor(web)
            users = self._all(web, "Users", self._wanted(), cursor, context, partial(_Users, self._mapping))
            groups = self._all(web, "Groups", ["id", "displayName", "members"], cursor, context, _Groups)
            users.finish(partial(self._attribute_names, web, cursor))
        found.tables["people"] = users.table
        found.mapped = users.mapped
        found.tables["groups"] = Columns(groups.cells)
        found.tables["members"] = groups.members(users.ids_by_resource, users.not_taken)
        found.notes += users.notes
        return found

    def _attribute_names(self, web: Web, cursor: bool) -> set[str]:
        """Return the paths of the attributes that users on the first page have."""
        page, _ = next(self._pages(web, "Users", [], cursor))
        names = set[str]()
        for user in page:
            for name, value in user.items() if isinstance(user, dict) else ():
                inner = value if isinstance(value, dict) else {}
                joint = ":" if name.startswith("urn:") else "."
                names |= {f"{name}{joint}{part}" for part in inner} or {name}
        return names

    def _wanted(self) -> list[str]:
        return sorted(
            {path.partition(".")[0] if not path.startswith("urn:") else path for path in self._mapping.fields.values()}
            | {"name", ACCOUNT}
        )

    def _cursor(self, web: Web) -> bool:
        """Return whether the server announces pagination by cursor.

        A server without the page of what it can is asked by index.
        """
        try:
            config = web.json("/ServiceProviderConfig")
        except SourceFailed as error:
            if "status 404" in str(error):
                return False
            raise
        pagination = config.get("pagination")
        return isinstance(pagination, dict) and pagination.get("cursor") is True

    def _all(
        self, web: Web, kind: str, wanted: list[str], cursor: bool, context: Context, empty: Callable[[], _Taken]
    ) -> _Taken:
        """Return every resource of a kind, once each; asked for again where the server contradicts itself."""
        why = ""
        for _ in range(_PASSES):
            found, ids = empty(), set[str]()
            given, totals = 0, set[int]()
            for page, total in ahead(self._pages(web, kind, wanted, cursor)):
                totals.add(total)
                for resource in page:
                    if not isinstance(resource, dict) or not isinstance(resource.get("id"), str) or not resource["id"]:
                        raise SourceFailed(f"{self._access.url}/{kind}: gives a resource without an id")
                    ids.add(resource["id"])
                given += len(page)
                context.check_people(given)
                found.take(page)
                context.progress(kind.lower(), len(ids), total)
            if totals == {len(ids)} and given == len(ids):
                return found
            said = " and then ".join(str(total) for total in sorted(totals))
            twice = f", {given - len(ids)} of them twice" if given > len(ids) else ""
            why = f"said that there are {said} {kind.lower()}, and gave {given}{twice}"
        raise SourceFailed(f"{self._access.url}/{kind}: {why}, {_PASSES} times over; no one is to be lost or doubled")

    def _pages(self, web: Web, kind: str, wanted: list[str], cursor: bool) -> Iterator[tuple[list[Any], int]]:
        """Yield the pages of a SCIM list with the total that each claims; raises SourceFailed if they never end."""
        query: dict[str, str | int] = {"count": self._page}
        if self._attributes and wanted:
            query["attributes"] = ",".join(wanted)
        place: dict[str, str | int] = {"cursor": ""} if cursor else {"startIndex": 1}
        seen, cursors = 0, {""}
        for _ in range(_MOST_PAGES):
            answer = web.json(f"/{kind}", {**query, **place})
            page, total = answer.get("Resources") or [], answer.get("totalResults")
            if not isinstance(page, list) or not isinstance(total, int) or isinstance(total, bool):
                raise SourceFailed(
                    f"{self._access.url}/{kind}: answers with no list (Resources, totalResults) of RFC 7644"
                )
            yield page, total
            seen += len(page)
            if seen > total + self._page:  # it has contradicted itself, and may never end
                return
            after = answer.get("nextCursor")
            if cursor and isinstance(after, str) and after:
                if after in cursors:
                    raise SourceFailed(f"{self._access.url}/{kind}: gives the same cursor twice")
                cursors.add(after)
                place = {"cursor": after}
            elif cursor or not page or seen >= total:
                return
            else:
                place = {"startIndex": seen + 1}
        raise SourceFailed(f"{self._access.url}/{kind}: gives page after page without an end")


class _Users:
    """People by columns, page after page."""

    def __init__(self, mapping: PeopleMapping) -> None:
        self._mapping, self._ids = mapping, list[str]()
        self._plan = [(column, *_path(path)) for column, path in mapping.fields.items()]
        self._cells: dict[str, list[str]] = {column: [] for column in mapping.fields}
        self.not_taken = frozenset[str]()  # the resources that `where` leaves out, once all are there
        self.mapped: list[MappedColumn] = []
        self.notes: list[str] = []

    def take(self, page: Sequence[dict[str, Any]]) -> None:
        """Some more of them."""
        before = len(self._ids)
        self._ids += [user["id"] for user in page]
        for column, first, rest in self._plan:
            self._cells[column] += _column(page, first, rest, column)
        for number, user in enumerate(page, before):
            account = user.get(ACCOUNT)
            for name, found in account.items() if isinstance(account, dict) else ():
                if name.startswith("attr.") and isinstance(found, str):
                    texts = self._cells.setdefault(name, [])
                    texts += [""] * (number + 1 - len(texts))
                    texts[number] = found
            if not self._cells["name"][number] and isinstance(parts := user.get("name"), dict):
                self._cells["name"][number] = _scalar(parts.get("formatted"), user["id"], "name.formatted")
        for texts in self._cells.values():
            texts += [""] * (len(self._ids) - len(texts))

    def finish(self, names: Callable[[], Collection[str]]) -> None:
        """Choose and translate, once all are there; raises SourceFailed. `names` returns the attributes users have."""
        if self._ids:
            empty = [column for column in self._mapping.fields if not any(self._cells[column])]
            self._mapping.check_attributes(empty, names)
        if self._mapping.where:
            chosen = self._mapping.chosen(self._cells, len(self._ids))
            self.not_taken = frozenset(compress(self._ids, [not is_chosen for is_chosen in chosen]))
            self.notes.append(not_taken_note(len(self.not_taken)))
            self._ids = list(compress(self._ids, chosen))
            self._cells = {column: list(compress(texts, chosen)) for column, texts in self._cells.items()}
        odd = OddValues()
        self.mapped = [
            MappedColumn("people", column, attribute, len(self._ids) - self._cells[column].count(""))
            for column, attribute in self._mapping.fields.items()
        ]
        self._mapping.translate(self._cells, self._ids)
        person_cells(self._cells, len(self._ids), odd)
        self.notes += odd.notes()

    @property
    def table(self) -> Columns:
        """Return the table people."""
        return Columns(self._cells)

    @property
    def ids_by_resource(self) -> dict[str, str]:
        """Everyone's id in the table, by the id of the resource, which members of groups have."""
        return dict(zip(self._ids, self._cells["id"], strict=True))


class _Groups:
    """Groups and their members by columns, page after page."""

    def __init__(self) -> None:
        self.cells: dict[str, list[str]] = {"id": [], "name": []}
        self._of, self._members, self._types = list[str](), list[str](), list[str]()

    def take(self, page: Sequence[dict[str, Any]]) -> None:
        """Some more of them."""
        self.cells["id"] += [group["id"] for group in page]
        names = _scalars([group.get("displayName") for group in page], page, "displayName")
        self.cells["name"] += [name or group["id"] for name, group in zip(names, page, strict=True)]
        for group in page:
            name = group["id"]
            listed = group.get("members") or []
            if not isinstance(listed, list) or not all(isinstance(one, dict) for one in listed):
                raise SourceFailed(f"the group {quoted(name)} has members that are no list of objects (RFC 7643, 4.2)")
            self._of += [name] * len(listed)
            self._members += _scalars([one.get("value") for one in listed], [group] * len(listed), "members.value")
            types = _scalars([one.get("type") for one in listed], [group] * len(listed), "members.type")
            self._types += map(sys.intern, types)

    def members(self, named: Mapping[str, str], not_taken: Container[str]) -> Columns:
        """Return the memberships, of people by their id in the table; members in `not_taken` are left out.

        A member of no type is a group where only a group has that id.
        """
        groups = frozenset(self.cells["id"])
        kinds = {given: given.lower() for given in set(self._types)}
        types = [
            "group" if kinds[given] == "group" or (kinds[given] != "user" and member in groups and member not in named)
            else "person"
            for given, member in zip(self._types, self._members, strict=True)
        ]  # fmt: skip
        members = [
            member if kind == "group" else named.get(member, member)
            for member, kind in zip(self._members, types, strict=True)
        ]
        cells = {"group": self._of, "member": members, "type": types}
        if not_taken:
            taken = [
                kind == "group" or member not in not_taken for member, kind in zip(self._members, types, strict=True)
            ]
            cells = {column: list(compress(texts, taken)) for column, texts in cells.items()}
        return Columns(cells)


def _path(path: str) -> tuple[str, tuple[str, ...]]:
    """Return the parts of a path: `a.b`, or `urn:…:attribute` of an extension, whose name may hold dots."""
    if path.startswith("urn:"):
        schema, _, name = path.rpartition(":")
        return schema, (name,)
    first, *rest = path.split(".")
    return first, tuple(rest)


def _column(users: Sequence[dict[str, Any]], first: str, rest: Sequence[str], column: str) -> list[str]:
    """Return what each user has at a path, as texts; the words of a list are joined. Raises SourceFailed."""
    found = [user.get(first) for user in users]
    for part in rest:
        found = [value.get(part) if isinstance(value, dict) else None for value in found]
    path = ".".join((first, *rest))
    if column not in LISTS:
        return _scalars(found, users, path)
    return ["" if value is None else _words(value, user["id"], path) for user, value in zip(users, found, strict=True)]


def _scalars(values: Sequence[Any], resources: Sequence[dict[str, Any]], path: str) -> list[str]:
    """Return values of resources as texts; see `_scalar`."""
    return [
        value if isinstance(value, str) else _scalar(value, resource["id"], path)
        for value, resource in zip(values, resources, strict=True)
    ]


def _words(value: Any, name: str, path: str) -> str:
    """Return the values of a many-valued attribute, joined; raises SourceFailed for one that is no word."""
    words = []
    for entry in value if isinstance(value, list) else [value]:
        word = entry.get("value") if isinstance(entry, dict) else entry
        word = word if isinstance(word, str) else _scalar(word, name, path)
        if ";" in word:
            check_word(word, f"{name}: {path}")
        if word:
            words.append(word)
    return ";".join(words)


def _scalar(value: Any, name: str, path: str) -> str:
    """Return a text, number or flag of a resource as a text; raises SourceFailed for a list or an object."""
    if value is None or isinstance(value, str):
        return value or ""
    if isinstance(value, list | dict):
        kind = "a list" if isinstance(value, list) else "an object"
        raise SourceFailed(f"{name}: {path} is {kind} where a text, a number or a flag is due (RFC 7643)")
    return cell_text(value) or ""
