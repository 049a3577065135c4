"""Writing files and folders whole or not at all: beside their target, synced, then renamed.

A link is followed only if no one else can have planted it: what it leads to is replaced, and the link stays. What is
no regular file
(a device, a pipe) cannot be replaced and is written to as it is. A new file gets the mode that the process gives to
files (or is private),
a replaced one keeps the mode that it had.

A draft has a name that cannot be guessed, and is locked while it is written. The lock ends with the process, so a
draft without one was
left by a process that was killed: the next call that writes in the same folder removes it.
"""

from __future__ import annotations

import errno
import fcntl
import io
import os
import shutil
import stat
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path, PurePosixPath
from typing import BinaryIO, TextIO

from ..core.words.faults import Fault
from .faults import BadInput, CannotWrite, UsherError, write_error
from .raw import RawFile

DRAFT = ".usher-gate-draft"  # how the names of drafts end
_TRIES = 100
_MOST_LINKS = 40  # as the system itself follows
_LOCK_SECONDS = 10.0
_BUFFER = 1 << 17


@contextmanager
def writing(path: Path | str) -> Iterator[None]:
    """Turns what the system says against a step of writing `path` into an error of this program."""
    try:
        yield
    except (OSError, ValueError) as error:
        raise write_error(path, error) from None


@contextmanager
def whole_file(path: Path, private: bool = False) -> Iterator[TextIO]:
    """A UTF-8 text file to write to, as `whole_bytes`."""
    with whole_bytes(path, private) as stream, _as_text(stream) as text:
        yield text


@contextmanager
def _as_text(stream: BinaryIO) -> Iterator[TextIO]:
    """UTF-8 text on a stream, all of it written there when this ends."""
    text = io.TextIOWrapper(stream, "utf-8", newline="")
    yield text
    text.flush()


@contextmanager
def whole_bytes(path: Path, private: bool = False) -> Iterator[BinaryIO]:
    """A file to write to, which takes its place only when everything is written; `private`: a new one is for its
    owner only (0600).

    Raises BadInput where the call names a wrong place, CannotWrite where the disk is full, read-only or broken.
    """
    with writing(path):
        target = write_target(path)
        mode = target.stat().st_mode if target.exists() else None
    if mode is not None and stat.S_ISDIR(mode):
        raise BadInput([Fault(str(path), 0, "is a folder where a file is to be written; name a file")])
    if mode is not None and not stat.S_ISREG(mode):
        with writing(path):
            raw = RawFile(path, str(target), lambda name, _: os.open(name, os.O_WRONLY | os.O_CLOEXEC))
        with io.BufferedWriter(raw, _BUFFER) as stream:
            yield stream
        return
    _remove_abandoned(target.parent)
    raw = _draft_file(path, target, private)
    draft = Path(str(raw.name))
    try:
        with io.BufferedWriter(raw, _BUFFER) as stream:
            yield stream
            stream.flush()
            with writing(path):
                if mode is not None:
                    os.fchmod(raw.fileno(), stat.S_IMODE(mode))
                os.fsync(raw.fileno())
                draft.replace(target)
    except BaseException:
        draft.unlink(missing_ok=True)
        raise
    sync_folder(target.parent)


@contextmanager
def new_file(path: Path, private: bool = True) -> Iterator[TextIO]:
    """A UTF-8 text file in a folder that is itself a draft; raises CannotWrite."""
    with new_bytes(path, private) as stream, _as_text(stream) as text:
        yield text


@contextmanager
def new_bytes(path: Path, private: bool = True) -> Iterator[BinaryIO]:
    """A file in a folder that is itself a draft, on the disk when this ends; raises CannotWrite."""
    with writing(path):
        raw = RawFile(path, str(path), lambda name, _: _created(name, private))
    with io.BufferedWriter(raw, _BUFFER) as stream:
        yield stream
        stream.flush()
        with writing(path):
            os.fsync(raw.fileno())


