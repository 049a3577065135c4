"""Processes of this machine, forked, so that what they hold is shared and not copied.

The one way in which it uses several.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

from .interface import EngineFailed, Executor, ProgressCallback, Work

LARGE = 60_000  # people, from which several processes are worth their start, where there is as much to judge of them:
LARGE_WORK = 5_000_000  # verdicts
LIMIT = "USHER_GATE_PROCESSES"  # in the environment
_LOOK = 0.2  # seconds between two looks at how far the others are
_MOST_TASKS = 4096  # of one run, that report their progress
_MOST_PROCESSES = 8  # that are used without being asked for

_held: Any = None  # in a process: what all tasks need, and the counters of how far each task is
_counters: Any = None


def cores() -> int:
    """Return how many processors this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1


def at_hand() -> int:
    """Return how many processes large work is shared among.

    As many as there are processors, unless the environment says fewer or more.
    """
    said = os.environ.get(LIMIT, "")
    if said.isascii() and said.isdecimal() and 0 < len(said) < 4:
        return max(int(said), 1)
    return min(cores(), _MOST_PROCESSES)


def _begin(held: Any, counters: Any) -> None:
    """A process's start."""
    import signal

    global _held, _counters
    _held, _counters = held, counters
    signal.signal(signal.SIGINT, signal.SIG_DFL)  # it ends without a message; the process that waits for it reports


def _call(work: Work, number: int, task: Any) -> Any:
    def report(done: int) -> None:
        _counters[number % _MOST_TASKS] = done

    return work(_held, task, report)


class Processes(Executor):
    """So many processes; each is forked when it first gets a task, and stays until the executor is closed."""

    def __init__(self, held: Any, size: int) -> None:
        import multiprocessing
        from concurrent.futures import ProcessPoolExecutor

        self.size = size
        forks = multiprocessing.get_context("fork")
        self._counters = forks.Array("q", _MOST_TASKS, lock=False)
        self._others = set(multiprocessing.active_children())
        self._pools = [ProcessPoolExecutor(1, forks, _begin, (held, self._counters)) for _ in range(size)]
        self._whole = True

    def run(self, work: Work, tasks: Sequence[Any], progress: ProgressCallback) -> list[Any]:
        """See Crew. Raises EngineFailed where a process was ended from outside."""
        from concurrent.futures import FIRST_COMPLETED, wait
        from concurrent.futures.process import BrokenProcessPool

        self._counters[:] = [0] * _MOST_TASKS
        self._whole = False
        try:
            coming = [
                self._pools[number % self.size].submit(_call, work, number, task) for number, task in enumerate(tasks)
            ]
            waiting = set(coming)
            while waiting:
                done, waiting = wait(waiting, _LOOK, FIRST_COMPLETED)
                for future in done:
                    future.result()  # raised at once, not when all others are done
                progress(sum(self._counters))
        except BrokenProcessPool:
            raise EngineFailed("a process that worked for this one was ended from outside; run it again") from None
        self._whole = True
        return [future.result() for future in coming]

    def close(self) -> None:
        """Lets the processes go; those that still work are ended."""
        import multiprocessing

        if not self._whole:
            for child in set(multiprocessing.active_children()) - self._others:
                child.kill()
        for pool in self._pools:
            pool.shutdown(cancel_futures=True)
