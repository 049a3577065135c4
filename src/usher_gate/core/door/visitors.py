"""Visitors and the meetings they come to, in the order in which they are listed. Spec: doors 1 and 4.3."""

from __future__ import annotations

from collections.abc import Collection
from functools import cache, lru_cache
from itertools import product

from ..organisation.services import Service
from ..words.record import record
from ..words.vocabulary import DOOR_WAYS, MEETING_KINDS

SCHEDULED, INSTANT, PERSONAL, WEBINAR, BROADCAST = MEETING_KINDS
STANDINGS = NOBODY, OUTSIDER, PARTNER, GUEST, MEMBER = "nobody", "outsider", "partner", "guest", "member"
HOLDINGS = NUMBER, LINK, INVITATION = "number", "link", "invitation"
WAYS = APP, BROWSER, TELEPHONE, ROOM_SYSTEM = DOOR_WAYS
MOMENTS = BEFORE, THERE = "before", "there"
OUTCOMES = ENTERS, WAITS, REFUSED, UNKNOWN = "enters", "waits", "refused", "unknown"  # weakest first
ROOMS = (SCHEDULED, INSTANT, PERSONAL)  # what `any` kind means to a rule
SHOWS = (WEBINAR, BROADCAST)  # kinds with an audience in place of a door
WITHOUT_ACCOUNT = (TELEPHONE, ROOM_SYSTEM)  # who comes so shows no account

# The control that shuts a way, and the passcode of each kind.
WAY_CONTROLS = {BROWSER: "line.browser", TELEPHONE: "line.dial-in", ROOM_SYSTEM: "line.room-systems"}
PASSCODES = {
    SCHEDULED: "door.passcode-scheduled",
    INSTANT: "door.passcode-instant",
    PERSONAL: "door.passcode-personal-room",
}
TELEPHONE_PASSCODE = "door.passcode-telephone"
AUDIENCES = {WEBINAR: "broadcast.webinar-audience", BROADCAST: "broadcast.audience"}
_MEETINGS = (
    "door.waiting-room",
    "door.identity",
    "door.anonymous-join",
    "door.passcode-scheduled",
    "door.passcode-instant",
)


@record
class Visit:
    """Describes how someone comes.

    To which kind of meeting, with which standing, holding what, by which way, at which moment.
    """

    kind: str
    standing: str
    holding: str
    way: str
    moment: str

    @property
    def stranger(self) -> bool:
        """Return whether no one who is known, with no more than a link or a number."""
        return self.standing in (NOBODY, OUTSIDER) and self.holding in (LINK, NUMBER)

    @property
    def text(self) -> str:
        """Return the visit in words: `nobody with a link by browser into a personal meeting before the host`."""
        who = self.standing if self.standing == NOBODY else _one(self.standing)
        when = "before the host" if self.moment == BEFORE else "with the host there"
        return f"{who} with {_one(self.holding)} by {self.way} into {_one(room_of(self.kind))} {when}"


def _one(thing: str) -> str:
    return f"{'an' if thing[0] in 'aeiou' else 'a'} {thing}"


def room_of(kind: str) -> str:
    """Return what someone gets into, in words."""
    if kind == PERSONAL:
        return "personal room"
    return kind if kind in SHOWS else f"{kind} meeting"


@cache
def _every() -> tuple[Visit, ...]:
    """Return every possible visit, in the order of Spec: doors 4.3; by telephone no one has a link."""
    return tuple(
        Visit(kind=kind, standing=standing, holding=holding, way=way, moment=moment)
        for kind, standing, holding, way in product(MEETING_KINDS, STANDINGS, HOLDINGS, WAYS)
        if (standing == NOBODY or way not in WITHOUT_ACCOUNT) and not (way == TELEPHONE and holding == LINK)
        for moment in MOMENTS
    )


@lru_cache(maxsize=256)
def visits(kinds: tuple[str, ...], ways: tuple[str, ...]) -> tuple[Visit, ...]:
    """Return the visits to some kinds of meeting by some ways, in the order of Spec: doors 4.3.

    Each is the same object every time.
    """
    return tuple(visit for visit in _every() if visit.kind in kinds and visit.way in ways)


@record
class VisitorSelection:
    """Says who is asked about.

    To which kinds of meeting, with which standings, holding what, by which ways, at which moments; each in the order of
    Spec: doors 4.3.
    """

    kinds: tuple[str, ...]
    standings: tuple[str, ...]
    holdings: tuple[str, ...]
    ways: tuple[str, ...]
    moments: tuple[str, ...]

    def visits(self, kinds: Collection[str], ways: Collection[str]) -> tuple[Visit, ...]:
        """Return the visits to a service with these kinds and ways, in the order of Spec: doors 4.3."""
        every = visits(
            tuple(kind for kind in self.kinds if kind in kinds), tuple(way for way in self.ways if way in ways)
        )
        return _among(every, self.standings, self.holdings, self.moments)

    @property
    def text(self) -> str:
        """Return who is asked about, in words: `nobody or outsider with number or link into any meeting`."""
        parts = [
            _chosen(self.standings, STANDINGS, "", "anybody"),
            _chosen(self.holdings, HOLDINGS, "with "),
            _chosen(self.ways, WAYS, "by "),
            "into any meeting"
            if self.kinds == ROOMS
            else f"into {' or '.join(_one(room_of(kind)) for kind in self.kinds)}",
            _chosen(self.moments, MOMENTS, "")
            .replace("before", "before the host")
            .replace("there", "once the host is there"),
        ]
        return " ".join(part for part in parts if part)


def _chosen(some: tuple[str, ...], every: tuple[str, ...], before: str, anything: str = "") -> str:
    return anything if some == every else before + " or ".join(some)


@lru_cache(maxsize=256)
def _among(
    every: tuple[Visit, ...], standings: tuple[str, ...], holdings: tuple[str, ...], moments: tuple[str, ...]
) -> tuple[Visit, ...]:
    return tuple(
        each for each in every if each.standing in standings and each.holding in holdings and each.moment in moments
    )


def kinds_of(service: Service) -> tuple[str, ...]:
    """Return the kinds of meeting that a service has: as it says, else by the controls that it supports."""
    if service.door is not None and service.door.kinds is not None:
        return tuple(kind for kind in MEETING_KINDS if kind in service.door.kinds)
    found = [SCHEDULED, INSTANT] if service.controls & frozenset(_MEETINGS) else []
    found += [PERSONAL] if found and "door.personal-room" in service.controls else []
    return (*found, *(kind for kind in SHOWS if AUDIENCES[kind] in service.controls))


def ways_of(service: Service) -> tuple[str, ...]:
    """Return the ways into a service's meetings: as it says, else by the controls that it supports."""
    if service.door is not None and service.door.ways is not None:
        return tuple(way for way in WAYS if way in service.door.ways)
    return (APP, BROWSER, *(way for way in WITHOUT_ACCOUNT if WAY_CONTROLS[way] in service.controls))


def asks_callers(service: Service) -> bool:
    """Return whether identity and anonymous-join bind callers and room systems."""
    return service.door is not None and service.door.asks_callers
