"""Random comparisons that say how much they compared, and demand a minimum: one that compares nothing must not pass."""

from __future__ import annotations

import os
from collections.abc import Callable
from random import Random

from hypothesis import HealthCheck, given, settings

from tests.organisations import organisations
from tests.reference import Org

# By hand, so many times as many random cases; what they have to compare grows with them.
TIMES = float(os.environ.get("USHER_GATE_EXAMPLES", "1"))


def many(cases: int) -> int:
    """So many random cases, or as many times more as are asked for."""
    return max(1, round(cases * TIMES))


def compare_many(compare: Callable[[Org, Random], int], examples: int, least: int, empty: float) -> None:
    """Compares random organisations.

    All together at least `least` things, and at most a share `empty` of the organisations none.
    """
    counts: list[int] = []

    @settings(
        max_examples=many(examples),
        suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large],
    )
    @given(organisations())
    def one(made: tuple[Org, Random]) -> None:
        counts.append(compare(*made))

    one()
    nothing = sum(not count for count in counts)
    assert sum(counts) >= least * TIMES, f"only {sum(counts)} compared"
    assert nothing <= empty * len(counts), f"{nothing} of {len(counts)} organisations compared nothing"
