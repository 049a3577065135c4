"""The gates between a visitor and the room, for many hosts at once.

What each gives, at least and at most, where a value is not known.

Spec: doors 3.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..organisation.columns import Bools, Ints, Longs
from ..words.catalogue import Catalogue
from ..words.record import record
from ..words.values import split_words
from .visitors import (
    AUDIENCES,
    BEFORE,
    GUEST,
    INVITATION,
    MEMBER,
    NOBODY,
    NUMBER,
    OUTSIDER,
    PARTNER,
    PASSCODES,
    PERSONAL,
    SHOWS,
    TELEPHONE,
    TELEPHONE_PASSCODE,
    WAY_CONTROLS,
    WITHOUT_ACCOUNT,
    Visit,
)

Results = NDArray[np.int8]  # 0 enters, 1 waits, 2 refused
PASSES, STOPS, SHUTS = 0, 1, 2
ROOM = "door.personal-room"
ENCRYPTION = "line.encryption"
REFUSED = "door.refused-domains"
IN_LINK = "door.passcode-in-link"
RIVALS = "\n"  # between the rivals of a contested set
# Who walks past the waiting room, by its value.
WALK_PAST: Mapping[str, frozenset[str]] = {
    "everyone": frozenset((NOBODY, OUTSIDER, PARTNER, GUEST, MEMBER)),
    "partners": frozenset((PARTNER, GUEST, MEMBER)),
    "guests": frozenset((GUEST, MEMBER)),
    "members": frozenset((MEMBER,)),
    "invitees": frozenset((MEMBER,)),  # of these only holders of an invitation
    "hosts": frozenset(),
}
_REFUSED_BY_IDENTITY: Mapping[str, frozenset[str]] = {
    "anyone": frozenset(),
    "any-account": frozenset((NOBODY,)),
    "listed-domains": frozenset((NOBODY, OUTSIDER)),
    "own-organisation": frozenset((NOBODY, OUTSIDER, PARTNER)),
}


# The gates in the order in which a visitor comes to them; `room` is a personal room that does not exist.
GATES = ("way", "domain", "account", "identity", "passcode", "host", "waiting-room", "audience", "room")


@record
class Gate:
    """Describes what one gate gives at least and at most (one number a host), and the control that it is about.

    `beside` is another control that alone can make it let this visitor pass.
    """

    name: str
    control: str
    least: Results
    most: Results
    beside: str = ""


@record
class HeldControl:
    """The values of one control for some hosts (or meetings).

    `codes` (one each) into `values`, None for one that is not known; `pinned` says of each whether a pin holds it. A
    contested set is kept as its rivals, one a line. What was asked of it already is kept: for each value (`given`),
    whatever the rows, and as the gate for these rows (`known`).
    """

    codes: Ints
    values: Sequence[str | None]
    pinned: Sequence[bool]
    given: dict[Hashable, tuple[Results, Results]] = field(default_factory=dict)
    known: dict[Hashable, Gate] = field(default_factory=dict)

    def take(self, rows: Ints | Longs) -> HeldControl:
        """Return the same for some rows."""
        return HeldControl(self.codes[rows], self.values, self.pinned, self.given)

    @property
    def texts(self) -> list[str | None]:
        """Return the value of each row."""
        return [self.values[code] for code in self.codes.tolist()]

    @classmethod
    def of(cls, texts: Sequence[str | None], pinned: Sequence[bool]) -> HeldControl:
        """From the value of each row, and whether it is pinned."""
        index: dict[tuple[str | None, bool], int] = {}
        codes = [index.setdefault(pair, len(index)) for pair in zip(texts, pinned, strict=True)]
        return cls(np.array(codes, np.int32), [value for value, _ in index], [held for _, held in index])


@record
class Panel:
    """Describes what some hosts' meetings of a service are set to: by control, those that the service supports.

    `callers` says that identity and anonymous-join bind callers and room systems; `changeable` are the controls that
    people can change where nothing is pinned. `met` is what visitors (those of `visits`, which are the same objects
    each time) met already.
    """

    size: int
    held: Mapping[str, HeldControl]
    catalogue: Catalogue
    callers: bool
    changeable: frozenset[str] = frozenset()
    met: dict[Visit, VisitOutcome] = field(default_factory=dict)

    def with_value(self, control: str, value: str) -> Panel:
        """Return the same with one control set to a value for everyone."""
        one = HeldControl(np.zeros(self.size, np.int32), [value], [False])
        return Panel(
            size=self.size,
            held={**self.held, control: one},
            catalogue=self.catalogue,
            callers=self.callers,
            changeable=self.changeable,
        )

    def take(self, rows: Ints | Longs) -> Panel:
        """Return some rows, in this order."""
        held = {control: one.take(rows) for control, one in self.held.items()}
        return Panel(
            size=len(rows), held=held, catalogue=self.catalogue, callers=self.callers, changeable=self.changeable
        )

    def with_values(self, changes: Mapping[str, Mapping[int, tuple[str | None, bool]]]) -> Panel:
        """Return the same with other values (and pins) of some controls at some rows."""
        held = dict(self.held)
        for control, rows in changes.items():
            one = held[control]
            index = {pair: code for code, pair in enumerate(zip(one.values, one.pinned, strict=True))}
            codes = one.codes.copy()
            for row, pair in rows.items():
                codes[row] = index.setdefault(pair, len(index))
            held[control] = HeldControl(codes, [value for value, _ in index], [pin for _, pin in index])
        return Panel(
            size=self.size, held=held, catalogue=self.catalogue, callers=self.callers, changeable=self.changeable
        )

    def openable(self, control: str, strict: bool) -> Bools:
        """Return where the hosts themselves can change a control (`strict`: where no pin holds it)."""
        if control not in self.held or not (strict or control in self.changeable):
            return np.zeros(self.size, bool)
        held = self.held[control]
        return ~np.array(held.pinned, bool)[held.codes]


def _gate(
    panel: Panel,
    name: str,
    control: str,
    visitor_key: Hashable,
    gives: Callable[[str], int],
    unknown: tuple[int, int] | None = None,
) -> Gate:
    """Return the gate at a control; an unknown value may give whatever one of its values would (`unknown`, for a set).

    `visitor_key` is all that `gives` hangs on beside the value: visitors alike in it meet the same gate.
    """
    held = panel.held[control]
    if visitor_key not in held.known:
        if visitor_key not in held.given:
            held.given[visitor_key] = _asked(panel, control, held, gives, unknown)
        least, most = held.given[visitor_key]
        held.known[visitor_key] = Gate(name, control, least[held.codes], most[held.codes])
    return held.known[visitor_key]


def _asked(
    panel: Panel, control: str, held: HeldControl, gives: Callable[[str], int], unknown: tuple[int, int] | None
) -> tuple[Results, Results]:
    every = unknown or [gives(word) for word in panel.catalogue.index[control].kind.words]
    least = [min(every) if value is None else gives(value) for value in held.values]
    most = [max(every) if value is None else gives(value) for value in held.values]
    return np.array(least, np.int8), np.array(most, np.int8)


def refuses(value: str, domain: str) -> int:
    """Return what a set of refused domains gives for a visitor of a domain (of a contested set the weakest)."""
    rivals = [{one.casefold() for one in split_words(rival)} for rival in value.split(RIVALS)]
    return SHUTS if all(domain.casefold() in rival for rival in rivals) else PASSES


def gates(panel: Panel, visit: Visit, domain: str = "") -> list[Gate]:
    """Return the gates that a visitor meets, in order. `domain` is that of the visitor's account where it is known."""
    found = _way(panel, visit)
    if domain and REFUSED in panel.held:
        found.append(
            _gate(panel, "domain", REFUSED, domain, lambda value: refuses(value, domain), (PASSES, SHUTS)),
        )
    if visit.kind in SHOWS:
        return found + _audience(panel, visit)
    asked = panel.callers or visit.way not in WITHOUT_ACCOUNT
    if asked and "door.anonymous-join" in panel.held and visit.standing == NOBODY:
        found.append(_gate(panel, "account", "door.anonymous-join", "", _shut_by("off")))
    if asked and "door.identity" in panel.held:
        strange = lambda value: SHUTS if visit.standing in _REFUSED_BY_IDENTITY[value] else PASSES  # noqa: E731
        found.append(_gate(panel, "identity", "door.identity", visit.standing, strange))
    found += _passcode(panel, visit)
    if "door.host-first" in panel.held and visit.moment == BEFORE:
        found.append(_gate(panel, "host", "door.host-first", "", lambda value: STOPS if value == "on" else PASSES))
    return found + _waiting(panel, visit)


