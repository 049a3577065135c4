"""What whoever shares work out is asked for."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from typing import Any

from ..files.faults import UsherError


class EngineFailed(UsherError):
    """Whoever shared the work could not do it: nothing is computed."""

    status = 4


Tell = Callable[[int], None]  # told how much of a task is done
Work = Callable[[Any, Any, Tell], Any]  # what all hold, a task, whom to tell; gives what is found


class Crew(ABC):
    """Some who work beside one another, and hold the same. A task goes to whoever had the one of its number before, if they can."""

    size: int  # how many of them there are
    shares_each: int = 1  # into how many shares for each a log is cut

    @abstractmethod
    def run(self, work: Work, tasks: Sequence[Any], progress: Tell) -> list[Any]:
        """What `work(held, task, tell)` gives for each task, in their order. `progress` is told the sum of what is done.

        Raises what a task raises, and EngineFailed where whoever had it was lost for good .
        """

    @abstractmethod
    def close(self) -> None:
        """Lets everybody go."""

    def __enter__(self) -> Crew:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
