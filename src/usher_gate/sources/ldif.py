"""LDIF files (RFC 2849): folded lines, base64, comments; content records only.

A file is read in blocks of whole records. Where its lines, keys and values stand is found for all lines of a block at
once.
"""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np

from ..core.organisation.columns import Bools, Longs
from .entries import Layout, tables
from .interface import Context, Gathered, Provides, SourceFailed, open_source

_BLOCK = 8 * 1024 * 1024
_LF, _CR, _SPACE, _HASH, _COLON, _SEMICOLON, _LESS = b"\n\r #:;<"
_LOWER = np.arange(256, dtype=np.uint8)
_LOWER[ord("A") : ord("Z") + 1] += 32


class Ldif:
    """A file that a directory was written out to."""

    gives = Provides(frozenset(("people", "groups", "members")), needed=frozenset(("people",)))

    def __init__(self, path: Path, layout: Layout) -> None:
        self._path, self._layout = path, layout

    def gather(self, context: Context) -> Gathered:
        """Return people and groups; raises SourceFailed."""
        path = context.folder / self._path
        try:
            size = path.stat().st_size
            wanted = frozenset(name.lower() for name in self._layout.wanted())
            records = read_ldif(path, wanted, lambda done: context.progress("bytes", done, size))
            return tables(records, self._layout, partial(_names, path), context)
        except OSError as error:
            raise SourceFailed(f"{path}: cannot be read ({error.strerror})") from None


def _names(path: Path) -> set[str]:
    """Return the names of the attributes in the first records of a file."""
    with open_source(path) as stream:
        lines = re.findall(rb"^([A-Za-z][\w.-]*)(?:;[^:\n]*)?:", stream.read(_BLOCK), re.MULTILINE)
    return {name.decode() for name in lines}


def read_ldif(path: Path, wanted: frozenset[str], say: Callable[[int], None] | None = None) -> Iterator[Records]:
    """Yield the records of a file, block by block, with the wanted attributes (in lower case; options such as
    `;lang-en` do not count).

    Raises SourceFailed with FILE:LINE.
    """
    line, rest = 1, b""
    with open_source(path) as stream:
        while True:
            data = stream.read(_BLOCK)
            text = rest + data
            end = max(text.rfind(b"\n\n"), text.rfind(b"\n\r\n")) + 1 if data else len(text)
            if data and not end:
                rest = text
                continue
            if end:
                yield _records(text[:end], line, path, wanted)
            line += text.count(b"\n", 0, end)
            rest = text[end:]
            if say is not None:
                say(stream.tell())
            if not data:
                return


class _Lines:
    """The lines of a block, folded ones as one: where each begins and ends, and on which line of the file it begins."""

    def __init__(self, text: bytes, numbers: Longs) -> None:
        self.text, self.bytes = text, np.frombuffer(text, np.uint8)
        ends = np.flatnonzero(self.bytes == _LF)
        starts = np.append(0, ends + 1)
        if starts[-1] == len(text):
            starts = starts[:-1]
        else:
            ends = np.append(ends, len(text))
        goes_on = self.bytes[starts] == _SPACE
        goes_on[:1] = False
        first = np.flatnonzero(~goes_on)
        self.start, self.number = starts[first], numbers[first]
        self.end = ends[np.append(first[1:], len(starts)) - 1]
        self.folded = self.end > ends[first]
        self._first_ends = ends[first]
        self.end = self.end - ((self.end > self.start) & (self.bytes[self.end - 1] == _CR))
        self.colon = _next(self.bytes, _COLON, self.start)

    def unfolded(self) -> _Lines:
        """Return the same, in a text of its own where a line is folded before its value begins."""
        if not np.any(self.folded & (self.colon + 2 >= self._first_ends)):
            return self
        return _Lines(self.text.replace(b"\r\n ", b"").replace(b"\n ", b""), self.number)

    def names(self, names: list[bytes]) -> Longs:
        """Return which of these (in lower case) each line is about, case and options ignored; -1 for none."""
        about = np.full(len(self.start), -1)
        length = np.minimum(self.colon, _next(self.bytes, _SEMICOLON, self.start)) - self.start
        length[self.colon >= self.end] = -1
        for number, name in enumerate(names):
            mine = np.flatnonzero(length == len(name))
            about[mine[self._same(self.start[mine], name)]] = number
        return about

    def _same(self, starts: Longs, word: bytes) -> Bools:
        """Return where a word (in lower case) occurs at these places."""
        if not word:
            return np.ones(len(starts), bool)
        same: Bools = _LOWER[self.bytes[starts]] == word[0]
        rest = np.flatnonzero(same)
        found = _LOWER[self.bytes[starts[rest][:, np.newaxis] + np.arange(len(word))]]
        same[rest] = np.all(found == np.frombuffer(word, np.uint8), axis=1)
        return same

    def same_value(self, lines: Longs, starts: Longs, word: bytes) -> Bools:
        """Return whether the values of these lines, which begin there, are one word in lower case."""
        same: Bools = self.end[lines] - starts == len(word)
        same[same] = self._same(starts[same], word)
        return same


def _next(data: np.ndarray, what: int, places: Longs) -> Longs:
    """Return the next place of a byte, at or after each of the places; the length of all if there is none."""
    found = np.append(np.flatnonzero(data == what), len(data))
    return found[np.searchsorted(found, places)]


