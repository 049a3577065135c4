"""Planned meetings.

What is set for each, whether a stranger could get in, and who of the invited would be turned away or left waiting.

Spec: doors 5.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..organisation.columns import MISSING, Bools, Ints, Longs, Ragged, distinct
from ..organisation.meetings import Meetings
from ..organisation.services import Service
from ..organisation.settings import MEETING
from ..organisation.snapshot import Snapshot
from ..settings.effective import Cause
from ..settings.resolver import Resolver
from ..words.record import record
from ..words.values import split_words
from ..words.vocabulary import MEETING_KINDS
from .address_book import AS_EITHER, AS_MEMBER, AS_OUTSIDER, AS_PARTNER, AS_RIVALS, AddressBook, address_book
from .doors import is_open
from .gates import PASSES, REFUSED, RIVALS, SHUTS, STOPS, HeldControl, Panel, Results, meet, refuses
from .hosts import ASKED, LISTED, Hosts
from .visitors import (
    APP,
    GUEST,
    INVITATION,
    MEMBER,
    NOBODY,
    OUTSIDER,
    PARTNER,
    PERSONAL,
    SCHEDULED,
    THERE,
    Visit,
    kinds_of,
    ways_of,
)

WALKS_IN, WAITS, TURNED_AWAY, NOT_KNOWN = PASSES, STOPS, SHUTS, 3  # what meets an invitee
_NEEDS, _FATES = 4, 5
_SHOWN = (TURNED_AWAY, WAITS, _NEEDS, NOT_KNOWN, WALKS_IN)
_STANDINGS = (MEMBER, GUEST, PARTNER, OUTSIDER)
_OPEN = {1: True, 0: False, -1: None}


def _standing_of(is_listed: set[bool] | None) -> int:
    """Return the visitor type of an invitee from elsewhere by what the lists say of the domain (None: not known)."""
    if is_listed is None:
        return AS_EITHER
    if len(is_listed) > 1:
        return AS_RIVALS
    return AS_PARTNER if is_listed == {True} else AS_OUTSIDER


@record
class Planned:
    """One planned meeting.

    `organiser` is the number of an active person; `open` is None where it is not known; the lists hold addresses as
    they are written, each once whatever its case.
    """

    id: str
    label: str
    service: str
    kind: str
    organiser: int
    starts_at: int
    recurring: bool
    open: bool | None
    turned_away: tuple[str, ...]
    waiting: tuple[str, ...]
    need_account: tuple[str, ...]
    unknown: tuple[str, ...]
    walking_in: tuple[str, ...]


@record
class OwnSetting:
    """Describes what is set for one meeting itself, and when it was changed; `row` is the setting's row in the file."""

    value: str
    pinned: bool
    row: int
    changed: int


@record
class Invited:
    """Says who is invited, one a row, by meeting, then address.

    The meeting (its number among the planned ones of the service), the address (its number in the book), and its
    visitor type (an index into STANDINGS_OF).
    """

    meeting: Ints
    address: Ints
    standing: Ints


