"""The walk of one person's value, from factory to person, with everything that was overridden."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ..organisation.columns import NO_RANK, NO_TIME
from ..organisation.services import Service
from ..organisation.settings import GROUP, ORGANISATION, PERSON, UNIT
from ..organisation.snapshot import Snapshot
from ..words.record import record
from ..words.vocabulary import LEVELS
from .effective import EVERYBODY, LICENCE, Effective
from .observations import observed
from .resolver import Resolver

OVERRIDDEN, BEATEN, STANDS, AFTER_PIN = "overridden", "beaten", "stands", "after-pin"


@record
class StepSetting:
    """One setting on the walk.

    `state`: STANDS (it causes the value), `overridden` (by a narrower step), `beaten` (at its own step), `after-pin`
    (never reached). `rank` is None where it is blank.
    """

    scope: str
    value: str
    pinned: bool
    rank: int | None
    changed: int | None
    row: int
    young: bool
    state: str


@record
class Step:
    """One step of the walk.

    Its name (`factory`, `organisation`, `unit:/Fleet`, `group`, `person`, `licence`) and its settings, the winner
    first. `gap` says which data the snapshot lacks for it.
    """

    name: str
    settings: tuple[StepSetting, ...]
    gap: str = ""
    ends: bool = False


@record
class ContradictionSeen:
    """Another control of the person whose value cannot work with this one, and where that is set."""

    control: str
    value: str
    scope: str
    because: str


@record
class Walk:
    """Describes how one person's value for a control on a service comes about."""

    service: Service
    control: str
    supported: bool
    account: bool
    value: str | None
    scope: str | None
    pinned: bool
    changeable: bool
    young: bool
    contested: tuple[tuple[str, str], ...]
    licence: str
    steps: tuple[Step, ...]
    seen: tuple[str, ...]
    contradictions: tuple[ContradictionSeen, ...] = ()
    arrives: int | None = None  # when a value that is young should have arrived everywhere (microseconds)
    chains: tuple[
        tuple[str, ...], ...
    ] = ()  # of groups whose settings count, and that the person is in only through others: ids, inmost first


def walk(resolver: Resolver, service: Service, control: str, person: int) -> Walk:
    """Return the walk of one active person's value, from factory to person."""
    effective = resolver.effective(service, control)
    place = int(effective.places[person])
    cause = effective.cause(place)
    licence = effective.licence_of(person)
    known = licence not in ("unavailable", "unknown")
    rivals = effective.rivals(person, place)
    values = {effective.value(rival) for rival in rivals}
    seen = observed(resolver.snapshot, service.id, control)
    mine = np.flatnonzero(seen.people == person) if seen is not None else np.empty(0, np.int64)
    said = (
        tuple(
            sorted(
                {seen.words[value] for value in seen.values[seen.starts[mine[0]] : seen.starts[mine[0] + 1]].tolist()}
            )
        )
        if seen is not None and len(mine)
        else ()
    )
    return Walk(
        service=service,
        control=control,
        supported=control in service.controls,
        account=bool(resolver.accounts(service)[person]),
        value=cause.value if known else None,
        scope=cause.scope if known else None,
        pinned=cause.pinned,
        changeable=not cause.pinned and service.changeable(control),
        young=bool(effective.young[place]),
        contested=tuple((effective.cause(rival).scope or "", effective.value(rival) or "") for rival in rivals)
        if len(values) > 1
        else (),
        licence=licence,
        steps=_steps(effective, resolver.snapshot, person, place),
        seen=said,
        contradictions=tuple(_contradictions(resolver, service, control, cause.value, person)) if known else (),
        arrives=int(cause.changed) + service.settle if effective.young[place] else None,
        chains=tuple(_chains(effective, resolver.snapshot, person)),
    )


