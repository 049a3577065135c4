"""Every way in that a required proof does not cover, each in its smallest description; and the health of the access rules.

The sign-ins of a class of people form a grid (resource, network, client, platform, device, risk). The cells without the proof
are described by boxes: for each dimension some values, or any. A box leaves as few dimensions narrowed as the cell it starts
from allows, and all boxes together are exactly the cells without the proof.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from .access import Gatekeeper, SignIn
from .accessrules import CLIENTS, DEVICES, PLATFORMS, RISKS, SECOND_FACTOR, AccessRule, Conditions
from .condition import Leaf
from .decide import failing, network_name
from .model import DAY, Bools
from .networks import NetworkClass
from .proofs import DEVICE_PROOFS, device_proofs, with_implied
from .record import record
from .select import Unanswerable, select

Grid = NDArray[np.bool_]
Box = tuple[tuple[int, ...] | None, ...]  # for each dimension the places of its values; None: any
DIMENSIONS = ("resource", "network", "client", "platform", "device", "risk")
OBSERVED_LONG_DAYS = 30


def boxes(grid: Grid) -> Iterator[Box]:
    """Boxes that together are exactly the true cells of a grid, each narrowed in as few dimensions as its first cell allows."""
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
    """The box with every further value of its narrowed dimensions that may be added."""
    for place in narrowed:
        for value in range(grid.shape[place]):
            if value not in box[place] and grid[np.ix_(*box[:place], [value], *box[place + 1 :])].all():
                box[place] = sorted([*box[place], value])
    return box


@record
class HoleFound:
    """One hole: the values of each dimension (None: any), the people (numbers, ascending), a sign-in that slips through,
    why, and whether the observed rules would close it."""

    values: tuple[tuple[str, ...] | None, ...]
    people: tuple[int, ...]
    sign_in: SignIn
    because: tuple[str, ...]
    observed_closes: bool


class _Universe:
    """The grid of a proof leaf's possible sign-ins: which rules (as 64-bit words) cover each cell."""

    def __init__(self, keeper: Gatekeeper, leaf: Leaf, unseen: bool) -> None:
        when = leaf.when or Conditions()
        self.resources = sorted(keeper.snapshot.resources) if not leaf.on else list(leaf.on)
        self.networks = [each for each in keeper.door.networks.classes if when.network(each.names)]
        self.clients = [each for each in CLIENTS if when.client is None or each in when.client]
        self.platforms = [each for each in PLATFORMS if when.platform is None or each in when.platform]
        self.devices = [each for each in (("unknown",) if unseen else DEVICES) if when.on_device(each)]
        self.risks = [each for each in RISKS if when.risk is None or each in when.risk]
        self._keeper, self._leaf = keeper, leaf
        rules = keeper.door.rules
        words = max(1, -(-len(rules) // 64))
        self.covers = np.zeros((*self.shape, words), np.uint64)
        for number, rule in enumerate(rules):
            if rule.mode != "off":
                bit = np.uint64(1 << number % 64)
                self.covers[..., number // 64] |= np.where(
                    self._matched(rule) & self._by_itself(rule), bit, np.uint64(0)
                )

    @property
    def values(self) -> tuple[Sequence[object], ...]:
        """The values of every dimension."""
        return self.resources, self.networks, self.clients, self.platforms, self.devices, self.risks

    @property
    def shape(self) -> tuple[int, ...]:
        """How many values each dimension has."""
        return tuple(len(values) for values in self.values)

    def _matched(self, rule: AccessRule) -> Grid:
        when = rule.when
        axes = (
            [each in rule.resources for each in self.resources], [when.network(each.names) for each in self.networks],
            [when.client is None or each in when.client for each in self.clients],
            [when.platform is None or each in when.platform for each in self.platforms],
            [when.on_device(each) for each in self.devices], [when.risk is None or each in when.risk for each in self.risks],
        )  # fmt: skip
        grid = np.ones((1,) * len(axes), bool)
        for place, axis in enumerate(axes):
            grid = grid & np.array(axis, bool).reshape([-1 if each == place else 1 for each in range(len(axes))])
        return grid

    def _by_client_and_device(self, answer: Callable[[str, str], bool]) -> Grid:
        """What depends on client and device alone."""
        cells = [[answer(client, device) for device in self.devices] for client in self.clients]
        return np.array(cells, bool).reshape(1, 1, len(self.clients), 1, len(self.devices), 1)

    def _by_itself(self, rule: AccessRule) -> Grid:
        """Where a rule, if it matches, covers by itself."""
        number, covering, proof = self._keeper.door.rules.index(rule), self._keeper.covering, self._leaf.name
        return self._by_client_and_device(lambda client, device: bool(covering(proof, client, device)[0] >> number & 1))

    def own(self) -> Grid:
        """Where a person's own requirement of a second factor covers."""
        covering, proof = self._keeper.covering, self._leaf.name
        return self._by_client_and_device(lambda client, device: covering(proof, client, device)[1])

    def trivially(self) -> Grid:
        """Where the device in hand is itself the proof."""
        proof = self._leaf.name
        return self._by_client_and_device(lambda _, device: proof in DEVICE_PROOFS and proof in device_proofs(device))

    def open(self, rules: int, must_show: bool) -> Grid:
        """The cells that none of these rules (as bits) covers."""
        words = np.array([rules >> 64 * place & (1 << 64) - 1 for place in range(self.covers.shape[-1])], np.uint64)
        found: Grid = ~np.any(self.covers & words, axis=-1) & ~self.trivially()
        return found & ~self.own() if must_show else found

    def sign_in(self, cell: Sequence[int]) -> SignIn:
        """The sign-in of one cell."""
        resource, network, client, platform, device, risk = cell
        return SignIn(
            self.resources[resource],
            self.networks[network],
            self.clients[client],
            self.platforms[platform],
            self.devices[device],
            self.risks[risk],
        )

    def named(self, box: Box) -> tuple[tuple[str, ...] | None, ...]:
        """A box by the names of its values."""
        named = []
        for values, places in zip(self.values, box, strict=True):
            named.append(None if places is None else tuple(_name(values[place]) for place in places))
        return tuple(named)


def _name(value: object) -> str:
    return network_name(value) if isinstance(value, NetworkClass) else str(value)


def holes(keeper: Gatekeeper, leaf: Leaf, audience: Bools) -> list[HoleFound]:
    """All holes of a proof leaf for the people of an audience, those of most people first."""
    which, first = keeper.classes
    universes = {False: _Universe(keeper, leaf, False), True: _Universe(keeper, leaf, True)}
    enforced, observed = keeper.rules("enforce"), keeper.rules("enforce", "observe")
    found: dict[tuple[object, ...], tuple[HoleFound, list[int]]] = {}
    grids: dict[tuple[int, int, bool, bool], list[tuple[Box, bool]]] = {}
    for number, person in enumerate(first):
        people = np.flatnonzero((which == number) & audience)
        unseen = keeper.unseen_device(person)
        if not len(people) or unseen is None:
            continue
        universe, must_show, mine = universes[unseen], bool(keeper.must_show[person]), keeper.included(person)
        key = (mine & enforced, mine & observed, must_show, unseen)
        if key not in grids:
            now, later = universe.open(key[0], must_show), universe.open(key[1], must_show)
            grids[key] = [(box, False) for box in boxes(later)] + [(box, True) for box in boxes(now & ~later)]
        for box, closes in grids[key]:
            cell = [0 if places is None else places[0] for places in box]
            sign_in = universe.sign_in(cell)
            because = _because(keeper, leaf, person, sign_in, closes)
            values = universe.named(box)
            one = HoleFound(values, (), sign_in, because, closes)
            found.setdefault((values, closes, because), (one, []))[1].extend(people.tolist())
    made = [replace(one, people=tuple(sorted(people))) for one, people in found.values()]
    return sorted(made, key=lambda hole: (-len(hole.people), hole.observed_closes, str(hole.values)))


def _because(keeper: Gatekeeper, leaf: Leaf, person: int, sign_in: SignIn, observed_closes: bool) -> tuple[str, ...]:
    """The rules that miss this sign-in by one thing alone, and by what: those first that are meant for most sign-ins."""
    bits = keeper.covering(leaf.name, sign_in.client, sign_in.device)[0]
    near: list[str] = []
    far: list[str] = []
    for number, rule in enumerate(keeper.door.rules):
        if rule.mode == "off" or not bits >> number & 1:
            continue
        inside = bool(keeper.included(person) >> number & 1)
        failed = failing(rule, sign_in, sign_in.device)
        if rule.mode == "observe":
            near += [f"{rule.id} is only observed"] if inside and not failed and observed_closes else []
        elif inside and failed:
            (near if _meant_for_most(keeper, rule, failed) else far).append(
                f"{rule.id} leaves out {_value(failed, sign_in)}"
            )
        elif not inside and not failed:
            if rule.exclude is not None and keeper.excludes(rule, person):
                near.append(f"{rule.id} excludes {rule.exclude.text}")
            else:
                far.append(f"{rule.id} does not include them")
    return tuple(near or far) or ("no rule asks for it",)


def _meant_for_most(keeper: Gatekeeper, rule: AccessRule, dimension: str) -> bool:
    """Whether a rule speaks of at least half of a dimension's values."""
    if dimension == "resource":
        return 2 * len(rule.resources) >= len(keeper.snapshot.resources)
    if dimension == "network":
        classes = keeper.door.networks.classes
        return 2 * sum(rule.when.network(each.names) for each in classes) >= len(classes)
    if dimension == "device":
        return 2 * sum(rule.when.on_device(each) for each in DEVICES) >= len(DEVICES)
    every = {"client": CLIENTS, "platform": PLATFORMS, "risk": RISKS}[dimension]
    return 2 * len(getattr(rule.when, dimension) or every) >= len(every)


def _value(dimension: str, sign_in: SignIn) -> str:
    value = network_name(sign_in.network) if dimension == "network" else str(getattr(sign_in, dimension))
    return f"{dimension} {value}"


@record
class Ailment:
    """Something about a rule itself: `what` is idle, exclusion-idle or observed-long, with a sentence."""

    rule: str
    what: str
    text: str


def ailments(keeper: Gatekeeper) -> list[Ailment]:
    """Rules that change no decision, exclusions that exclude nobody, rules that have been observed for long."""
    found = []
    for number, rule in enumerate(keeper.door.rules):
        if rule.exclude is not None and not _excludes_anybody(keeper, rule):
            found.append(Ailment(rule.id, "exclusion-idle", f"its exclusion ({rule.exclude.text}) excludes nobody"))
        if rule.mode == "observe":
            if rule.changed is None:
                found.append(Ailment(rule.id, "observed-long", "it is only observed, and nobody knows since when"))
            elif (days := (keeper.snapshot.taken_at - rule.changed) // DAY) > OBSERVED_LONG_DAYS:
                found.append(Ailment(rule.id, "observed-long", f"it has only been observed for {days} days"))
        if rule.mode == "enforce" and not _changes_anything(keeper, number):
            found.append(
                Ailment(
                    rule.id,
                    "idle",
                    "it changes no decision: it matches nobody, or others ask for as much",
                )
            )
    return found


def _excludes_anybody(keeper: Gatekeeper, rule: AccessRule) -> bool:
    assert rule.exclude is not None
    try:
        return bool(np.any(select(rule.include, keeper.snapshot) & select(rule.exclude, keeper.snapshot)))
    except Unanswerable:
        return True


def _changes_anything(keeper: Gatekeeper, number: int) -> bool:
    """Whether anywhere that a rule matches, no single other rule (or own requirement) asks for as much. Session limits count."""
    rule, enforced = keeper.door.rules[number], keeper.rules("enforce")
    if rule.longest_hours is not None or rule.no_downloads:
        return bool(keeper.includes_anybody(number))
    as_much = [other != number and _asks_as_much(each, rule) for other, each in enumerate(keeper.door.rules)]
    bits = sum(1 << other for other, enough in enumerate(as_much) if enough) & enforced
    own = rule.require is not None and not rule.deny and _implies(SECOND_FACTOR.proofs, SECOND_FACTOR.operator, rule)
    for person in keeper.classes[1]:
        mine = keeper.included(person)
        if not mine >> number & 1 or (own and keeper.must_show[person]):
            continue
        if any(each.rules >> number & 1 and not mine & bits & each.rules for each in keeper.every_context()):
            return True
    return False


def _asks_as_much(other: AccessRule, rule: AccessRule) -> bool:
    if other.deny or rule.deny:
        return other.deny
    return other.require is not None and _implies(other.require.proofs, other.require.operator, rule)


def _implies(proofs: Sequence[str], operator: str, rule: AccessRule) -> bool:
    """Whether every way to satisfy a requirement satisfies the rule's as well."""
    if rule.require is None:
        return True
    if operator == "all-of":
        return rule.require.met_by(with_implied(proofs))
    return all(rule.require.met_by(with_implied((proof,))) for proof in proofs)
