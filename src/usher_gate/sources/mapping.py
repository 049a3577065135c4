"""Mapping files (form mapping/1): which raw column of an export is which column of a table, or which control."""

from __future__ import annotations

import codecs
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from ..core.words.faults import Faults, nearest, quoted
from ..files.faults import stop_if_any
from ..files.yamltree import Fields, YamlNode, read_yaml

LEVELS = ("organisation", "unit", "group", "person")
_HOW = ("missing", "other", "may-be-absent", "separator", "dates")
_EXPORT = ("delimiter", "encoding", "taken_at")
_KNOWN = (
    "people",
    "units",
    "groups",
    "members",
    "observations",
    "authenticators",
    "passes",
    "partners",
    "sign_ins",
    "meetings",
)


@dataclass(frozen=True)
class Cell:
    """The source of a cell: a raw column (with translations of its values), or a constant value.

    `other` is the value for raw values without a translation: None refuses them, "" leaves the cell out. With `absent`
    it is no error if no row of the export has the raw column. `separator` separates the words of a list, or the units
    of a path.
    """

    source: str | None = None
    value: str | None = None
    values: Mapping[str, str] | None = None
    missing: str = ""
    other: str | None = None
    absent: bool = False
    separator: str = ""
    dates: str = ""  # how a date is written, as strptime has it


@dataclass(frozen=True)
class MappingTarget:
    """One table that the rows go into: cells by column, or, for the settings of a service, by control."""

    table: str
    cells: Mapping[str, Cell]
    service: Cell = field(default_factory=Cell)
    level: Cell = field(default_factory=Cell)
    where: Mapping[str, frozenset[str]] = field(default_factory=dict)  # by raw column the values of the rows to take
    target: Cell = field(default_factory=Cell)
    extra: Mapping[str, Cell] = field(default_factory=dict)


@dataclass(frozen=True)
class Mapping1:
    """A mapping file."""

    rows: str
    into: tuple[MappingTarget, ...]
    ignore: frozenset[str]
    delimiter: str = ""
    encoding: str = "utf-8"
    taken_at: str = ""

    @property
    def cells(self) -> list[Cell]:
        """Return all cells."""
        return [
            cell
            for into in self.into
            for cell in (*into.cells.values(), *into.extra.values(), into.service, into.level, into.target)
        ]

    @property
    def services(self) -> tuple[str, ...] | None:
        """Return the services whose settings it gives; None if only the export says."""
        found = set[str]()
        for into in self.into:
            if into.table == "settings":
                if into.service.source is not None and into.service.values is None:
                    return None
                found |= {into.service.value or "", into.service.missing, *(into.service.values or {}).values()}
        return tuple(sorted(found - {""}))

    @property
    def spoken(self) -> frozenset[str]:
        """Return the raw columns that it speaks of."""
        return self.ignore | self._sources(self.cells)

    @property
    def expected(self) -> frozenset[str]:
        """Return the raw columns that some row of the export has to have."""
        return self._sources([cell for cell in self.cells if not cell.absent])

    def _sources(self, cells: Iterable[Cell]) -> frozenset[str]:
        where = {column for into in self.into for column in into.where}
        return frozenset(where | {cell.source for cell in cells if cell.source})


def read_mapping(path: Path) -> Mapping1:
    """Reads a mapping file; raises BadInput."""
    faults = Faults()
    top = read_yaml(path, str(path), "mapping/1", faults)
    fields = top.fields(("usher-gate", "into"), ("rows", "ignore", *_EXPORT)) if top is not None else Fields()
    rows = fields.text("rows", "a path such as data.items", default="")
    ignore = frozenset(fields["ignore"].texts("a column")) if "ignore" in fields else frozenset[str]()
    into = tuple(_into(item) for item in fields["into"].items(1)) if "into" in fields else ()
    delimiter = fields.text("delimiter", "a delimiter", default="")
    if delimiter and len(delimiter.replace("\\t", "\t")) != 1:
        fields["delimiter"].fault(f"{quoted(delimiter)} is no single character; write one such as ';' or '\\t'")
    encoding = fields.text("encoding", "an encoding", default="utf-8")
    if encoding and not _is_encoding(encoding):
        fields["encoding"].fault(f"there is no encoding {quoted(encoding)}; write one such as utf-8, latin-1 or utf-16")
    taken = fields.below("taken_at", ("from",))
    taken_at = taken["from"].text("where the export says when it was taken") if "from" in taken else ""
    stop_if_any(faults)
    every = (rows or "", into, ignore, (delimiter or "").replace("\\t", "\t"), encoding or "utf-8", taken_at or "")
    return Mapping1(*every)


