"""Every way in that a required proof does not cover, each in its smallest description.

The sign-ins of a class of people form a grid (resource, network, client, platform, device, risk). The cells without the
proof are described by boxes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cache
from itertools import product

import numpy as np

from ..organisation.columns import Bools
from ..organisation.networks import NetworkClass
from ..organisation.sign_ins import SignIn
from ..words.record import record
from ..words.vocabulary import CONDITION_WORDS, DEVICES, DIMENSIONS
from .boxes import Box, Grid, boxes
from .coverage import ALWAYS, Answers, Coverage, Hole, covering
from .evaluator import AccessPolicyEvaluator
from .possible import ProofDemand
from .possible import at_networks as speaking_of_networks


@record
class WayIn:
    """One hole.

    The values of each of DIMENSIONS (None: any), the people (numbers, ascending), a sign-in that slips through, why,
    and whether the observed rules would close it.
    """

    values: tuple[tuple[str, ...] | None, ...]
    people: tuple[int, ...]
    sign_in: SignIn
    because: tuple[str, ...]
    observed_closes: bool


class _Grids:
    """The grid of a proof's possible sign-ins: which rules (as 64-bit words) cover each cell."""

    def __init__(self, evaluator: AccessPolicyEvaluator, asked: ProofDemand, unseen: bool) -> None:
        when = asked.when
        self.resources = asked.resources(evaluator.snapshot.resources)
        every_network = [place for place in evaluator.networks.classes if when.network(place.names)]
        # Networks that the same rules speak of share one index of the grid; the first represents them.
        at_networks = speaking_of_networks(evaluator.rules, every_network)
        alike = _alike_columns(at_networks)
        self.networks = [every_network[same[0]] for same in alike]
        self._network_names = [[every_network[place].text for place in same] for same in alike]
        self._network_order = {place.text: number for number, place in enumerate(every_network)}
        self.clients, self.platforms, self.risks = (when.words(name) for name in ("client", "platform", "risk"))
        self.devices = [device for device in (("unknown",) if unseen else DEVICES) if when.holds("device", device)]
        self._evaluator, self._proof = evaluator, asked.proof
        self._covering: dict[tuple[str, str], tuple[int, bool]] = {}
        self._for_most: dict[tuple[int, str], bool] = {}
        # For each dimension (rules, values): whether a rule speaks of a value.
        self._spoken = [
            at_networks[:, [same[0] for same in alike]]
            if dimension == "network"
            else np.array(
                [[rule.speaks_of(dimension, value) for value in values] for rule in evaluator.rules], bool
            ).reshape(len(evaluator.rules), len(values))
            for dimension, values in zip(DIMENSIONS, self.values, strict=True)
        ]
        self._places = [
            {name: place for place in range(len(values)) for name in self._names(dimension, place)}
            for dimension, values in enumerate(self.values)
        ]
        words = max(1, -(-len(evaluator.rules) // 64))
        self.covers = np.zeros((*self.shape, words), np.uint64)
        for number, rule in enumerate(evaluator.rules):
            if rule.mode != "off":
                self._mark(number)

    @property
    def values(self) -> tuple[Sequence[str | NetworkClass], ...]:
        """Return the values of each of DIMENSIONS."""
        return self.resources, self.networks, self.clients, self.platforms, self.devices, self.risks

    @property
    def shape(self) -> tuple[int, ...]:
        """Return how many values each dimension has."""
        return tuple(len(values) for values in self.values)

    def _mark(self, number: int) -> None:
        """Marks the cells that a rule matches and covers by itself; no others are looked at."""
        inside = [np.flatnonzero(spoken[number]) for spoken in self._spoken]
        client, device = DIMENSIONS.index("client"), DIMENSIONS.index("device")
        by_itself = np.take(np.take(self._by_itself(number), inside[client], client), inside[device], device)
        cells = np.ix_(*inside)
        mine = self.covers[..., number // 64]
        mine[cells] |= np.where(by_itself, np.uint64(1 << number % 64), np.uint64(0))

    def _covered_by(self, client: str, device: str) -> tuple[int, bool]:
        """See `covering`; each question is asked once."""
        if (client, device) not in self._covering:
            self._covering[client, device] = covering(self._evaluator, self._proof, client, device)
        return self._covering[client, device]

    def _by_client_and_device(self, answer: Callable[[str, str], bool]) -> Grid:
        """Return what depends on client and device alone."""
        cells = [[answer(client, device) for device in self.devices] for client in self.clients]
        return np.array(cells, bool).reshape(1, 1, len(self.clients), 1, len(self.devices), 1)

    def _by_itself(self, number: int) -> Grid:
        """Return where a rule, if it matches, covers by itself."""
        return self._by_client_and_device(
            lambda client, device: bool(self._covered_by(client, device)[0] >> number & 1)
        )

    def _own(self) -> Grid:
        """Return where a person's own requirement of a second factor covers."""
        return self._by_client_and_device(lambda client, device: self._covered_by(client, device)[1])

    def _always(self) -> Grid:
        """Return where the device in hand is itself the proof."""
        return self._by_client_and_device(lambda client, device: self._covered_by(client, device)[0] == ALWAYS)

    def uncovered(self, rules: int, must_show: bool) -> Grid:
        """Return the cells that none of these rules (as bits) covers."""
        words = np.array([rules >> 64 * place & (1 << 64) - 1 for place in range(self.covers.shape[-1])], np.uint64)
        found: Grid = ~np.any(self.covers & words, axis=-1) & ~self._always()
        return found & ~self._own() if must_show else found

    def _names(self, dimension: int, place: int) -> list[str]:
        """Return the names of the values that share one index of a dimension."""
        if DIMENSIONS[dimension] == "network":
            return self._network_names[place]
        return [_name(self.values[dimension][place])]

    def names_of(self, dimension: int, places: Sequence[int]) -> list[str]:
        """Return the values at some places of a dimension by name, in the order of the values."""
        names = [name for place in places for name in self._names(dimension, place)]
        return sorted(names, key=self._network_order.__getitem__) if DIMENSIONS[dimension] == "network" else names

    def values_of(self, box: Box) -> list[list[str]]:
        """Return for each dimension the values of a box by name, all of them where the box leaves it open."""
        return [
            self.names_of(dimension, range(size) if some is None else some)
            for dimension, (size, some) in enumerate(zip(self.shape, box, strict=True))
        ]

    def is_meant_for_most(self, number: int, dimension: str) -> bool:
        """Return True for a rule that speaks of at least half of a dimension's values."""
        if (number, dimension) not in self._for_most:
            evaluator, rule = self._evaluator, self._evaluator.rules[number]
            if dimension == "network":
                spoken = speaking_of_networks([rule], evaluator.networks.classes)[0].tolist()
            else:
                resources = sorted(evaluator.snapshot.resources)
                every = resources if dimension == "resource" else CONDITION_WORDS[dimension]
                spoken = [rule.speaks_of(dimension, value) for value in every]
            self._for_most[number, dimension] = 2 * sum(spoken) >= len(spoken)
        return self._for_most[number, dimension]

    def rule_id(self, number: int) -> str:
        """Return the id of an access rule, given its bit."""
        return self._evaluator.rules[number].id

    def speaks(self, number: int, dimension: str, name: str) -> bool:
        """Return whether a rule speaks of a value of a dimension, by name."""
        place = DIMENSIONS.index(dimension)
        return bool(self._spoken[place][number, self._places[place][name]])

    def missed(self, box: Box) -> dict[int, list[frozenset[str]]]:
        """Return for each rule that would cover a sign-in of a box if it matched.

        The sets of dimensions by which it misses such sign-ins.

        A rule covers by client and device; the other dimensions are independent of these and of one another, so only
        what occurs in each is asked for, not every cell. Rules come in the order of the first client and device that
        they cover.
        """
        inside = [list(range(size)) if some is None else list(some) for size, some in zip(self.shape, box, strict=True)]
        rules, client, device = len(self._evaluator.rules), DIMENSIONS.index("client"), DIMENSIONS.index("device")
        # Of each independent dimension (rules,): whether a value that is spoken of occurs, and one that is not.
        speaks = [np.any(spoken[:, places], axis=1) for spoken, places in zip(self._spoken, inside, strict=True)]
        misses = [np.any(~spoken[:, places], axis=1) for spoken, places in zip(self._spoken, inside, strict=True)]
        pairs = {
            both: np.zeros(rules, bool) for both in product((False, True), repeat=2)
        }  # client and device missed, or not
        first = np.full(rules, -1)
        for order, (one, other) in enumerate(product(inside[client], inside[device])):
            covers = self._rules_of(self._covered_by(self.clients[one], self.devices[other])[0])
            first[covers & (first < 0)] = order
            by_client, by_device = ~self._spoken[client][:, one], ~self._spoken[device][:, other]
            for (client_missed, device_missed), found in pairs.items():
                found |= covers & (by_client == client_missed) & (by_device == device_missed)
        numbers = [
            number for number in np.flatnonzero(first >= 0).tolist() if self._evaluator.rules[number].mode != "off"
        ]
        numbers.sort(key=lambda number: (first[number], number))
        others = [place for place in range(len(DIMENSIONS)) if place not in (client, device)]
        return {
            number: _missed_sets(
                tuple((bool(speaks[place][number]), bool(misses[place][number])) for place in others),
                tuple(both for both, found in pairs.items() if found[number]),
            )
            for number in numbers
        }

    def _rules_of(self, bits: int) -> Bools:
        """Rules as bits, as a mask of (rules,)."""
        count = len(self._evaluator.rules)
        packed = (bits & (1 << count) - 1).to_bytes(-(-count // 8) or 1, "little")
        return np.unpackbits(np.frombuffer(packed, np.uint8), bitorder="little")[:count].astype(bool)

    def sign_in(self, box: Box) -> SignIn:
        """Return a sign-in of a box."""
        resource, network, client, platform, device, risk = (0 if places is None else places[0] for places in box)
        return SignIn(
            resource=self.resources[resource],
            network=self.networks[network],
            client=self.clients[client],
            platform=self.platforms[platform],
            device=self.devices[device],
            risk=self.risks[risk],
        )

    def slipping(self, rules: int, must_show: bool, values: Sequence[tuple[str, ...] | None]) -> SignIn | None:
        """Return a sign-in that none of these rules (as bits) covers, or None.

        `values` are the names that are allowed in each dimension (None: any).
        """
        inside = [
            [at for at in range(size) if some is None or not set(some).isdisjoint(self._names(place, at))]
            for place, (size, some) in enumerate(zip(self.shape, values, strict=True))
        ]
        cells = self.uncovered(rules, must_show)[np.ix_(*inside)]
        if not np.any(cells):
            return None
        first = np.unravel_index(int(np.argmax(cells)), cells.shape)
        box = tuple((indices[int(at)],) for indices, at in zip(inside, first, strict=True))
        sign_in, dimension = self.sign_in(box), DIMENSIONS.index("network")
        networks = values[dimension]
        if networks is None or sign_in.network.text in networks:
            return sign_in
        # Networks that these rules treat alike share one index, whose first network may not be an allowed one.
        name = next(name for name in self._names(dimension, box[dimension][0]) if name in networks)
        return replace(sign_in, network=next(one for one in self._evaluator.networks.classes if one.text == name))

    def named(self, box: Box) -> tuple[tuple[str, ...] | None, ...]:
        """Return a box by the names of its values."""
        return tuple(
            None if places is None else tuple(self.names_of(dimension, places)) for dimension, places in enumerate(box)
        )


def _alike_columns(matrix: Bools) -> list[list[int]]:
    """Return the columns of a matrix that are the same, those of the first column first."""
    found: dict[bytes, list[int]] = {}
    for number, column in enumerate(np.packbits(matrix, axis=0).T):
        found.setdefault(column.tobytes(), []).append(number)
    return list(found.values())


@cache
def _missed_sets(others: tuple[tuple[bool, bool], ...], pairs: tuple[tuple[bool, bool], ...]) -> list[frozenset[str]]:
    """Return the sets of dimensions by which a rule misses sign-ins. `others`: for each dimension but client and device
    whether it speaks of some
    value, and misses some; `pairs`: whether it misses by client and by device, as they occur together."""
    names = [name for name in DIMENSIONS if name not in ("client", "device")]
    options = [[missed for missed in (False, True) if has[missed]] for has in others]
    found = set()
    for by_client, by_device in pairs:
        for chosen in product(*options):
            by_other = [name for name, missed in zip(names, chosen, strict=True) if missed]
            found.add(frozenset([*by_other, *(["client"] if by_client else []), *(["device"] if by_device else [])]))
    return sorted(found, key=sorted)


def _name(value: str | NetworkClass) -> str:
    return value.text if isinstance(value, NetworkClass) else value


def holes(
    evaluator: AccessPolicyEvaluator, asked: ProofDemand, audience: Bools, known: Answers | None = None
) -> list[WayIn]:
    """Return all holes in a proof that is asked from the people of an audience, those of most people first.

    `known` is what Coverage says of it, where that was asked before.
    """
    which, first = evaluator.classes
    universes = {unseen: _Grids(evaluator, asked, unseen) for unseen in (False, True)}
    enforced, observed = evaluator.in_modes("enforce"), evaluator.in_modes("enforce", "observe")
    found: dict[tuple[object, ...], tuple[WayIn, list[int]]] = {}
    described: dict[tuple[int, int, bool, bool], list[tuple[Box, bool]]] = {}
    known = known or Coverage(evaluator).of(asked)  # by bits, for everyone at once: only who has a hole needs a grid
    asked_of = np.flatnonzero(audience & known.are(Hole))
    asked_of = asked_of[np.argsort(which[asked_of], kind="stable")]
    starts = np.searchsorted(which[asked_of], np.arange(len(first) + 1)).tolist()
    for number, person in enumerate(first):
        people = asked_of[starts[number] : starts[number + 1]]
        unseen = evaluator.unseen_device(person)
        if not len(people) or unseen is None:
            continue
        grids, must_show, mine = universes[unseen], bool(evaluator.must_show[person]), evaluator.including(person)
        key = (mine & enforced, mine & observed, must_show, unseen)
        if key not in described:
            now, later = grids.uncovered(key[0], must_show), grids.uncovered(key[1], must_show)
            described[key] = [(box, False) for box in boxes(later)] + [(box, True) for box in boxes(now & ~later)]
        for box, closes in described[key]:
            sign_in, values = grids.sign_in(box), grids.named(box)
            because = _because(evaluator, grids, box, person, closes)
            one = WayIn(values=values, people=(), sign_in=sign_in, because=because, observed_closes=closes)
            found.setdefault((values, closes, because), (one, []))[1].extend(people.tolist())
    made = [replace(one, people=tuple(sorted(people))) for one, people in found.values()]
    return sorted(made, key=lambda hole: (-len(hole.people), hole.observed_closes, str(hole.values)))


def slipping(evaluator: AccessPolicyEvaluator, asked: ProofDemand, hole: WayIn) -> tuple[int, SignIn] | None:
    """Return a person of a hole and one of its sign-ins that still gets through with these access rules, or None."""
    enforced = evaluator.in_modes("enforce")
    grids: dict[bool, _Grids] = {}
    classes: dict[tuple[int, bool, bool], int] = {}  # people who are alike here, by their first
    for person in hole.people:
        unseen = evaluator.unseen_device(person)
        if unseen is not None:
            rules = evaluator.including(person) & enforced
            classes.setdefault((rules, bool(evaluator.must_show[person]), unseen), person)
    for (rules, must_show, unseen), person in classes.items():
        if unseen not in grids:
            grids[unseen] = _Grids(evaluator, asked, unseen)
        sign_in = grids[unseen].slipping(rules, must_show, hole.values)
        if sign_in is not None:
            return person, sign_in
    return None


def _because(
    evaluator: AccessPolicyEvaluator, grids: _Grids, box: Box, person: int, observed_closes: bool
) -> tuple[str, ...]:
    """Return why no rule covers a hole.

    What holds for every sign-in of it, by rules that miss some of it by that alone and are meant for most.

    Where nothing holds for all of it, each reason is named with the part of the hole that it is for.
    """
    values = dict(zip(DIMENSIONS, grids.values_of(box), strict=True))
    near: list[str] = []
    far: list[str] = []
    parts: list[str] = []
    for number, missed in grids.missed(box).items():
        rule, inside = evaluator.rules[number], bool(evaluator.included(number)[person])
        always = sorted(frozenset.intersection(*missed), key=DIMENSIONS.index)
        if rule.mode == "observe":
            near += [f"{rule.id} is only observed"] if inside and observed_closes and frozenset() in missed else []
        elif not inside:
            excluded = evaluator.excluded(number)
            left_out = excluded is not None and bool(excluded[person])
            if left_out and rule.exclude is not None and frozenset() in missed:
                said = f"{rule.id} excludes {rule.exclude.text}"
                for_what = [
                    f"{name} {' or '.join(spoken)}"
                    for name in DIMENSIONS
                    if len(spoken := [value for value in values[name] if grids.speaks(number, name, value)])
                    < len(values[name])
                ]
                (parts if for_what else near).append(f"for {' and '.join(for_what)}: {said}" if for_what else said)
                if not rule.deny:
                    parts += [f"{part} as well" for part in _parts(grids, values, number, missed)]
            elif not always:
                far.append(f"{rule.id} does not include them")
        elif always:
            alone = frozenset(always) in missed and len(always) == 1 and grids.is_meant_for_most(number, always[0])
            words = " and ".join(f"{name} {' or '.join(values[name])}" for name in always)
            (near if alone else far).append(f"{rule.id} leaves out {words}")
        else:
            parts += _parts(grids, values, number, missed)
    return tuple(near or parts or far) or ("no rule asks for it",)


def _parts(
    grids: _Grids, values: Mapping[str, Sequence[str]], number: int, missed: Sequence[frozenset[str]]
) -> Iterator[str]:
    """Yield the parts of a hole that a rule leaves out, each by the values that it does not speak of."""
    for name in sorted({name for names in missed for name in names}, key=DIMENSIONS.index):
        some = [value for value in values[name] if not grids.speaks(number, name, value)]
        yield f"for {name} {' or '.join(some)}: {grids.rule_id(number)} leaves it out"
