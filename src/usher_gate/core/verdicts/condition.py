"""Condition trees, and how the verdicts of their branches combine (domain: "Verdicts")."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from ..organisation.selector import Selector
from ..sign_in.possible import Asked
from ..words.compare import Comparison
from ..words.record import record
from .codes import DRIFTS, VerdictCodes

Index = NDArray[np.int32]


@record
class Leaf:
    """One comparison: of a control, a person's fact, a proof, a partner's column, a meeting or a count.

    `about` is one of those words, `name` the control, fact, proof or column; `number` is its place in the tree as written.
    `selector` is what a count counts; `asked` what a proof is asked for.
    """

    about: str
    name: str
    number: int
    comparison: Comparison | None = None
    selector: Selector | None = None
    asked: Asked | None = None

    @property
    def expected(self) -> str:
        """What is expected, in words."""
        if self.comparison is not None:
            return self.comparison.text
        return f"required on {', '.join(self.asked.on if self.asked is not None else ()) or 'any'}"


@record
class Branch:
    """`all-of`, `any-of` or `some-of` over branches; `at_least` counts for some-of alone."""

    operator: str
    branches: tuple[Tree, ...]
    at_least: int = 0


@record
class TooFew:
    """What stands in the place of a some-of of which too few branches are left: `control` is the first one dropped."""

    control: str
    number: int


Tree = Leaf | Branch | TooFew


def ends(tree: Tree) -> Iterator[Leaf | TooFew]:
    """Where a tree's branches end, in the order written."""
    if isinstance(tree, Branch):
        for branch in tree.branches:
            yield from ends(branch)
    else:
        yield tree


def leaves(tree: Tree) -> Iterator[Leaf]:
    """The leaves of a tree in the order written."""
    return (end for end in ends(tree) if isinstance(end, Leaf))


def in_words(tree: Tree) -> str:
    """What a tree asks for, as written."""
    if isinstance(tree, Leaf):
        return f"{tree.about} {tree.name} {tree.expected}"
    if isinstance(tree, TooFew):
        return f"more than {tree.control} is left to ask for"
    which = {"all-of": "all", "any-of": "any"}.get(tree.operator, f"at least {tree.at_least}")
    return f"{which} of ({'; '.join(in_words(branch) for branch in tree.branches)})"


def restrict(tree: Tree, supported: frozenset[str]) -> Tree | None:
    """The tree without leaves about controls outside `supported`; None where nothing is left."""
    if isinstance(tree, Leaf):
        return None if tree.about == "control" and tree.name not in supported else tree
    if isinstance(tree, TooFew):
        return tree
    kept = tuple(
        branch for branch in (restrict(one_branch, supported) for one_branch in tree.branches) if branch is not None
    )
    if not kept:
        return None
    if tree.operator == "some-of" and len(kept) < tree.at_least:
        dropped = next(leaf for leaf in leaves(tree) if leaf.about == "control" and leaf.name not in supported)
        return TooFew(dropped.name, dropped.number)
    return Branch(tree.operator, kept, tree.at_least)


def combine(operator: str, at_least: int, verdicts: Sequence[VerdictCodes]) -> VerdictCodes:
    """The verdict of a branch from those of its parts, element by element."""
    chosen: VerdictCodes
    if operator == "some-of":
        chosen = np.sort(np.stack(verdicts), axis=0)[len(verdicts) - at_least]
    else:
        chosen = (np.minimum if operator == "all-of" else np.maximum).reduce(verdicts)
    return chosen


def judge(tree: Tree, verdicts: Mapping[int, VerdictCodes], size: int) -> VerdictCodes:
    """The tree's verdict for `size` subjects; `verdicts` holds each leaf's by its number."""
    if isinstance(tree, Leaf):
        return verdicts[tree.number]
    if isinstance(tree, TooFew):
        return np.full(size, DRIFTS, np.uint8)
    return combine(tree.operator, tree.at_least, [judge(branch, verdicts, size) for branch in tree.branches])


def deciding(tree: Tree, verdicts: Mapping[int, VerdictCodes], size: int) -> tuple[VerdictCodes, Index]:
    """The tree's verdict, and the number of the leaf (or TooFew) that decides it: the first branch with that verdict, all the way down."""
    if not isinstance(tree, Branch):
        return judge(tree, verdicts, size), np.full(size, tree.number, np.int32)
    parts = [deciding(branch, verdicts, size) for branch in tree.branches]
    result = combine(tree.operator, tree.at_least, [verdict for verdict, _ in parts])
    first = np.argmax(np.stack([verdict for verdict, _ in parts]) == result, axis=0)
    chosen = np.take_along_axis(np.stack([leaf for _, leaf in parts]), first[np.newaxis], axis=0)[0]
    return result, chosen


def too_few(tree: Tree) -> Iterator[TooFew]:
    """The places of a tree where too few branches are left."""
    return (end for end in ends(tree) if isinstance(end, TooFew))
