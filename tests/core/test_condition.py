"""The truth table of goodness, and the deciding branch."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest

from usher_gate.core.verdicts.codes import DRIFTS, LOOSE, MEETS, SETTLING, UNAVAILABLE, UNKNOWN
from usher_gate.core.verdicts.condition import Branch, Leaf, TooFew, Tree, combine, deciding, restrict

BEST_FIRST = (MEETS, LOOSE, SETTLING, UNKNOWN, UNAVAILABLE, DRIFTS)


def _row(*verdicts: int) -> list[np.ndarray]:
    return [np.array([verdict], np.uint8) for verdict in verdicts]


@pytest.mark.parametrize(("first", "second"), list(product(BEST_FIRST, repeat=2)))
def test_all_of_takes_the_worst_and_any_of_the_best(first: int, second: int) -> None:
    ordered = sorted((first, second), key=BEST_FIRST.index)
    assert combine("all-of", 0, _row(first, second))[0] == ordered[1]
    assert combine("any-of", 0, _row(first, second))[0] == ordered[0]
    assert combine("some-of", 1, _row(first, second))[0] == ordered[0]
    assert combine("some-of", 2, _row(first, second))[0] == ordered[1]


@pytest.mark.parametrize("three", list(product(BEST_FIRST, repeat=3)))
def test_some_of_takes_the_nth_best(three: tuple[int, int, int]) -> None:
    ordered = sorted(three, key=BEST_FIRST.index)
    for least in (1, 2, 3):
        assert combine("some-of", least, _row(*three))[0] == ordered[least - 1]


def _leaf(number: int, control: str = "a.b") -> Leaf:
    return Leaf("control", control, number)


def test_the_first_branch_with_the_tree_s_verdict_decides_all_the_way_down() -> None:
    tree: Tree = Branch("all-of", (_leaf(0), Branch("any-of", (_leaf(1), _leaf(2))), _leaf(3)))
    verdicts = {0: MEETS, 1: DRIFTS, 2: UNKNOWN, 3: UNKNOWN}
    verdict, decided = deciding(tree, {number: np.array([each], np.uint8) for number, each in verdicts.items()}, 1)
    assert (verdict[0], decided[0]) == (UNKNOWN, 2)


def test_unsupported_leaves_are_dropped_and_too_few_branches_drift() -> None:
    some = Branch("some-of", (_leaf(0, "x"), _leaf(1, "y"), _leaf(2, "z")), 2)
    assert restrict(some, frozenset()) is None
    left = restrict(some, frozenset(("y",)))
    assert isinstance(left, TooFew)
    assert (left.control, left.number) == ("x", 0)
    assert isinstance(restrict(some, frozenset(("y", "z"))), Branch)
