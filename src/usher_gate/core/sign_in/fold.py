"""All sign-ins over some values of each dimension, in the fewest rows that tell the difference."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import permutations, product

from ..organisation.networks import NetworkClass
from ..organisation.sign_ins import SignIn
from ..words.record import record
from ..words.vocabulary import CONDITIONS
from .decide import Decider, Decision


@record
class DecisionRow:
    """Sign-ins that meet the same decision: for each dimension left out the values (None: any), and one of them."""

    values: tuple[frozenset[str] | None, ...]
    sign_in: SignIn
    now: Decision
    observed: Decision


def fold(decider: Decider, resource: str, given: dict[str, list[object]], shown: frozenset[str]) -> list[DecisionRow]:
    """All sign-ins over the given values of each dimension, in the fewest rows that an order of the dimensions allows."""
    decided: dict[tuple[str, ...], tuple[SignIn, Decision, Decision]] = {}
    known: dict[tuple[object, ...], tuple[Decision, Decision]] = {}
    rules = decider.gatekeeper.rules
    for place in product(*(given[name] for name in CONDITIONS)):
        network, *rest = place
        assert isinstance(network, NetworkClass)
        sign_in = SignIn(resource, network, *(str(word) for word in rest))
        mask = tuple(not rule.failing(sign_in, sign_in.device) for rule in rules)
        unseen = tuple(not rule.failing(sign_in, "unknown") for rule in rules)
        key = mask, unseen, sign_in.client == "legacy", sign_in.device
        if key not in known:
            known[key] = decider.decide(sign_in, shown), decider.decide(sign_in, shown, observed_too=True)
        decided[network.text, *(str(word) for word in rest)] = (sign_in, *known[key])
    best: list[DecisionRow] | None = None
    for order in permutations(range(len(CONDITIONS))):
        rows = list(_rows(decided, order, (None,) * len(CONDITIONS)))
        if best is None or len(rows) < len(best):
            best = rows
    return best or []


_Table = dict[tuple[str, ...], tuple[SignIn, Decision, Decision]]


def _rows(table: _Table, order: tuple[int, ...], values: tuple[frozenset[str] | None, ...]) -> Iterator[DecisionRow]:
    keys = {(now.key, later.key) for _, now, later in table.values()}
    if len(keys) == 1:
        sign_in, now, later = next(iter(table.values()))
        yield DecisionRow(values, sign_in, now, later)
        return
    place, *rest = order
    parts: dict[str, _Table] = {}
    for key, entry in table.items():
        parts.setdefault(key[place], {})[key] = entry
    alike: dict[object, list[str]] = {}
    for value, part in parts.items():
        shape = tuple((key[:place] + key[place + 1 :], now.key, later.key) for key, (_, now, later) in part.items())
        alike.setdefault(shape, []).append(value)
    for names in alike.values():
        chosen = None if len(names) == len(parts) else frozenset(names)
        yield from _rows(parts[names[0]], tuple(rest), (*values[:place], chosen, *values[place + 1 :]))
