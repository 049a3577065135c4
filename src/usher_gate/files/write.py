"""Writing files whole or not at all: beside their place, synced, then renamed.

A link is followed: what it leads to is replaced, and the link stays. What is no regular file (a device, a pipe) cannot be replaced and is
written to as it is. A new file gets the mode that the process gives to files, a replaced one keeps the mode that it had.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO

from ..core.words.faults import Fault
from .faults import BadInput

_TRIES = 100


@contextmanager
def whole_file(path: Path) -> Iterator[TextIO]:
    """A text file to write to, which takes its place only when everything is written; raises BadInput where it cannot be written."""
    try:
        place = Path(os.path.realpath(path))
        mode = place.stat().st_mode if place.exists() else None
    except (OSError, ValueError) as error:
        raise _unwritable(path, error) from None
    if mode is not None and stat.S_ISDIR(mode):
        raise BadInput([Fault(str(path), 0, "is a folder where a file is to be written; name a file")])
    if mode is not None and not stat.S_ISREG(mode):
        with _through(path) as stream:
            yield stream
        return
    draft, handle = _draft(path, place)
    try:
        with os.fdopen(handle, "w", encoding="utf-8", newline="") as stream:
            yield stream
            stream.flush()
            if mode is not None:
                os.fchmod(stream.fileno(), stat.S_IMODE(mode))
            os.fsync(stream.fileno())
        draft.replace(place)
    except BaseException:
        draft.unlink(missing_ok=True)
        raise
    sync_folder(place.parent)


@contextmanager
def _through(path: Path) -> Iterator[TextIO]:
    """What is no regular file, opened as it is."""
    try:
        stream = path.open("w", encoding="utf-8", newline="")
    except OSError as error:
        raise _unwritable(path, error) from None
    with stream:
        yield stream


def _draft(path: Path, place: Path) -> tuple[Path, int]:
    """A new file beside a place, and its descriptor; its mode is what the process gives to new files."""
    for number in range(_TRIES):
        draft = place.with_name(f".{place.name[:200]}.{os.getpid()}.{number}")
        try:
            return draft, os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o666)
        except FileExistsError:  # of somebody who was stopped, or of another thread
            continue
        except (OSError, ValueError) as error:
            raise _unwritable(path, error) from None
    raise BadInput([Fault(str(path), 0, f"cannot be written: {_TRIES} drafts stand beside it; remove .{place.name}.*")])


def _unwritable(path: Path, error: OSError | ValueError) -> BadInput:
    why = error.strerror if isinstance(error, OSError) else "its name holds a NUL byte"
    return BadInput(
        [Fault(str(path), 0, f"cannot be written ({why}); name a file in a folder that exists and may be written to")]
    )


def sync_folder(folder: Path) -> None:
    """Waits until the names in a folder are on the disk (for file systems that know of it)."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    except OSError:  # a file system that cannot
        pass
    finally:
        os.close(handle)
