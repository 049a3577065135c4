"""What a worker of an engine does: reads what a job names, once, and works on it.

Everything it says travels as a message.
"""

from __future__ import annotations

import ctypes
import gc
import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ..core.sign_in.evaluator import AccessPolicyEvaluator
from ..core.sign_in.replay import Replay
from ..core.words.faults import Faults
from ..files.faults import BadInput, UsherError, stop_if_any
from ..files.place import place
from ..files.snapshot.access_rules import read_access_rules
from ..files.snapshot.folder import read_part, read_snapshot
from ..files.written.baseline import read_baseline
from ..files.written.exceptions import read_exceptions
from .checking import Inputs, ToCheck
from .interface import EngineFailed, Work
from .job import CHECK, Job, digest_of, program

_OTHERS = "{}: a worker finds other files there than you; leave them alone meanwhile"
_TELL_EVERY = 0.3  # seconds
_lock = threading.Lock()
_held: dict[tuple[str, int], Any] = {}  # by job, and thread where what is held is not for several

# What a worker answers: that it is done, with what; or that the call cannot be answered, with why and the exit status.
Answer = tuple[str, Any]
DONE, WRONG = "done", "wrong"


def do(job: Job, work: Work, run: int, number: int, task: Any) -> tuple[Answer, str]:
    """Run one task of a job, and the worker's address.

    What is wrong with files or the program is an answer; anything else is raised, and may be tried again.
    """
    from distributed import get_worker

    return _answer(job, work, run, number, task), str(get_worker().address)


def _answer(job: Job, work: Work, run: int, number: int, task: Any) -> Answer:
    if job.program != program():
        return WRONG, (f"this worker runs usher-gate {program()}, and you {job.program}; give both the same", 4)
    try:
        with _at_ease():
            return DONE, work(_hold(job), task, _progress_reporter(job, run, number))
    except BadInput as error:
        return WRONG, ([(fault.file, fault.line, fault.message) for fault in error.faults], error.status)
    except UsherError as error:
        return WRONG, (str(error), error.status)


_TRIM, _MAP = -1, -3  # M_TRIM_THRESHOLD and M_MMAP_THRESHOLD of mallopt(3)
_ROOM = 1 << 30


@contextmanager
def _at_ease() -> Iterator[None]:
    """Memory as the program has it.

    Garbage is not looked for while a task runs, and what an array leaves is kept for the next one.

    The engine has its workers give back each large array to the system at once (by MALLOC_TRIM_THRESHOLD_), which makes
    arrays cost twice.
    """
    collecting, allocator = gc.isenabled(), ctypes.CDLL(None)
    gc.disable()
    settable = hasattr(allocator, "mallopt")  # glibc
    if settable:
        allocator.mallopt(_MAP, _ROOM)
        allocator.mallopt(_TRIM, _ROOM)
    try:
        yield
    finally:
        if settable:
            allocator.mallopt(_MAP, 1 << 17)
            allocator.mallopt(_TRIM, int(os.environ.get("MALLOC_TRIM_THRESHOLD_", 1 << 17)))
            allocator.malloc_trim(0)
        if collecting:
            gc.enable()


def forget(job: str) -> None:
    """Lets go of what is held for a job."""
    with _lock:
        for key in [key for key in _held if key[0] == job]:
            del _held[key]


def _hold(job: Job) -> Any:
    key = job.id, 0 if job.kind == CHECK else threading.get_ident()
    with _lock:
        if key not in _held:
            for other in [other for other in _held if other[0] != job.id]:
                del _held[other]  # of a call that is over
            _held[key] = _to_check(job) if job.kind == CHECK else _to_replay(job)
        return _held[key]


def _to_check(job: Job) -> ToCheck:
    """Ranges of people, each read when it is asked for."""

    def inputs(first: int, last: int) -> Inputs:
        mine = read_part(place(job.snapshot), first, last)
        baseline, _ = read_baseline(Path(job.baseline), mine.catalogue, mine)
        exceptions = read_exceptions(Path(job.exceptions), baseline, mine)[0] if job.exceptions else ()
        if digest_of(job.snapshot, mine.content, job.baseline, job.exceptions) != job.inputs:
            raise EngineFailed(_OTHERS.format(job.snapshot))
        return mine, baseline, exceptions

    return ToCheck(inputs)


def _to_replay(job: Job) -> Replay:
    snapshot, draft, faults = read_snapshot(place(job.snapshot)).snapshot, None, Faults()
    present = AccessPolicyEvaluator(snapshot)
    if job.draft:
        rules = read_access_rules(Path(job.draft), snapshot, snapshot.networks, snapshot.resources, faults)
        stop_if_any(faults)
        draft = present.with_rules(rules or ())
    if digest_of(job.snapshot, snapshot.content, job.draft) != job.inputs:
        raise EngineFailed(_OTHERS.format(job.snapshot))
    return Replay(present, draft)


def _progress_reporter(job: Job, run: int, number: int) -> Callable[[int], None]:
    """Return a callback that reports a task's progress to the scheduler now and then, and stops a task that is no
    longer wanted.
    """
    from distributed import get_worker

    worker, last = get_worker(), [0.0]
    key = worker.get_current_task()

    def report(done: int) -> None:
        if time.monotonic() - last[0] < _TELL_EVERY:
            return
        last[0] = time.monotonic()
        known = worker.state.tasks.get(key)
        if known is None or known.state in ("cancelled", "released", "forgotten"):
            raise NotWanted
        worker.log_event(job.id, (run, number, done))

    return report


class NotWanted(Exception):
    """No one waits for a task any more."""
