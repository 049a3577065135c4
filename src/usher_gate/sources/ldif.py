"""LDIF files (RFC 2849): folded lines, base64, comments; content records only."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterator
from pathlib import Path

from .entries import Attributes, Layout, tables
from .interface import Context, Gathered, Gives, SourceFailed

_BLOCK = 8 * 1024 * 1024


class Ldif:
    """A file that a directory was written out to."""

    gives = Gives(frozenset(("people", "groups", "members")))

    def __init__(self, path: Path, layout: Layout) -> None:
        self._path, self._layout = path, layout

    def gather(self, context: Context) -> Gathered:
        """People and groups."""
        path = context.folder / self._path
        try:
            size = path.stat().st_size
            wanted = frozenset(name.lower() for name in self._layout.wanted())
            entries = read_ldif(path, wanted, lambda done: context.progress("bytes", done, size))
            return tables(entries, self._layout)
        except OSError as error:
            raise SourceFailed(f"{path}: cannot be read ({error.strerror})") from None


def read_ldif(path: Path, wanted: frozenset[str], say: object = None) -> Iterator[tuple[str, Attributes]]:
    """The entries of a file with the wanted attributes (in lower case; options such as `;lang-en` do not count).

    Raises SourceFailed with FILE:LINE.
    """
    line, rest = 1, b""
    with path.open("rb") as stream:
        while True:
            data = stream.read(_BLOCK)
            text = (rest + data).replace(b"\r\n", b"\n")
            if data and text.endswith(b"\r"):
                text, rest = text[:-1], b"\r"
            else:
                rest = b""
            end = text.rfind(b"\n\n") + 2 if data else len(text)
            if data and end < 2:
                rest = text + rest
                continue
            yield from _records(text[:end], line, path, wanted)
            line += text.count(b"\n", 0, end)
            rest = text[end:] + rest
            if callable(say):
                say(stream.tell())
            if not data:
                return


def _records(text: bytes, line: int, path: Path, wanted: frozenset[str]) -> Iterator[tuple[str, Attributes]]:
    for record in text.split(b"\n\n"):
        lines = record.count(b"\n") + 2
        if b"\n " in record:
            record = record.replace(b"\n ", b"")
        entry: dict[str, list[bytes]] = {}
        dn = ""
        for raw in record.split(b"\n"):
            if not raw or raw.startswith((b"#", b"version:")):
                continue
            name, colon, value = raw.partition(b":")
            if not colon:
                raise SourceFailed(
                    f"{path}:{line}: a record has a line without a colon; LDIF has NAME: VALUE (RFC 2849)"
                )
            key = name.lower().decode("ascii", "replace").partition(";")[0]
            if key not in wanted and key not in ("dn", "changetype"):
                continue
            value = _value(value, path, line)
            if key == "dn":
                dn = value.decode("utf-8", "replace")
            elif key == "changetype":
                raise SourceFailed(f"{path}:{line}: a record of changes; write the directory out as content")
            else:
                entry.setdefault(key, []).append(value)
        if dn:
            yield dn, entry
        elif entry:
            raise SourceFailed(f"{path}:{line}: a record begins without dn:")
        line += lines


def _value(value: bytes, path: Path, line: int) -> bytes:
    if value.startswith(b":"):
        try:
            return base64.b64decode(value[1:].strip(), validate=True)
        except binascii.Error:
            raise SourceFailed(f"{path}:{line}: a value after :: is not base64") from None
    if value.startswith(b"<"):
        raise SourceFailed(f"{path}:{line}: a value by URL (:<) is not read; write the value itself")
    return value.lstrip(b" ")
