"""Condition trees, and how the verdicts of their branches combine (domain: "Verdicts")."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from ..door.visitors import VisitorSelection
from ..organisation.columns import MISSING
from ..organisation.selector import Selector
from ..sign_in.possible import ProofDemand
from ..words.compare import Comparison
from ..words.record import record
from .codes import DRIFTS, VerdictCodes

Index = NDArray[np.int32]
Distances = NDArray[np.int64]


@record
class Leaf:
    """One comparison: of a control, a door, a person's fact, a proof, a partner's column, a meeting's field or a count.

    `about` is one of those words, `name` the control, fact, proof, column or field; `number` is its place in the tree
    as written. `selector` is what a count counts; `asked` what a proof is asked for; `visitor_selection` the visitors
    that a door is asked about.
    """

    about: str
    name: str
    number: int
    comparison: Comparison | None = None
    selector: Selector | None = None
    asked: ProofDemand | None = None
    visitor_selection: VisitorSelection | None = None

    @property
    def expected(self) -> str:
        """Return what is expected, in words."""
        if self.visitor_selection is not None and self.comparison is not None:
            return f"{self.comparison.text} for {self.visitor_selection.text}"
        if self.comparison is not None:
            return self.comparison.text
        return f"required on {self.asked.on.text if self.asked is not None else 'any'}"


@record
class Branch:
    """`all-of`, `any-of` or `some-of` over branches; `at_least` counts for some-of alone."""

    operator: str
    branches: tuple[Tree, ...]
    at_least: int = 0


@record
class TooFew:
    """Replaces a some-of with too few branches left; `control` is the first one dropped."""

    control: str
    number: int


Tree = Leaf | Branch | TooFew


def ends(tree: Tree) -> Iterator[Leaf | TooFew]:
    """Yield where a tree's branches end, in the order written."""
    if isinstance(tree, Branch):
        for branch in tree.branches:
            yield from ends(branch)
    else:
        yield tree


def leaves(tree: Tree) -> Iterator[Leaf]:
    """Return the leaves of a tree in the order written."""
    return (end for end in ends(tree) if isinstance(end, Leaf))


def in_words(tree: Tree) -> str:
    """Return what a tree asks for, as written."""
    if isinstance(tree, Leaf):
        return f"{tree.about} {tree.expected}" if tree.about == "door" else f"{tree.about} {tree.name} {tree.expected}"
    if isinstance(tree, TooFew):
        return f"more than {tree.control} is left to ask for"
    which = {"all-of": "all", "any-of": "any"}.get(tree.operator, f"at least {tree.at_least}")
    return f"{which} of ({'; '.join(in_words(branch) for branch in tree.branches)})"


def restrict(tree: Tree, fits: Callable[[Leaf], bool]) -> Tree | None:
    """Return the tree with only the leaves that fit (a service supports their control, or has such meetings).

    None where nothing is left.
    """
    if isinstance(tree, Leaf):
        return tree if fits(tree) else None
    if isinstance(tree, TooFew):
        return tree
    kept = tuple(
        branch for branch in (restrict(one_branch, fits) for one_branch in tree.branches) if branch is not None
    )
    if not kept:
        return None
    if tree.operator == "some-of" and len(kept) < tree.at_least:
        dropped = next(leaf for leaf in leaves(tree) if not fits(leaf))
        return TooFew(dropped.name, dropped.number)
    return Branch(tree.operator, kept, tree.at_least)


def combine(operator: str, at_least: int, verdicts: Sequence[VerdictCodes]) -> VerdictCodes:
    """Return the verdict of a branch from those of its parts, element by element."""
    chosen: VerdictCodes
    if operator == "some-of":
        chosen = np.sort(np.stack(verdicts), axis=0)[len(verdicts) - at_least]
    else:
        chosen = (np.minimum if operator == "all-of" else np.maximum).reduce(verdicts)
    return chosen


def judge(tree: Tree, verdicts: Mapping[int, VerdictCodes], size: int) -> VerdictCodes:
    """Return the tree's verdict for `size` subjects; `verdicts` holds each leaf's by its number."""
    if isinstance(tree, Leaf):
        return verdicts[tree.number]
    if isinstance(tree, TooFew):
        return np.full(size, DRIFTS, np.uint8)
    return combine(tree.operator, tree.at_least, [judge(branch, verdicts, size) for branch in tree.branches])


FAR = 1 << 20  # the distance of what cannot be met
NOWHERE = np.iinfo(np.int64).max  # how narrow the cause is where no leaf drifts