@contextmanager
def whole_folder(path: Path, private: bool = True, replace: bool = False) -> Iterator[Path]:
    """A folder to write into, which takes its place only when everything is written; it may be there already if it is
    empty, or with
    `replace`. A new one is for its owner only (0700), unless it is not `private`.

    What is written with `new_file` is named by its later path in errors. Raises BadInput and CannotWrite as
    `whole_bytes`.
    """
    with writing(path):
        target = write_target(path)
        there = target.exists()
        if there and not replace and (not target.is_dir() or any(target.iterdir())):
            raise BadInput([Fault(str(path), 0, "is there already; name a folder that is not, or an empty one")])
        mode = target.stat().st_mode if there else None
    made = _made_parents(path, target)
    lock = None
    try:
        draft, lock = draft_folder(path, target.parent, target.name, private)
        try:
            yield draft
            with writing(path):
                if mode is not None:
                    os.chmod(draft, stat.S_IMODE(mode))
                sync_folder(draft)
                _take_place(draft, target)
            sync_folder(target.parent)
        except CannotWrite as error:
            raise error.moved(draft, path) from None
        finally:
            shutil.rmtree(draft, ignore_errors=True)
    except BaseException:
        for folder in made:
            with suppress(OSError):
                folder.rmdir()
        raise
    finally:
        if lock is not None:
            os.close(lock)


def _take_place(draft: Path, target: Path) -> None:
    """Renames a finished draft to its target. The folder that the caller works in cannot be replaced: what was
    written moves into it."""
    if target.exists() and any(target.iterdir()):
        exchange(draft, target)
        return
    if not target.exists() or not target.samefile(Path.cwd()):
        draft.rename(target)
        return
    moved: list[Path] = []
    try:
        for entry in sorted(draft.iterdir()):
            entry.rename(target / entry.name)
            moved.append(target / entry.name)
    except OSError:
        for entry in moved:
            entry.rename(draft / entry.name)
        raise


def exchange(first: Path, second: Path) -> None:
    """Lets two names change places in one step (renameat2 of Linux); raises OSError where the system cannot."""
    import ctypes

    swap, here = 2, -100  # RENAME_EXCHANGE, AT_FDCWD
    library = ctypes.CDLL(None, use_errno=True)
    if not hasattr(library, "renameat2"):
        raise OSError(errno.ENOSYS, os.strerror(errno.ENOSYS))
    if library.renameat2(here, os.fsencode(first), here, os.fsencode(second), swap) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))


def _made_parents(path: Path, target: Path) -> list[Path]:
    """Makes the folders above a target; gives those that were not there, the innermost first."""
    missing = [folder for folder in target.parents if not folder.exists()]
    try:
        with writing(path):
            target.parent.mkdir(parents=True, exist_ok=True)
    except BaseException:
        for folder in missing:
            with suppress(OSError):
                folder.rmdir()
        raise
    return missing


def draft_folder(path: Path | str, parent: Path, name: str, private: bool = True) -> tuple[Path, int]:
    """Return a new locked folder, and the descriptor that holds its lock.

    The caller renames or removes the one, and closes the other.
    """
    _remove_abandoned(parent)
    for _ in range(_TRIES):
        draft = parent / _draft_name(name)
        with writing(path):
            draft.mkdir(mode=0o700 if private else 0o777)
            handle = os.open(draft, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | os.O_NOFOLLOW)
        if _hold(handle):
            return draft, handle
        os.close(handle)
    raise CannotWrite(path, OSError(errno.EAGAIN, os.strerror(errno.EAGAIN)))


@contextmanager
def scratch_folder() -> Iterator[Path]:
    """A private folder for the time of a call, where the system keeps temporary files.

    Raises CannotWrite where there is no place for them.
    """
    import tempfile

    try:
        parent = Path(tempfile.gettempdir())
    except OSError:
        raise CannotWrite("a temporary file", "no folder for them can be written to; set TMPDIR") from None
    folder, lock = draft_folder(parent / "usher-gate", parent, "usher-gate")
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        os.close(lock)


def _draft_name(name: str) -> str:
    return f".{name[:150]}.{os.urandom(8).hex()}{DRAFT}"


def _created(name: str, private: bool) -> int:
    flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    return os.open(name, flags, 0o600 if private else 0o666)