def _shut_by(word: str) -> Callable[[str], int]:
    return lambda value: SHUTS if value == word else PASSES


def _way(panel: Panel, visit: Visit) -> list[Gate]:
    """Return the way itself.

    End-to-end encryption beside another way than the app contradicts it, so the gate may give either.
    """
    own, found = WAY_CONTROLS.get(visit.way, ""), []
    if own in panel.held:
        found.append(_gate(panel, "way", own, "", _shut_by("off")))
    if own and ENCRYPTION in panel.held:
        shut, known = _gate(panel, "way", ENCRYPTION, "", _shut_by("end-to-end")), panel.held[ENCRYPTION].known
        if "either" not in known:
            known["either"] = Gate("way", ENCRYPTION, np.zeros_like(shut.most), shut.most)
        found.append(known["either"])
    return found


def _audience(panel: Panel, visit: Visit) -> list[Gate]:
    control = AUDIENCES[visit.kind]
    if control not in panel.held:
        return []

    def gives(value: str) -> int:
        ours = visit.standing in (MEMBER, GUEST)
        inside = value == "public" or (ours and (value == "organisation" or visit.holding == INVITATION))
        return PASSES if inside else SHUTS

    return [_gate(panel, "audience", control, (visit.standing, visit.holding), gives)]


def passcode_of(visit: Visit) -> str:
    """Return the passcode that a visitor is asked."""
    return TELEPHONE_PASSCODE if visit.way == TELEPHONE else PASSCODES[visit.kind]


