"""Who could get into a meeting: what is told."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

import numpy as np

from ...core.door.agenda import Planned
from ...core.door.doors import Door, DoorRoot
from ...core.door.matrix import Told
from ...core.door.one_meeting import InvitedTold
from ...core.door.visitors import SHOWS
from ...core.organisation.snapshot import Snapshot
from ...core.words.record import record


@record
class DoorAnswer:
    """The whole organisation: doors by service and kind, what opens them, the planned meetings that are to be looked at, and notes."""

    snapshot: Snapshot
    doors: tuple[Door, ...]
    roots: tuple[DoorRoot, ...]
    meetings: tuple[Planned, ...]
    planned: int
    notes: tuple[str, ...]


@record
class HostAnswer:
    """One host's matrix. `hosting` says on which services they are a host; `guesses` tell of passcodes that could be guessed."""

    snapshot: Snapshot
    person: int
    login: str
    hosting: tuple[str, ...]
    visits: tuple[Told, ...]
    guesses: tuple[str, ...]
    domain: str
    line_of: Callable[[int], str]


@record
class MeetingAnswer:
    """One planned meeting: each invited address, and what every kind of visitor meets there."""

    snapshot: Snapshot
    meeting: Planned
    invited: tuple[InvitedTold, ...]
    visits: tuple[Told, ...]
    notes: tuple[str, ...]
    line_of: Callable[[int], str]


def reads(told: Told, snapshot: Snapshot) -> str:
    """What the visitor reads, in one plain sentence."""
    ours = sorted(snapshot.domains or ())[:1]
    account = f"an account of {ours[0]}" if ours else "an account of the organisation"
    if told.outcome == "enters" and told.visit.kind in SHOWS:
        return "You can watch."
    if told.outcome == "enters":
        return "You are in." if told.visit.moment == "there" else "You are in, and nobody else may be here yet."
    if told.outcome == "unknown":
        return "It cannot be told from what is known."
    if told.gate == "waiting-room":
        return "Please wait: the host is told that you are here."
    if told.gate == "host":
        return "Please wait: the meeting has not begun."
    if told.gate == "passcode":
        return "Enter the passcode. It stands in the invitation; ask whoever invited you."
    if told.gate == "identity":
        if told.value == "own-organisation":
            return f"Only people who sign in with {account} can join. Ask the host to add you, or sign in with that account."
        if told.value == "listed-domains":
            return "Only people of organisations that are listed can join. Ask the host to have yours listed."
        return "Sign in with an account to join."
    if told.gate == "account":
        return "Sign in to join: nobody joins here without an account."
    if told.gate == "domain":
        return "People of your organisation cannot join here."
    if told.gate == "audience":
        return (
            f"This is for people who sign in with {account}."
            if told.value == "organisation"
            else "This is for invited people."
        )
    if told.gate == "room":
        return "This room is closed."
    return "This way in is closed. Use the app." if told.visit.way != "app" else "This way in is closed."


_ALPHABETS = {"digits": 10, "letters-and-digits": 62, "with-symbols": 94}
GUESSES = 100  # NIST SP 800-63B allows no more failures in a row


def guessing(found: Iterable[tuple[str, str | None, str | None]]) -> Iterator[str]:
    """How many passcodes there are, and the chance that a hundred guesses find one: passcodes of one length and composition together; of
    those of which either is not known nothing is said."""
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
            f"{', '.join(controls)}: {characters} {composition.replace('-', ' ')} make {words} passcodes; {GUESSES} guesses, more than "
            f"which NIST SP 800-63B allows nobody in a row, find the right one {chance}."
        )


def login_of(snapshot: Snapshot, person: int) -> str:
    """A person's login."""
    return snapshot.people.logins.take(np.array([person]))[0]
