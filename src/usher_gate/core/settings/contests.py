"""Contested values: people for whom settings of one standing say different things, and which of them counts."""

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
    """Settings of one standing that disagree, the one that counts first, as (scope, value); and the people who are under all of them."""

    service: str
    control: str
    value: str
    settings: tuple[tuple[str, str], ...]
    people: Ints  # ascending


def contests(resolver: Resolver, chosen: Bools, services: frozenset[str] | None) -> tuple[Contest, ...]:
    """All contested values of the chosen people with account and licence, by service, control, value and settings."""
    found = []
    for service in resolver.snapshot.services or ():
        if services is not None and service.id not in services:
            continue
        whom = chosen & resolver.accounts(service)
        for control in sorted(resolver.controls_set(service) & service.controls):
            found += list(_of(resolver, service, control, whom))
    return tuple(sorted(found, key=lambda each: (each.service, each.control, each.value, each.settings)))


def _of(resolver: Resolver, service: Service, control: str, whom: Bools) -> Iterator[Contest]:
    effective = resolver.effective(service, control)
    if not effective.contestable or effective.licence_unknown:
        return
    if effective.lacking is not None:
        whom = whom & ~effective.lacking
    for rivals, mine in disputes(effective, whom):
        settings = tuple((effective.cause(place).scope or "", effective.value(place) or "") for place in rivals)
        yield Contest(service.id, control, settings[0][1], settings, mine)


def disputes(effective: Effective, whom: Bools) -> Iterator[tuple[list[int], Ints]]:
    """The places of settings of one standing that disagree, the one that counts first, and who of some people is under all of them."""
    for number, places in effective.disputed.items():
        yield from _under(effective, number, places, whom)


def _under(effective: Effective, number: int, places: list[int], whom: Bools) -> list[tuple[list[int], Ints]]:
    """Of people whose value is caused at some places of one standing (its number): those under the same ones that disagree, strongest
    first."""
    covered, counts = effective.members_of(np.array(places, np.int32))
    under = whom.take(covered) & (effective.classes == number).take(effective.places.take(covered))
    # Pairs of a place (its number among the places) and one of the people under it, by place; of each person the last pair stands for all.
    which, covered = np.repeat(np.arange(len(places)), counts)[under], covered[under]
    last = np.empty(len(whom), np.int32)
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
    for few in range(0, len(places), _FEW):  # the places that somebody is under, as the bits of a number
        some = slice(*np.searchsorted(which, (few, few + _FEW)).tolist())
        bits = np.bincount(mine[some], np.ldexp(1.0, few + _FEW - 1 - which[some]), len(kept)).astype(np.int64)
        key = bits if not few else np.unique(key, return_inverse=True)[1].reshape(-1) * (1 << _FEW) + bits
    order = np.argsort(key, kind="stable")
    starts = np.flatnonzero(np.append(True, key[order][1:] != key[order][:-1]))
    rivals: list[list[int]] = [[] for _ in starts]
    first = np.full(len(kept), MISSING, np.int32)  # of whoever stands first among those under the same ones, which
    first[order[starts]] = np.arange(len(starts))
    telling = np.flatnonzero(first[mine] != MISSING)[::-1]
    for place, group in zip(which[telling].tolist(), first[mine[telling]].tolist(), strict=True):
        rivals[group].append(places[place])
    ends = [*starts[1:].tolist(), len(order)]
    return [(those, found[order[start:end]]) for those, start, end in zip(rivals, starts.tolist(), ends, strict=True)]
