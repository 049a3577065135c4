"""SCIM 2.0 (RFC 7643, RFC 7644): people and groups, by index or by cursor (RFC 9865), and nobody lost or doubled in silence."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any, TypeVar

from ..core.words.faults import quoted
from ..files.jsoncells import cell_text
from ..files.parallel import ahead
from ..files.scim import ACCOUNT, ENTERPRISE, EXTENDED
from .columns import Columns, column_cells
from .interface import Context, Gathered, Gives, SourceFailed
from .people import LISTS, NO_TRANSLATIONS, Odd, Translations, check_mapped, check_word, person_cells
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

    gives = Gives(frozenset(("people", "groups", "members")), needed=frozenset(("people",)))

    def __init__(
        self,
        access: Access,
        fields: Mapping[str, str],
        page: int = _PAGE,
        attributes: bool = True,
        may_be_absent: Sequence[str] = (),
        translations: Translations = NO_TRANSLATIONS,
    ) -> None:
        self._access, self._page, self._attributes = access, page, attributes
        self._mapped, self._may_be_absent, self._translations = tuple(fields), may_be_absent, translations
        self._fields = {**FIELDS, **fields}
        self._plan = [(column, *_path(path)) for column, path in self._fields.items()]

    def gather(self, context: Context) -> Gathered:
        """People and groups."""
        found = Gathered()
        with Web(self._access, context) as web:
            cursor = self._cursor(web)
            empty = partial(_Users, self._plan, self._translations)
            users = self._all(web, "Users", self._wanted(), cursor, context, empty)
            groups = self._all(web, "Groups", ["id", "displayName", "members"], cursor, context, _Groups)
        found.tables["people"], odd = users.table()
        if people := found.tables["people"]:
            absent = [column for column in self._mapped if not any(column_cells(people, column))]
            check_mapped(self._fields, absent, self._may_be_absent)
        found.tables["groups"] = Columns(groups.cells)
        found.tables["members"] = groups.members(users.named())
        found.notes += odd.notes()
        return found

    def _wanted(self) -> list[str]:
        return sorted(
            {path.partition(".")[0] if not path.startswith("urn:") else path for path in self._fields.values()}
            | {"name", ACCOUNT}
        )

    def _cursor(self, web: Web) -> bool:
        """Whether the server announces pagination by cursor; a server without the page of what it can is asked by index."""
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
        """Every resource of a kind, once each; asked for again where the server contradicts itself."""
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
                found.take(page)
                context.progress(kind.lower(), len(ids), total)
            if totals == {len(ids)} and given == len(ids):
                return found
            said = " and then ".join(str(total) for total in sorted(totals))
            twice = f", {given - len(ids)} of them twice" if given > len(ids) else ""
            why = f"said that there are {said} {kind.lower()}, and gave {given}{twice}"
        raise SourceFailed(f"{self._access.url}/{kind}: {why}, {_PASSES} times over; nobody is to be lost or doubled")

    def _pages(self, web: Web, kind: str, wanted: list[str], cursor: bool) -> Iterator[tuple[list[Any], int]]:
        query: dict[str, str | int] = {"count": self._page}
        if self._attributes:
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

    def __init__(self, plan: Sequence[tuple[str, str, tuple[str, ...]]], translations: Translations) -> None:
        self._plan, self._ids, self._translations = plan, list[str](), translations
        self._cells: dict[str, list[str]] = {column: [] for column, _, _ in plan}

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
                self._cells["name"][number] = str(parts.get("formatted") or "")
        for texts in self._cells.values():
            texts += [""] * (len(self._ids) - len(texts))

    def table(self) -> tuple[Columns, Odd]:
        """The table people, and the kinds that nobody knows."""
        odd = Odd()
        self._translations.apply(self._cells, self._ids)
        person_cells(self._cells, len(self._ids), odd)
        return Columns(self._cells), odd

    def named(self) -> dict[str, str]:
        """Everybody's id in the table, by the id that members of groups have."""
        return dict(zip(self._ids, self._cells["id"], strict=True))


class _Groups:
    """Groups and their members by columns, page after page."""

    def __init__(self) -> None:
        self.cells: dict[str, list[str]] = {"id": [], "name": []}
        self._of, self._members, self._types = list[str](), list[str](), list[str]()

    def take(self, page: Sequence[dict[str, Any]]) -> None:
        """Some more of them."""
        self.cells["id"] += [group["id"] for group in page]
        self.cells["name"] += [str(group.get("displayName") or group["id"]) for group in page]
        for group in page:
            listed = group.get("members") or []
            if not isinstance(listed, list):
                raise SourceFailed(f"the group {quoted(group['id'])} has members that are no list (RFC 7643, 4.2)")
            members = [one if isinstance(one, dict) else {} for one in listed]
            self._of += [group["id"]] * len(members)
            self._members += [str(one.get("value", "")) for one in members]
            self._types += [sys.intern(str(one.get("type", ""))) for one in members]

    def members(self, named: Mapping[str, str]) -> Columns:
        """The memberships, of people by their id in the table; one of no type is a group's where only a group has that id."""
        groups = frozenset(self.cells["id"])
        kinds = {said: said.lower() for said in set(self._types)}
        types = [
            kind
            if (kind := kinds[said]) in ("user", "group")
            else "group"
            if who in groups and who not in named
            else "user"
            for said, who in zip(self._types, self._members, strict=True)
        ]
        who = [
            name if kind == "group" else named.get(name, name) for name, kind in zip(self._members, types, strict=True)
        ]
        words = {"user": "person", "group": "group"}
        return Columns({"group": self._of, "member": who, "type": [words[kind] for kind in types]})


def _path(path: str) -> tuple[str, tuple[str, ...]]:
    """The parts of a path: `a.b`, or `urn:…:attribute` of an extension, whose name may hold dots."""
    if path.startswith("urn:"):
        schema, _, name = path.rpartition(":")
        return schema, (name,)
    first, *rest = path.split(".")
    return first, tuple(rest)


def _column(users: Sequence[dict[str, Any]], first: str, rest: Sequence[str], column: str) -> list[str]:
    """What stands at a path of each, as a text."""
    found = [user.get(first) for user in users]
    for part in rest:
        found = [value.get(part) if isinstance(value, dict) else None for value in found]
    for user, value in zip(users, found, strict=True) if column in LISTS else ():
        for entry in value if isinstance(value, list) else [value]:
            word = entry.get("value") if isinstance(entry, dict) else entry
            if isinstance(word, str):
                check_word(word, f"{user['id']}: {'.'.join((first, *rest))}")
    return [value if isinstance(value, str) else "" if value is None else _text(value, column) for value in found]


def _text(found: Any, column: str) -> str:
    """What is no text, as one: flags as true and false, several values joined where the column is a list."""
    if column in LISTS and isinstance(found, list):
        words = (one.get("value") if isinstance(one, dict) else one for one in found)
        return ";".join(str(word) for word in words if word not in (None, ""))
    return "" if isinstance(found, dict | list) else cell_text(found) or ""
