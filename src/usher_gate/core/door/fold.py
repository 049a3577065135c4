"""Many visits that meet the same, in the fewest rows that show the difference."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from itertools import permutations

from ..words.record import record
from .matrix import Encounter

DIMENSIONS = ("kind", "standing", "holding", "way", "moment")


@record
class FoldedRow:
    """Visits that meet the same.

    For each of DIMENSIONS the values (None: whichever are possible), and the visits themselves.
    """

    values: tuple[tuple[str, ...] | None, ...]
    covers: tuple[Encounter, ...]

    @property
    def easiest(self) -> Encounter:
        """Return the visit with the fewest gates in its way."""
        return min(self.covers, key=lambda encounter: encounter.gates)

    def all(self, name: str) -> frozenset[str]:
        """Return every value of one of DIMENSIONS that the visits have."""
        return frozenset(getattr(encounter.visit, name) for encounter in self.covers)


def folded(every: Sequence[Encounter], alike: Callable[[Encounter], Hashable]) -> list[FoldedRow]:
    """Return the visits in the fewest rows that an order of the dimensions allows.

    `alike` is what has to be the same.
    """
    table = {tuple(getattr(encounter.visit, name) for name in DIMENSIONS): (encounter,) for encounter in every}
    best: list[FoldedRow] | None = None
    for order in permutations(range(len(DIMENSIONS))):
        rows = list(_rows(table, order, (None,) * len(DIMENSIONS), alike))
        if best is None or len(rows) < len(best):
            best = rows
    return best or []


_Table = Mapping[
    tuple[str, ...], tuple[Encounter, ...]
]  # alike visits by their values; "" in a dimension that was folded


def _rows(
    table: _Table,
    order: tuple[int, ...],
    values: tuple[tuple[str, ...] | None, ...],
    alike: Callable[[Encounter], Hashable],
) -> Iterator[FoldedRow]:
    """Yield the rows of a table of visits, merging values of one dimension wherever the outcome is the same."""
    if len({alike(encounters[0]) for encounters in table.values()}) == 1:
        yield FoldedRow(values, tuple(encounter for encounters in table.values() for encounter in encounters))
        return
    place, *rest = order
    parts: dict[str, dict[tuple[str, ...], tuple[Encounter, ...]]] = {}
    for key, encounters in table.items():
        parts.setdefault(key[place], {})[(*key[:place], "", *key[place + 1 :])] = encounters
    shapes: dict[object, list[str]] = {}
    for value, part in parts.items():
        only = {alike(encounters[0]) for encounters in part.values()}
        # visits that all meet one thing are alike, although not every visit is possible
        shape: object = (
            only.pop() if len(only) == 1 else tuple((key, alike(encounters[0])) for key, encounters in part.items())
        )
        shapes.setdefault(shape, []).append(value)
    for names in shapes.values():
        chosen = None if len(names) == len(parts) else tuple(names)
        merged: dict[tuple[str, ...], tuple[Encounter, ...]] = {}
        for name in names:
            for key, encounters in parts[name].items():
                merged[key] = merged.get(key, ()) + encounters
        yield from _rows(merged, tuple(rest), (*values[:place], chosen, *values[place + 1 :]), alike)