@record
class TreeDecision:
    """Describes what decides a tree, one element a subject.

    Its verdict, the number of the leaf (or TooFew) that decides, its distance from being met (int64; FAR for what
    cannot be), and how narrow the cause of its first drifting leaf is (int64, the least is the narrowest).
    """

    verdict: VerdictCodes
    leaf: Index
    distance: Distances
    narrow: Distances


def deciding(
    tree: Tree, verdicts: Mapping[int, VerdictCodes], narrow: Mapping[int, Distances], size: int
) -> TreeDecision:
    """Return what decides: the first branch with the tree's verdict, all the way down.

    In an any-of or a some-of that drifts the nearest way decides.

    `verdicts` holds each leaf's by its number, `narrow` how narrow its cause is (domain: "Verdicts", 3); a tree without
    ways needs none.
    """
    if not isinstance(tree, Branch):
        found = judge(tree, verdicts, size)
        many = isinstance(tree, TooFew)
        drifts = found == DRIFTS
        return TreeDecision(
            found,
            np.full(size, tree.number, np.int32),
            np.where(drifts, FAR if many else 1, 0).astype(np.int64),
            np.where(drifts, narrow[tree.number], NOWHERE) if tree.number in narrow else np.full(size, NOWHERE),
        )
    parts = [deciding(branch, verdicts, narrow, size) for branch in tree.branches]
    result = combine(tree.operator, tree.at_least, [part.verdict for part in parts])
    # The first branch with the tree's verdict decides, for each subject.
    chosen = np.argmax(np.stack([part.verdict for part in parts]) == result, axis=0)
    distances = np.stack([part.distance for part in parts])
    if tree.operator != "all-of":
        chosen = np.where(result == DRIFTS, _nearest(parts), chosen)
    # The distance is the sum over as many of the nearest branches as have to be met.
    needed = {"all-of": len(parts), "any-of": 1}.get(tree.operator, tree.at_least)
    # The narrowest known cause of the first branch that has one.
    first = np.argmax(np.stack([part.narrow for part in parts]) != NOWHERE, axis=0)
    return TreeDecision(
        result,
        np.take_along_axis(np.stack([part.leaf for part in parts]), chosen[np.newaxis], axis=0)[0],
        np.minimum(np.sort(distances, axis=0)[:needed].sum(axis=0), FAR),
        np.take_along_axis(np.stack([part.narrow for part in parts]), first[np.newaxis], axis=0)[0],
    )


def _nearest(parts: Sequence[TreeDecision]) -> NDArray[np.int64]:
    """Return the nearest of each subject's drifting branches.

    Among equally near ones that with the narrowest cause counts, then the first.
    """
    best = np.full(len(parts[0].verdict), MISSING, np.int64)
    distance, narrow = np.full(len(best), NOWHERE), np.full(len(best), NOWHERE)
    for number, part in enumerate(parts):
        closer = (part.distance < distance) | ((part.distance == distance) & (part.narrow < narrow))
        taken = (part.verdict == DRIFTS) & ((best == MISSING) | closer)
        best, distance = np.where(taken, number, best), np.where(taken, part.distance, distance)
        narrow = np.where(taken, part.narrow, narrow)
    return np.maximum(best, 0)


def _nearness(part: TreeDecision, number: int) -> tuple[int, ...]:
    verdict = int(part.verdict[0])
    return (-verdict, int(part.distance[0]), int(part.narrow[0]), number) if verdict == DRIFTS else (-verdict, number)


def nearest_way(tree: Tree, verdicts: Mapping[int, int], narrow: Mapping[int, int]) -> list[Leaf]:
    """Return the leaves that one subject has to pass to meet the tree in the nearest way, in the order written."""
    if isinstance(tree, Leaf):
        return [tree]
    if isinstance(tree, TooFew):
        return []
    one = {number: np.array([verdict], np.uint8) for number, verdict in verdicts.items()}
    places = {number: np.array([place], np.int64) for number, place in narrow.items()}
    parts = [deciding(branch, one, places, 1) for branch in tree.branches]
    order = list(range(len(parts)))
    if tree.operator != "all-of":
        needed = 1 if tree.operator == "any-of" else tree.at_least
        ranked = sorted(order, key=lambda number: _nearness(parts[number], number))
        order = sorted(ranked[:needed])
    return [leaf for number in order for leaf in nearest_way(tree.branches[number], verdicts, narrow)]


def has_ways(tree: Tree) -> bool:
    """Return whether there is more than one way to meet a tree, so that what is nearest has to be known."""
    return isinstance(tree, Branch) and (tree.operator != "all-of" or any(has_ways(branch) for branch in tree.branches))


def too_few(tree: Tree) -> Iterator[TooFew]:
    """Return the places of a tree where too few branches are left."""
    return (end for end in ends(tree) if isinstance(end, TooFew))
