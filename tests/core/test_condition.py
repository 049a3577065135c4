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
    assert _decided(tree, verdicts) == (UNKNOWN, 2)


def _decided(tree: Tree, verdicts: dict[int, int], narrow: dict[int, int] | None = None) -> tuple[int, int]:
    """The verdict of one subject, and the leaf that decides."""
    codes = {number: np.array([each], np.uint8) for number, each in verdicts.items()}
    places = {number: np.array([(narrow or {}).get(number, 9)], np.int64) for number in verdicts}
    decision = deciding(tree, codes, places, 1)
    return int(decision.verdict[0]), int(decision.leaf[0])


def test_of_the_ways_that_drift_the_nearest_decides_then_the_narrowest() -> None:
    both = Branch("all-of", (_leaf(1), _leaf(2)))
    tree: Tree = Branch("any-of", (Branch("all-of", (_leaf(0), both)), _leaf(3), _leaf(4)))
    assert _decided(tree, dict.fromkeys(range(5), DRIFTS)) == (DRIFTS, 3)  # one step against three
    assert _decided(tree, dict.fromkeys(range(5), DRIFTS), {4: 2}) == (DRIFTS, 4)  # a person's setting before any other
    assert _decided(tree, {**dict.fromkeys(range(5), DRIFTS), 0: MEETS, 1: MEETS}, {2: 1}) == (DRIFTS, 2)
    two: Tree = Branch("some-of", (TooFew("x", 0), _leaf(1), _leaf(2)), 2)
    assert _decided(two, {1: MEETS, 2: DRIFTS}) == (DRIFTS, 2)  # too few is farther than anything


def test_unsupported_leaves_are_dropped_and_too_few_branches_drift() -> None:
    some = Branch("some-of", (_leaf(0, "x"), _leaf(1, "y"), _leaf(2, "z")), 2)
    assert restrict(some, lambda _: False) is None
    left = restrict(some, lambda leaf: leaf.name == "y")
    assert isinstance(left, TooFew)
    assert (left.control, left.number) == ("x", 0)
    assert isinstance(restrict(some, lambda leaf: leaf.name in "yz"), Branch)
