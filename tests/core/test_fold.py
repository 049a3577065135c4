"""All sign-ins in few rows: no order of the dimensions gives fewer, and every sign-in is in one row."""

from __future__ import annotations

from itertools import permutations, product
from random import Random

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.compared import many
from usher_gate.core.sign_in.fold import _fewest

Cells = dict[tuple[int, ...], int]


def _plainly(cells: Cells, order: tuple[int, ...]) -> int:
    """How many rows an order needs."""
    if len(set(cells.values())) == 1:
        return 1
    axis, *rest = order
    parts: dict[int, Cells] = {}
    for place, code in cells.items():
        parts.setdefault(place[axis], {})[(*place[:axis], 0, *place[axis + 1 :])] = code
    different: list[Cells] = []
    for part in parts.values():
        if part not in different:
            different.append(part)
    return sum(_plainly(part, tuple(rest)) for part in different)


@settings(max_examples=many(200))
@given(st.lists(st.integers(1, 3), min_size=1, max_size=4), st.integers(1, 3), st.randoms())
def test_the_rows_are_the_fewest_and_hold_every_sign_in_once(shape: list[int], outcomes: int, rnd: Random) -> None:
    places = list(product(*map(range, shape)))
    cells = {place: rnd.randrange(outcomes) for place in places}
    rows, order = _fewest(np.array([cells[place] for place in places], np.uint32).reshape(shape))
    assert len(rows) == min(_plainly(cells, each) for each in permutations(range(len(shape))))
    seen: dict[tuple[int, ...], int] = {}
    for row in rows:
        chosen = [row[order.index(axis)] or tuple(range(length)) for axis, length in enumerate(shape)]
        held = list(product(*chosen))
        assert len({cells[place] for place in held}) == 1
        for place in held:
            seen[place] = seen.get(place, 0) + 1
    assert seen == dict.fromkeys(places, 1)
