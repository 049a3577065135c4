"""Contested values: people with settings of equal precedence that disagree, and the setting that counts."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints
from ..organisation.services import Service
from ..words.record import record
from .effective import Effective
from .resolver import Resolver

_FEW = 32  # places that are looked at together: their bits, and the numbers of people, are exact in 64 bits


@record
class Contest:
    """Settings of equal precedence that disagree, the one that counts first, as (scope, value).

    And the people who are under all of them.
    """

    service: str
    control: str
    value: str
    settings: tuple[tuple[str, str], ...]
    people: Ints  # ascending


def contests(resolver: Resolver, chosen: Bools, services: frozenset[str] | None) -> tuple[Contest, ...]:
    """Return all contested values of the chosen people with account and licence, by service, control, value and
    settings.
    """
    found = []
    for service in resolver.snapshot.services or ():
        if services is not None and service.id not in services:
            continue
        mask = chosen & resolver.accounts(service)
        for control in sorted(resolver.controls_set(service) & service.controls):
            found += list(_of(resolver, service, control, mask))
    return tuple(sorted(found, key=lambda each: (each.service, each.control, each.value, each.settings)))


def _of(resolver: Resolver, service: Service, control: str, chosen_mask: Bools) -> Iterator[Contest]:
    effective = resolver.effective(service, control)
    if not effective.contestable or effective.licence_unknown:
        return
    if effective.lacking is not None:
        chosen_mask = chosen_mask & ~effective.lacking
    for rivals, mine in disputes(effective, chosen_mask):
        settings = tuple((effective.cause(place).scope or "", effective.value(place) or "") for place in rivals)
        yield Contest(service=service.id, control=control, value=settings[0][1], settings=settings, people=mine)


def disputes(effective: Effective, chosen_mask: Bools) -> Iterator[tuple[list[int], Ints]]:
    """Yield the places of settings of equal precedence that disagree, the one that counts first, and who of some people
    is under all of them.
    """
    for number, places in effective.disputed.items():
        yield from _under(effective, number, places, chosen_mask)


def _under(effective: Effective, number: int, places: list[int], chosen_mask: Bools) -> list[tuple[list[int], Ints]]:
    """Group people by the set of equally ranked, conflicting settings that apply to them.

    Those under the same ones that disagree, strongest first.
    """
    covered, counts = effective.members_of(np.array(places, np.int32))
    under = chosen_mask.take(covered) & (effective.classes == number).take(effective.places.take(covered))
    # Pairs of a place (its number among the places) and one of the people under it, by place; the last pair of each
    # person represents all.
    which, covered = np.repeat(np.arange(len(places)), counts)[under], covered[under]
    last = np.empty(len(chosen_mask), np.int32)
    last[covered] = np.arange(len(covered), dtype=np.int32)
    last = last.take(covered)
    values = [effective.value(place) for place in places]
    numbers = {value: number for number, value in enumerate(dict.fromkeys(values))}
    said = np.array([numbers[value] for value in values])[which]
    contested = np.zeros(len(covered), bool)
    contested[last[said != said.take(last)]] = True
    kept = np.flatnonzero(contested)
    if not len(kept):
        return []
    found = covered[kept]
    number_of = np.full(len(covered), MISSING, np.int32)
    number_of[kept] = np.arange(len(kept))
    mine = number_of.take(last)
    which, mine = which[mine != MISSING], mine[mine != MISSING]
    key = np.zeros(len(kept), np.int64)
    for few in range(0, len(places), _FEW):  # the places that someone is under, as the bits of a number
        some = slice(*np.searchsorted(which, (few, few + _FEW)).tolist())
        bits = np.bincount(mine[some], np.ldexp(1.0, few + _FEW - 1 - which[some]), len(kept)).astype(np.int64)
        key = bits if not few else np.unique(key, return_inverse=True)[1].reshape(-1) * (1 << _FEW) + bits
    order = np.argsort(key, kind="stable")
    starts = np.flatnonzero(np.append(True, key[order][1:] != key[order][:-1]))
    rivals: list[list[int]] = [[] for _ in starts]
    first = np.full(len(kept), MISSING, np.int32)  # the pair that comes first among people under the same places
    first[order[starts]] = np.arange(len(starts))
    firsts = np.flatnonzero(first[mine] != MISSING)[::-1]
    for place, group in zip(which[firsts].tolist(), first[mine[firsts]].tolist(), strict=True):
        rivals[group].append(places[place])
    ends = [*starts[1:].tolist(), len(order)]
    return [(those, found[order[start:end]]) for those, start, end in zip(rivals, starts.tolist(), ends, strict=True)]
