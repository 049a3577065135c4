"""Random comparisons that say how much they compared, and demand a minimum: one that compares nothing must not pass."""

from __future__ import annotations

import os
import time
import traceback
from collections.abc import Callable
from copy import deepcopy
from dataclasses import asdict, replace
from random import Random
from typing import Any

from hypothesis import HealthCheck, given, settings

from tests.organisations import organisations
from tests.reference import Org

# By hand, so many times as many random cases; what they have to compare grows with them.
TIMES = float(os.environ.get("USHER_GATE_EXAMPLES", "1"))


def many(cases: int) -> int:
    """So many random cases, or as many times more as are asked for."""
    return max(1, round(cases * TIMES))


LISTS = ("people", "exceptions", "rules", "settings", "members", "groups", "observations", "partners", "services")
SHRINKING = 60  # seconds


def failure(compare: Callable[[Org, Random], int], org: Org, state: Any) -> str:
    """The line in which a comparison fails; "" if it does not."""
    rnd = Random()
    rnd.setstate(state)
    try:
        compare(deepcopy(org), rnd)
    except AssertionError as error:
        frame = traceback.extract_tb(error.__traceback__)[-1]
        return f"{frame.filename}:{frame.lineno}"
    return ""


def smallest(compare: Callable[[Org, Random], int], org: Org, state: Any, seconds: float = SHRINKING) -> Org:
    """The organisation with as few rows as still fail in the same line, as far as that is found in the time."""
    where, deadline, before = failure(compare, org, state), time.monotonic() + seconds, None
    while org is not before:
        before = org
        for name in LISTS:
            size = len(getattr(org, name) or ())
            while size:
                start = 0
                while start < len(getattr(org, name)) and time.monotonic() < deadline:
                    rows = getattr(org, name)
                    trial = replace(org, **{name: rows[:start] + rows[start + size :]})
                    if failure(compare, trial, state) == where:
                        org = trial
                    else:
                        start += size
                size //= 2
    return org


def compare_many(compare: Callable[[Org, Random], int], examples: int, least: int, empty: float) -> None:
    """Compares random organisations.

    All together at least `least` things, and at most a share `empty` of the organisations none.
    """
    counts: list[int] = []
    failing: list[tuple[Org, Any]] = []

    @settings(
        max_examples=many(examples),
        suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large],
    )
    @given(organisations())
    def one(made: tuple[Org, Random]) -> None:
        org, state = deepcopy(made[0]), made[1].getstate()
        try:
            counts.append(compare(*made))
        except AssertionError:
            failing.append((org, state))
            raise

    try:
        one()
    except AssertionError as error:
        if failing:
            found = {name: rows for name, rows in asdict(smallest(compare, *failing[-1])).items() if rows}
            error.add_note(
                "The smallest organisation that fails here:\n"
                + "\n".join(f"{name}: {rows}" for name, rows in found.items())
            )
        raise
    nothing = sum(not count for count in counts)
    assert sum(counts) >= least * TIMES, f"only {sum(counts)} compared"
    assert nothing <= empty * len(counts), f"{nothing} of {len(counts)} organisations compared nothing"
