"""Where a file or a folder lies: on this machine, or at a URL of a store that fsspec knows (`s3://…`, `memory://…`)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from io import BufferedReader
from pathlib import Path, PurePosixPath
from typing import Any, TypeAlias

from ..core.words.faults import Fault
from .binary import check_file, open_file, problem_of
from .faults import BadInput, UsherError

_URL = re.compile(r"(?!file:)[a-z][a-z0-9+.-]+://.", re.IGNORECASE)
_REGULAR, _FOLDER = 0o100644, 0o40755


@dataclass(frozen=True)
class Url:
    """A place in a store; credentials come from the environment, never from the URL."""

    text: str

    def __str__(self) -> str:
        return self.text

    def __truediv__(self, name: str) -> Url:
        return Url(f"{self.text.rstrip('/')}/{name}")

    @property
    def name(self) -> str:
        """Return the last part."""
        return PurePosixPath(self.text).name

    @property
    def stem(self) -> str:
        """Return the last part without its ending."""
        return PurePosixPath(self.text).stem

    @property
    def suffix(self) -> str:
        """Return the ending, with its dot."""
        return PurePosixPath(self.text).suffix

    @cached_property
    def _store(self) -> tuple[Any, str]:
        """Return the store, and where in it."""
        try:
            import fsspec
        except ImportError:
            raise UsherError(
                "a URL needs fsspec; install it with: pip install 'usher-gate[cluster]' (and s3fs, or what your "
                "store needs)"
            ) from None
        try:
            found: tuple[Any, str] = fsspec.core.url_to_fs(self.text)
        except (ImportError, ValueError) as error:
            raise UsherError(f"{self.text}: {' '.join(str(error).split())[:200]}") from None
        return found

    @contextmanager
    def _reached(self) -> Iterator[tuple[Any, str]]:
        """The store, and where in it; raises BadInput for what goes wrong there."""
        store, where = self._store
        try:
            yield store, where
        except FileNotFoundError:
            raise BadInput([Fault(self.text, 0, "does not exist; write it, or name another")]) from None
        except Exception as error:  # each store has errors of its own
            if isinstance(error, (BadInput, UsherError)):
                raise
            what = " ".join(str(error).split())[:120] or type(error).__name__
            raise BadInput([Fault(self.text, 0, f"cannot be read ({what}); see what the store says of it")]) from None

    def info(self) -> dict[str, Any]:
        """Return what the store says about it: `type` (file or directory) and `size`; raises BadInput."""
        with self._reached() as (store, where):
            found: dict[str, Any] = store.info(where)
            return found

    def inside(self) -> list[Url]:
        """Return what lies in it directly, in order of names; raises BadInput."""
        with self._reached() as (store, where):
            here = where.rstrip("/")
            found = sorted(str(each).rstrip("/") for each in store.ls(where, detail=False))
            return [self / PurePosixPath(each).name for each in found if each.strip("/") != here.strip("/")]

    def opened(self, largest: int) -> BufferedReader:
        """Return the file, to be read as bytes; raises BadInput."""
        info = self.info()
        problem = problem_of(_FOLDER if info["type"] == "directory" else _REGULAR, int(info.get("size") or 0), largest)
        if problem is not None:
            raise BadInput([Fault(self.text, 0, problem)])
        with self._reached() as (store, where):
            found: BufferedReader = store.open(where, "rb")
            return found

    def fetch(self, to: Path) -> None:
        """Copies the file here; raises BadInput."""
        with self._reached() as (store, where):
            store.get_file(where, str(to))


Place: TypeAlias = Path | Url
_SECRET_KEY = re.compile(
    r"pass(word|wd|phrase)?|pwd|secret|sig|.*(password|passwd|token|secret|credential|signature)|"
    r"(.*[_.-])?(api|access|account)?[_.-]?key",
    re.IGNORECASE,
)


def secret_in_query(url: str) -> str:
    """Return the name of the first parameter of a URL's query that holds a password, a token or a key; "" for none."""
    from urllib.parse import parse_qsl

    query = url.partition("?")[2].partition("#")[0]
    names = [name for name, _ in parse_qsl(query.replace(";", "&"), keep_blank_values=True)]
    return next((name for name in names if _SECRET_KEY.fullmatch(name)), "")


def place(text: str) -> Place:
    """Return the place that a text names.

    Raises UsherError for a URL that holds a password: it would stand in logs, and travel.
    """
    if not _URL.match(text):
        return Path(text)
    if "@" in text.partition("://")[2].partition("/")[0]:
        raise UsherError(
            f"the URL of {text.rpartition('@')[2][:60]} holds a name or a password; leave it out, the store reads it "
            "from the environment"
        )
    if name := secret_in_query(text):
        raise UsherError(
            f"the URL {text.partition('?')[0][:60]} holds a secret ({name}); "
            "leave it out, the store reads it from the environment"
        )
    return Url(text)


def size_of(where: Place) -> int:
    """Return a file's size in bytes; raises BadInput, or OSError."""
    return int(where.info().get("size") or 0) if isinstance(where, Url) else where.stat().st_size


def is_folder(where: Place) -> bool:
    """Return whether it is a folder; raises BadInput where a URL cannot be reached."""
    return where.info()["type"] == "directory" if isinstance(where, Url) else where.is_dir()


def opened(where: Place, largest: int) -> BufferedReader:
    """Return a file, to be read as bytes; raises BadInput."""
    return where.opened(largest) if isinstance(where, Url) else open_file(where, largest)


def for_arrow(where: Place, largest: int) -> Any:
    """Return what Arrow is to read: the path of a file (checked), or a file in a store; raises BadInput."""
    if isinstance(where, Url):
        return where.opened(largest)
    check_file(where, largest)
    return str(where)
