"""Every way in that a required proof does not cover, each in its smallest description.

The sign-ins of a class of people form a grid (resource, network, client, platform, device, risk). The cells without the proof
are described by boxes.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from ..organisation.access_rules import AccessRule
from ..organisation.columns import Bools
from ..organisation.networks import NetworkClass
from ..organisation.sign_ins import SignIn
from ..words.record import record
from ..words.vocabulary import CONDITION_WORDS, DEVICES, DIMENSIONS
from .boxes import Box, Grid, boxes
from .coverage import ALWAYS, Coverage, Hole, covering
from .gatekeeper import Gatekeeper
from .possible import Asked


@record
class WayIn:
    """One hole: the values of each of DIMENSIONS (None: any), the people (numbers, ascending), a sign-in that slips through,
    why, and whether the observed rules would close it."""

    values: tuple[tuple[str, ...] | None, ...]
    people: tuple[int, ...]
    sign_in: SignIn
    because: tuple[str, ...]
    observed_closes: bool


class _Grids:
    """The grid of a proof's possible sign-ins: which rules (as 64-bit words) cover each cell."""

    def __init__(self, keeper: Gatekeeper, asked: Asked, unseen: bool) -> None:
        when = asked.when
        self.resources = asked.resources(keeper.snapshot.resources)
        self.networks = [place for place in keeper.networks.classes if when.network(place.names)]
        self.clients, self.platforms, self.risks = (when.words(name) for name in ("client", "platform", "risk"))
        self.devices = [device for device in (("unknown",) if unseen else DEVICES) if when.holds("device", device)]
        self._keeper, self._proof = keeper, asked.proof
        words = max(1, -(-len(keeper.rules) // 64))
        self.covers = np.zeros((*self.shape, words), np.uint64)
        for number, rule in enumerate(keeper.rules):
            if rule.mode != "off":
                bit = np.uint64(1 << number % 64)
                covered = self._matched(rule) & self._by_itself(number)
                self.covers[..., number // 64] |= np.where(covered, bit, np.uint64(0))

    @property
    def values(self) -> tuple[Sequence[str | NetworkClass], ...]:
        """The values of each of DIMENSIONS."""
        return self.resources, self.networks, self.clients, self.platforms, self.devices, self.risks

    @property
    def shape(self) -> tuple[int, ...]:
        """How many values each dimension has."""
        return tuple(len(values) for values in self.values)

    def _matched(self, rule: AccessRule) -> Grid:
        grid = np.ones((1,) * len(DIMENSIONS), bool)
        for place, (dimension, values) in enumerate(zip(DIMENSIONS, self.values, strict=True)):
            axis = np.array([rule.speaks_of(dimension, value) for value in values], bool)
            grid = grid & axis.reshape([-1 if other == place else 1 for other in range(len(DIMENSIONS))])
        return grid

    def _by_client_and_device(self, answer: Callable[[str, str], bool]) -> Grid:
        """What depends on client and device alone."""
        cells = [[answer(client, device) for device in self.devices] for client in self.clients]
        return np.array(cells, bool).reshape(1, 1, len(self.clients), 1, len(self.devices), 1)

    def _by_itself(self, number: int) -> Grid:
        """Where a rule, if it matches, covers by itself."""
        keeper, proof = self._keeper, self._proof
        return self._by_client_and_device(
            lambda client, device: bool(covering(keeper, proof, client, device)[0] >> number & 1)
        )

    def _own(self) -> Grid:
        """Where a person's own requirement of a second factor covers."""
        keeper, proof = self._keeper, self._proof
        return self._by_client_and_device(lambda client, device: covering(keeper, proof, client, device)[1])

    def _always(self) -> Grid:
        """Where the device in hand is itself the proof."""
        keeper, proof = self._keeper, self._proof
        return self._by_client_and_device(lambda client, device: covering(keeper, proof, client, device)[0] == ALWAYS)

    def uncovered(self, rules: int, must_show: bool) -> Grid:
        """The cells that none of these rules (as bits) covers."""
        words = np.array([rules >> 64 * place & (1 << 64) - 1 for place in range(self.covers.shape[-1])], np.uint64)
        found: Grid = ~np.any(self.covers & words, axis=-1) & ~self._always()
        return found & ~self._own() if must_show else found

    def sign_in(self, box: Box) -> SignIn:
        """A sign-in of a box."""
        resource, network, client, platform, device, risk = (0 if places is None else places[0] for places in box)
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
        return tuple(
            None if places is None else tuple(_name(values[place]) for place in places)
            for values, places in zip(self.values, box, strict=True)
        )


def _name(value: str | NetworkClass) -> str:
    return value.text if isinstance(value, NetworkClass) else value


def holes(keeper: Gatekeeper, asked: Asked, audience: Bools) -> list[WayIn]:
    """All holes in a proof that is asked from the people of an audience, those of most people first."""
    which, first = keeper.classes
    universes = {unseen: _Grids(keeper, asked, unseen) for unseen in (False, True)}
    enforced, observed = keeper.in_modes("enforce"), keeper.in_modes("enforce", "observe")
    found: dict[tuple[object, ...], tuple[WayIn, list[int]]] = {}
    described: dict[tuple[int, int, bool, bool], list[tuple[Box, bool]]] = {}
    known = Coverage(keeper).of(asked)  # by bits, for everybody at once: only who has a hole needs a grid
    asked_of = np.flatnonzero(audience & np.array([isinstance(answer, Hole) for answer in known.answers])[known.codes])
    asked_of = asked_of[np.argsort(which[asked_of], kind="stable")]
    starts = np.searchsorted(which[asked_of], np.arange(len(first) + 1)).tolist()
    for number, person in enumerate(first):
        people = asked_of[starts[number] : starts[number + 1]]
        unseen = keeper.unseen_device(person)
        if not len(people) or unseen is None:
            continue
        grids, must_show, mine = universes[unseen], bool(keeper.must_show[person]), keeper.including(person)
        key = (mine & enforced, mine & observed, must_show, unseen)
        if key not in described:
            now, later = grids.uncovered(key[0], must_show), grids.uncovered(key[1], must_show)
            described[key] = [(box, False) for box in boxes(later)] + [(box, True) for box in boxes(now & ~later)]
        for box, closes in described[key]:
            sign_in, values = grids.sign_in(box), grids.named(box)
            because = _because(keeper, asked.proof, person, sign_in, closes)
            one = WayIn(values, (), sign_in, because, closes)
            found.setdefault((values, closes, because), (one, []))[1].extend(people.tolist())
    made = [replace(one, people=tuple(sorted(people))) for one, people in found.values()]
    return sorted(made, key=lambda hole: (-len(hole.people), hole.observed_closes, str(hole.values)))


def _because(keeper: Gatekeeper, proof: str, person: int, sign_in: SignIn, observed_closes: bool) -> tuple[str, ...]:
    """The rules that miss this sign-in by one thing alone, and by what: those first that are meant for most sign-ins."""
    bits = covering(keeper, proof, sign_in.client, sign_in.device)[0]
    near: list[str] = []
    far: list[str] = []
    for number, rule in enumerate(keeper.rules):
        if rule.mode == "off" or not bits >> number & 1:
            continue
        inside = bool(keeper.whom(number)[person])
        failed = rule.failing(sign_in, sign_in.device)
        if rule.mode == "observe":
            near += [f"{rule.id} is only observed"] if inside and not failed and observed_closes else []
        elif inside and failed:
            reasons = near if _meant_for_most(keeper, rule, failed) else far
            reasons.append(f"{rule.id} leaves out {failed} {sign_in.word(failed)}")
        elif not inside and not failed:
            excluded = keeper.excluded(number)
            if rule.exclude is not None and excluded is not None and excluded[person]:
                near.append(f"{rule.id} excludes {rule.exclude.text}")
            else:
                far.append(f"{rule.id} does not include them")
    return tuple(near or far) or ("no rule asks for it",)


def _meant_for_most(keeper: Gatekeeper, rule: AccessRule, dimension: str) -> bool:
    """Whether a rule speaks of at least half of a dimension's values."""
    every: Sequence[str | NetworkClass] = keeper.networks.classes
    if dimension != "network":
        every = sorted(keeper.snapshot.resources) if dimension == "resource" else CONDITION_WORDS[dimension]
    return 2 * sum(rule.speaks_of(dimension, value) for value in every) >= len(every)
