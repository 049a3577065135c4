"""Rows of people, as every kind of source makes them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime

from ..core.organisation.build.people import PEOPLE
from ..core.words.faults import quoted, times
from ..core.words.vocabulary import PERSON_KINDS
from .interface import Row, SourceFailed

LISTS = ("roles", "licences")
_FLAGS = ("active", "break_glass")
_TRUTHS = {"TRUE": "true", "FALSE": "false"}
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
        words = ", ".join(f"{quoted(word)} ({times(number)})" for word, number in sorted(self.items())[:10])
        return [f"people of a kind that is none of {', '.join(PERSON_KINDS)} are read as members: {words}"]


@dataclass(frozen=True)
class Translations:
    """What the cells of a directory mean: by column what a value is (`values`), or how a date is written (`dates`, as strptime has it)."""

    values: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    dates: Mapping[str, str] = field(default_factory=dict)

    def apply(self, cells: dict[str, list[str]], ids: Sequence[str]) -> None:
        """Translates columns in place; raises SourceFailed for a value that is not spoken of, or no such date."""
        for column, known in self.values.items():
            for number, text in enumerate(cells.get(column, ())):
                if text and text not in known:
                    raise SourceFailed(
                        f"{quoted(ids[number])} has {column} {quoted(text)}, of which values does not speak; add it"
                    )
            if column in cells:
                cells[column] = [known.get(text, "") for text in cells[column]]
        for column, form in self.dates.items():
            if column in cells:
                told = {text: date_of(text, form) for text in set(cells[column])}
                for number, text in enumerate(cells[column]):
                    if text and told[text] is None:
                        raise SourceFailed(
                            f"{quoted(ids[number])} has {column} {quoted(text)}, which is not {quoted(form)}"
                        )
                cells[column] = [told[text] or "" for text in cells[column]]
        for column in _FLAGS:  # as LDAP writes them (RFC 4517, 3.3.3)
            if column in cells:
                cells[column] = [_TRUTHS.get(text, text) for text in cells[column]]


AS_THEY_ARE = Translations()


def date_of(text: str, form: str) -> str | None:
    """A time written in a form of strptime, as RFC 3339; without a zone it is UTC; None for what is not of that form."""
    if not text:
        return ""
    try:
        moment = datetime.strptime(text, form)
    except ValueError:
        return None
    moment = moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def person_row(values: Mapping[str, str], odd: Odd) -> Row:
    """A row from values by column: empty cells left out, the kind in our words, the unit as a path."""
    row = {column: value for column, value in values.items() if value != ""}
    row["kind"] = _kind(row.get("kind", ""), 1, odd)
    if unit := row.get("unit"):
        row["unit"] = _path(unit)
    return row


def person_cells(cells: dict[str, list[str]], many: int, odd: Odd) -> None:
    """The same for so many people, by columns."""
    given = cells.get("kind", [""] * many)
    kinds = {kind: _kind(kind, number, odd) for kind, number in Counter(given).items()}
    cells["kind"] = [kinds[kind] for kind in given]
    if "unit" in cells:
        units = {unit: _path(unit) for unit in set(cells["unit"])}
        cells["unit"] = [units[unit] for unit in cells["unit"]]


def _kind(kind: str, many: int, odd: Odd) -> str:
    """One of our words for the kind of so many people."""
    word = kind.lower()
    if kind in PERSON_KINDS or word in PERSON_KINDS:
        return word
    if word not in _KIND_WORDS:
        odd[kind] += many
    return _KIND_WORDS.get(word, "member")


def _path(unit: str) -> str:
    """A unit as a path from the top."""
    if not unit or unit.startswith("/"):
        return unit
    return "/" + "/".join(part.strip() for part in unit.split("/") if part.strip())


def columns(given: frozenset[str] | set[str]) -> list[str]:
    """The columns of the table people that somebody gave, in their order."""
    known = [*PEOPLE.required, *PEOPLE.optional]
    return [name for name in known if name in given or name in PEOPLE.required] + sorted(given - set(known))
