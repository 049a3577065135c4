"""Contested values: people for whom settings of one standing say different things, and which of them counts."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints
from ..organisation.services import Service
from ..words.record import record
from .effective import Effective
from .resolver import Resolver


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
    under = whom[covered] & (effective.classes[effective.places[covered]] == number)
    # Pairs of a place (its number among the places) and one of the people under it (theirs among those), by place.
    which = np.repeat(np.arange(len(places)), counts)[under]
    people, mine = np.unique(covered[under], return_inverse=True)
    if len(people) == len(which):  # nobody is under two of them
        return []
    values = [effective.value(place) for place in places]
    numbers = {value: number for number, value in enumerate(dict.fromkeys(values))}
    said = np.zeros((len(numbers), len(people)), bool)
    said[np.array([numbers[value] for value in values])[which], mine] = True
    kept = np.flatnonzero(np.count_nonzero(said, axis=0) > 1)
    if not len(kept):
        return []
    place_of = np.full(len(people), MISSING, np.int32)
    place_of[kept] = np.arange(len(kept))
    among = place_of[mine]
    which, mine = which[among != MISSING], among[among != MISSING]
    ends = np.searchsorted(which, np.arange(len(places)), "right").tolist()
    key = np.zeros(len(kept), np.int64)
    for count, (start, end) in enumerate(zip([0, *ends], ends, strict=False)):
        key *= 2
        key[mine[start:end]] += 1
        if count % 40 == 39:  # made dense again before it runs over
            key = np.unique(key, return_inverse=True)[1].reshape(-1).astype(np.int64)
    order = np.argsort(key, kind="stable")
    starts = np.flatnonzero(np.append(True, key[order][1:] != key[order][:-1]))
    rivals: list[list[int]] = [[] for _ in starts]
    first = np.full(len(kept), MISSING, np.int32)  # of whoever stands first among those under the same ones, which
    first[order[starts]] = np.arange(len(starts))
    telling = np.flatnonzero(first[mine] != MISSING)[::-1]
    for place, group in zip(which[telling].tolist(), first[mine[telling]].tolist(), strict=True):
        rivals[group].append(places[place])
    found = people[kept].astype(np.int32)
    return [(those, found[some]) for those, some in zip(rivals, np.split(order, starts[1:]), strict=True)]
