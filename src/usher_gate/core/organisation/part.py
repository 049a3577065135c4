"""A part of a snapshot: some people, one after another in their order, with everything that they share with the others.

What a rule about people says of someone depends on their own rows and on what is shared, so a part gives them the
verdicts that the whole does. Whatever counts over everyone is worked out from the whole and handed on
(`People.others_owned`).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from .columns import MISSING, Coded, Ints, Longs, Texts, between
from .credentials import Authenticators, Passes
from .people import People
from .settings import PERSON, Observations, Settings
from .snapshot import Snapshot
from .units import Units


class _Texts:
    """The texts of some rows, one after another."""

    def __init__(self, whole: Texts, first: int, last: int) -> None:
        self._whole, self._first, self._last = whole, first, last

    def __len__(self) -> int:
        return self._last - self._first

    def take(self, rows: Ints | Longs) -> list[str]:
        """Return the texts at these rows of the part."""
        return self._whole.take(rows + self._first)

    def find(self, text: str) -> list[int]:
        """Return the rows of the part that hold just this text."""
        return [row - self._first for row in self._whole.find(text) if self._first <= row < self._last]


def part_of(snapshot: Snapshot, first: int, last: int) -> Snapshot:
    """Return the snapshot with the active people `first` to before `last` alone, numbered from 0.

    Planned meetings are left to the whole.

    Rows keep their place in the tables (`Settings.row`), shared things their numbers: services, units, groups, words of
    columns.
    """
    groups, units = snapshot.groups, snapshot.units
    return replace(
        snapshot,
        people=_people(snapshot.people, first, last),
        units=None if units is None else Units(units.paths, units.codes[first:last]),
        groups=None if groups is None else groups.part(first, last),
        settings=None if snapshot.settings is None else _settings(snapshot.settings, first, last),
        observations=None if snapshot.observations is None else _observations(snapshot.observations, first, last),
        authenticators=None if snapshot.authenticators is None else _registered(snapshot.authenticators, first, last),
        passes=None if snapshot.passes is None else _passes(snapshot.passes, first, last),
        meetings=None,
    )


def _people(people: People, first: int, last: int) -> People:
    """Cut the table of people to rows `first` to `last`."""
    some = slice(first, last)

    def coded(column: Coded | None) -> Coded | None:
        return None if column is None else Coded(column.codes[some], column.words)

    owned = people.others()
    return People(
        ids=_Texts(people.ids, first, last),
        logins=_Texts(people.logins, first, last),
        names=None if people.names is None else _Texts(people.names, first, last),
        kind=Coded(people.kind.codes[some], people.kind.words),
        unit=coded(people.unit),
        roles=coded(people.roles),
        licences=coded(people.licences),
        break_glass=None if people.break_glass is None else people.break_glass[some],
        home_domain=coded(people.home_domain),
        mfa=coded(people.mfa),
        protection=coded(people.protection),
        times={name: times[some] for name, times in people.times.items()},
        attributes={name: Coded(column.codes[some], column.words) for name, column in people.attributes.items()},
        sponsors=None if people.sponsors is None else people.sponsors[some],
        others_owned=None if owned is None else owned[some],
    )


def _settings(settings: Settings, first: int, last: int) -> Settings:
    personal = settings.kind == PERSON
    kept = ~personal | (settings.target == MISSING) | between(settings.target, first, last)
    rows = np.flatnonzero(kept)
    target = settings.target[rows]
    target = np.where(personal[rows] & (target != MISSING), target - np.int32(first), target)
    return replace(settings.at(rows), target=target)


def _observations(seen: Observations, first: int, last: int) -> Observations:
    rows = np.flatnonzero(between(seen.person, first, last))
    person = seen.person[rows] - np.int32(first)
    return replace(
        seen,
        person=person,
        service=seen.service[rows],
        control=seen.control[rows],
        value=seen.value[rows],
        seen=seen.seen[rows],
    )


def _registered(table: Authenticators, first: int, last: int) -> Authenticators:
    rows = np.flatnonzero(between(table.person, first, last))
    return Authenticators(table.person[rows] - np.int32(first), table.kind[rows], table.kinds, table.lists_memorized)


def _passes(table: Passes, first: int, last: int) -> Passes:
    """Cut the temporary access passes to those of people `first` to `last`, numbered from `first`."""
    rows = np.flatnonzero(between(table.person, first, last))
    issuer = table.issuer
    if issuer is not None:  # an issuer of another part is not the person
        issuer = np.where(between(issuer[rows], first, last), issuer[rows] - np.int32(first), np.int32(MISSING))
    return Passes(
        person=table.person[rows] - np.int32(first),
        issued=table.issued[rows],
        starts=table.starts[rows],
        expires=table.expires[rows],
        used=table.used[rows],
        single_use=None if table.single_use is None else table.single_use[rows],
        issuer=issuer,
        silent=table.silent[rows],
        taken_at=table.taken_at,
        size=last - first,
    )
