"""Where in the organisation which part of the baseline drifts: units by areas."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..organisation.columns import MISSING, Bools, Longs
from ..organisation.facts import FACTS
from ..organisation.units import Units, depth
from ..words.record import record
from .codes import DRIFTS
from .condition import Leaf
from .result import CheckResult
from .rules import Rule

SIGN_IN, GUEST, ACCOUNT, PARTNER = "sign-in", "guest", "account", "partner"
_OF_ACCOUNTS = ("roles", "licences", "days-since-sign-in", "days-since-created")
_OF_GUESTS = ("sponsor", "expires_at", "reviewed_at", "days-since-review")


@record
class AreaShares:
    """Of each unit how many of its people (and of those in units below) drift in each area, once whatever the number of rules.

    The last unit may be "", for who is in none. `drifting` is units by areas; `people` counts those of each unit that the report speaks of.
    """

    units: tuple[str, ...]
    areas: tuple[str, ...]
    people: Longs
    drifting: Longs


def area_of(leaf: Leaf) -> str:
    """The area that a leaf asks about: that of its control, `sign-in` for proofs and how one proves oneself, `guest`, `account`."""
    if leaf.about == "control":
        return leaf.name.partition(".")[0]
    if leaf.about in ("door", "meeting"):
        return "door"
    if leaf.about == "partner":
        return PARTNER
    if leaf.name in _OF_GUESTS:
        return GUEST
    if leaf.about == "proof" or (leaf.name in FACTS and leaf.name not in _OF_ACCOUNTS):
        return SIGN_IN
    return ACCOUNT


def areas_of(rule: Rule) -> frozenset[str]:
    """The areas that a rule asks about."""
    return frozenset(map(area_of, rule.leaves))


def area_shares(result: CheckResult, order: Sequence[str], deepest: int = 2) -> AreaShares | None:
    """The shares of the units down to a depth below `/`, for the areas that some rule about people asks about, in an order (others after
    it, by name); None where nobody is known to be in a unit."""
    snapshot = result.snapshot
    if snapshot.units is None or not snapshot.units.paths:
        return None
    asked = {area for rule in result.rules if rule.subject == "people" for area in areas_of(rule)}
    areas = tuple(sorted(asked, key=lambda area: (order.index(area) if area in order else len(order), area)))
    masks = {area: np.zeros(len(result.chosen), bool) for area in areas}
    for block in result.blocks:
        drifts = np.array([tail.verdict == DRIFTS for tail in block.tails], bool)[block.tail]
        for area in areas_of(block.rule):
            masks[area][block.people[drifts]] = True
    return _by_unit(snapshot.units, areas, result.chosen, masks, deepest)


def _by_unit(units: Units, areas: tuple[str, ...], chosen: Bools, masks: dict[str, Bools], deepest: int) -> AreaShares:
    whole = units.count(chosen)
    shown = [number for number, path in enumerate(units.paths) if depth(path) <= deepest and whole[number]]
    nowhere = chosen & (units.codes == MISSING)
    rest = int(np.count_nonzero(nowhere))
    paths, people = tuple(units.paths[number] for number in shown), whole[shown]
    drifting = np.zeros((len(shown) + bool(rest), len(areas)), np.int64)
    for column, area in enumerate(areas):
        drifting[: len(shown), column] = units.count(masks[area] & chosen)[shown]
        if rest:
            drifting[-1, column] = np.count_nonzero(masks[area] & nowhere)
    if rest:
        paths, people = (*paths, ""), np.append(people, rest)
    return AreaShares(paths, areas, people, drifting)