def _draft_file(path: Path, target: Path, private: bool) -> RawFile:
    """Return a new locked file beside a target."""
    for _ in range(_TRIES):
        with writing(path):
            raw = RawFile(
                path, str(target.with_name(_draft_name(target.name))), lambda name, _: _created(name, private)
            )
        if _hold(raw.fileno()):
            return raw
        raw.close()
    raise CannotWrite(path, OSError(errno.EAGAIN, os.strerror(errno.EAGAIN)))


def _hold(handle: int) -> bool:
    """Locks a draft; False where another call took it for abandoned, and removed it, before it was locked."""
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:  # a file system without locks: nothing is ever taken for abandoned there
        return True
    return os.fstat(handle).st_nlink > 0


def _remove_abandoned(folder: Path) -> None:
    """Removes the caller's own drafts in a folder that no process holds any more."""
    with suppress(OSError, ValueError):
        with os.scandir(folder) as entries:
            names = [entry.name for entry in entries if entry.name.startswith(".") and entry.name.endswith(DRAFT)]
        for name in names:
            with suppress(OSError):
                _remove_if_abandoned(folder / name)


def _remove_if_abandoned(draft: Path) -> None:
    handle = os.open(draft, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        mine = os.fstat(handle)
        if mine.st_uid != os.geteuid():
            return
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if stat.S_ISDIR(mine.st_mode):
            shutil.rmtree(draft, ignore_errors=True)
        else:
            draft.unlink()
    finally:
        os.close(handle)


def write_target(path: Path) -> Path:
    """Return the path that writing to `path` leads to, all links resolved.

    What is no file (a device) is named as it is.

    Raises BadInput for a link that another user may have planted: it is neither the caller's nor root's, and its folder
    can be written to by others. Raises OSError and ValueError as the system does.
    """
    pending, here, links = [*reversed((Path.cwd() / path).parts[1:])], Path("/"), 0
    while pending:
        part = pending.pop()
        if part == "..":
            here = here.parent
            continue
        step = here / part
        try:
            found = os.lstat(step)
        except (FileNotFoundError, NotADirectoryError, PermissionError):
            return step.joinpath(*reversed(pending))
        if not stat.S_ISLNK(found.st_mode):
            here = step
            continue
        links += 1
        if links > _MOST_LINKS:
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
        leads = str(step.readlink())
        if not _is_trusted(found, here):
            raise BadInput(
                [
                    Fault(
                        str(path),
                        0,
                        f"{step} is a link of another user, and leads to {leads}; remove it, or name another file",
                    )
                ]
            )
        with suppress(OSError):
            if not pending and not stat.S_ISREG(kind := step.stat().st_mode) and not stat.S_ISDIR(kind):
                return step
        aim = PurePosixPath(leads)
        if aim.is_absolute():
            here = Path("/")
        pending += reversed(aim.parts[1:] if aim.is_absolute() else aim.parts)
    return here


def _is_trusted(link: os.stat_result, folder: Path) -> bool:
    """Return True for a link that only the caller or root can have made."""
    mine = (0, os.geteuid())
    if link.st_uid in mine:
        return True
    around = folder.stat()
    return around.st_uid in mine and not around.st_mode & (stat.S_IWGRP | stat.S_IWOTH)


@contextmanager
def only_writer(path: Path) -> Iterator[None]:
    """While this lasts, no other call changes a file of the same folder in place; raises UsherError where one does
    for too long.

    The folder itself is locked, so that no other file has to be there. Where the file system has no locks, nothing is
    waited for.
    """
    with writing(path):
        folder = write_target(path).parent
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        end = time.monotonic() + _LOCK_SECONDS
        while True:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                if time.monotonic() > end:
                    raise Busy(f"another call is changing {path}; wait for it, then write this again") from None
                time.sleep(0.02)
                continue
            except OSError:
                pass
            break
        yield
    finally:
        os.close(handle)


class Busy(UsherError):
    """Another call is at work on the same file or folder."""

    status = 4


def sync_folder(folder: Path) -> None:
    """Waits until the names in a folder are on the disk (for file systems that support it)."""
    with suppress(OSError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
