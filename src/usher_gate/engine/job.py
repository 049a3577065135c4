"""What a remote worker gets of a piece of work: where everything is, and what it must be; never its contents."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path

from .. import __version__
from ..core.words.record import record
from ..files.binary import LARGEST_TABLE, open_file
from ..files.place import Place, Url, place
from ..files.snapshot.folder import READ_FILES

CHECK, REPLAY = "check", "replay"


@record
class Job:
    """One call's work. `kind` is check or replay; the paths are the same for everyone, or URLs ("" for none there is).

    `inputs` is a digest of the files, `program` of the program: a worker with others must not take part.
    """

    id: str
    kind: str
    snapshot: str
    baseline: str
    exceptions: str
    draft: str
    inputs: str
    program: str


def program() -> str:
    """Return the version of this program, and a digest of its code."""
    whole, top = hashlib.blake2b(digest_size=6), Path(__file__).resolve().parents[1]
    for path in sorted(top.rglob("*.py")):
        whole.update(f"{path.relative_to(top)}\n".encode() + path.read_bytes())
    return f"{__version__} ({whole.hexdigest()})"


def absolute(where: Place | None) -> str:
    """Return a place as everyone names it; "" for none."""
    if where is None:
        return ""
    return str(where) if isinstance(where, Url) else str(where.resolve())


def digest_of(snapshot: str, content: str, *files: str) -> str:
    """Return a digest of the bytes of a snapshot's files and of others; raises BadInput.

    `content` is the digest of the files that were copied from a store, which are not read again: a store may change
    them under one ETag. Spec: scale 5.
    """
    whole = hashlib.blake2b(content.encode(), digest_size=16)
    where = place(snapshot)
    for path in (*(_inside(where) if isinstance(where, Path) else ()), *(Path(each) for each in files if each)):
        with open_file(path, LARGEST_TABLE) as stream:
            whole.update(path.name.encode() + hashlib.file_digest(stream, hashlib.blake2b).digest())
    return whole.hexdigest()


def _inside(folder: Path) -> Iterator[Path]:
    """Yield the files of a snapshot that are read, in order."""
    for path in sorted(folder.iterdir()):
        if path.stem in READ_FILES:
            yield from sorted(each for each in path.iterdir() if each.is_file()) if path.is_dir() else (path,)
