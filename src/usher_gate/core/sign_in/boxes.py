"""The true cells of a grid in boxes: for each dimension some values, or any.

A box leaves as few dimensions narrowed as the cell it starts from allows, and all boxes together are exactly the true
cells.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

Grid = NDArray[np.bool_]
Box = tuple[tuple[int, ...] | None, ...]  # for each dimension the places of its values; None: any


def boxes(grid: Grid) -> Iterator[Box]:
    """Boxes that together are exactly the true cells of a grid, each narrowed in as few dimensions as its first cell
    allows.
    """
    left = grid.copy()
    dimensions = range(grid.ndim)
    while left.any():
        cell = tuple(int(place) for place in np.unravel_index(int(np.argmax(left)), grid.shape))
        box = _widest(grid, cell, dimensions)
        yield tuple(None if len(values) == grid.shape[place] else tuple(values) for place, values in enumerate(box))
        left[np.ix_(*box)] = False


def _widest(grid: Grid, cell: tuple[int, ...], dimensions: Sequence[int]) -> list[list[int]]:
    for size in range(len(dimensions) + 1):
        for narrowed in combinations(dimensions, size):
            box = [[cell[place]] if place in narrowed else list(range(grid.shape[place])) for place in dimensions]
            if grid[np.ix_(*box)].all():
                return _grown(grid, box, narrowed)
    raise AssertionError("a true cell is a box of its own")


def _grown(grid: Grid, box: list[list[int]], narrowed: Sequence[int]) -> list[list[int]]:
    """Return the box with every further value of its narrowed dimensions that may be added."""
    for place in narrowed:
        for value in range(grid.shape[place]):
            if value not in box[place] and grid[np.ix_(*box[:place], [value], *box[place + 1 :])].all():
                box[place] = sorted([*box[place], value])
    return box
