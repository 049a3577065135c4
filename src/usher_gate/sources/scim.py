"""SCIM 2.0 (RFC 7643, RFC 7644): people and groups, by index or by cursor (RFC 9865), and nobody lost or doubled in silence."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from ..files.jsoncells import cell_text
from ..files.parallel import ahead
from ..files.scim import ACCOUNT, ENTERPRISE, EXTENDED
from .columns import Columns
from .interface import Context, Gathered, Gives, SourceFailed
from .people import LISTS, Odd, person_cells
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
_PAGE = 500
_PASSES = 3  # how often a list that does not add up is asked for again
_MOST_PAGES = 100_000


class Scim:
    """A directory that speaks SCIM."""

    gives = Gives(frozenset(("people", "groups", "members")))

    def __init__(self, access: Access, fields: Mapping[str, str], page: int = _PAGE, attributes: bool = True) -> None:
        self._access, self._page, self._attributes = access, page, attributes
        self._fields = {**FIELDS, **fields}
        self._plan = [(column, *_path(path)) for column, path in self._fields.items()]

    def gather(self, context: Context) -> Gathered:
        """People and groups."""
        found, odd = Gathered(), Odd()
        with Web(self._access, context) as web:
            cursor = self._cursor(web)
            users = self._all(web, "Users", self._wanted(), cursor, context)
            groups = self._all(web, "Groups", ["id", "displayName", "members"], cursor, context)
        found.tables["people"] = self._people(users, odd)
        found.tables["groups"] = [
            {"id": group["id"], "name": str(group.get("displayName") or group["id"])} for group in groups
        ]
        found.tables["members"] = _members(groups, {user["id"] for user in users})
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

    def _all(self, web: Web, kind: str, wanted: list[str], cursor: bool, context: Context) -> list[dict[str, Any]]:
        """Every resource of a kind, once each; asked for again where the server contradicts itself."""
        why = ""
        for _ in range(_PASSES):
            found: dict[str, dict[str, Any]] = {}
            given, totals = 0, set[int]()
            for page, total in ahead(self._pages(web, kind, wanted, cursor)):
                totals.add(total)
                for resource in page:
                    if not isinstance(resource, dict) or not isinstance(resource.get("id"), str) or not resource["id"]:
                        raise SourceFailed(f"{self._access.url}/{kind}: gives a resource without an id")
                    found[resource["id"]] = resource
                    given += 1
                context.progress(kind.lower(), len(found), total)
            if totals == {len(found)} and given == len(found):
                return list(found.values())
            said = " and then ".join(str(total) for total in sorted(totals))
            twice = f", {given - len(found)} of them twice" if given > len(found) else ""
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

    def _people(self, users: Sequence[dict[str, Any]], odd: Odd) -> Columns:
        cells = {column: _column(users, first, rest, column) for column, first, rest in self._plan}
        for number, user in enumerate(users):
            account = user.get(ACCOUNT)
            for name, found in account.items() if isinstance(account, dict) else ():
                if name.startswith("attr.") and isinstance(found, str):
                    cells.setdefault(name, [""] * len(users))[number] = found
        for number, name in enumerate(cells["name"]):
            if not name and isinstance(parts := users[number].get("name"), dict):
                cells["name"][number] = str(parts.get("formatted") or "")
        person_cells(cells, len(users), odd)
        return Columns(cells)


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
    return [value if isinstance(value, str) else "" if value is None else _text(value, column) for value in found]


def _members(groups: Sequence[dict[str, Any]], known: set[str]) -> Columns:
    """The memberships; one of no type is a group's where only a group has that id."""
    cells: dict[str, list[str]] = {"group": [], "member": [], "type": []}
    ids = {group["id"] for group in groups}
    for group in groups:
        members = group.get("members") or ()
        cells["group"] += [group["id"]] * len(members)
        for member in members:
            there = member if isinstance(member, dict) else {}
            value, said = str(there.get("value", "")), str(there.get("type", "")).lower()
            nested = said == "group" if said in ("user", "group") else value in ids and value not in known
            cells["member"].append(value)
            cells["type"].append("group" if nested else "person")
    return Columns(cells)


def _text(found: Any, column: str) -> str:
    """What is no text, as one: flags as true and false, several values joined where the column is a list."""
    if column in LISTS and isinstance(found, list):
        words = (one.get("value") if isinstance(one, dict) else one for one in found)
        return ";".join(str(word) for word in words if word not in (None, ""))
    return "" if isinstance(found, dict | list) else cell_text(found) or ""
