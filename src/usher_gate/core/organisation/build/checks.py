"""Columns checked cell by cell, every distinct word once: what is wrong, and what would be right."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...words.faults import Faults, nearest, quoted
from ...words.spellings import ours
from ..columns import MISSING, Bools, Coded, Longs
from .table import Table


def unit_fault(path: str) -> str | None:
    """Return what is wrong with a unit's path, and what would be right."""
    if not path.startswith("/"):
        return f"the unit {quoted(path)} does not begin with a slash; write {quoted('/' + path.strip('/'))}"
    if path != "/" and (path.endswith("/") or "//" in path):
        right = "/" + "/".join(part for part in path.split("/") if part)
        return f"the unit {quoted(path)} has an empty part; write {quoted(right)}"
    return None


def checked(
    table: Table, name: str, faults: Faults, wrong: Any, others: Mapping[str, str] | None = None
) -> Coded | None:
    """Return a column with every distinct word checked: `wrong(word)` says what is wrong with it, or None.

    One of the `others`, words that are not ours, is named once with how often it occurs.
    """
    if name not in table.columns:
        return None
    coded = table.columns[name].coded()
    for code, word in enumerate(coded.words):
        message = wrong(word)
        right = ours(word, others) if others is not None and message is not None else None
        if right is not None:
            rows = np.flatnonzero(coded.codes == code)
            more = f" (and {len(rows) - 1} more lines)" if len(rows) > 1 else ""
            table.fault(int(rows[0]), f"{name}: {quoted(word)} is {right} in our words; write that{more}", faults)
        elif message is not None:
            for row in np.flatnonzero(coded.codes == code)[:50].tolist():
                table.fault(row, f"{name}: {message}", faults)
    return coded


def one_of(words: tuple[str, ...]) -> Any:
    """Return a check that a word is one of these."""
    return lambda word: (
        None if word in words else f"{quoted(word)} is none of {', '.join(words)}; {nearest(word, words)}"
    )


def flags(table: Table, name: str, missing: bool, faults: Faults) -> Bools | None:
    """Return a column of flags; an empty cell is `missing`."""
    coded = checked(
        table,
        name,
        faults,
        lambda word: None if word in ("true", "false") else f"{quoted(word)} is not a flag; write true or false",
    )
    if coded is None:
        return None
    return np.array([*(word == "true" for word in coded.words), missing])[coded.codes]


def times(table: Table, name: str, faults: Faults) -> Longs | None:
    """Return a column of times as int64 microseconds since 1970 (UTC), NO_TIME for an empty cell.

    Faults name the rows that hold none.
    """
    if name not in table.columns:
        return None
    found, wrong = table.columns[name].times()
    if len(wrong):
        cells = table.columns[name].texts(wrong[:50]).take(np.arange(min(len(wrong), 50)))
        for row, cell in zip(wrong.tolist(), cells, strict=False):
            table.fault(
                row, f"{name}: {quoted(cell)} is not a time with an offset; write it as 2026-11-20T06:00:00Z", faults
            )
    return found


def filled(table: Table, faults: Faults) -> None:
    """Names the rows in which a column that must be filled is not."""
    for name in table.spec.required:
        for row in table.columns[name].empty_rows()[:50].tolist():
            table.fault(row, f"the cell {name} is empty; {table.spec.name} needs it in every row", faults)


def ids_once(table: Table, faults: Faults, order: Longs | None, each: str) -> None:
    """Names the ids that two rows have; `each` is who or what has one."""
    ids = table.columns["id"]
    for first, second in ids.repeated(order)[:50]:
        one, other = sorted((first, second))
        cell = ids.texts(np.array([first])).take(np.array([0]))[0]
        table.fault(
            other,
            f"the id {quoted(cell)} occurs here and in {table.line(one)}; give each {each} an id of its own",
            faults,
        )


def tidy_sets(coded: Coded) -> Coded:
    """Return a column of sets with each set's text in its one form."""
    from ...words.values import join_words, split_words

    tidy = [join_words(tuple(split_words(word))) for word in coded.words]
    words: dict[str, int] = {}
    places = np.array([*(words.setdefault(word, len(words)) for word in tidy), MISSING], np.int32)
    return Coded(places[coded.codes], tuple(words))
