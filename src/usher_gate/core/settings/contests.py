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
    standing = effective.classes[effective.places]
    for number, places in effective.disputed.items():
        people: Ints = np.flatnonzero(whom & (standing == number)).astype(np.int32)
        yield from _under(effective, places, people)


def _under(effective: Effective, places: list[int], people: Ints) -> Iterator[tuple[list[int], Ints]]:
    """Of people whose value is caused at some places of one standing: those under the same ones that disagree, strongest first."""
    where = np.full(len(effective.places), MISSING, np.int32)  # of each of these people, their place among them
    where[people] = np.arange(len(people))

    def covered(place: int) -> Ints:
        found = where[effective.members(place)]
        there: Ints = found[found != MISSING]
        return there

    said: dict[str | None, Bools] = {}
    for place in places:
        said.setdefault(effective.value(place), np.zeros(len(people), bool))[covered(place)] = True
    kept = np.flatnonzero(sum(mask.astype(np.int32) for mask in said.values()) > 1)
    if not len(kept):
        return
    where[people] = MISSING
    people = people[kept]
    where[people] = np.arange(len(people))
    key = np.zeros(len(people), np.int64)
    for count, place in enumerate(places):
        key *= 2
        key[covered(place)] += 1
        if count % 40 == 39:  # made dense again before it runs over
            key = np.unique(key, return_inverse=True)[1].reshape(-1).astype(np.int64)
    order = np.argsort(key, kind="stable")
    starts = np.flatnonzero(np.append(True, key[order][1:] != key[order][:-1]))
    rivals: list[list[int]] = [[] for _ in starts]
    first = np.full(
        len(people), MISSING, np.int32
    )  # of whoever stands first among those under the same ones, which these are
    first[order[starts]] = np.arange(len(starts))
    for place in places[::-1]:
        for number in first[covered(place)].tolist():
            if number != MISSING:
                rivals[number].append(place)
    for mine, some in zip(rivals, np.split(order, starts[1:]), strict=True):
        yield mine, people[some]