def _passcode(panel: Panel, visit: Visit) -> list[Gate]:
    control = passcode_of(visit)
    if control not in panel.held:
        return []
    if visit.holding == INVITATION or (visit.holding != NUMBER and IN_LINK not in panel.held):
        return [
            _gate(panel, "passcode", control, INVITATION, lambda _: PASSES)
        ]  # without the control the link carries it
    whole = _gate(panel, "passcode", control, "", _shut_by("on"))
    if visit.holding == NUMBER:
        return [whole]
    bare = _gate(panel, "passcode", IN_LINK, "", _shut_by("off"))
    least, most = np.minimum(whole.least, bare.least), np.minimum(whole.most, bare.most)
    return [Gate(name="passcode", control=control, least=least, most=most, beside=IN_LINK)]


def waiting_of(panel: Panel, visit: Visit) -> str:
    """Return the control that says whether a visitor waits."""
    telephone = visit.way == TELEPHONE and "door.telephone-waits" in panel.held
    return "door.telephone-waits" if telephone else "door.waiting-room"


def _waiting(panel: Panel, visit: Visit) -> list[Gate]:
    control = waiting_of(panel, visit)
    if control not in panel.held:
        return []

    def gives(value: str) -> int:
        if control == "door.telephone-waits":
            return STOPS if value == "on" else PASSES
        past = visit.standing in WALK_PAST[value] and (value != "invitees" or visit.holding == INVITATION)
        return PASSES if past else STOPS

    return [_gate(panel, "waiting-room", control, (visit.standing, visit.holding), gives)]


@lru_cache(maxsize=256)
def looked_at(visits: tuple[Visit, ...]) -> frozenset[str]:
    """Return the controls on which it can hang what some visitors meet, or what mends that.

    Whatever else is set makes no difference.
    """
    found: set[str] = set()
    for visit in visits:
        way = WAY_CONTROLS.get(visit.way)
        found |= set() if way is None else {way, ENCRYPTION}
        if visit.kind in SHOWS:
            found.add(AUDIENCES[visit.kind])
            continue
        found |= {
            "door.anonymous-join",
            "door.identity",
            passcode_of(visit),
            IN_LINK,
            "door.host-first",
            "door.waiting-room",
        }
        found |= {"door.telephone-waits"} if visit.way == TELEPHONE else set()
        found |= {ROOM} if visit.kind == PERSONAL else set()
    return frozenset(found)


@record
class VisitOutcome:
    """Describes what a visitor meets at each of some hosts.

    The outcome lies between `least` and `most` (equal where it is known). `exists` is 1 where the room is known to be
    there, 0 where it is known not to be, 2 where that is not known. `known` says where the outcome is known: a room of
    which no one knows whether it is there is known only to be shut.
    """

    visit: Visit
    gates: Sequence[Gate]
    least: Results
    most: Results
    exists: Results
    known: Bools

    @property
    def stopping(self) -> Ints:
        """Return how many gates are known to stop the visitor."""
        counted = np.zeros(len(self.least), np.int32)
        for gate in self.gates:
            counted += gate.least > PASSES
        return counted

    def deciding(self, row: int) -> Gate | None:
        """Return the gate that decides at one host; None where the visitor enters."""
        if self.known[row] and self.least[row] == PASSES:
            return None
        if self.known[row]:
            return next((gate for gate in self.gates if gate.least[row] == self.least[row]), None)
        if self.exists[row] != 1:
            return Gate("room", ROOM, np.zeros_like(self.least), np.full_like(self.most, SHUTS))
        return next((gate for gate in self.gates if gate.most[row] > self.least[row]), None)


def meet(panel: Panel, visit: Visit, domain: str = "") -> VisitOutcome:
    """Return what a visitor meets at each host."""
    if domain:
        return _meet(panel, visit, domain)
    if visit not in panel.met:
        panel.met[visit] = _meet(panel, visit, "")
    return panel.met[visit]


def _meet(panel: Panel, visit: Visit, domain: str) -> VisitOutcome:
    found = gates(panel, visit, domain)
    # The strictest gate decides, once by the least and once by the most that is possible.
    least, most = np.zeros(panel.size, np.int8), np.zeros(panel.size, np.int8)
    for gate in found:
        np.maximum(least, gate.least, out=least)
        np.maximum(most, gate.most, out=most)
    # A personal room must also exist; where that is not known, only a certain refusal is known.
    exists, known = np.ones(panel.size, np.int8), least == most
    if visit.kind == PERSONAL and ROOM in panel.held:
        held = panel.held[ROOM]
        exists = np.array([2 if value is None else int(value != "off") for value in held.values], np.int8)[held.codes]
        known &= (exists == 1) | (least == SHUTS)
    return VisitOutcome(visit=visit, gates=found, least=least, most=most, exists=exists, known=known)
