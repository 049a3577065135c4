"""What somebody far away is told of a piece of work: where everything lies, and what it must be; never what stands in it."""

from __future__ import annotations

import hashlib
from pathlib import Path

from .. import __version__
from ..core.words.record import record
from ..files.binary import LARGEST_TABLE, open_file
from ..files.place import Place, Url, place
from ..files.snapshot.folder import READ_FILES

CHECK, REPLAY = "check", "replay"


@record
class Job:
    """One call's work. `kind` is check or replay; the paths are the same for everybody, or URLs ("" for none there is).

    `inputs` is a digest of the files, `program` of the program: whoever has others must not take part.
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
    """The version of this program, and a digest of its code."""
    whole, top = hashlib.blake2b(digest_size=6), Path(__file__).resolve().parents[1]
    for path in sorted(top.rglob("*.py")):
        whole.update(f"{path.relative_to(top)}\n".encode() + path.read_bytes())
    return f"{__version__} ({whole.hexdigest()})"


def absolute(where: Place | None) -> str:
    """A place as everybody names it; "" for none."""
    return "" if where is None else str(where) if isinstance(where, Url) else str(where.resolve())


def digest_of(snapshot: str, *files: str) -> str:
    """A digest of a snapshot's files and of others: of their bytes, or in a store of what tells that they changed; raises BadInput."""
    whole = hashlib.blake2b(digest_size=16)
    for where in (*_inside(place(snapshot)), *(place(each) for each in files if each)):
        if isinstance(where, Url):
            whole.update(f"{where.name} {where.stamp()}\n".encode())
        else:
            with open_file(where, LARGEST_TABLE) as stream:
                whole.update(where.name.encode() + hashlib.file_digest(stream, hashlib.blake2b).digest())
    return whole.hexdigest()


def _inside(folder: Place) -> list[Place]:
    """The files of a snapshot that are read, in order."""
    found: list[Place] = []
    every: list[Place] = list(folder.inside() if isinstance(folder, Url) else sorted(folder.iterdir()))
    for path in every:
        if path.stem not in READ_FILES:
            continue
        if isinstance(path, Url) and not path.suffix:
            found += path.inside()
        elif isinstance(path, Path) and path.is_dir():
            found += sorted(each for each in path.iterdir() if each.is_file())
        else:
            found.append(path)
    return found
