"""The fields of results, each declared once: its name, its type, how it is read, and what it means.

JSON, CSV and the JSON Schema are made from these declarations, so they cannot disagree. Spec: command-line 2.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date
from operator import attrgetter, itemgetter
from typing import Any

from ..core.verdicts.codes import SHOWN_ORDER, VERDICTS
from ..core.words.compare import shown
from ..core.words.record import record
from ..files import schema_parts as parts
from ..files.schema_parts import Schema

ABSENT = object()  # what a field reads where it is left out


@record
class Type:
    """A type of fields: its schema, and how a value becomes JSON (None: it is JSON already)."""

    schema: Schema
    convert: Callable[[Any], Any] | None = None
    members: tuple[Field, ...] = ()  # of an object, or of each object in a list


@record
class Field:
    """One field of something, and how its value is read from that thing.

    `read` is a function, or a path of attributes and places such as `row.guest` or `1.key.rule`; None: the name.
    """

    name: str
    type: Type
    says: str
    read: Callable[[Any], Any] | str | None = None
    optional: bool = False

    @property
    def reader(self) -> Callable[[Any], Any]:
        """Return what reads the value."""
        return self.read if callable(self.read) else path(self.read or self.name)

    def named(self, name: str) -> Field:
        """Return the same field under another name, as a column."""
        return Field(name=name, type=self.type, says=self.says, read=self.reader, optional=self.optional)

    def of(self, first: Callable[[Any], Any] | str) -> Field:
        """Return the same field of what is read first from something else."""
        begin, then = path(first) if isinstance(first, str) else first, self.reader
        return Field(self.name, self.type, self.says, lambda thing: then(begin(thing)))


def path(text: str) -> Callable[[Any], Any]:
    """Return what follows a path of attributes and places."""
    steps = [itemgetter(int(step)) if step.isdecimal() else attrgetter(step) for step in text.split(".")]
    if len(steps) == 1:
        return steps[0]
    if not any(step.isdecimal() for step in text.split(".")):
        return attrgetter(text)

    def follow(thing: Any) -> Any:
        for step in steps:
            thing = step(thing)
        return thing

    return follow


TEXT, WORD = Type(parts.TEXT), Type({"type": "string"})  # a word may be empty
COUNT, INTEGER, NUMBER = Type(parts.COUNT), Type({"type": "integer"}), Type({"type": "number"})
TRUTH = Type({"type": "boolean"})
TIME = Type(parts.TIME)
DATE = Type(parts.DAY, lambda day: day.isoformat() if isinstance(day, date) else day)
VALUE = Type({"type": "string"}, lambda value: None if value is None else shown(value))  # of a control


def enum(words: Iterable[str]) -> Type:
    """Return the type of one of some words."""
    return Type({"enum": list(words)})


def nullable(inner: Type) -> Type:
    """Return a type, or null."""
    schema, convert = parts.nullable(inner.schema), inner.convert
    if convert is None:
        return Type(schema, None, inner.members)
    return Type(schema, lambda value: None if value is None else convert(value), inner.members)


def maybe(inner: Type) -> Type:
    """Return a type, or null, which is also written for an empty text or list."""
    convert = inner.convert or (lambda value: value)
    return Type(parts.nullable(inner.schema), lambda value: convert(value) if value else None, inner.members)


def list_of(inner: Type, least: int = 0) -> Type:
    """Return the type of an array with at least so many entries."""
    schema = parts.list_of(inner.schema) | ({"minItems": least} if least else {})
    convert = inner.convert
    return Type(schema, list if convert is None else lambda values: [convert(each) for each in values], inner.members)


def object_of(fields: Sequence[Field]) -> Type:
    """Return the type of an object with these fields and no others."""
    return Type(schema_of(fields), reader_of(fields), tuple(fields))


def either(types: Sequence[Type], convert: Callable[[Any], Any]) -> Type:
    """Return the type of a value of one of some types."""
    members = {field.name: field for each in types for field in each.members}
    return Type({"anyOf": [each.schema for each in types]}, convert, tuple(members.values()))


def numbers_by(words: Iterable[str], number: Type = COUNT) -> Type:
    """Return the type of an object with a number for each of some words, read from a mapping."""
    return Type(parts.object_of(dict.fromkeys(words, number.schema)), dict)


def map_of(inner: Type) -> Type:
    """Return the type of an object with keys that are not known beforehand."""
    convert = inner.convert
    return Type(
        {"type": "object", "additionalProperties": inner.schema},
        dict if convert is None else lambda values: {name: convert(value) for name, value in values.items()},
    )


TEXTS, SOME = list_of(TEXT), list_of(TEXT, 1)
_CODES = tuple(VERDICTS.index(name) for name in SHOWN_ORDER)


def verdict_counts(by_code: Sequence[int]) -> dict[str, int]:
    """Return verdict counts by name, in the order of results."""
    return {name: by_code[code] for name, code in zip(SHOWN_ORDER, _CODES, strict=True)}


VERDICT_COUNTS = Type(parts.object_of(dict.fromkeys(SHOWN_ORDER, parts.COUNT)), verdict_counts)


def schema_of(fields: Sequence[Field]) -> Schema:
    """Return the schema of an object with these fields and no others."""
    described = {field.name: {**field.type.schema, "description": field.says} for field in fields}
    return parts.object_of(
        {field.name: described[field.name] for field in fields if not field.optional},
        {field.name: described[field.name] for field in fields if field.optional},
    )


def reader_of(fields: Sequence[Field]) -> Callable[[Any], dict[str, Any]]:
    """Return what reads the fields of a thing into an object of JSON, in their order."""
    steps = [(field.name, field.reader, field.type.convert) for field in fields]

    def read(thing: Any) -> dict[str, Any]:
        found = {}
        for name, value_of, convert in steps:
            value = value_of(thing)
            if value is not ABSENT:
                found[name] = value if convert is None else convert(value)
        return found

    return read


def constant(value: Any) -> Callable[[Any], Any]:
    """Return what reads the same value from everything."""
    return lambda _: value


def item(key: Any) -> Callable[[Mapping[Any, Any]], Any]:
    """Return what reads a key of a mapping, or a place of a tuple; ABSENT if it is not there."""

    def read(thing: Any) -> Any:
        try:
            return thing[key]
        except KeyError:
            return ABSENT

    return read


NOTES = Field("notes", TEXTS, "What else has to be said.")
