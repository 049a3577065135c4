"""The record of the last gather, beside the snapshots.

When it began and ended, with which status, and which sources failed.

It is written before the first source is asked and again after the last, so that a gather that was killed is noticed,
too. Spec: gathering 1.
"""

from __future__ import annotations

import fcntl
import json
import os
from pathlib import Path
from typing import Any

from ...core.words.record import record_by_name
from ...core.words.times import parse_time, show_time
from ..binary import read_text
from ..faults import BadInput
from ..write import whole_file

NAME = "last-gather.json"
LOCK = ".lock"


@record_by_name
class LastGather:
    """Describes how the last gather went.

    `ended` is None for one that has not ended; `replaced` is true if its snapshot is in place, perhaps without the
    `failed` sources; `why` is the first line of its error.
    """

    began: str
    ended: str | None = None
    status: int | None = None
    failed: tuple[str, ...] = ()
    replaced: bool = False
    why: str = ""


def write_last(snapshots: Path, last: LastGather) -> None:
    """Writes the record; raises CannotWrite."""
    fields: dict[str, Any] = {
        "began": last.began,
        "ended": last.ended,
        "status": last.status,
        "failed": list(last.failed),
        "replaced": last.replaced,
        "why": last.why,
    }
    with whole_file(snapshots / NAME, private=True) as stream:
        stream.write(json.dumps(fields, ensure_ascii=False) + "\n")


def failed_since(folder: Path, taken_at: int) -> str:
    """Return what to say of a snapshot of a time (microseconds) that is older than the last gather, which failed.

    "" if there was none such.
    """
    path = folder.parent / NAME
    try:
        found = json.loads(read_text(path))
        began, ended = parse_time(str(found["began"])), found["ended"]
        at = began if ended is None else parse_time(str(ended))
        failed, replaced, why = [str(name) for name in found["failed"]], bool(found["replaced"]), str(found["why"])
    except (BadInput, ValueError, KeyError, TypeError, RecursionError):
        return ""
    if began is None or at is None or at < taken_at or replaced or (ended is not None and found.get("status") == 0):
        return ""
    if ended is None and _is_running(folder.parent):
        return ""
    if failed:
        names = ", ".join(f"`{name}`" for name in failed)
        how = f"failed at source{'s' if len(failed) > 1 else ''} {names}"
    else:
        how = "did not end" if ended is None else f"failed ({why})"
    return f"the last gather ({show_time(at)}) {how}; this is the state of {show_time(taken_at)}"


def _is_running(snapshots: Path) -> bool:
    """Return whether a gather is at work there just now."""
    try:
        lock = os.open(snapshots / LOCK, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        fcntl.flock(lock, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError:
        return True
    finally:
        os.close(lock)
    return False
