"""All sign-ins over some values of each dimension, in the fewest rows that show the difference."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice, permutations, product

import numpy as np

from ..organisation.networks import NetworkClass
from ..organisation.sign_ins import SignIn
from ..words.record import record
from ..words.vocabulary import CONDITIONS
from .decide import Decider, Decision

_WIDE = np.dtype(np.uint32).itemsize
_Row = tuple[tuple[int, ...], ...]  # for each dimension the numbers of its values; none: any


@record
class DecisionRow:
    """Sign-ins that meet the same decision: for each dimension left out the values (None: any), and one of them."""

    values: tuple[frozenset[str] | None, ...]
    sign_in: SignIn
    now: Decision
    observed: Decision


def fold(decider: Decider, resource: str, given: dict[str, list[object]], shown: frozenset[str]) -> list[DecisionRow]:
    """Fold all sign-ins over the given values into the fewest rows that an order of the dimensions allows."""
    axes = [given[name] for name in CONDITIONS]
    decided = _decided(decider, resource, axes, shown)
    numbers: dict[object, int] = {}
    codes = [numbers.setdefault((now.key, later.key), len(numbers)) for _, now, later in decided]
    table = np.array(codes, np.uint32).reshape([len(axis) for axis in axes])
    best, order = _fewest(table)
    rows = []
    for row in best:
        chosen = [row[order.index(axis)] for axis in range(len(axes))]
        first = np.ravel_multi_index([some[0] if some else 0 for some in chosen], table.shape)
        values = tuple(
            frozenset(_text(axis[number]) for number in some) if some else None
            for axis, some in zip(axes, chosen, strict=True)
        )
        rows.append(DecisionRow(values, *decided[int(first)]))
    return rows


def _text(value: object) -> str:
    return value.text if isinstance(value, NetworkClass) else str(value)


def _decided(
    decider: Decider, resource: str, axes: list[list[object]], shown: frozenset[str]
) -> list[tuple[SignIn, Decision, Decision]]:
    """Return every sign-in and its decisions; those that match the same rules are decided once."""
    known: dict[tuple[object, ...], tuple[Decision, Decision]] = {}
    found = []
    rules = decider.gatekeeper.rules
    for network, *rest in product(*axes):
        assert isinstance(network, NetworkClass)
        sign_in = SignIn(resource, network, *map(str, rest))
        mask = tuple(not rule.failing(sign_in, sign_in.device) for rule in rules)
        unseen = tuple(not rule.failing(sign_in, "unknown") for rule in rules)
        key = mask, unseen, sign_in.client == "legacy", sign_in.device
        if key not in known:
            known[key] = decider.decide(sign_in, shown), decider.decide(sign_in, shown, observed_too=True)
        found.append((sign_in, *known[key]))
    return found


def _fewest(table: np.ndarray) -> tuple[list[_Row], tuple[int, ...]]:
    """Return the fewest rows, and the order of the dimensions that gives them.

    Of equally few those of the first order.
    """
    best: list[_Row] | None = None
    chosen: tuple[int, ...] = ()
    for order in permutations(range(table.ndim)):
        turned = table.transpose(order)
        rows = list(islice(_rows(turned.tobytes(), turned.shape), None if best is None else len(best)))
        if best is None or len(rows) < len(best):
            best, chosen = rows, order
    return best or [], chosen


def _rows(block: bytes, shape: tuple[int, ...]) -> Iterator[_Row]:
    """Yield the rows of a block of numbers, one after another in the order of the dimensions."""
    if block == block[:_WIDE] * (len(block) // _WIDE):
        yield ((),) * len(shape)
        return
    length = len(block) // shape[0]
    alike: dict[bytes, list[int]] = {}
    for number in range(shape[0]):
        alike.setdefault(block[number * length : (number + 1) * length], []).append(number)
    for part, values in alike.items():
        chosen = () if len(alike) == 1 else tuple(values)
        for rest in _rows(part, shape[1:]):
            yield chosen, *rest
