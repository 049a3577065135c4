"""The bytes of a file, or what keeps them from being read.

Only regular files are opened, each up to a documented size that can be set.

A pipe or a device where a file is due would be waited for, or read, without an end.
"""

from __future__ import annotations

import errno
import io
import os
import stat
from io import BufferedReader
from pathlib import Path
from typing import Any, TypeVar

from ..core.words.faults import Fault, Faults
from .faults import BadInput

MIB = 1024 * 1024
_BUFFER = 1 << 17
LARGEST_WRITTEN = 8 * MIB  # of a file that people write
LARGEST_TABLE = 8 * 1024 * MIB
LARGEST_LOG = 1024 * 1024 * MIB  # a log is read as a stream
LIMIT = "USHER_GATE_LARGEST_MIB"  # in the environment, in place of all these
_SORTS = {
    stat.S_IFIFO: "a pipe",
    stat.S_IFCHR: "a device",
    stat.S_IFBLK: "a device",
    stat.S_IFSOCK: "a socket",
}


def problem_of(mode: int, size: int, largest: int) -> str | None:
    """Return what keeps a file of this mode and size from being read; None for one that may be."""
    if stat.S_ISDIR(mode):
        return "is a folder where a file is due; name a file"
    if not stat.S_ISREG(mode):
        return f"is {_SORTS.get(stat.S_IFMT(mode), 'no regular file')} where a file is due; write it into a file first"
    most = limit(largest)
    if size > most:
        hint = "files that people write are smaller: keep bulk in tables, " if largest == LARGEST_WRITTEN else ""
        return f"is larger than {most // MIB:,} MiB; {hint}or set {LIMIT} to more"
    return None


_Come = TypeVar("_Come")


class _Raw(io.FileIO):
    """An opened file whose errors in reading name it: a broken disk, or a file of the system's that cannot be read
    from its start."""

    def __init__(self, shown: str, handle: int) -> None:
        self._shown = shown
        super().__init__(handle, "r")

    def readinto(self, buffer: Any) -> int:
        try:
            return int(self._come(super().readinto(buffer)))
        except OSError as error:
            raise BadInput([Fault(self._shown, 0, unreadable(error))]) from None

    def readall(self) -> bytes:
        try:
            return self._come(super().readall())
        except OSError as error:
            raise BadInput([Fault(self._shown, 0, unreadable(error))]) from None

    @staticmethod
    def _come(what: _Come | None) -> _Come:
        """Return what was read.

        Raises OSError where nothing has come yet, as with some files of the system's: they are no end, and no data.
        """
        if what is None:
            raise OSError(errno.EAGAIN, os.strerror(errno.EAGAIN))
        return what


def limit(largest: int) -> int:
    """Return the limit that counts, in bytes: what the environment sets, else `largest`."""
    said = os.environ.get(LIMIT, "")
    return int(said) * MIB if said.isascii() and said.isdecimal() and 0 < len(said) < 10 else largest


def open_file(path: Path, largest: int, shown: str = "") -> BufferedReader:
    """Return a regular file, opened to be read; raises BadInput with one line, later too, where it cannot be read any
    further."""
    try:
        handle = os.open(
            path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC
        )  # a pipe without a writer would be waited for
    except (OSError, ValueError) as error:
        raise BadInput([Fault(shown or str(path), 0, unreadable(error))]) from None
    found = os.fstat(handle)
    problem = problem_of(found.st_mode, found.st_size, largest)
    if problem is not None:
        os.close(handle)
        raise BadInput([Fault(shown or str(path), 0, problem)])
    return io.BufferedReader(_Raw(shown or str(path), handle), _BUFFER)


def check_file(path: Path, largest: int, shown: str = "") -> None:
    """For a file that something else opens: raises BadInput where it is no regular file, or too large."""
    open_file(path, largest, shown).close()


def unreadable(error: OSError | ValueError) -> str:
    """Return why a file cannot be read, and what would be right."""
    if isinstance(error, FileNotFoundError):
        return "does not exist; write it, or name another"
    if isinstance(error, OSError):
        return f"cannot be read ({error.strerror}); make it readable"
    return "is no name of a file (it holds a NUL byte); name another"


def read_text(path: Path, largest: int = LARGEST_WRITTEN) -> str:
    """Return a UTF-8 text, a mark of the byte order left out; raises BadInput."""
    with open_file(path, largest) as stream:
        data = stream.read()
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise BadInput([Fault(str(path), line, "is not UTF-8 text; save it as UTF-8")]) from None


def read_bytes(path: Path, shown: str, faults: Faults, largest: int) -> bytes | None:
    """Return a file's bytes; None, with a fault, where there is none to read or it is too large."""
    try:
        with open_file(path, largest, shown) as stream:
            return stream.read()
    except BadInput as error:
        faults.found += error.faults
    return None
