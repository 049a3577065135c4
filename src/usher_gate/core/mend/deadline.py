"""When to stop looking for a better plan."""

from __future__ import annotations

from collections.abc import Callable

from ..words.record import record


class OutOfTime(Exception):
    """The time is up; what was found so far counts."""


@record
class Deadline:
    """`clock` gives seconds, `until` is when to stop."""

    clock: Callable[[], float]
    until: float

    @property
    def has_passed(self) -> bool:
        """Return True if the time is up."""
        return self.clock() > self.until

    @property
    def left(self) -> float:
        """Return the seconds that are left; none are less than 0."""
        return max(self.until - self.clock(), 0.0)

    def part(self, share: float) -> Deadline:
        """Return a deadline after a share of the time that is left."""
        return Deadline(self.clock, self.clock() + self.left * share)

    def check(self) -> None:
        """Raises OutOfTime if the time is up."""
        if self.has_passed:
            raise OutOfTime


NEVER_PASSES = Deadline(lambda: 0.0, 0.0)