class PlannedOn:
    """The planned meetings on one service, one a row, by start and id.

    Their numbers in the table, kinds (places in MEETING_KINDS) and organisers; and what each is set to.
    """

    def __init__(
        self, resolver: Resolver, service: Service, table: Meetings, rows: Longs, book: Callable[[], AddressBook]
    ) -> None:
        self.resolver, self.service, self.rows, self._table, self._book = resolver, service, rows, table, book
        self.ids, self.organiser = table.ids.take(rows), table.organiser[rows]
        self.starts = table.starts[rows]
        self.recurring: Bools = np.zeros(len(rows), bool) if table.recurring is None else table.recurring[rows]
        codes = np.full(len(rows), MISSING) if table.kind is None else table.kind.codes[rows]
        words = () if table.kind is None else table.kind.words
        self.kinds: Ints = np.array([*map(MEETING_KINDS.index, words), MEETING_KINDS.index(SCHEDULED)], np.int32)[codes]

    def __len__(self) -> int:
        return len(self.rows)

    def edit(self, resolver: Resolver, touched: Collection[str]) -> PlannedOn:
        """Return the same meetings as a resolver after some edits sets them.

        `touched` are the controls that are edited.
        """
        after = PlannedOn(resolver, self.service, self._table, self.rows, self._book)
        after.hosts = self.hosts.edit({control: resolver.effective(self.service, control) for control in touched})
        after.host_of = self.host_of
        if LISTED not in touched:
            after.invited = self.invited
        return after

    @cached_property
    def hosts(self) -> Hosts:
        """Return the organisers, whether they may start meetings or not."""
        return Hosts(self.resolver, self.service, distinct(self.organiser).astype(np.int64))

    @cached_property
    def host_of(self) -> Longs:
        """Return for each meeting the place of its organiser among the hosts."""
        return np.searchsorted(self.hosts.people, self.organiser)

    @cached_property
    def own(self) -> Mapping[int, Mapping[str, OwnSetting]]:
        """Return what is set for each meeting itself, by control, where that counts: no pin above ends the walk."""
        known = {name: number for number, name in enumerate(self.ids)}
        found: dict[int, dict[str, OwnSetting]] = {}
        for name, control, own in own_settings(self.resolver.snapshot, self.service):
            number = known.get(name)
            if (self.service.id, control, f"meeting:{name}") in self.resolver.dropped:
                continue
            if number is not None and control in self.service.controls and not self._ended(control, number):
                found.setdefault(number, {})[control] = own
        return found

    def _ended(self, control: str, number: int) -> bool:
        effective, organiser = self.resolver.effective(self.service, control), int(self.organiser[number])
        unlicensed = effective.licence_of(organiser) in ("unavailable", "unknown")
        return unlicensed or bool(effective.pinned[int(effective.places[organiser])])

    @cached_property
    def _asked(self) -> tuple[Panel, Ints]:
        """Return what the meetings are set to, each distinct thing once, and which row of it is each meeting's."""
        first, at = self._alike()
        base = self.hosts.panel_of(first, (*ASKED, LISTED))
        rows = list(range(base.size))
        changes: dict[str, dict[int, tuple[str | None, bool]]] = {}
        for number, settings in self.own.items():
            for control, own in settings.items():
                if control in base.held:
                    changes.setdefault(control, {})[len(rows)] = own.value, own.pinned
            rows.append(int(at[number]))
            at[number] = len(rows) - 1
        return base.take(np.array(rows, np.int64)).with_values(changes), at.astype(np.int32)

    def _alike(self) -> tuple[Longs, Longs]:
        """Return one host of each kind whose gates and list of domains are set alike, and which kind each meeting is of
        (a class of hosts is alike in the gates only).
        """
        at, listed = self.hosts.class_of[self.host_of].astype(np.int64), self.hosts.held(LISTED)
        if listed is None:
            return self.hosts.first_of_class, at
        key = at * len(listed.values) + listed.codes[self.host_of]
        _, where, kind = np.unique(key, return_index=True, return_inverse=True)
        return np.asarray(self.host_of, np.int64)[where], kind.reshape(-1).astype(np.int64)

    @property
    def panel(self) -> Panel:
        """Return what the meetings are set to, each distinct thing once."""
        return self._asked[0]

    @property
    def at(self) -> Ints:
        """Return for each meeting its row of the panel."""
        return self._asked[1]

    def value(self, control: str, number: int) -> tuple[str | None, Cause | None]:
        """Return what one meeting is set to, and where.

        The organiser's value unless the meeting's own setting counts.
        """
        own = self.own.get(number, {}).get(control)
        if own is not None:
            return own.value, Cause(f"meeting:{self.ids[number]}", own.value, own.pinned, row=own.row)
        host = int(self.host_of[number])
        value = self.hosts.value(control, host)
        return None if value is None else value.replace(RIVALS, " or "), self.hosts.cause(control, host)

    @cached_property
    def shut(self) -> Bools:
        """Return which meetings are in a personal room that is off: everyone is refused there."""
        room = self.panel.held.get("door.personal-room")
        if room is None:
            return np.zeros(len(self), bool)
        off = np.array([value == "off" for value in room.values], bool)[room.codes]
        found: Bools = off[self.at] & (self.kinds == MEETING_KINDS.index(PERSONAL))
        return found

    @cached_property
    def open(self) -> Results:
        """Return whether a stranger enters while a host is there: 1, 0, or -1 where that is not known."""
        found = np.zeros(len(self), np.int8)
        for kind in distinct(self.kinds).tolist():
            opened = is_open(self.panel, MEETING_KINDS[kind], ways_of(self.service))
            mine = self.kinds == kind
            found[mine] = np.where(opened.open, 1, np.where(opened.unknown, -1, 0))[self.at[mine]]
        found[self.shut] = 0
        return found

    @cached_property
    def invited(self) -> Invited:
        """Return who is invited; the organiser is left out, and an address counts once in whatever case."""
        book, table = self.book, self._table
        codes = np.full(len(self), MISSING) if table.invitees is None else table.invitees.codes[self.rows]
        some = np.flatnonzero(codes != MISSING)
        cells = (
            table.invitees.cells if table.invitees is not None else Ragged(np.zeros(1, np.int64), np.empty(0, np.int32))
        )
        # One row for each invited address of each meeting, without the organiser.
        meeting, address = np.repeat(some, np.diff(cells.starts)[codes[some]]), cells.gather(codes[some])
        kept = book.person[address] != self.organiser[meeting]
        meeting, address = meeting[kept], address[kept]
        # Sort them by meeting, and keep one spelling of each address.
        order = np.lexsort((address, meeting))
        meeting, address = meeting[order], address[order]
        if book.in_two_cases:  # the text that comes first is kept
            _, first = np.unique(meeting * (len(book.addresses) + 1) + book.folded[address], return_index=True)
            meeting, address = meeting[np.sort(first)], address[np.sort(first)]
        return Invited(meeting.astype(np.int32), address, self._listed(meeting, address))

    @property
    def book(self) -> AddressBook:
        """Return every invited address."""
        return self._book()

    def _keys(self, held: HeldControl, meeting: Ints | Longs, address: Ints) -> tuple[Longs, Ints]:
        """Return the distinct pairs of a value at a meeting and an address's domain (the value times the number of
        domains, plus the domain), and which is each row's.
        """
        many = len(self.book.domains)
        used = np.zeros(len(held.values) * many, bool)
        keys = held.codes[self.at[meeting]].astype(np.int64) * many + self.book.domain[address]
        used[keys] = True
        words = np.flatnonzero(used)
        place = np.cumsum(used) - 1
        return words, place[keys].astype(np.int32)

    def _listed(self, meeting: Longs, address: Ints) -> Ints:
        """Return the visitor type of each invitee; the meeting's list decides for those from elsewhere."""
        book = self.book
        standing = book.standing[address]
        held = self.panel.held.get(LISTED)
        if held is None:
            return standing
        asked = np.flatnonzero((standing == AS_OUTSIDER) & (book.domain[address] != 0))
        words, which = self._keys(held, meeting[asked], address[asked])
        lists = [
            None if value is None else [{one.casefold() for one in split_words(rival)} for rival in value.split(RIVALS)]
            for value in held.values
        ]
        found = []
        for key in words.tolist():
            rivals, name = lists[key // len(book.domains)], book.domains[key % len(book.domains)]
            said = None if rivals is None else {name in rival for rival in rivals}
            found.append(_standing_of(said))
        standing[asked] = np.array(found, np.int32)[which] if len(asked) else standing[asked]
        return standing

    def invited_count(self, from_outside: bool) -> Longs:
        """Return how many are invited to each meeting; or how many of them are no members."""
        mine = self.invited.meeting
        if from_outside:
            mine = mine[self.invited.standing != AS_MEMBER]
        counted: Longs = np.bincount(mine, minlength=len(self))
        return counted

    @cached_property
    def met(self) -> tuple[Ints, Bools]:
        """Return what meets each invitee who comes by app (WALKS_IN, WAITS, TURNED_AWAY, NOT_KNOWN), and who of those
        from elsewhere would be refused without an account.
        """
        invited = self.invited
        least, most = np.zeros(len(invited.meeting), np.int8), np.zeros(len(invited.meeting), np.int8)
        perhaps, bare = np.zeros(len(invited.meeting), bool), np.zeros(len(invited.meeting), bool)
        kind_of = self.kinds[invited.meeting]
        for kind in distinct(kind_of).tolist():
            mine = np.flatnonzero(kind_of == kind)
            rows = self.at[invited.meeting[mine]]
            shown = MEETING_KINDS[kind]
            standings = (*_STANDINGS, NOBODY)
            every = {
                who: meet(self.panel, Visit(kind=shown, standing=who, holding=INVITATION, way=APP, moment=THERE))
                for who in standings
            }
            low = np.stack([*(every[who].least for who in _STANDINGS)])
            high = np.stack([*(every[who].most for who in _STANDINGS)])
            both = [AS_PARTNER, AS_OUTSIDER]
            low = np.concatenate((low, [low[both].min(axis=0)] * 2))
            high = np.concatenate((high, [high[both].max(axis=0), high[both].min(axis=0)]))
            standing = invited.standing[mine]
            least[mine], most[mine] = low[standing, rows], high[standing, rows]
            perhaps[mine] = (every[NOBODY].exists == 2)[rows]
            none = every[NOBODY]
            bare[mine] = (none.known & (none.least == SHUTS))[rows] & self.book.elsewhere[invited.address[mine]]
        self._refused(least, most)
        known = (least == most) & (~perhaps | (least == SHUTS))
        outcome = np.where(known, least, NOT_KNOWN).astype(np.int32)
        outcome[self.shut[invited.meeting]] = TURNED_AWAY
        return outcome, bare & (outcome != TURNED_AWAY)

    def _refused(self, least: Results, most: Results) -> None:
        """The gate `domain`: whose domain is refused."""
        held, invited, book = self.panel.held.get(REFUSED), self.invited, self.book
        if held is None or not len(invited.meeting):
            return
        words, which = self._keys(held, invited.meeting, invited.address)
        low, high = [], []
        for key in words.tolist():
            value, name = held.values[key // len(book.domains)], book.domains[key % len(book.domains)]
            gives = refuses(value, name) if value is not None and name else PASSES
            low.append(gives)
            high.append(SHUTS if value is None and name else gives)
        np.maximum(least, np.array(low, np.int8)[which], out=least)
        np.maximum(most, np.array(high, np.int8)[which], out=most)

    def planned(self, numbers: Sequence[int], walking: bool = True) -> Iterator[Planned]:
        """Describe some of the meetings; without invitees who simply walk in unless `walking`."""
        outcome, needs = self.met
        labels = [""] * len(self) if self._table.labels is None else self._table.labels.take(self.rows)
        # One key for each address and fate: the meeting's number times the fates, plus the fate.
        rows, needing = np.flatnonzero(walking | (outcome != WALKS_IN)), np.flatnonzero(needs)
        meeting = self.invited.meeting.astype(np.int64)
        keys = np.concatenate((meeting[rows] * _FATES + outcome[rows], meeting[needing] * _FATES + _NEEDS))
        address = self.invited.address[np.concatenate((rows, needing))]
        # Sorted by key, the addresses of one meeting and fate are one slice.
        order = np.lexsort((address, keys))
        texts = self._texts[address[order]].tolist()
        starts = np.searchsorted(keys[order], np.arange(len(self) * _FATES + 1)).tolist()
        for number in numbers:
            at = number * _FATES
            turned_away, waiting, need_account, unknown, walking_in = (
                tuple(texts[starts[at + fate] : starts[at + fate + 1]]) for fate in _SHOWN
            )
            yield Planned(
                id=self.ids[number],
                label=labels[number],
                service=self.service.id,
                kind=MEETING_KINDS[int(self.kinds[number])],
                organiser=int(self.organiser[number]),
                starts_at=int(self.starts[number]),
                recurring=bool(self.recurring[number]),
                open=_OPEN[int(self.open[number])],
                turned_away=turned_away,
                waiting=waiting,
                need_account=need_account,
                unknown=unknown,
                walking_in=walking_in,
            )

    @cached_property
    def _texts(self) -> NDArray[np.object_]:
        return np.array([*self.book.addresses, None], object)[:-1]

    @cached_property
    def held_up(self) -> Bools:
        """Return which meetings are open, of unknown openness, or have an invitee who does not simply walk in."""
        outcome, needs = self.met
        found: Bools = self.open != 0
        found[self.invited.meeting[(outcome != WALKS_IN) | needs]] = True
        return found


def own_settings(snapshot: Snapshot, service: Service) -> Iterator[tuple[str, str, OwnSetting]]:
    """Yield the active settings of meetings on a service: meeting, control, and what is set."""
    table = snapshot.settings
    if table is None:
        return
    number = [one.id for one in snapshot.services or ()].index(service.id)
    for row in np.flatnonzero((table.kind == MEETING) & (table.service == number)).tolist():
        if table.value[row] != MISSING:
            name = table.scope.words[int(table.scope.codes[row])].partition(":")[2]
            value, changed = table.values[int(table.value[row])], int(table.changed[row])
            own = OwnSetting(value, bool(table.pinned[row]), int(table.row[row]), changed)
            yield name, table.controls[int(table.control[row])], own


@dataclass
class Agenda:
    """The planned meetings of a snapshot by service, and notes about what cannot be judged."""

    resolver: Resolver

    @cached_property
    def notes(self) -> frozenset[str]:
        """Meetings of no one, on a service that is not there, of a kind that the service does not have.

        Settings of no such meeting.
        """
        return frozenset(self._notes())

    @cached_property
    def services(self) -> Mapping[str, PlannedOn]:
        """Return the planned meetings of active organisers, by service."""
        table, snapshot = self.resolver.snapshot.meetings, self.resolver.snapshot
        if table is None:
            return {}
        rows = self._planned_rows(table)
        rows = rows[(table.service[rows] != MISSING) & (table.organiser[rows] != MISSING)]
        rows = rows[np.argsort(np.array(table.ids.take(rows), object), kind="stable")] if len(rows) else rows
        rows = rows[np.argsort(table.starts[rows], kind="stable")]
        return {
            service.id: PlannedOn(self.resolver, service, table, rows[table.service[rows] == number], lambda: self.book)
            for number, service in enumerate(snapshot.services or ())
            if np.any(table.service[rows] == number)
        }

    @cached_property
    def book(self) -> AddressBook:
        """Return every address that is invited to anything."""
        table = self.resolver.snapshot.meetings
        return address_book(
            self.resolver.snapshot, table.invitees.addresses if table is not None and table.invitees else ()
        )

    def edit(self, resolver: Resolver, touched: Mapping[str, Collection[str]]) -> Agenda:
        """Return the same meetings after some edits; `touched` are the edited controls by service."""
        after = Agenda(resolver)
        after.notes, after.book = self.notes, self.book
        after.services = {
            name: planned.edit(resolver, touched[name]) if name in touched else planned
            for name, planned in self.services.items()
        }
        return after

    def _planned_rows(self, table: Meetings) -> Longs:
        planned = table.starts >= self.resolver.snapshot.taken_at
        if table.recurring is not None:
            planned |= table.recurring
        return np.flatnonzero(planned)

    def _notes(self) -> Iterator[str]:
        """Yield what is strange about planned meetings: no service, no organiser, a kind the service lacks, odd
        addresses.
        """
        snapshot = self.resolver.snapshot
        table = snapshot.meetings
        if table is None:
            return
        rows = self._planned_rows(table)
        for row in rows[(table.service[rows] == MISSING) | (table.organiser[rows] == MISSING)].tolist():
            what = (
                "on a service that is not there"
                if table.service[row] == MISSING
                else "of someone who is not an active person"
            )
            yield f"the meeting {table.ids.take(np.array([row]))[0]} is {what}: it is not judged"
        for name, planned in self.services.items():
            missing = [place for place, kind in enumerate(MEETING_KINDS) if kind not in kinds_of(planned.service)]
            for number in np.flatnonzero(np.isin(planned.kinds, missing)).tolist():
                kind = MEETING_KINDS[int(planned.kinds[number])]
                yield (
                    f"the meeting {planned.ids[number]} is {kind}, of which {name} has none: it is judged by the "
                    "gates of that kind"
                )
            yield from self._strange(planned, table)
            strange = sum(
                "@" not in planned.book.addresses[address] for address in distinct(planned.invited.address).tolist()
            )
            if strange:
                many = "1 invited address" if strange == 1 else f"{strange} invited addresses"
                has = "has" if strange == 1 else "have"
                yield f"{many} on {name} {has} no @: taken for someone from elsewhere, of no known domain"

    def _strange(self, planned: PlannedOn, table: Meetings) -> Iterator[str]:
        ours = {service.id: set(table.ids.take(np.flatnonzero(table.service == number)))
                for number, service in enumerate(self.resolver.snapshot.services or ())}  # fmt: skip
        for name, control, _ in own_settings(self.resolver.snapshot, planned.service):
            if name not in ours[planned.service.id]:
                where = next((service for service, ids in ours.items() if name in ids), None)
                why = f"which is on {where}" if where else "which is not in the table"
                yield (
                    f"a setting of {control} on {planned.service.id} is set at the meeting {name}, {why}: it counts "
                    "nowhere"
                )

    def all(self, held_up: bool = False) -> Iterator[Planned]:
        """Yield every planned meeting by start, then id; with `held_up` only those to be looked at."""
        found = []
        for planned in self.services.values():
            numbers = np.flatnonzero(planned.held_up) if held_up else np.arange(len(planned))
            found += list(planned.planned(numbers.tolist(), not held_up))
        yield from sorted(found, key=lambda each: (each.starts_at, each.id))

    def find(self, meeting: str) -> tuple[PlannedOn, int] | None:
        """Return one planned meeting: its service's, and its number there."""
        for planned in self.services.values():
            if meeting in planned.ids:
                return planned, planned.ids.index(meeting)
        return None

    def count(self, services: Collection[str], kinds: Collection[str] | None, chosen: Bools | None) -> int:
        """Return how many meetings are planned on some services, of some kinds (None: any), by some organisers (None:
        anyone).
        """
        counted = 0
        for name, planned in self.services.items():
            if name in services:
                wanted = np.ones(len(planned), bool) if chosen is None else chosen[planned.organiser]
                if kinds:
                    wanted = wanted & np.isin(planned.kinds, [MEETING_KINDS.index(kind) for kind in kinds])
                counted += int(np.count_nonzero(wanted))
        return counted
