"""Rows of people, as every kind of source makes them."""

from __future__ import annotations

from collections.abc import Mapping

from ..files.people import KINDS, PEOPLE
from .interface import Row

LISTS = ("roles", "licences")
_KINDS = {"employee": "member", "external": "guest", "contractor": "member", "application": "service", "": "member"}


def person_row(values: Mapping[str, str]) -> Row:
    """A row from values by column: empty cells left out, the kind in our words, the unit as a path."""
    row = {column: value for column, value in values.items() if value != ""}
    kind = row.get("kind", "")
    if kind not in KINDS:
        row["kind"] = kind.lower() if kind.lower() in KINDS else _KINDS.get(kind.lower(), "member")
    unit = row.get("unit", "")
    if unit and not unit.startswith("/"):
        row["unit"] = "/" + "/".join(part.strip() for part in unit.split("/") if part.strip())
    return row


def columns(given: frozenset[str] | set[str]) -> list[str]:
    """The columns of the table people that somebody gave, in their order."""
    known = [*PEOPLE.required, *PEOPLE.optional]
    return [name for name in known if name in given or name in PEOPLE.required] + sorted(given - set(known))
