"""The doors of a service.

How many hosts' meetings a stranger could get into, through how many gates, and what opens them.

Spec: doors 1, 4 and 6.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints, Longs, distinct
from ..settings.effective import Effective
from ..settings.resolver import Edit
from ..words.record import record
from .gates import PASSES, Panel, VisitOutcome, meet
from .hosts import Hosts
from .roots import DOOR, mending
from .visitors import THERE, Visit, kinds_of, visits, ways_of

MOST_GATES = 3  # shown as "3+"


@record
class VisitorCount:
    """One kind of visitor, and at how many hosts each outcome meets them, in the order of OUTCOMES."""

    visit: Visit
    counts: tuple[int, int, int, int]


@record
class Door:
    """One kind of meeting on a service: hosts, how many of their doors are open, unwatched, of unknown openness.

    How many hosts have 0, 1, 2, 3 or more gates in the way of the stranger who has it easiest; and every kind of
    visitor.
    """

    service: str
    kind: str
    hosts: int
    open: int
    unwatched: int
    unknown: int
    gates: tuple[int, int, int, int]
    visitors: tuple[VisitorCount, ...]


@record
class DoorRoot:
    """Describes what opens doors.

    At how many hosts, and how many would have no open door (of the kinds it opens) if it alone were mended, by `mended`
    (None where nothing mends them alone).
    """

    service: str
    control: str
    scope: str | None
    value: str | None
    hosts: int
    freed: int
    mended: str | None


@record
class Openness:
    """At each row of a panel: whether the door of one kind is open, unwatched, of unknown openness, there at all.

    The fewest gates in the way of a stranger; and the place of the first open way in among all visits (MISSING for
    none).
    """

    open: Bools
    unwatched: Bools
    unknown: Bools
    there: Bools
    gates: Ints
    first: Ints


def openness(met: list[VisitOutcome], size: int) -> Openness:
    """Return whether a stranger gets in; `met` is what visitors of one kind meet."""
    opened, unwatched, perhaps = np.zeros(size, bool), np.zeros(size, bool), np.zeros(size, bool)
    fewest, first = np.full(size, np.iinfo(np.int32).max, np.int32), np.full(size, MISSING, np.int32)
    there = met[0].exists != 0 if met else np.zeros(size, bool)
    for number, each in enumerate(met):
        if not each.visit.stranger:
            continue
        # This visitor gets in for certain where the outcome is known and the meeting exists.
        enters = each.known & (each.least == PASSES) & (each.exists == 1)
        if each.visit.moment != THERE:
            unwatched |= enters
            continue
        # While the host is there the door is open; count gates, and remember the first visitor who gets in.
        opened |= enters
        perhaps |= ~each.known & (each.least == PASSES) & (each.exists != 0)
        fewest = np.minimum(fewest, each.stopping)
        first = np.where(enters & (first == MISSING), number, first).astype(np.int32)
    return Openness(open=opened, unwatched=unwatched, unknown=perhaps & ~opened, there=there, gates=fewest, first=first)


def is_open(panel: Panel, kind: str, ways: tuple[str, ...]) -> Openness:
    """Return whether a stranger gets in while a host is there, and only that."""
    strangers = [each for each in visits((kind,), ways) if each.stranger and each.moment == THERE]
    return openness([meet(panel, each) for each in strangers], panel.size)


@record
class _Fixes:
    """For each class of hosts the control (int32, into `names`, MISSING for none) and value that shut its door."""

    control: Ints
    value: Ints
    names: tuple[str, ...]


class Doors:
    """The doors of one service."""

    def __init__(self, hosts: Hosts, kinds: tuple[str, ...] | None = None) -> None:
        self.hosts = hosts
        self.kinds = kinds_of(hosts.service) if kinds is None else kinds
        self.ways = ways_of(hosts.service)
        self._met = {kind: [meet(hosts.panel, visit) for visit in visits((kind,), self.ways)] for kind in self.kinds}
        self._found = {kind: openness(met, hosts.panel.size) for kind, met in self._met.items()}

    def doors(self) -> Iterator[Door]:
        """Yield every kind, whether anyone has it or not."""
        for kind in self.kinds:
            found, count = self._found[kind], self.hosts.count
            some = [count(found.there & (found.gates == number)) for number in range(MOST_GATES)]
            many = count(found.there & (found.gates >= MOST_GATES))
            yield Door(
                service=self.hosts.service.id,
                kind=kind,
                hosts=count(found.there),
                open=count(found.there & found.open),
                unwatched=count(found.there & found.unwatched),
                unknown=count(found.there & found.unknown),
                gates=(some[0], some[1], some[2], many),
                visitors=tuple(self._counted(each) for each in self._met[kind]),
            )

    def open_hosts(self, kind: str) -> Longs:
        """Return the people (numbers, ascending) whose door of one kind is open to a stranger."""
        found = self._found[kind]
        return self.hosts.people[(found.there & found.open)[self.hosts.class_of]]

    def _counted(self, met: VisitOutcome) -> VisitorCount:
        there, known = met.exists != 0, met.known
        enters, waits, refused = (self.hosts.count(there & known & (met.least == number)) for number in range(3))
        return VisitorCount(met.visit, (enters, waits, refused, self.hosts.count(there & ~known)))

    def roots(self) -> list[DoorRoot]:
        """Return what opens doors, most hosts first."""
        opened: dict[
            tuple[str, int], dict[str, Longs]
        ] = {}  # by control and place of the cause: the hosts of each kind
        wanted: dict[tuple[str, int], int] = {}  # and the weakest value that shuts them all, as its place
        for kind in self.kinds:
            fixes = self._fixes(kind)
            of_host, value_of = fixes.control[self.hosts.class_of], fixes.value[self.hosts.class_of]
            for number, name in enumerate(fixes.names):
                mine = np.flatnonzero(of_host == number)
                places = np.zeros(len(mine), np.int32) if name == DOOR else self.hosts.places(name)[mine]
                for place in distinct(places).tolist():
                    hosts = mine[places == place]
                    opened.setdefault((name, place), {})[kind] = hosts
                    if name != DOOR:
                        strictest = int(value_of[hosts].max())
                        wanted[name, place] = max(wanted.get((name, place), 0), strictest)
        freed = self._freed(opened, wanted)
        rows = [self._row(key, kinds, freed.get(key, 0), wanted.get(key)) for key, kinds in opened.items()]
        return sorted(rows, key=lambda row: (-row.hosts, row.control, row.scope or "", row.value or ""))

    def _row(self, key: tuple[str, int], kinds: Mapping[str, Longs], freed: int, wanted: int | None) -> DoorRoot:
        """Describe one cause of open doors: its setting, how many hosts it opens, and how many a safe value would
        close.
        """
        control, place = key
        hosts = len(distinct(np.concatenate(list(kinds.values()))))
        if control == DOOR or wanted is None:
            return DoorRoot(
                service=self.hosts.service.id, control=DOOR, scope=None, value=None, hosts=hosts, freed=0, mended=None
            )
        cause = self.hosts.effective(control).cause(place)
        mended = self.hosts.panel.catalogue.index[control].kind.words[wanted]
        return DoorRoot(
            service=self.hosts.service.id,
            control=control,
            scope=cause.scope,
            value=cause.value,
            hosts=hosts,
            freed=freed,
            mended=mended,
        )

    def _fixes(self, kind: str) -> _Fixes:
        """Return for each class whose door of a kind is open.

        The control that shuts its first open way alone, and the weakest value that does.
        """
        found, panel = self._found[kind], self.hosts.panel
        names: dict[str, int] = {}
        control, value = np.full(panel.size, MISSING, np.int32), np.full(panel.size, MISSING, np.int32)
        for number in distinct(found.first[found.open & found.there]).tolist():
            rows = np.flatnonzero(found.open & found.there & (found.first == number))
            fix = mending(panel.take(rows), self._met[kind][number].visit, lambda least, _: least > PASSES)
            for place, name in enumerate((*fix.controls, DOOR)):
                mine = fix.control == (MISSING if name == DOOR else place)
                if np.any(mine):
                    control[rows[mine]] = names.setdefault(name, len(names))
                    value[rows[mine]] = fix.value[mine]
        return _Fixes(control, value, tuple(names))

    def _freed(
        self, opened: Mapping[tuple[str, int], Mapping[str, Longs]], wanted: Mapping[tuple[str, int], int]
    ) -> dict[tuple[str, int], int]:
        """Return how many hosts have no open door any more, of the kinds that a root opens, once it alone is mended.

        Each is asked again.
        """
        rows: list[int] = []  # the class of each row that is asked
        changes: dict[str, dict[int, tuple[str | None, bool]]] = {}
        asked: list[
            tuple[tuple[str, int], Longs, Longs]
        ] = []  # of each root: its rows, and how many hosts each represents
        for key, value in wanted.items():
            control, place = key
            hosts = distinct(np.concatenate(list(opened[key].values())))
            word = self.hosts.panel.catalogue.index[control].kind.words[value]
            after = self._after(control, place, word)
            new_values = (
                [word] * len(hosts)
                if after is None
                else [after.values[each] for each in after.places[self.hosts.people[hosts]]]
            )
            alike: dict[tuple[int, str | None], int] = {}
            for number, new in zip(self.hosts.class_of[hosts].tolist(), new_values, strict=True):
                alike[number, new] = alike.get((number, new), 0) + 1
            first = len(rows)
            for number, new in alike:
                changes.setdefault(control, {})[len(rows)] = new, False
                rows.append(number)
            asked.append((key, np.arange(first, len(rows)), np.array(list(alike.values()), np.int64)))
        panel = self.hosts.panel.take(np.array(rows, np.int64)).with_values(changes)
        still = {kind: is_open(panel, kind, self.ways).open for kind in self.kinds} if rows else {}
        freed = {}
        for key, mine, hosts in asked:
            shut = ~np.logical_or.reduce([still[kind][mine] for kind in opened[key]])
            freed[key] = int(hosts[shut].sum())
        return freed

    def _after(self, control: str, place: int, word: str) -> Effective | None:
        """Return the effective values with another value at a place.

        None if everyone with the value there simply gets the new one.
        """
        effective = self.hosts.effective(control)
        if effective.alone(place):
            return None
        return self.hosts.resolver.edited(effective, Edit(int(effective.rows[place]), word))
