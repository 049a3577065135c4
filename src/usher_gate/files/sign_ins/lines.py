"""Sign-ins from JSON Lines: the table sign_ins with one object a line, read by blocks."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from typing import Any, BinaryIO

import msgspec
import numpy as np

from ...core.organisation.columns import NO_TIME
from ...core.words.faults import Fault, nearest, quoted
from ...core.words.times import parse_epoch, parse_time
from ..binary import LARGEST_LOG
from ..faults import BadInput
from ..jsoncells import cell_text
from ..place import Place, opened
from .interface import COLUMNS, EPOCH, SIGN_INS, Batch, LogPart, Meanings, Unread, counted_by

BLOCK = 4 * 1024 * 1024
_LONGEST = 64 * 1024 * 1024


def blocks(part: LogPart) -> Iterator[tuple[bytes, int]]:
    """Yield a file (or the lines of it that begin in a part) in blocks of whole lines, each with the number of its
    first line; raises BadInput for a line without an end in sight.
    """
    with opened(part.path, LARGEST_LOG) as stream:
        (line, place), rest = _begin(stream, part), b""
        if part.last is not None and place >= part.last:  # one long line of the part before covers this one
            return
        while data := stream.read(BLOCK):
            if place == 0:
                data = data.removeprefix(b"\xef\xbb\xbf")
            place += len(data)
            done = part.last is not None and place >= part.last
            data = rest + data
            end = data.rfind(b"\n") + 1
            if part.last is not None and done:
                over = place - part.last  # the last line of ours ends behind the part's end, or just there
                cut = data.find(b"\n", max(0, len(data) - over - 1)) + 1
                end, done = (cut, True) if cut else (end, False)
            if not end and len(data) > _LONGEST:
                raise BadInput([Fault(str(part.path), line, "is a line of more than 64 MiB; write one object a line")])
            rest = data[end:]
            if end:
                yield data[:end], line
                line += data.count(b"\n", 0, end)
            if done:
                return
    if rest.strip():
        yield rest, line


def _begin(stream: BinaryIO, part: LogPart) -> tuple[int, int]:
    """Goes to the first line that begins in the part: its number, and where that is."""
    line, left = 1, part.first - 1
    while left > 0 and (data := stream.read(min(BLOCK, left))):
        line += data.count(b"\n")
        left -= len(data)
    if part.first:
        line += stream.readline().endswith(b"\n")
    return line, stream.tell()


def each_line(data: bytes, first: int) -> Iterator[tuple[int, bytes]]:
    """Yield the lines of a block that hold anything, with their numbers."""
    for line, raw in enumerate(data.split(b"\n"), first):
        if raw.strip():
            yield line, raw


def is_ocsf(path: Place) -> bool:
    """Return whether the first object of a file is an OCSF event: it has a class_uid."""
    with opened(path, LARGEST_LOG) as stream:
        for raw in stream:
            if raw.strip():
                try:
                    found = json.loads(raw.decode("utf-8-sig", "replace"))
                except (ValueError, RecursionError):
                    return b'"class_uid"' in raw
                return isinstance(found, dict) and "class_uid" in found
    return False


def read_lines(part: LogPart, meanings: Meanings, unread: Unread) -> Iterator[Batch]:
    """Yield the sign-ins of a table in JSON Lines.

    A line that is no JSON object is counted as unread; a column that no one knows is an error.
    """
    decoder, path = msgspec.json.Decoder(dict[str, Any]), part.path
    seen: set[str] = set()
    for data, first in blocks(part):
        rows, lines = _decoded(decoder, data, first, path, unread)
        names = set().union(*rows)
        if names - seen:
            _check(names - seen, rows, lines, path)
            seen |= names
        columns = {
            name: np.array([coder[cell_text(row.get(name))] for row in rows], np.int32)
            for name in COLUMNS
            if name in names and (coder := meanings.coders[name]) is not None
        }
        for name in ("person", "resource"):
            columns.setdefault(name, np.full(len(rows), -1, np.int32))
        parsed = [_moment(cell_text(row.get("time")), unread) for row in rows]
        time = np.array(parsed, np.int64)

        def value(name: str, row: int, rows: Sequence[dict[str, Any]] = rows) -> str:
            return cell_text(rows[row].get(name)) or ""

        yield meanings.batch(columns, time, None, counted_by(value), lines.__getitem__, path, unread)


def _moment(cell: str | None, unread: Unread) -> int:
    """Return a time as RFC 3339 writes it, or in seconds or milliseconds since 1970; NO_TIME for anything else."""
    if not cell:
        return NO_TIME
    found = parse_time(cell)
    if found is None and (found := parse_epoch(cell)) is not None:
        unread.spelled["time", "a number"] = EPOCH
    return NO_TIME if found is None else found


def _decoded(
    decoder: msgspec.json.Decoder[dict[str, Any]], data: bytes, first: int, path: Place, unread: Unread
) -> tuple[list[dict[str, Any]], Sequence[int]]:
    rows, lines = [], []
    for line, raw in each_line(data, first):
        try:
            rows.append(decoder.decode(raw))
            lines.append(line)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            unread.read += 1
            unread.add("is not a JSON object", "", 1, path, lambda line=line: line)  # type: ignore[misc]
    return rows, lines


def _check(names: set[str], rows: Sequence[dict[str, Any]], lines: Sequence[int], path: Place) -> None:
    """Raises BadInput for columns that a table sign_ins does not have."""
    known = (*SIGN_INS.required, *SIGN_INS.optional)
    faults = []
    for name in sorted(one_name for one_name in names if not SIGN_INS.knows(one_name)):
        line = next(line for row, line in zip(rows, lines, strict=True) if name in row)
        faults.append(
            Fault(
                str(path),
                line,
                f"unknown column {quoted(name)}; {nearest(name, known)} (columns of your own begin with x.)",
            )
        )
    if faults:
        raise BadInput(faults)