def _chains(effective: Effective, snapshot: Snapshot, person: int) -> Iterator[tuple[str, ...]]:
    """Yield how the person comes to be in each group whose settings are on the walk, where that is through other
    groups.
    """
    groups = snapshot.groups
    places = [] if groups is None else effective.covering(person)
    for group in dict.fromkeys(int(effective.targets[each]) for each in places if effective.kinds[each] == GROUP):
        if groups is not None and group >= 0:
            chain = groups.chain(person, group)
            if len(chain) > 1:
                yield tuple(groups.ids[each] for each in chain)


def _steps(effective: Effective, snapshot: Snapshot, person: int, place: int) -> tuple[Step, ...]:
    """Return the steps from the widest setting to the person, each with its settings and what became of them."""
    covering = effective.covering(person)
    steps = [_factory(effective, place)]
    ended = False
    for kind_name in effective.service.precedence:
        kind = LEVELS.index(kind_name)
        here = [one_place for one_place in covering if effective.kinds[one_place] == kind]
        if any(effective.targets[one_place] == EVERYBODY for one_place in here):
            gap = {UNIT: "the people table has no column unit"}.get(kind, "there is no members table")
            pinned = any(effective.pinned[one_place] for one_place in here)
            steps.append(Step(kind_name, (), gap, pinned and not ended))
            ended |= pinned
            continue
        for name, places in _named_steps(kind, here, effective, snapshot, person):
            best_first = places[::-1]
            ends = not ended and bool(best_first) and bool(effective.pinned[best_first[0]])
            steps.append(
                Step(
                    name,
                    tuple(
                        _setting(effective, one_place, _state(one_place, best_first, place, ended))
                        for one_place in best_first
                    ),
                    "",
                    ends,
                )
            )
            ended |= ends
    if effective.kinds[place] == LICENCE:
        steps.append(Step("licence", (_setting(effective, place, STANDS),)))
    return tuple(steps)


def _factory(effective: Effective, place: int) -> Step:
    if effective.value(0) is None:
        return Step("factory", (), "no service default is known")
    return Step("factory", (_setting(effective, 0, STANDS if place == 0 else OVERRIDDEN),))


def _named_steps(
    kind: int, here: list[int], effective: Effective, snapshot: Snapshot, person: int
) -> list[tuple[str, list[int]]]:
    if kind == UNIT and snapshot.units is not None:
        paths = snapshot.units.path_of(person)
        index = snapshot.units.index
        return [
            (f"unit:{path}", [place for place in here if effective.targets[place] == index[path]]) for path in paths
        ]
    return [({ORGANISATION: "organisation", PERSON: "person"}.get(kind, "group"), here)]


def _state(mine: int, best_first: Sequence[int], place: int, ended: bool) -> str:
    if mine == place:
        return STANDS
    if ended:
        return AFTER_PIN
    return OVERRIDDEN if mine == best_first[0] else BEATEN


def _setting(effective: Effective, place: int, state: str) -> StepSetting:
    cause = effective.cause(place)
    rank = int(effective.ranks[place])
    return StepSetting(
        scope=cause.scope or "",
        value=cause.value or "",
        pinned=cause.pinned,
        rank=None if rank == NO_RANK else rank,
        changed=None if cause.changed == NO_TIME else cause.changed,
        row=cause.row,
        young=bool(effective.young[place]),
        state=state,
    )


def _contradictions(
    resolver: Resolver, service: Service, control: str, value: str | None, person: int
) -> list[ContradictionSeen]:
    """Return the contradictions that a value of a control is part of for one person."""
    found = []
    for contradiction in resolver.snapshot.catalogue.contradictions:
        for (mine, mine_values), (other, other_values) in (
            (contradiction.first, contradiction.second),
            (contradiction.second, contradiction.first),
        ):
            if mine != control or value not in mine_values or other not in service.controls:
                continue
            effective = resolver.effective(service, other)
            cause = effective.cause(int(effective.places[person]))
            if cause.value in other_values and effective.licence_of(person) not in ("unavailable", "unknown"):
                found.append(ContradictionSeen(other, cause.value or "", cause.scope or "", contradiction.because))
    return found
