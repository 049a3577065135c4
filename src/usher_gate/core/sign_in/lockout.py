"""Who is locked out.

People that every possible sign-in to a resource denies or leaves stuck, whatever missing data might hold.

A sign-in with a legacy client is no way in: no one administers anything with one. Spec: sign-in 5.1.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import product
from math import prod

import numpy as np

from ..organisation.access_rules import SECOND_FACTOR, AccessRule, Conditions
from ..organisation.columns import Bools, Ints, Longs
from ..organisation.proofs import PROOF_LEVELS, device_proofs
from ..organisation.select import Unanswerable, select
from ..organisation.selector import Selector
from ..words.record import record
from ..words.vocabulary import CONDITION_WORDS, CONDITIONS, DEVICES
from .bits import Bits, least, none_of, packed
from .evaluator import AccessPolicyEvaluator
from .possible import SignInClass, at_networks, sign_in_classes

ADMIN = "admin"  # the tag of resources for administrators
WATCHED = (
    ("privileged", Selector("role", ("privileged",))),
    ("break-glass", Selector("break-glass", ("true",))),
)


@record
class Lockout:
    """Says who is locked out of an admin resource: ids, of which kind, and whether these are all of that kind.

    `rules` are the enforced rules that deny one of the possible sign-ins, or ask for what one of these people cannot
    show. It may be empty: a partner may shut people out, or their own requirement.
    """

    resource: str
    people: tuple[str, ...]
    of: str
    all: bool
    rules: tuple[AccessRule, ...]


@record
class ConditionalAccess:
    """A break-glass account (by id) that gets into a resource only under conditions.

    For each restricted one of CONDITIONS the values with which it gets in. `combined` is true if not every combination
    of these lets it in, so that there are more conditions than named.
    """

    resource: str
    person: str
    conditions: tuple[tuple[str, tuple[str, ...]], ...]
    combined: bool


@record
class Stranded:
    """Says who can get in nowhere at a resource although not all is denied: someone forgot to register something.

    `people` ascending.
    """

    resource: str
    people: Ints


@record
class Lockouts:
    """All lock-outs by resource and kind, the others who are stranded by resource, break-glass accounts that get in
    only under conditions, and notes about what is not known.
    """

    found: tuple[Lockout, ...]
    stranded: tuple[Stranded, ...]
    notes: frozenset[str]
    conditional: tuple[ConditionalAccess, ...] = ()


def lockouts(evaluator: AccessPolicyEvaluator, others_too: bool = True) -> Lockouts:
    """Return which privileged people and which break-glass accounts are locked out of each resource for administrators.

    And, unless that is not asked for, which others are stranded at each resource.
    """
    snapshot, notes, kinds = evaluator.snapshot, set[str](), []
    if snapshot.access_rules is None:
        return Lockouts((), (), frozenset())
    for kind, selector in WATCHED:
        try:
            kinds.append((kind, np.flatnonzero(select(selector, snapshot))))
        except Unanswerable as gap:
            notes.add(f"whether {kind} people are locked out is not known without {gap}")
    found, stranded = [], []
    conditional: list[ConditionalAccess] = []
    watched = {name for name, tags in snapshot.resources.items() if ADMIN in tags}
    if not watched and snapshot.resources and any(len(people) for _, people in kinds):
        watched = set(snapshot.resources)
        notes.add(
            "no resource is tagged admin: lock-outs of privileged people and break-glass accounts are looked for "
            "everywhere"
        )
    doors = WaysIn(evaluator)
    kind_of = snapshot.people.kind
    everybody = np.flatnonzero(kind_of.where([word in ("member", "guest") for word in kind_of.words]))
    for resource in sorted(snapshot.resources):
        listed = np.zeros(len(evaluator.guests), bool)
        for kind, people in kinds if resource in watched else ():
            is_out = doors.shut_out(people, resource).out
            out = people[is_out]
            if kind == "break-glass":
                conditional += doors.conditional(people[~is_out], resource)
            if len(out):
                listed[out] = True
                rules = doors.rules_against(out, resource)
                ids = tuple(snapshot.people.ids.take(out))
                found.append(Lockout(resource=resource, people=ids, of=kind, all=len(out) == len(people), rules=rules))
        if others_too:
            others = everybody[~listed[everybody]]
            lost = others[doors.shut_out(others, resource).stuck]
            if len(lost):
                stranded.append(Stranded(resource, lost.astype(np.int32)))
    return Lockouts(tuple(found), tuple(stranded), frozenset(notes), tuple(conditional))


@record
class _Shut:
    """Two masks over some people: no possible sign-in gets in.

    And besides, one is stuck whatever missing data might hold.
    """

    out: Bools
    stuck: Bools


@record
class _Alike:
    """People who could show as much (`best`, devices apart), on the same devices.

    `known` says that it is known whether they are let in.
    """

    people: Longs
    devices: tuple[tuple[str, ...], ...]
    best: frozenset[str]
    must_show: bool
    known: bool


class WaysIn:
    """The ways in to each resource, by what could bar them.

    What depends on no person in particular is worked out once.
    """

    def __init__(self, evaluator: AccessPolicyEvaluator) -> None:
        self._evaluator = evaluator
        self._classes: dict[tuple[str, tuple[str, ...]], list[SignInClass]] = {}
        self._bars: dict[tuple[object, ...], list[int]] = {}
        self._denials: dict[tuple[object, ...], list[int]] = {}
        self._unmet: dict[frozenset[str], int] = {}
        self._axes: dict[tuple[str, ...], list[_Axis]] = {}
        self._deny = _mask(rule.deny for rule in evaluator.rules)

    def shut_out(self, people: Longs, resource: str) -> _Shut:
        """Return which of these people cannot get into a resource, and which of them are stuck in some sign-in."""
        size = len(self._evaluator.guests)
        out, stuck = np.zeros(size, bool), np.zeros(size, bool)
        for alike in self._alike(people):
            mine = alike.people
            if not alike.devices:  # their partner keeps them out
                out[mine] = True
                continue
            open_to, not_denied = np.zeros(len(mine), bool), np.zeros(len(mine), bool)
            for mask in self._least_bars(resource, alike):
                open_to |= none_of(mask, self._evaluator.bits, mine)
            if not np.all(open_to) and alike.known:
                for mask in self._least_denials(resource, alike):
                    not_denied |= none_of(mask, self._perhaps, mine)
            out[mine], stuck[mine] = ~open_to, ~open_to & not_denied
        return _Shut(out[people], stuck[people])

    def barring_rules(self, person: int, resource: str) -> list[int]:
        """Return, for each way in to a resource, the enforced rules (as bits) that bar a person from it.

        Only minimal sets are returned. The list is empty where no rule is the obstacle: the person's partner is, or
        their own requirement of a factor.
        """
        included = self._evaluator.including(person)
        people = np.array([person])
        return least(bars & included for alike in self._alike(people) for bars in self._least_bars(resource, alike))

    def rules_against(self, people: Longs, resource: str) -> tuple[AccessRule, ...]:
        """Return the enforced rules that deny any of these people a sign-in, or ask for what they cannot show."""
        evaluator, found = self._evaluator, set[int]()
        for alike in self._alike(people):
            against = 0
            for possible in self._to(resource, alike.devices):
                against |= possible.rules & self._unmet_by(self._shown(possible, alike)) & evaluator.in_modes("enforce")
            found.update(
                number
                for number in range(len(evaluator.rules))
                if against >> number & 1 and evaluator.included(number)[alike.people].any()
            )
        return tuple(sorted((evaluator.rules[number] for number in found), key=lambda rule: rule.id))

    @cached_property
    def _perhaps(self) -> Bits:
        """Return the rules that include each person, or may, as words of bits."""
        evaluator = self._evaluator
        truths = np.zeros((len(evaluator.guests), max(1, -(-len(evaluator.rules) // 64)) * 64), bool)
        for number in range(len(evaluator.rules)):
            truths[:, number] = evaluator.included(number) | evaluator.perhaps(number)
        return packed(truths)

    def _alike(self, people: Longs) -> Iterator[_Alike]:
        """Yield people by what they could show, and on which devices; none where their partner keeps them out."""
        evaluator = self._evaluator
        mask = np.zeros(len(evaluator.guests), bool)
        mask[people] = True
        for home, some in evaluator.by_home(mask):
            devices: tuple[tuple[str, ...], ...] = (DEVICES, ("unknown",)) if home is None else (DEVICES,)
            if home is not None and not home.home_device:
                devices = (("unknown",),)
            if home is not None and not home.guests_in:
                devices = ()
            key = (
                evaluator.levels[evaluator.authenticator_sets[0][some]].astype(np.int64) * 2 + evaluator.must_show[some]
            )
            for one in np.flatnonzero(np.bincount(key, minlength=1)).tolist():
                yield _Alike(
                    people=some[key == one],
                    devices=devices,
                    best=PROOF_LEVELS[one // 2],
                    must_show=bool(one % 2),
                    known=home is not None,
                )

    @staticmethod
    def _shown(possible: SignInClass, alike: _Alike) -> frozenset[str]:
        """Return the most that people could show in a sign-in."""
        return device_proofs(possible.sign_in.device) | alike.best

    def _unmet_by(self, shown: frozenset[str]) -> int:
        """Return the rules (as bits) that would deny, or ask for more than is shown."""
        if shown not in self._unmet:
            rules = self._evaluator.rules
            self._unmet[shown] = _mask(
                rule.deny or (rule.require is not None and not rule.require.met_by(shown)) for rule in rules
            )
        return self._unmet[shown]

    def _least_bars(self, resource: str, alike: _Alike) -> list[int]:
        """Return the enforced rules (as bits) that bar each way in: people that none of them includes get in."""
        key = resource, alike.devices, alike.best, alike.must_show
        if key not in self._bars:
            enforced, found = self._evaluator.in_modes("enforce"), set[int]()
            for possible in self._to(resource, alike.devices):
                shown = self._shown(possible, alike)
                if not alike.must_show or SECOND_FACTOR.met_by(shown):
                    found.add(possible.rules & self._unmet_by(shown) & enforced)
            self._bars[key] = least(found)
        return self._bars[key]

    def _least_denials(self, resource: str, alike: _Alike) -> list[int]:
        """Return the enforced rules (as bits) that deny each way in.

        People that none of them includes are not denied.
        """
        key = resource, alike.devices
        if key not in self._denials:
            enforced = self._evaluator.in_modes("enforce")
            self._denials[key] = least(
                self._deny & possible.rules & enforced for possible in self._to(resource, alike.devices)
            )
        return self._denials[key]

    def conditional(self, people: Longs, resource: str) -> Iterator[ConditionalAccess]:
        """Yield the people who get in only under conditions, with these."""
        evaluator, enforced = self._evaluator, self._evaluator.in_modes("enforce")
        for alike in self._alike(people):
            devices = tuple(dict.fromkeys(device for some in alike.devices for device in some))
            if devices not in self._axes:
                self._axes[devices] = [_by_rules(evaluator, name, devices) for name in CONDITIONS]
            axes = self._axes[devices]
            for person in alike.people.tolist():
                mine = (
                    evaluator.including(person)
                    & enforced
                    & _mask(resource in rule.resources for rule in evaluator.rules)
                )
                open_to = self._open_to(axes, mine, alike)
                if not open_to:  # it is not known whether this person is let in at all
                    continue
                restricted = tuple(
                    (
                        name,
                        tuple(value for place, (_, values) in enumerate(axis) if place in places for value in values),
                    )
                    for name, axis, places in zip(CONDITIONS, axes, map(set, zip(*open_to, strict=True)), strict=True)
                    if len(places) < len(axis)
                )
                size = prod(len(set(places)) for places in zip(*open_to, strict=True))
                if restricted or len(open_to) < size:
                    (name,) = evaluator.snapshot.people.ids.take(np.array([person]))
                    yield ConditionalAccess(resource, name, restricted, len(open_to) < size)

    def _open_to(self, axes: Sequence[_Axis], mine: int, alike: _Alike) -> list[tuple[int, ...]]:
        """Return the combinations of places on the axes that let in a person who is included by these rules (bits)."""
        at_device, found = CONDITIONS.index("device"), []
        for places in product(*(range(len(axis)) for axis in axes)):
            rules = mine
            for axis, place in zip(axes, places, strict=True):
                rules &= axis[place][0]
            shown = alike.best | device_proofs(axes[at_device][places[at_device]][1][0])
            if not rules & self._unmet_by(shown) and (not alike.must_show or SECOND_FACTOR.met_by(shown)):
                found.append(places)
        return found

    def _to(self, resource: str, devices: Sequence[tuple[str, ...]]) -> Iterator[SignInClass]:
        for some in devices:
            key = resource, some
            if key not in self._classes:
                evaluator = self._evaluator
                every = sign_in_classes(evaluator.rules, evaluator.networks, (resource,), Conditions(), some)
                self._classes[key] = [possible for possible in every if possible.sign_in.client != "legacy"]
            yield from self._classes[key]


_Axis = list[tuple[int, list[str]]]  # the values of a dimension by the rules (as bits) that they satisfy


def _by_rules(evaluator: AccessPolicyEvaluator, dimension: str, devices: Sequence[str]) -> _Axis:
    """Return the values of a dimension that the same rules (as bits) are satisfied by, together.

    Devices that prove the same, too.
    """
    found: dict[tuple[int, frozenset[str]], list[str]] = {}
    if dimension == "network":
        spoken = at_networks(evaluator.rules, evaluator.networks.classes)
        bits_of_places = np.packbits(spoken, axis=0, bitorder="little").T
        for place, column in zip(evaluator.networks.classes, bits_of_places, strict=True):
            found.setdefault((int.from_bytes(column.tobytes(), "little"), frozenset()), []).append(place.text)
    else:
        words = devices if dimension == "device" else CONDITION_WORDS[dimension]
        for word in words:
            if word != "legacy":
                bits = _mask(rule.when.holds(dimension, word) for rule in evaluator.rules)
                proofs = device_proofs(word) if dimension == "device" else frozenset[str]()
                found.setdefault((bits, proofs), []).append(word)
    return [(bits, values) for (bits, _), values in found.items()]


def _mask(truths: Iterable[bool]) -> int:
    """Truths as bits."""
    return sum(1 << number for number, truth in enumerate(truths) if truth)
