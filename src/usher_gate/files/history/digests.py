"""The digests that tie a kept check to the files that it was made of."""

from __future__ import annotations

import hashlib
import io
import json
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from types import TracebackType
from typing import TextIO

from ..binary import read_text
from ..snapshot.manifest import NAME, digest

_PIECE = 1 << 20


def snapshot_digest(folder: Path) -> str:
    """Return the SHA-256 over the digests of a snapshot's files, one line `name=digest` for each, sorted by name.

    The digests are those of the manifest; without one, the files are hashed. A piece of a table that is a folder is a
    file like others, named `people/part-0.parquet`.
    """
    manifest = folder / NAME
    if manifest.exists():
        listed = {str(one["name"]): str(one["sha256"]) for one in json.loads(read_text(manifest))["files"]}
    else:
        files = (path for path in folder.rglob("*") if path.is_file())
        listed = {path.relative_to(folder).as_posix(): digest(path) for path in files}
    return hashlib.sha256("".join(f"{name}={listed[name]}\n" for name in sorted(listed)).encode()).hexdigest()


def file_digest(path: Path | None) -> str:
    """Return SHA-256 of a file; of nothing where there is none."""
    return hashlib.sha256(b"").hexdigest() if path is None else digest(path)


class Digesting(io.TextIOBase, TextIO):
    """A stream of text that is not kept.

    Only its SHA-256, `digest`, which another thread computes while the text is made.
    """

    def __init__(self) -> None:
        self._whole, self._pieces, self._length = hashlib.sha256(), list[str](), 0
        self._thread = ThreadPoolExecutor(1)
        self._waiting: Future[None] | None = None

    def write(self, text: str) -> int:
        """Takes some text."""
        self._pieces.append(text)
        self._length += len(text)
        if self._length > _PIECE:
            self._hand_over()
        return len(text)

    def _hand_over(self) -> None:
        if self._waiting is not None:
            self._waiting.result()  # never more than two pieces at once
        piece, self._pieces, self._length = "".join(self._pieces).encode(), [], 0
        self._waiting = self._thread.submit(self._whole.update, piece)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._hand_over()
        self._thread.shutdown()

    def __enter__(self) -> Digesting:
        return self

    @property
    def digest(self) -> str:
        """Return the SHA-256 of all that was written; to be asked afterwards."""
        return self._whole.hexdigest()