class Records:
    """The records of a block: their DNs, and what attributes they have.

    A record's number counts from 0 within the block.
    """

    def __init__(self, lines: _Lines, of: dict[str, Longs], begins: dict[str, Longs], coded: dict[int, bytes]) -> None:
        self._lines, self._of, self._begins, self._coded = lines, of, begins, coded
        self._first = of["dn"]
        self.dns = [dn.decode("utf-8", "replace") for dn in self._texts("dn", np.ones(len(of["dn"]), bool))]

    def having(self, name: str, word: str) -> Bools:
        """Return which records have an attribute with a value, case ignored; of shape (records,)."""
        lines, starts, wanted = self._of[name], self._begins[name], word.lower().encode()
        same = self._lines.same_value(lines, starts, wanted)
        odd = self._lines.folded[lines] | np.isin(lines, list(self._coded))
        same[odd] = [text.lower() == wanted for text in self._texts(name, odd)]
        found = np.zeros(len(self.dns), bool)
        found[self._record(lines[same])] = True
        return found

    def values(self, name: str, among: Bools) -> tuple[Longs, list[bytes]]:
        """Return the values of an attribute in these records, with each one's record number, in file order."""
        records = self._record(self._of[name])
        mine = among[records]
        return records[mine], self._texts(name, mine)

    def _record(self, lines: Longs) -> Longs:
        return np.searchsorted(self._first, lines, "right") - 1

    def _texts(self, name: str, mine: Bools) -> list[bytes]:
        text, lines = self._lines.text, self._of[name][mine]
        starts, ends = self._begins[name][mine], self._lines.end[lines]
        values = [text[start:end] for start, end in zip(starts.tolist(), ends.tolist(), strict=True)]
        for number in np.flatnonzero(self._lines.folded[lines]).tolist():
            values[number] = values[number].replace(b"\r\n ", b"").replace(b"\n ", b"").lstrip(b" ")
        if self._coded:
            for number, line in enumerate(lines.tolist()):
                values[number] = self._coded.get(line, values[number])
        return values


def _records(text: bytes, line: int, path: Path, wanted: frozenset[str]) -> Records:
    """Return what some whole records hold; raises SourceFailed for the first damage."""
    lines = _Lines(text, line + np.arange(text.count(b"\n") + 1)).unfolded()
    names = ["dn", "changetype", *sorted(wanted - {"dn", "changetype"})]
    about = lines.names([name.encode() for name in names])
    empty, comment = lines.end == lines.start, lines.bytes[lines.start] == _HASH
    damage = _damage(lines, about, empty, comment)
    values, marks = _values(lines)
    damage += [
        (place, "a value by URL (:<) is not read; write the value itself")
        for place in np.flatnonzero((about >= 0) & (marks == _LESS)).tolist()[:1]
    ]
    coded: dict[int, bytes] = {}
    for place in np.flatnonzero((about >= 0) & (marks == _COLON)).tolist():
        value = lines.text[values[place] : lines.end[place]].replace(b"\r\n ", b"").replace(b"\n ", b"")
        try:
            coded[place] = base64.b64decode(value.lstrip(b" "), validate=True)
        except binascii.Error:
            damage.append((place, "a value after :: is not base64"))
            break
    if damage:
        place, why = min(damage)
        raise SourceFailed(f"{path}:{lines.number[place]}: {why}")
    of = {name: np.flatnonzero(about == number) for number, name in enumerate(names)}
    return Records(lines, of, {name: values[places] for name, places in of.items()}, coded)


def _damage(lines: _Lines, about: Longs, empty: Bools, comment: Bools) -> list[tuple[int, str]]:
    """Return the first of each kind of line that cannot be there, and why."""
    every = np.arange(len(lines.start))
    last_dn = np.maximum.accumulate(np.where(about == 0, every, -1))
    last_gap = np.maximum.accumulate(np.where(empty, every, -1))
    kinds = (
        (
            (lines.colon >= lines.end) & ~empty & ~comment,
            "a record has a line without a colon; LDIF has NAME: VALUE (RFC 2849)",
        ),
        ((about > 0) & ((last_dn < 0) | (last_gap > last_dn)), "a record begins without dn:"),
        (about == 1, "a record of changes; write the directory out as content"),
    )
    return [(place, why) for odd, why in kinds for place in np.flatnonzero(odd).tolist()[:1]]


def _values(lines: _Lines) -> tuple[Longs, Longs]:
    """Return where the value of each line begins, and the mark before it: a second colon, `<`, or 0."""
    marks, starts = np.zeros(len(lines.start), np.int64), lines.colon + 1
    there = starts < lines.end
    marks[there] = lines.bytes[starts[there]]
    marks[(marks != _COLON) & (marks != _LESS)] = 0
    starts = np.minimum(starts + (marks > 0), lines.end)
    for _ in range(2):  # nearly always one blank; more are taken away where they are found
        there = starts < lines.end
        blank = np.flatnonzero(there)[lines.bytes[starts[there]] == _SPACE]
        starts[blank] += 1
    for place in blank.tolist():
        value = lines.text[starts[place] : lines.end[place]]
        starts[place] += len(value) - len(value.lstrip(b" "))
    return starts, marks
