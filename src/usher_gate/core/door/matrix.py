"""One host: what each kind of visitor meets, and what they could do once inside."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator

import numpy as np

from ..settings.effective import Cause
from ..words.record import record
from ..words.values import split_words
from .gates import RIVALS, Panel, VisitOutcome, meet
from .hosts import LISTED, Hosts
from .visitors import (
    GUEST,
    NOBODY,
    NUMBER,
    OUTCOMES,
    OUTSIDER,
    PARTNER,
    REFUSED,
    TELEPHONE_PASSCODE,
    UNKNOWN,
    Visit,
    visits,
)


@record
class Encounter:
    """One visit to one host.

    The outcome, the gate that decides with its control and value and where that is set, how many gates are known to
    stop the visitor, and what the visitor may do once inside (`perhaps: …` where that is not known).
    """

    service: str
    visit: Visit
    outcome: str
    gate: str
    control: str
    value: str | None
    cause: Cause | None
    gates: int
    inside: tuple[str, ...]


Asked = Callable[
    [str], tuple[str | None, Cause | None]
]  # the value of a control (None: not known), and where it comes from


def outcome_of(met: VisitOutcome, row: int) -> str:
    """Return what a visitor meets at one row, as a word."""
    return OUTCOMES[int(met.least[row])] if bool(met.known[row]) else UNKNOWN


def encounter_at(
    panel: Panel, service: str, visit: Visit, asked: Asked, supported: Collection[str], domain: str = ""
) -> Encounter | None:
    """Return what a visitor meets at the one row of a panel; None where the room is known not to be there."""
    met = meet(panel, visit, domain)
    if met.exists[0] == 0:
        return None
    gate, outcome = met.deciding(0), outcome_of(met, 0)
    value, cause = asked(gate.control) if gate is not None else (None, None)
    inside = tuple(may_inside(asked, supported, visit)) if outcome != REFUSED else ()
    control = gate.control if gate else ""
    return Encounter(
        service=service,
        visit=visit,
        outcome=outcome,
        gate=gate.name if gate else "",
        control=control,
        value=value,
        cause=cause,
        gates=int(met.stopping[0]),
        inside=inside,
    )


def matrix(hosts: Hosts, host: int, kinds: Collection[str], ways: Collection[str], domain: str = "") -> list[Encounter]:
    """Return everything that each kind of visitor meets at one host (a place in `hosts.people`), in the order of Spec.

    Doors 4.3.

    Rooms that are known not to be there are left out. With a domain: visitors whose account is of that domain.
    """
    panel = hosts.panel_of(np.array([host], np.int64))

    def asked(control: str) -> tuple[str | None, Cause | None]:
        value = hosts.value(control, host)
        return None if value is None else value.replace(RIVALS, " or "), hosts.cause(control, host)

    standings = standings_of(hosts, host, domain) if domain else None
    found = (
        encounter_at(panel, hosts.service.id, visit, asked, hosts.service.controls, domain)
        for visit in visits(tuple(kinds), tuple(ways))
        if standings is None or visit.standing in standings
    )
    return [encounter for encounter in found if encounter is not None]


def standings_of(hosts: Hosts, host: int, domain: str) -> frozenset[str]:
    """Return what a visitor of a domain may stand as at one host.

    A guest, or one from elsewhere whose domain is listed or not (both, where that is not known).
    """
    ours = {one.casefold() for one in hosts.resolver.snapshot.domains or ()}
    if domain.casefold() in ours:
        return frozenset((GUEST, PARTNER))
    if LISTED not in hosts.service.controls:
        return frozenset((GUEST, OUTSIDER))
    listed = hosts.value(LISTED, host)
    if listed is None:
        return frozenset((GUEST, PARTNER, OUTSIDER))
    return frozenset((GUEST, *(PARTNER if held else OUTSIDER for held in listing(listed, domain))))


def listing(listed: str, domain: str) -> set[bool]:
    """Return whether a list of domains (or each rival of a contested one) holds a domain."""
    return {domain.casefold() in {one.casefold() for one in split_words(rival)} for rival in listed.split(RIVALS)}


_DOING = {
    "room.share-screen": "share a screen",
    "room.chat": "write in the chat",
    "room.polls": "start polls",
    "room.annotation": "draw on what is shared",
    "room.anonymous-apps": "let apps act",
    "room.recording": "record",
    "room.co-hosts": "be made co-host",
}


def may_inside(asked: Asked, supported: Collection[str], visit: Visit) -> Iterator[str]:
    """Yield what a visitor may do once inside."""
    for control, doing in _DOING.items():
        if control == "room.anonymous-apps" and visit.standing != NOBODY:
            continue
        value = asked(control)[0] if control in supported else "on"
        if value is None:
            yield f"perhaps: {doing}"
        elif value in ("everyone", "on") or (value == "members" and visit.standing == "member"):
            yield doing
        elif value == "with-hosts":
            yield f"{doing} (to hosts)"


def guessable(hosts: Hosts, host: int, every: Collection[Encounter]) -> Iterator[tuple[str, str | None, str | None]]:
    """Yield the passcodes of one host that stop someone who has only the number.

    Which, of how many characters, of which composition (None: not known). By telephone a passcode is of digits,
    whatever the composition says.
    """
    stopped = {each.control for each in every if each.gate == "passcode" and each.visit.holding == NUMBER}
    length, composition = (hosts.value(f"door.passcode-{name}", host) for name in ("length", "composition"))
    for control in sorted(stopped):
        yield control, length, "digits" if control == TELEPHONE_PASSCODE else composition
