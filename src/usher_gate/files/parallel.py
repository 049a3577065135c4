"""Work done beside other work: the next piece fetched while one is used, and large work shared among processes. The one seam for both."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from typing import Any, TypeVar

_Piece = TypeVar("_Piece")
_Task = TypeVar("_Task")
_Done = TypeVar("_Done")
_LOOK = 0.2  # seconds between two looks at how far the others are


def ahead(pieces: Iterator[_Piece]) -> Iterator[_Piece]:
    """The same, the next one being fetched in a thread while one is used."""
    end = object()
    with ThreadPoolExecutor(1, "ahead") as pool:
        coming = pool.submit(next, pieces, end)
        while (piece := coming.result()) is not end:
            coming = pool.submit(next, pieces, end)
            yield piece  # type: ignore[misc]


def cores() -> int:
    """How many processors this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1


_shared: Any = None  # in a worker: what all tasks need, and the counters of how far each task is
_counters: Any = None


def _begin(shared: Any, counters: Any) -> None:
    """A worker's start."""
    import signal

    global _shared, _counters
    _shared, _counters = shared, counters
    signal.signal(
        signal.SIGINT, signal.SIG_DFL
    )  # it ends without a word; whoever waits for it says what there is to say


def _call(work: Callable[..., Any], number: int, task: Any) -> Any:
    def tell(done: int) -> None:
        _counters[number] = done

    return work(_shared, task, tell)


def share_out(
    work: Callable[[Any, _Task, Callable[[int], None]], _Done],
    shared: Any,
    tasks: Sequence[_Task],
    progress: Callable[[int], None],
) -> list[_Done]:
    """What `work(shared, task, tell)` gives for each task, in their order, each in a process of its own.

    Processes are forked, so that `shared` is shared and not copied. `tell` says how much of a task is done, `progress` is told the sum.
    Raises what a task raises, and RuntimeError where a process was ended from outside.
    """
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool

    forks = multiprocessing.get_context("fork")
    counters = forks.Array("q", len(tasks), lock=False)
    others = set(multiprocessing.active_children())
    pool = ProcessPoolExecutor(len(tasks), forks, _begin, (shared, counters))
    try:
        coming = [pool.submit(_call, work, number, task) for number, task in enumerate(tasks)]
        waiting = set(coming)
        while waiting:
            done, waiting = wait(waiting, _LOOK, FIRST_COMPLETED)
            for future in done:
                future.result()  # raised at once, not when all others are done
            progress(sum(counters))
        return [future.result() for future in coming]
    except BrokenProcessPool:
        raise RuntimeError("a process that worked for this one was ended from outside") from None
    finally:
        if any(not future.done() for future in coming):
            for child in set(multiprocessing.active_children()) - others:
                child.kill()
        pool.shutdown(cancel_futures=True)
