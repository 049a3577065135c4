"""Rows of people, as every kind of source makes them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import partial

from ..core.organisation.build.people import PEOPLE
from ..core.words.faults import nearest, quoted, times
from ..core.words.vocabulary import PERSON_KINDS
from .interface import Row, SourceFailed

LISTS = ("roles", "licences")
_FLAGS = ("active", "break_glass")
_LDAP_FLAGS = {"TRUE": "true", "FALSE": "false"}  # RFC 4517, 3.3.3
_KIND_WORDS = {
    "employee": "member",
    "external": "guest",
    "contractor": "member",
    "application": "service",
    "": "member",
}


class OddValues(Counter[str]):
    """Words for a person's kind that no one knows, which are read as `member`."""

    def notes(self) -> list[str]:
        """Return the remark that they deserve, if there are any."""
        if not self:
            return []
        words = ", ".join(f"{quoted(word)} ({times(number)})" for word, number in sorted(self.items())[:10])
        return [f"people of a kind that is none of {', '.join(PERSON_KINDS)} are read as members: {words}"]


@dataclass(frozen=True)
class PeopleMapping:
    """Describes how the entries of a directory become rows of people.

    `fields` says which attribute is which column; some entry must have each attribute of `by_hand` (columns), unless
    the column is in `may_be_absent`. `where` says by column which values the people to take have. `values` says by
    column what each value is; of a list, each word. `dates` says how a date is written, as `strptime` has it.
    """

    fields: Mapping[str, str]
    by_hand: frozenset[str] = frozenset()
    may_be_absent: tuple[str, ...] = ()
    where: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    values: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    dates: Mapping[str, str] = field(default_factory=dict)

    def chosen(self, cells: Mapping[str, Sequence[str]], count: int) -> list[bool]:
        """Return which of so many people `where` takes, from their cells as the directory has them."""
        chosen = [True] * count
        for column, wanted in self.where.items():
            words = (cell.split(";") if column in LISTS else (cell,) for cell in cells[column])
            chosen = [before and not set(wanted).isdisjoint(found) for before, found in zip(chosen, words, strict=True)]
        return chosen

    def translate(self, cells: dict[str, list[str]], ids: Sequence[str]) -> None:
        """Translate the columns in place; raises SourceFailed for an unknown value or a date of another form."""
        for column, meanings in self.values.items():
            self._translate(cells, column, ids, partial(_meaning, meanings, column), "is not among values; add it")
        for column, form in self.dates.items():
            self._translate(cells, column, ids, partial(date_of, form=form), f"is not of the form {quoted(form)}")
        for column in _FLAGS:
            if column in cells:
                cells[column] = [_LDAP_FLAGS.get(cell, cell) for cell in cells[column]]

    @staticmethod
    def _translate(
        cells: dict[str, list[str]], column: str, ids: Sequence[str], meaning: Callable[[str], str | None], why: str
    ) -> None:
        if column not in cells:
            return
        meanings = {cell: meaning(cell) if cell else "" for cell in set(cells[column])}
        for name, cell in zip(ids, cells[column], strict=True):
            if meanings[cell] is None:
                raise SourceFailed(f"{quoted(name)} has {column} {quoted(cell)}, which {why}")
        cells[column] = [meanings[cell] or "" for cell in cells[column]]

    def check_attributes(self, empty: Collection[str], names: Callable[[], Collection[str]]) -> None:
        """Raise SourceFailed if no one has something in a column that was mapped by hand.

        `empty` are the columns in which no entry has anything; `names` returns the attributes that entries have.
        """
        for column in sorted({*empty} & self.by_hand - {*self.may_be_absent}):
            attribute, known = self.fields[column], names()
            if attribute.casefold() in {name.casefold() for name in known}:
                what, right = f"the attribute {attribute} is empty in every entry", "name another."
            else:
                what, right = f"no entry has the attribute {attribute}", nearest(attribute, known)
            raise SourceFailed(
                f"{what}, which fields names for {column}; {right} "
                f'(Or write may_be_absent = ["{column}"] if that may be so.)'
            )


def _meaning(meanings: Mapping[str, str], column: str, cell: str) -> str | None:
    """Return what a cell means; None if a word of it is unknown."""
    words = cell.split(";") if column in LISTS else [cell]
    if not all(word in meanings for word in words):
        return None
    return ";".join(filter(None, (meanings[word] for word in words)))


def date_of(text: str, form: str) -> str | None:
    """Return a date of a `strptime` form as RFC 3339, in UTC where it names no zone; None if it is of another form."""
    try:
        moment = datetime.strptime(text, form)
    except ValueError:
        return None
    moment = moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def not_taken_note(count: int) -> str:
    """Return the note about people that `where` leaves out."""
    return f"{count:,} {'person is' if count == 1 else 'people are'} left out by where"


def check_word(word: str, where: str, advice: str = "mend it there") -> None:
    """Raise SourceFailed if one value of a list would be read as several."""
    if ";" in word:
        raise SourceFailed(f"{where} holds {quoted(word)}: one value with ';' in it would be several words; {advice}")


def person_row(values: Mapping[str, str], odd: OddValues) -> Row:
    """Return a row from values by column: empty cells left out, the kind in our words, the unit as a path."""
    row = {column: value for column, value in values.items() if value != ""}
    row["kind"] = _kind(row.get("kind", ""), 1, odd)
    if unit := row.get("unit"):
        row["unit"] = _path(unit)
    return row


def person_cells(cells: dict[str, list[str]], many: int, odd: OddValues) -> None:
    """The same for so many people, by columns."""
    given = cells.get("kind", [""] * many)
    kinds = {kind: _kind(kind, number, odd) for kind, number in Counter(given).items()}
    cells["kind"] = [kinds[kind] for kind in given]
    if "unit" in cells:
        units = {unit: _path(unit) for unit in set(cells["unit"])}
        cells["unit"] = [units[unit] for unit in cells["unit"]]


def _kind(kind: str, many: int, odd: OddValues) -> str:
    """Return one of our words for the kind of so many people."""
    word = kind.lower()
    if kind in PERSON_KINDS or word in PERSON_KINDS:
        return word
    if word not in _KIND_WORDS:
        odd[kind] += many
    return _KIND_WORDS.get(word, "member")


def _path(unit: str) -> str:
    """Return a unit as a path from the top."""
    if not unit or unit.startswith("/"):
        return unit
    return "/" + "/".join(part.strip() for part in unit.split("/") if part.strip())


def columns(given: frozenset[str] | set[str]) -> list[str]:
    """Return the columns of the table people that someone gave, in their order."""
    known = [*PEOPLE.required, *PEOPLE.optional]
    return [name for name in known if name in given or name in PEOPLE.required] + sorted(given - set(known))
