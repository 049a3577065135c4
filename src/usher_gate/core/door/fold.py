"""Many visits that meet the same, in the fewest rows that tell the difference."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from itertools import permutations

from ..words.record import record
from .matrix import Told

DIMENSIONS = ("kind", "standing", "holding", "way", "moment")


@record
class FoldedRow:
    """Visits that meet the same: for each of DIMENSIONS the values (None: whichever are possible), and the visits themselves."""

    values: tuple[tuple[str, ...] | None, ...]
    covers: tuple[Told, ...]

    @property
    def told(self) -> Told:
        """The visit with the fewest gates in its way."""
        return min(self.covers, key=lambda told: told.gates)

    def all(self, name: str) -> frozenset[str]:
        """Every value of one of DIMENSIONS that the visits have."""
        return frozenset(getattr(told.visit, name) for told in self.covers)


def folded(every: Sequence[Told], alike: Callable[[Told], Hashable]) -> list[FoldedRow]:
    """The visits in the fewest rows that an order of the dimensions allows; `alike` is what has to be the same."""
    table = {tuple(getattr(told.visit, name) for name in DIMENSIONS): (told,) for told in every}
    best: list[FoldedRow] | None = None
    for order in permutations(range(len(DIMENSIONS))):
        rows = list(_rows(table, order, (None,) * len(DIMENSIONS), alike))
        if best is None or len(rows) < len(best):
            best = rows
    return best or []


_Table = Mapping[tuple[str, ...], tuple[Told, ...]]  # alike visits by their values; "" in a dimension that was folded


def _rows(
    table: _Table, order: tuple[int, ...], values: tuple[tuple[str, ...] | None, ...], alike: Callable[[Told], Hashable]
) -> Iterator[FoldedRow]:
    if len({alike(tolds[0]) for tolds in table.values()}) == 1:
        yield FoldedRow(values, tuple(told for tolds in table.values() for told in tolds))
        return
    place, *rest = order
    parts: dict[str, dict[tuple[str, ...], tuple[Told, ...]]] = {}
    for key, tolds in table.items():
        parts.setdefault(key[place], {})[(*key[:place], "", *key[place + 1 :])] = tolds
    shapes: dict[object, list[str]] = {}
    for value, part in parts.items():
        only = {alike(tolds[0]) for tolds in part.values()}
        # whoever meets one thing throughout is alike, though not every visit is possible
        shape: object = only.pop() if len(only) == 1 else tuple((key, alike(tolds[0])) for key, tolds in part.items())
        shapes.setdefault(shape, []).append(value)
    for names in shapes.values():
        chosen = None if len(names) == len(parts) else tuple(names)
        merged: dict[tuple[str, ...], tuple[Told, ...]] = {}
        for name in names:
            for key, tolds in parts[name].items():
                merged[key] = merged.get(key, ()) + tolds
        yield from _rows(merged, tuple(rest), (*values[:place], chosen, *values[place + 1 :]), alike)
