"""Who may start meetings on a service, and what those are set to.

Hosts fall into classes of equal values, and only classes are asked.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from ..organisation.columns import Bools, Ints, Longs
from ..organisation.services import Service
from ..settings.contests import disputes
from ..settings.effective import Cause, Effective
from ..settings.resolver import Resolver
from ..words.values import Kind
from .gates import RIVALS, HeldControl, Panel
from .visitors import GUEST, asks_callers

MAY_START, START, LISTED = "door.may-start", "door.start", "door.listed-domains"
# The controls that decide at a gate.
ASKED = (
    "line.dial-in",
    "line.browser",
    "line.room-systems",
    "line.encryption",
    "door.refused-domains",
    "door.anonymous-join",
    "door.identity",
    "door.passcode-scheduled",
    "door.passcode-instant",
    "door.passcode-personal-room",
    "door.passcode-telephone",
    "door.passcode-in-link",
    "door.host-first",
    "door.waiting-room",
    "door.telephone-waits",
    "door.personal-room",
    "broadcast.webinar-audience",
    "broadcast.audience",
)
_WIDE = 1 << 22  # numbers of classes that are made dense by a table, not by sorting


def code_values(effective: Effective, kind: Kind, people: Ints | Longs) -> HeldControl:
    """Return the values of one control for some people.

    None where it is not known, or where the licence is not there.
    """
    if effective.licence_unknown:
        return HeldControl(np.zeros(len(people), np.int32), [None], [False])
    index: dict[tuple[str | None, bool], int] = {}
    pairs = zip(effective.values, effective.pinned.tolist(), strict=True)
    # Number the distinct pairs of value and pin, and give each person the number of theirs.
    table = np.array(
        [index.setdefault((value, value is not None and pin), len(index)) for value, pin in pairs], np.int32
    )
    codes = table[effective.places[people]]
    if effective.unlicensed and effective.lacking is not None:
        # People without the licence have no value.
        nothing = index.setdefault((None, False), len(index))
        codes = np.where(effective.lacking[people], nothing, codes).astype(np.int32)
    if kind.name == "set" and effective.contestable:
        # People whose settings of equal rank disagree hold all rival values at once.
        known = np.full(len(effective.places), -1, np.int64)
        known[people] = np.arange(len(people))
        licensed = np.ones(len(known), bool) if effective.lacking is None else ~effective.lacking
        for places, mine in disputes(effective, licensed & (known >= 0)):
            rivals = dict.fromkeys(effective.value(place) or "" for place in places)
            pair = RIVALS.join(rivals), bool(effective.pinned[places[0]])
            codes[known[mine]] = index.setdefault(pair, len(index))
    return HeldControl(codes, [value for value, _ in index], [pin for _, pin in index])


def _dense(key: Longs, size: int) -> tuple[Longs, int]:
    """Return the same classes numbered without gaps."""
    if size > _WIDE:
        words, codes = np.unique(key, return_inverse=True)
        return codes.reshape(-1).astype(np.int64), len(words)
    used = np.zeros(size, bool)
    used[key] = True
    number = np.cumsum(used) - 1
    return number[key].astype(np.int64), int(np.count_nonzero(used))


@dataclass
class Hosts:
    """The hosts of one service.

    `people` are their numbers, ascending; `edited` are the controls that are set otherwise than they are.
    """

    resolver: Resolver
    service: Service
    people: Longs
    edited: Mapping[str, Effective] = field(default_factory=dict)
    _held: dict[str, HeldControl] = field(default_factory=dict)

    def effective(self, control: str) -> Effective:
        """Return the effective values of a control, as edited."""
        return self.edited.get(control) or self.resolver.effective(self.service, control)

    def held(self, control: str) -> HeldControl | None:
        """Return the values of a control, one code a host; None where the service does not support it."""
        if control not in self.service.controls:
            return None
        if control not in self._held:
            kind = self.resolver.snapshot.catalogue.index[control].kind
            self._held[control] = code_values(self.effective(control), kind, self.people)
        return self._held[control]

    def value(self, control: str, host: int) -> str | None:
        """Return one host's value; None where it is not known or not supported. `host` is a place in `people`."""
        held = self.held(control)
        return None if held is None else held.values[int(held.codes[host])]

    @cached_property
    def asked(self) -> tuple[str, ...]:
        """Return the controls of gates that the service supports."""
        return tuple(control for control in ASKED if control in self.service.controls)

    @cached_property
    def _classes(self) -> tuple[Ints, Longs]:
        key, size = np.zeros(len(self.people), np.int64), 1
        for control in self.asked:
            held = self.held(control)
            if held is not None and len(held.values) > 1:
                key, size = _dense(key * len(held.values) + held.codes, size * len(held.values))
        key, size = _dense(key, max(size, 1))
        first = np.zeros(size, np.int64)
        first[key[::-1]] = np.arange(len(key) - 1, -1, -1)
        return key.astype(np.int32), first

    @property
    def class_of(self) -> Ints:
        """Return for each host the number of their class."""
        return self._classes[0]

    @property
    def first_of_class(self) -> Longs:
        """Return for each class one host of it."""
        return self._classes[1]

    @cached_property
    def panel(self) -> Panel:
        """Return what the meetings of each class are set to."""
        return self.panel_of(self.first_of_class)

    def panel_of(self, hosts: Longs, controls: Iterable[str] | None = None) -> Panel:
        """Return what the meetings of some hosts (places in `people`) are set to."""
        held = {
            control: one.take(hosts) for control in controls or self.asked if (one := self.held(control)) is not None
        }
        changeable = frozenset(control for control in held if self.service.changeable(control))
        return Panel(
            size=len(hosts),
            held=held,
            catalogue=self.resolver.snapshot.catalogue,
            callers=asks_callers(self.service),
            changeable=changeable,
        )

    def count(self, mask: Bools) -> int:
        """Return how many hosts the classes that a mask holds have."""
        return int(self._sizes[mask].sum())

    @cached_property
    def _sizes(self) -> Longs:
        return np.bincount(self.class_of, minlength=len(self.first_of_class))

    def places(self, control: str) -> Ints:
        """Return for each host the place of the cause of a control's value."""
        places: Ints = self.effective(control).places[self.people]
        return places

    def cause(self, control: str, host: int) -> Cause | None:
        """Return where a host's value comes from; None where it is not known. `host` is a place in `people`."""
        if control not in self.service.controls:
            return None
        person, effective = int(self.people[host]), self.effective(control)
        if effective.licence_of(person) in ("unavailable", "unknown"):
            return None
        found = effective.cause(int(effective.places[person]))
        return found if found.scope is not None else None

    def edit(self, after: Mapping[str, Effective]) -> Hosts:
        """Return the same people with other values of some controls."""
        known = {control: held for control, held in self._held.items() if control not in after}
        return replace(self, edited={**self.edited, **after}, _held=known)

    def only(self, chosen: Bools) -> Hosts:
        """Return those hosts who are among some people."""
        return replace(self, people=self.people[chosen[self.people]], _held={})


def everybody_on(resolver: Resolver, service: Service, edited: Mapping[str, Effective] | None = None) -> Hosts:
    """Return every active person as if they were a host there, whether they have an account and may start meetings or
    not.
    """
    return Hosts(resolver, service, np.arange(len(resolver.snapshot.people)), edited or {})


def may_start(hosts: Hosts) -> Bools:
    """Return mask of the people who may start meetings, as far as is known."""
    may = np.ones(len(hosts.people), bool)
    held = hosts.held(MAY_START)
    if held is not None:
        may &= ~np.array([value == "off" for value in held.values], bool)[held.codes]
    held = hosts.held(START)
    if held is not None:
        members_only = np.array([value == "members" for value in held.values], bool)[held.codes]
        kind = hosts.resolver.snapshot.people.kind
        may &= ~(members_only & kind.where([word == GUEST for word in kind.words])[hosts.people])
    return may


def hosts_of(resolver: Resolver, service: Service) -> Hosts:
    """Return who may start meetings on a service: everyone with an account, unless it is known that they may not."""
    every = everybody_on(resolver, service)
    return Hosts(resolver, service, np.flatnonzero(resolver.accounts(service) & may_start(every)))
