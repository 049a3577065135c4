"""LDIF files (RFC 2849): folded lines, base64, comments; content records only."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Callable, Iterator
from pathlib import Path

from .entries import Attributes, Layout, tables
from .interface import Context, Gathered, Gives, SourceFailed, open_source

_BLOCK = 8 * 1024 * 1024
_LF = b"\n"
_NO_COLON = re.compile(rb"\n([^#\n:][^\n:]*)(?=\n|$)")  # a literal first character is what makes it quick


class Ldif:
    """A file that a directory was written out to."""

    gives = Gives(frozenset(("people", "groups", "members")))

    def __init__(self, path: Path, layout: Layout) -> None:
        self._path, self._layout = path, layout

    def gather(self, context: Context) -> Gathered:
        """People and groups; raises SourceFailed."""
        path = context.folder / self._path
        try:
            size = path.stat().st_size
            wanted = frozenset(name.lower() for name in self._layout.wanted())
            entries = read_ldif(path, wanted, lambda done: context.progress("bytes", done, size))
            return tables(entries, self._layout)
        except OSError as error:
            raise SourceFailed(f"{path}: cannot be read ({error.strerror})") from None


def read_ldif(
    path: Path, wanted: frozenset[str], say: Callable[[int], None] | None = None
) -> Iterator[tuple[str, Attributes]]:
    """The entries of a file with the wanted attributes (in lower case; options such as `;lang-en` do not count).

    Raises SourceFailed with FILE:LINE.
    """
    names = "|".join(re.escape(name) for name in sorted({"dn", "changetype", *wanted}))
    pattern = re.compile(rf"\n({names})(?:;[^:\n]*)?:([:<]?) *(.*)".encode(), re.IGNORECASE)
    line, rest = 1, b""
    with open_source(path) as stream:
        while True:
            data = stream.read(_BLOCK)
            text = rest + data
            end = max(text.rfind(b"\n\n"), text.rfind(b"\n\r\n")) + 1 if data else len(text)
            if data and not end:
                rest = text
                continue
            yield from _records(text[:end], line, path, pattern)
            line += text.count(b"\n", 0, end)
            rest = text[end:]
            if say is not None:
                say(stream.tell())
            if not data:
                return


def _records(text: bytes, line: int, path: Path, pattern: re.Pattern[bytes]) -> Iterator[tuple[str, Attributes]]:
    """The entries of some whole records; each begins with its dn."""
    whole = text  # as it stands in the file, to find lines in
    if b"\r" in text:
        text = text.replace(b"\r\n", b"\n")
    if b"\n " in text:
        text = text.replace(b"\n ", b"")
    text = _LF + text
    if odd := _NO_COLON.search(text):
        raise _damage(path, line, whole, odd[1], "a record has a line without a colon; LDIF has NAME: VALUE (RFC 2849)")
    lower: dict[bytes, str] = {}
    dn, entry = "", dict[str, list[bytes]]()
    for name, mark, value in pattern.findall(text):
        key = lower.get(name)
        if key is None:
            key = lower[name] = name.lower().decode()
        if mark:
            value = _decoded(mark, value, path, line, whole)
        if key == "dn":
            if dn:
                yield dn, entry
            dn, entry = value.decode("utf-8", "replace"), {}
        elif not dn or key == "changetype":
            why = "a record begins without dn:" if not dn else "a record of changes; write the directory out as content"
            raise _damage(path, line, whole, name, why)
        elif key in entry:
            entry[key].append(value)
        else:
            entry[key] = [value]
    if dn:
        yield dn, entry


def _decoded(mark: bytes, value: bytes, path: Path, line: int, whole: bytes) -> bytes:
    if mark == b"<":
        raise _damage(path, line, whole, b":<", "a value by URL (:<) is not read; write the value itself")
    try:
        return base64.b64decode(value, validate=True)
    except binascii.Error:
        raise _damage(path, line, whole, value[:20], "a value after :: is not base64") from None


def _damage(path: Path, line: int, whole: bytes, what: bytes, why: str) -> SourceFailed:
    """The failure, with the line on which something stands."""
    return SourceFailed(f"{path}:{line + whole.count(_LF, 0, max(0, whole.find(what)))}: {why}")
