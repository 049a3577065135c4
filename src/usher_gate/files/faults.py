"""The errors of reading and writing.

UsherError                what the program says in one line (or a few), with its exit status
+-- BadInput              files or a call that are wrong: holds every Fault
+-- CannotWrite           a disk that is full, read-only or broken
"""

from __future__ import annotations

import errno
from collections.abc import Iterable
from pathlib import Path

from ..core.words.faults import Fault, Faults

SHOWN = 50
# What the call itself got wrong; everything else is the machine's fault.
_WRONG_CALL = frozenset(
    {
        errno.ENOENT,
        errno.ENOTDIR,
        errno.EISDIR,
        errno.EACCES,
        errno.EPERM,
        errno.ENAMETOOLONG,
        errno.ELOOP,
        errno.EINVAL,
    }
)


class UsherError(Exception):
    """Anything that the person at the terminal gets in place of an answer."""

    status = 2


class BadInput(UsherError):
    """Files that cannot be used as they are; `faults` in the order of file and line."""

    def __init__(self, faults: Iterable[Fault]) -> None:
        self.faults = tuple(sorted(set(faults)))
        super().__init__("\n".join(str(fault) for fault in self.faults))


class CannotWrite(UsherError):
    """Something that cannot be written, through no fault of the call; `path` is what, `reason` why."""

    status = 4

    def __init__(self, path: Path | str, reason: OSError | str) -> None:
        said = reason if isinstance(reason, str) else reason.strerror or "input/output error"
        self.path, self.reason = path, said[:1].lower() + said[1:]
        super().__init__(f"cannot write {path}: {self.reason}")

    def moved(self, draft: Path, to: Path) -> CannotWrite:
        """Return the same, said of the place that a draft was meant for."""
        path = Path(self.path)
        return CannotWrite(to / path.relative_to(draft) if path.is_relative_to(draft) else self.path, self.reason)


def stop_if_any(faults: Faults) -> None:
    """Raises BadInput if anything is wrong so far."""
    if faults.found:
        raise BadInput(faults.found)


def write_error(path: Path | str, error: OSError | ValueError) -> UsherError:
    """Return the error to raise where a file cannot be written: BadInput where the call names a wrong place, else
    CannotWrite."""
    if isinstance(error, OSError) and error.errno not in _WRONG_CALL:
        return CannotWrite(path, error)
    why = error.strerror if isinstance(error, OSError) else "its name holds a NUL byte"
    return BadInput(
        [Fault(str(path), 0, f"cannot be written ({why}); name a file in a folder that exists and may be written to")]
    )


def is_machine_fault(error: OSError) -> bool:
    """Return True for a disk that is full or may not be written to, whatever was tried there."""
    return error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EFBIG)
