"""Rows of people, as every kind of source makes them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from ..core.organisation.build.people import PEOPLE
from ..core.words.faults import quoted
from ..core.words.vocabulary import PERSON_KINDS
from .interface import Row

LISTS = ("roles", "licences")
_KIND_WORDS = {
    "employee": "member",
    "external": "guest",
    "contractor": "member",
    "application": "service",
    "": "member",
}


class Odd(Counter[str]):
    """Words for a person's kind that nobody knows, which are read as `member`."""

    def notes(self) -> list[str]:
        """The remark that they deserve, if there are any."""
        if not self:
            return []
        words = ", ".join(f"{quoted(word)} ({number} times)" for word, number in sorted(self.items())[:10])
        return [f"people of a kind that is none of {', '.join(PERSON_KINDS)} are read as members: {words}"]


def person_row(values: Mapping[str, str], odd: Odd) -> Row:
    """A row from values by column: empty cells left out, the kind in our words, the unit as a path."""
    row = {column: value for column, value in values.items() if value != ""}
    kind = row.get("kind", "")
    if kind not in PERSON_KINDS:
        word = kind.lower()
        row["kind"] = word if word in PERSON_KINDS else _KIND_WORDS.get(word, "member")
        if word not in PERSON_KINDS and word not in _KIND_WORDS:
            odd[kind] += 1
    unit = row.get("unit", "")
    if unit and not unit.startswith("/"):
        row["unit"] = "/" + "/".join(part.strip() for part in unit.split("/") if part.strip())
    return row


def columns(given: frozenset[str] | set[str]) -> list[str]:
    """The columns of the table people that somebody gave, in their order."""
    known = [*PEOPLE.required, *PEOPLE.optional]
    return [name for name in known if name in given or name in PEOPLE.required] + sorted(given - set(known))
