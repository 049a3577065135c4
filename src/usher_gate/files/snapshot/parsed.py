"""A large snapshot as it was read, kept beside its folder (Arrow IPC), so that the next verb need not read the tables
again.

It is believed only if every file that is read has the same bytes, and the program and its libraries are the same;
whatever is in doubt is read anew. It may be deleted at any time, and is never written for a small snapshot, or with
USHER_GATE_PARSED=off in the environment.
"""

from __future__ import annotations

import hashlib
import os
from contextlib import suppress
from pathlib import Path
from typing import Any

from ... import __version__
from ..binary import LARGEST_TABLE, open_file
from ..faults import UsherError
from ..write import whole_bytes

SWITCH = "USHER_GATE_PARSED"
WORTH_BYTES = 4 << 20  # smaller ones are read as quickly
_MAGIC, _DIGEST, _HEAD = b"usher-gate parsed/1\n", 32, 128
_CODE = ("core/organisation", "core/words", "files/snapshot", "files/tables")


def parsed_path(folder: Path) -> Path:
    """Return where a snapshot is kept as it was read: a hidden file beside its folder."""
    return folder.parent / f".{folder.name}.parsed"


def key_of(folder: Path, names: frozenset[str]) -> bytes | None:
    """Return a digest of all that the reading depends on.

    The bytes of the files of these stems, the names of the others, where the folder lies, the program; None where
    nothing is to be kept.
    """
    if os.environ.get(SWITCH, "").lower() == "off":
        return None
    files = sorted(path for path in folder.iterdir() if path.is_file())
    pieces = [
        path
        for each in sorted(folder.iterdir())
        if each.is_dir() and each.name in names
        for path in sorted(each.iterdir())
    ]
    files += pieces
    mine = [path for path in files if path.stem in names or path in pieces]
    if sum(path.stat().st_size for path in mine) < WORTH_BYTES:
        return None
    whole = hashlib.blake2b(digest_size=_DIGEST)
    for part in (__version__, *_program(), str(folder), *(str(path.relative_to(folder)) for path in files)):
        whole.update(f"{part}\n".encode(errors="surrogateescape"))
    for path in mine:
        with open_file(path, LARGEST_TABLE) as stream:
            whole.update(hashlib.file_digest(stream, hashlib.blake2b).digest())
    return whole.digest()


def _program() -> list[str]:
    """Return the libraries, and the code that reads: a program that is being worked on has one version for long."""
    import numpy as np
    import pyarrow as pa

    top = Path(__file__).resolve().parents[2]
    code = sorted(path for room in _CODE for path in (top / room).rglob("*.py"))
    stats = [(path, path.stat()) for path in code]
    return [np.__version__, pa.__version__, *(f"{path} {stat.st_size} {stat.st_mtime_ns}" for path, stat in stats)]


def read_parsed(folder: Path, key: bytes) -> Any:
    """Return what was kept under just this key.

    None for anything else, also for bytes that are not those that were written: nothing looks into them before that is
    known.
    """
    try:
        with parsed_path(folder).open("rb") as stream:
            if os.fstat(stream.fileno()).st_uid != os.geteuid() or stream.read(len(_MAGIC + key)) != _MAGIC + key:
                return None
    except OSError:
        return None
    import pyarrow as pa

    from .frozen import deserialise

    try:
        with pa.memory_map(str(parsed_path(folder))) as source:
            whole = source.read_buffer(source.size())
            body = whole.slice(_HEAD)
            if bytes(whole.slice(0, _HEAD)) != _head(key, body):
                return None
            (batch,) = pa.ipc.open_file(pa.BufferReader(body)).read_all().to_batches()
            packed, *buffers = (column[0].as_buffer() for column in batch.columns)
            return deserialise(bytes(packed), buffers)
    except Exception:  # whatever it is, it is not what was written
        return None


def keep_parsed(folder: Path, key: bytes, value: Any) -> None:
    """Keeps what was read, whole or not at all.

    Where that cannot be, nothing is kept, and nothing is said: it would only save time.
    """
    import pyarrow as pa

    from .frozen import CannotSerialise, serialise

    path = parsed_path(folder)
    with suppress(OSError, UsherError, CannotSerialise, pa.ArrowException, UnicodeError):
        packed, buffers = serialise(value)
        arrays = [_cell(pa.py_buffer(each)) for each in (packed, *buffers)]
        batch = pa.record_batch(arrays, names=[f"c{number}" for number in range(len(arrays))])
        sink = pa.BufferOutputStream()
        with pa.ipc.new_file(sink, batch.schema) as writer:
            writer.write_batch(batch)
        body = sink.getvalue()
        with whole_bytes(path, private=True) as stream:
            stream.write(_head(key, body))
            stream.write(body)


def _head(key: bytes, body: Any) -> bytes:
    """Return what comes before the rest.

    A mark, the key, and a digest of the rest, for a changed bit must not become a wrong answer.
    """
    return _MAGIC + key + hashlib.blake2b(body, digest_size=_DIGEST).digest() + bytes(_HEAD - len(_MAGIC) - 2 * _DIGEST)


def _cell(content: Any) -> Any:
    """Return a column of one cell that holds these bytes, not copied."""
    import numpy as np
    import pyarrow as pa

    ends = pa.py_buffer(np.array([0, content.size], np.int64))
    return pa.Array.from_buffers(pa.large_binary(), 1, [None, ends, content])