def _is_encoding(name: str) -> bool:
    try:
        return bool(codecs.lookup(name).name)
    except (LookupError, ValueError):
        return False


def _into(item: YamlNode) -> MappingTarget:
    """Read one target of a mapping: a table with columns, or settings with a scope."""
    if "settings" in item.entries():
        fields = item.fields(
            ("settings", "scope", "controls"), ("where", "pinned", "rank", "active", "changed_at", "note", "set")
        )
        service = fields.read("settings", lambda node: _cell(node, "a service"), Cell())
        scope = fields.below("scope", ("level",), ("from", "values", *_HOW))
        level = scope.read("level", _level, Cell())
        if (level.value == "organisation") == ("from" in scope) and scope:
            fields["scope"].fault(
                "a level other than organisation says from which column its unit, group or person comes, with from:"
            )
        controls = {name: _cell(entry) for name, entry in (fields.mapping("controls")).items()}
        names = ("pinned", "rank", "active", "changed_at", "note", "set")
        extra: dict[str, Cell] = {str(name): _cell(fields[name]) for name in names if name in fields}
        return MappingTarget(
            table="settings",
            cells=controls,
            service=service,
            level=level,
            where=_where(fields),
            target=_cell_of(scope),
            extra=extra,
        )
    fields = item.fields(("table", "columns"), ("where",))
    table = fields.choice("table", _KNOWN)
    return MappingTarget(
        table or "",
        {name: _cell(entry) for name, entry in (fields.mapping("columns")).items()},
        where=_where(fields),
    )


def _level(place: YamlNode) -> Cell:
    if place.is_mapping:
        level = _cell(place)
        for word in (level.values or {}).values():
            if word not in LEVELS:
                place.fault(f"{quoted(word)} is no level; {nearest(word, LEVELS)}")
        return level
    return Cell(value=place.choice(LEVELS))


def _where(fields: Fields) -> dict[str, frozenset[str]]:
    """Read which rows to take: by raw column one value or a list of values."""
    entries = fields.mapping("where")
    return {
        name: frozenset(entry.texts("a value", 1) if entry.is_list else (entry.text("a value") or "",))
        for name, entry in entries.items()
    }


def _cell(place: YamlNode, constant: str = "") -> Cell:
    """Read a cell. A plain word is a raw column, or the value itself where `constant` says what it is."""
    if not place.is_mapping:
        return Cell(value=place.text(constant)) if constant else Cell(source=place.text("a raw column"))
    found = place.fields((), ("from", "value", "values", *_HOW))
    if ("from" in found) == ("value" in found):
        place.fault("write either from: COLUMN or value: TEXT")
    return _cell_of(found)


def _cell_of(found: Fields) -> Cell:
    """Read how one cell is made: from which column, with which translations."""
    text = {
        name: found[name].text("a text") if name in found else None for name in ("from", "value", "missing", "other")
    }
    values = (
        {name: entry.text("a value") or "" for name, entry in found["values"].entries().items()}
        if "values" in found
        else None
    )
    other = text["other"]
    absent = "may-be-absent" in found and bool(found["may-be-absent"].truth())
    separator = found.text("separator", "a separator", default="")
    other = "" if other == "leave" else other
    dates = found.text("dates", "how a date is written, such as %d.%m.%Y", default="")
    return Cell(
        source=text["from"],
        value=text["value"],
        values=values,
        missing=text["missing"] or "",
        other=other,
        absent=absent,
        separator=separator or "",
        dates=dates or "",
    )
