"""Where in the organisation which part of the baseline drifts: units by areas."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..organisation.columns import MISSING, Bools, Longs
from ..organisation.facts import FACTS
from ..organisation.units import Units, depth
from ..settings.resolver import Resolver
from ..words.record import record
from .codes import DRIFTS, EXCEPTED, UNAVAILABLE, UNKNOWN
from .condition import Leaf
from .result import CheckResult
from .rules import Rule
from .scope import Scopes, services_of

SIGN_IN, GUEST, ACCOUNT, PARTNER = "sign-in", "guest", "account", "partner"
_OF_ACCOUNTS = ("roles", "licences", "days-since-sign-in", "days-since-created")
_OF_GUESTS = ("sponsor", "expires_at", "reviewed_at", "days-since-review")


@record
class AreaShares:
    """Units by areas.

    How many people of a unit (and of the units below it) are judged in an area, drift, or have an unclear verdict.

    The last unit may be "", for people in none. `people` counts those of each unit that the report speaks of; `judged`,
    `drifting` and `unclear` (unknown or unavailable) are int64 of shape (units, areas), and count a person once
    whatever the number of rules.
    """

    units: tuple[str, ...]
    areas: tuple[str, ...]
    people: Longs
    drifting: Longs
    judged: Longs
    unclear: Longs


def area_of(leaf: Leaf) -> str:
    """Return the area that a leaf asks about.

    That of its control, `sign-in` for proofs and how one proves oneself, `guest`, `account`.
    """
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
    """Return the areas that a rule asks about."""
    return frozenset(map(area_of, rule.leaves))


def area_shares(result: CheckResult, order: Sequence[str], deepest: int = 2) -> AreaShares | None:
    """Return the shares of the units down to a depth below `/`, for the areas that some rule about people asks about,
    in an order (others after it, by name); None where no one is known to be in a unit.
    """
    snapshot = result.snapshot
    if snapshot.units is None or not snapshot.units.paths:
        return None
    asked = {area for rule in result.rules if rule.subject == "people" for area in areas_of(rule)}
    areas = tuple(sorted(asked, key=lambda area: (order.index(area) if area in order else len(order), area)))
    size = len(result.chosen)
    masks = {area: _AreaMasks(*(np.zeros(size, bool) for _ in range(3))) for area in areas}
    excepted: dict[tuple[str, str | None], Bools] = {}
    for block in result.blocks:
        verdicts = np.array([detail.verdict for detail in block.details], np.uint8)[block.detail]
        excepted[block.rule.id, block.service] = mask = np.zeros(size, bool)
        mask[block.people[verdicts == EXCEPTED]] = True
        for area in areas_of(block.rule):
            masks[area].drifting[block.people[verdicts == DRIFTS]] = True
            masks[area].unclear[block.people[(verdicts == UNKNOWN) | (verdicts == UNAVAILABLE)]] = True
    scopes = Scopes(Resolver(snapshot))
    for rule in result.rules:
        for service in services_of(rule, snapshot.services) if rule.subject == "people" else ():
            judged = ~scopes.of(rule, service).outside
            key = rule.id, service.id if service else None
            if key in excepted:
                judged &= ~excepted[key]
            for area in areas_of(rule):
                masks[area].judged[judged] = True
    return _by_unit(snapshot.units, areas, result.chosen, masks, deepest)


@record
class _AreaMasks:
    """For each person whether some rule of an area judges them, whether they drift from one, and whether a verdict is
    not known.
    """

    judged: Bools
    drifting: Bools
    unclear: Bools


def _by_unit(
    units: Units, areas: tuple[str, ...], chosen: Bools, masks: dict[str, _AreaMasks], deepest: int
) -> AreaShares:
    """Count drifting and judged people by unit and area, for units down to a depth; people in no unit come last."""
    whole = units.count(chosen)
    shown = [number for number, path in enumerate(units.paths) if depth(path) <= deepest and whole[number]]
    nowhere = chosen & (units.codes == MISSING)
    rest = int(np.count_nonzero(nowhere))
    paths, people = tuple(units.paths[number] for number in shown), whole[shown]

    def counted(of: Sequence[Bools]) -> Longs:
        """Units by areas: how many people each mask holds."""
        found = np.zeros((len(shown) + bool(rest), len(areas)), np.int64)
        for column, mask in enumerate(of):
            found[: len(shown), column] = units.count(mask & chosen)[shown]
            if rest:
                found[-1, column] = np.count_nonzero(mask & nowhere)
        return found

    if rest:
        paths, people = (*paths, ""), np.append(people, rest)
    every = [masks[area] for area in areas]
    drifting = counted([each.drifting for each in every])
    judged, unclear = counted([each.judged for each in every]), counted([each.unclear for each in every])
    return AreaShares(units=paths, areas=areas, people=people, drifting=drifting, judged=judged, unclear=unclear)
