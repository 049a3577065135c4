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
    disputed = effective.disputed
    asked = np.zeros(int(effective.classes[-1]) + 1, bool)
    asked[list(disputed)] = True
    standing = effective.classes[effective.places]
    rows = np.flatnonzero(whom & asked[standing]).astype(np.int32)
    rows = rows[np.argsort(standing[rows], kind="stable")]
    numbers = np.array(list(disputed), np.int64)
    starts, ends = (np.searchsorted(standing[rows], numbers, side).tolist() for side in ("left", "right"))
    where = np.full(len(standing), MISSING, np.int32)
    for places, start, end in zip(disputed.values(), starts, ends, strict=True):
        if start < end:
            yield from _under(effective, places, rows[start:end], where)


def _under(effective: Effective, places: list[int], people: Ints, where: Ints) -> list[tuple[list[int], Ints]]:
    """Of people whose value is caused at some places of one standing: those under the same ones that disagree, strongest first.

    `where` is MISSING for everybody, and is so again afterwards; meanwhile it holds where each of these people stands among them.
    """
    where[people] = np.arange(len(people))
    members = [effective.members(place) for place in places]
    covered = where[np.concatenate(members)]
    where[people] = MISSING
    under = (
        covered != MISSING
    )  # pairs of a place (its number among the places) and one of the people under it, by place
    which, whom = np.repeat(np.arange(len(places)), [len(some) for some in members])[under], covered[under]
    values = [effective.value(place) for place in places]
    numbers = {value: number for number, value in enumerate(dict.fromkeys(values))}
    said = np.zeros((len(numbers), len(people)), bool)
    said[np.array([numbers[value] for value in values])[which], whom] = True
    kept = np.flatnonzero(np.count_nonzero(said, axis=0) > 1)
    if not len(kept):
        return []
    place_of = np.full(len(people), MISSING, np.int32)
    place_of[kept] = np.arange(len(kept))
    whom = place_of[whom]
    which, whom = which[whom != MISSING], whom[whom != MISSING]
    ends = np.searchsorted(which, np.arange(len(places)), "right").tolist()
    key = np.zeros(len(kept), np.int64)
    for count, (start, end) in enumerate(zip([0, *ends], ends, strict=False)):
        key *= 2
        key[whom[start:end]] += 1
        if count % 40 == 39:  # made dense again before it runs over
            key = np.unique(key, return_inverse=True)[1].reshape(-1).astype(np.int64)
    order = np.argsort(key, kind="stable")
    starts = np.flatnonzero(np.append(True, key[order][1:] != key[order][:-1]))
    rivals: list[list[int]] = [[] for _ in starts]
    first = np.full(
        len(kept), MISSING, np.int32
    )  # of whoever stands first among those under the same ones, which these are
    first[order[starts]] = np.arange(len(starts))
    telling = np.flatnonzero(first[whom] != MISSING)[::-1]
    for place, number in zip(which[telling].tolist(), first[whom[telling]].tolist(), strict=True):
        rivals[number].append(places[place])
    people = people[kept]
    return [(mine, people[some]) for mine, some in zip(rivals, np.split(order, starts[1:]), strict=True)]
