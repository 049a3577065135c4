"""The interface of what divides work among processes or machines."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from typing import Any

from ..files.faults import UsherError


class EngineFailed(UsherError):
    """The work could not be divided, or was lost: nothing is computed."""

    status = 4


ProgressCallback = Callable[[int], None]  # called with how much of a task is done
Work = Callable[
    [Any, Any, ProgressCallback], Any
]  # the shared context, a task, the progress callback; returns what is found


class Executor(ABC):
    """Workers beside one another with the same shared context.

    A task goes to the worker that had the one of its number before, if possible.
    """

    size: int  # how many of them there are
    shares_each: int = 1  # into how many shares for each a log is cut

    @abstractmethod
    def run(self, work: Work, tasks: Sequence[Any], progress: ProgressCallback) -> list[Any]:
        """Return what `work(context, task, progress)` gives for each task, in their order.

        `progress` gets the sum of what is done.

        Raises what a task raises, and EngineFailed if the worker that had it was lost for good.
        """

    @abstractmethod
    def close(self) -> None:
        """Release all workers."""

    def __enter__(self) -> Executor:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
