"""Sign-ins that happened, read as a stream.

The table sign_ins in any format, OCSF events, one file or a folder of them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from ...core.sign_in.replay import Replay
from ...core.words.faults import Fault
from ..binary import LARGEST_LOG
from ..faults import BadInput
from ..place import Place, Url, is_folder, opened
from .interface import SIGN_INS, Batch, LogPart, Meanings, Unread
from .methods import AMR, FACTORS, WHOLE

__all__ = [
    "AMR",
    "FACTORS",
    "SIGN_INS",
    "WHOLE",
    "Batch",
    "LogPart",
    "Unread",
    "read_sign_ins",
    "sign_in_files",
    "sign_in_table",
]

Reader = Callable[[LogPart, Meanings, Unread], Iterator[Batch]]


def _csv(part: LogPart, meanings: Meanings, unread: Unread) -> Iterator[Batch]:
    from .columns import read_csv

    return read_csv(part.path, meanings, unread)


def _parquet(part: LogPart, meanings: Meanings, unread: Unread) -> Iterator[Batch]:
    from .columns import read_parquet

    return read_parquet(part, meanings, unread)


def _lines(part: LogPart, meanings: Meanings, unread: Unread) -> Iterator[Batch]:
    from .lines import is_ocsf, read_lines
    from .ocsf import read_ocsf

    with opened(part.path, LARGEST_LOG) as stream:
        if stream.read(64).lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"["):
            raise BadInput([Fault(str(part.path), 1, "is a JSON array; write one object a line (JSON Lines)")])
    return (read_ocsf if is_ocsf(part.path) else read_lines)(part, meanings, unread)


FORMATS: Mapping[str, Reader] = {".csv": _csv, ".jsonl": _lines, ".ndjson": _lines, ".parquet": _parquet}


def sign_in_files(path: Place) -> list[Place]:
    """Return the files that a path or a URL means, in order of their names; raises BadInput where there are none."""
    endings = ", ".join(FORMATS)
    if isinstance(path, Url) or path.exists():
        if is_folder(path):
            every: list[Place] = list(path.inside() if isinstance(path, Url) else sorted(path.iterdir()))
            found = [file for file in every if file.suffix in FORMATS and not is_folder(file)]
            if not found:
                raise BadInput([Fault(str(path), 0, f"holds no file that ends in {endings}; name a folder that does")])
            return found
    else:
        raise BadInput(
            [Fault(str(path), 0, f"does not exist; name a file that ends in {endings}, or a folder of them")]
        )
    if path.suffix == ".json":
        raise BadInput(
            [Fault(str(path), 0, "is one JSON text; write one object a line, and call it NAME.jsonl (JSON Lines)")]
        )
    if path.suffix not in FORMATS:
        raise BadInput([Fault(str(path), 0, f"is of no known kind; name a file that ends in {endings}")])
    return [path]


def sign_in_table(snapshot: Place) -> Place | None:
    """Return the table sign_ins of a snapshot, in whichever format; None where it has none; raises BadInput."""
    inside = (
        snapshot.inside()
        if isinstance(snapshot, Url)
        else [path for ending in FORMATS if (path := snapshot / f"{SIGN_INS.name}{ending}").exists()]
    )
    found: list[Place] = [path for path in inside if path.name in {f"{SIGN_INS.name}{ending}" for ending in FORMATS}]
    if len(found) > 1:
        raise BadInput([Fault(str(found[1]), 0, f"is beside {found[0].name}; keep one file for each table")])
    return found[0] if found else None


def read_sign_ins(parts: Sequence[LogPart], replay: Replay, unread: Unread) -> Iterator[Batch]:
    """Yield the sign-ins of some files or parts of files, some at a time. What cannot be read is counted in `unread`.

    Raises BadInput where a file as a whole cannot be used.
    """
    meanings = Meanings(replay)
    for part in parts:
        try:
            yield from FORMATS[part.path.suffix](part, meanings, unread)
        except OSError as error:
            raise BadInput(
                [Fault(str(part.path), 0, f"cannot be read ({error.strerror or 'it is damaged'}); write it anew")]
            ) from None
