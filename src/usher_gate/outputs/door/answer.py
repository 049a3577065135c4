"""Who could get into a meeting: what is shown."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

import numpy as np

from ...core.door.agenda import Planned
from ...core.door.doors import Door, DoorRoot
from ...core.door.matrix import Encounter
from ...core.door.one_meeting import InviteeEncounter
from ...core.door.visitors import SHOWS
from ...core.organisation.snapshot import Snapshot
from ...core.words.record import record


@record
class DoorAnswer:
    """The whole organisation.

    Doors by service and kind, what opens them, the planned meetings that are to be looked at, and notes.
    """

    snapshot: Snapshot
    doors: tuple[Door, ...]
    roots: tuple[DoorRoot, ...]
    meetings: tuple[Planned, ...]
    planned: int
    notes: tuple[str, ...]


@record
class HostAnswer:
    """One host's matrix.

    `hosting` says on which services they are a host; `guesses` are about passcodes that could be guessed.
    """

    snapshot: Snapshot
    person: int
    login: str
    hosting: tuple[str, ...]
    visits: tuple[Encounter, ...]
    guesses: tuple[str, ...]
    domain: str
    line_of: Callable[[int], str]


@record
class MeetingAnswer:
    """One planned meeting: each invited address, and what every kind of visitor meets there."""

    snapshot: Snapshot
    meeting: Planned
    invited: tuple[InviteeEncounter, ...]
    visits: tuple[Encounter, ...]
    notes: tuple[str, ...]
    line_of: Callable[[int], str]


def reads(encounter: Encounter, snapshot: Snapshot) -> str:
    """Return what the visitor reads, in one plain sentence."""
    ours = sorted(snapshot.domains or ())[:1]
    account = f"an account of {ours[0]}" if ours else "an account of the organisation"
    if encounter.outcome == "enters" and encounter.visit.kind in SHOWS:
        return "You can watch."
    if encounter.outcome == "enters":
        return "You are in." if encounter.visit.moment == "there" else "You are in, and no one else may be here yet."
    if encounter.outcome == "unknown":
        return "It is not known."
    if encounter.gate == "waiting-room":
        return "Please wait: the host can see that you are here."
    if encounter.gate == "host":
        return "Please wait: the meeting has not begun."
    if encounter.gate == "passcode":
        return "Enter the passcode. It is in the invitation; ask the person who invited you."
    if encounter.gate == "identity":
        if encounter.value == "own-organisation":
            return (
                f"Only people who sign in with {account} can join. Ask the host to add you, or sign in with that "
                "account."
            )
        if encounter.value == "listed-domains":
            return "Only people of organisations that are listed can join. Ask the host to have yours listed."
        return "Sign in with an account to join."
    if encounter.gate == "account":
        return "Sign in to join: no one joins here without an account."
    if encounter.gate == "domain":
        return "People of your organisation cannot join here."
    if encounter.gate == "audience":
        return (
            f"This is for people who sign in with {account}."
            if encounter.value == "organisation"
            else "This is for invited people."
        )
    if encounter.gate == "room":
        return "This room is closed."
    return "This way in is closed. Use the app." if encounter.visit.way != "app" else "This way in is closed."


_ALPHABETS = {"digits": 10, "letters-and-digits": 62, "with-symbols": 94}
GUESSES = 100  # NIST SP 800-63B allows no more failures in a row


def guessing(found: Iterable[tuple[str, str | None, str | None]]) -> Iterator[str]:
    """Yield how many passcodes there are, and the chance that a hundred guesses find one.

    Passcodes of one length and composition together; of those of which either is not known nothing is said.
    """
    alike: dict[tuple[int, str], list[str]] = {}
    for control, length, composition in found:
        if length is not None and composition is not None and length.isdecimal() and 0 < int(length) <= 60:
            alike.setdefault((int(length), composition), []).append(control)
    for (characters, composition), controls in alike.items():
        number = _ALPHABETS[composition] ** characters
        words = f"{number:,}" if number < 10**15 else f"{_ALPHABETS[composition]} to the power of {characters}"
        odds = max(1, number // GUESSES)
        chance = f"1 time in {odds:,}" if odds < 10**15 else "practically never"
        yield (
            f"{', '.join(controls)}: {characters} {composition.replace('-', ' ')} make {words} passcodes; {GUESSES} "
            "guesses, more than "
            f"which NIST SP 800-63B allows no one in a row, find the right one {chance}."
        )


def login_of(snapshot: Snapshot, person: int) -> str:
    """Return a person's login."""
    return snapshot.people.logins.take(np.array([person]))[0]
