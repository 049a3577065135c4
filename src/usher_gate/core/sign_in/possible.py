"""Possible sign-ins, in classes: those that satisfy the conditions of just the same access rules."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import product
from typing import TypeVar

import numpy as np

from ..organisation.access_rules import AccessRule, Conditions, ResourceChoice
from ..organisation.columns import Bools
from ..organisation.networks import NetworkClass, Networks
from ..organisation.sign_ins import SignIn
from ..words.record import record
from ..words.vocabulary import ANY, DEVICES, ELSEWHERE


@record
class SignInClass:
    """A class of sign-ins: the rules (as bits) whose resource and conditions it satisfies, and one sign-in of it."""

    rules: int
    sign_in: SignIn


@record
class ProofDemand:
    """Describes what a proof is asked for: which one, on which resources, under which conditions."""

    proof: str
    on: ResourceChoice = ResourceChoice(any=True)
    when: Conditions = Conditions()

    def resources(self, every: Mapping[str, frozenset[str]]) -> list[str]:
        """Return the resources that are meant, of all that there are (each with its tags).

        A name that does not exist is kept as it is.
        """
        return sorted(self.on.among(every) | set(self.on.names))


_Value = TypeVar("_Value")


def _folded(
    rules: Sequence[AccessRule], values: Iterable[_Value], satisfies: Callable[[AccessRule, _Value], bool]
) -> dict[int, _Value]:
    """Return the values by the rules (as bits) that each satisfies; of those that satisfy the same, the first."""
    found: dict[int, _Value] = {}
    for value in values:
        found.setdefault(sum(1 << number for number, rule in enumerate(rules) if satisfies(rule, value)), value)
    return found


def at_networks(rules: Sequence[AccessRule], places: Sequence[NetworkClass]) -> Bools:
    """Return for each rule and class of addresses (rules, places) whether the rule's condition on networks holds there.

    The same as `Conditions.network`, found by the names that each rule has, not by looking at every pair.
    """
    having: dict[str, list[int]] = {ANY: list(range(len(places)))}
    for number, place in enumerate(places):
        for name in place.names or (ELSEWHERE,):
            having.setdefault(name, []).append(number)
    found = np.zeros((len(rules), len(places)), bool)
    for row, rule in zip(found, rules, strict=True):
        if rule.when.networks_in is None:
            row[:] = True
        for name in rule.when.networks_in or ():
            row[having.get(name, [])] = True
        for name in rule.when.networks_out:
            row[having.get(name, [])] = False
    return found


def sign_in_classes(
    rules: Sequence[AccessRule],
    networks: Networks,
    resources: Iterable[str],
    when: Conditions,
    devices: Sequence[str] = DEVICES,
) -> list[SignInClass]:
    """Return every class of possible sign-ins to these resources, each once for each client and device."""

    def folded(condition: str, words: Iterable[str]) -> dict[int, str]:
        return _folded(rules, words, lambda rule, word: rule.when.holds(condition, word))

    by_resource = _folded(rules, resources, lambda rule, name: name in rule.resources)
    places = [place for place in networks.classes if when.network(place.names)]
    by_network: dict[int, NetworkClass] = {}
    packed = np.packbits(at_networks(rules, places), axis=0, bitorder="little").T  # of each place its rules, as bits
    for place, bits in zip(places, packed, strict=True):
        by_network.setdefault(int.from_bytes(bits.tobytes(), "little"), place)
    by_platform, by_risk = (folded(name, when.words(name)) for name in ("platform", "risk"))
    found: dict[tuple[int, str, str], SignInClass] = {}
    for client, device in product(when.words("client"), [device for device in devices if when.holds("device", device)]):
        here = next(iter(folded("client", [client]))) & next(iter(folded("device", [device])))
        for parts in product(by_resource.items(), by_network.items(), by_platform.items(), by_risk.items()):
            (m1, resource), (m2, network), (m3, platform), (m4, risk) = parts
            mask = here & m1 & m2 & m3 & m4
            if (mask, client, device) not in found:
                sign_in = SignIn(
                    resource=resource, network=network, client=client, platform=platform, device=device, risk=risk
                )
                found[mask, client, device] = SignInClass(mask, sign_in)
    return list(found.values())
