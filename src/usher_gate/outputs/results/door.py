"""Who could get into a meeting: in the whole organisation, of one host, and at one planned meeting."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from operator import attrgetter
from typing import NamedTuple

import numpy as np

from ...core.door.agenda import Planned
from ...core.door.doors import Door, DoorRoot
from ...core.door.gates import GATES
from ...core.door.matrix import Encounter
from ...core.door.one_meeting import InviteeEncounter
from ...core.door.visitors import OUTCOMES, SHOWS, Visit
from ...core.organisation.columns import Longs
from ...core.organisation.snapshot import Snapshot
from ...core.words.record import record
from ...core.words.times import rfc3339
from ...core.words.vocabulary import MEETING_KINDS
from ..fields import (
    COUNT,
    NOTES,
    TEXT,
    TEXTS,
    TIME,
    TRUTH,
    VALUE,
    WORD,
    Field,
    enum,
    list_of,
    maybe,
    nullable,
    numbers_by,
    object_of,
)
from ..writers import Result, Rows
from .common import CAUSE, DOOR_OUTCOME, VISIT, title_field


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
    opened: Mapping[tuple[str, str], Longs]  # by service and kind the people (numbers) whose door is open to a stranger


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


@record
class _VisitorRow:
    """A visitor type at the doors of one service and kind of meeting."""

    door: Door
    visit: Visit
    counts: tuple[int, ...]


class _InviteeRow(NamedTuple):
    """An invited address at a planned meeting, and what it meets; for CSV."""

    answer: DoorAnswer
    meeting: Planned
    address: str
    outcome: str


class _VisitRow(NamedTuple):
    """A visit to a meeting of an answer; `invitee` if it is by an invited address."""

    answer: HostAnswer | MeetingAnswer
    encounter: Encounter
    invitee: InviteeEncounter | None = None


def _visitors(answer: DoorAnswer) -> Iterator[_VisitorRow]:
    return (_VisitorRow(door, each.visit, each.counts) for door in answer.doors for each in door.visitors)


def _invitees(answer: DoorAnswer) -> Iterator[_InviteeRow]:
    for meeting in answer.meetings:
        for name, _ in _INVITEES:
            for address in getattr(meeting, name):
                yield _InviteeRow(answer, meeting, address, name.replace("_", "-"))


def _visits(answer: HostAnswer | MeetingAnswer) -> Iterator[_VisitRow]:
    return (_VisitRow(answer, encounter) for encounter in answer.visits)


def _invited(answer: MeetingAnswer) -> Iterator[_VisitRow]:
    return (_VisitRow(answer, each.encounter, each) for each in answer.invited)


def _meetings(answer: DoorAnswer | MeetingAnswer) -> Iterator[tuple[DoorAnswer | MeetingAnswer, Planned]]:
    meetings = answer.meetings if isinstance(answer, DoorAnswer) else (answer.meeting,)
    return ((answer, meeting) for meeting in meetings)


def _line(row: _VisitRow) -> str:
    cause = row.encounter.cause
    return row.answer.line_of(cause.row) if cause else ""


_SAYS = {"enters": "get in", "waits": "wait", "refused": "are turned away", "unknown": "meet what is not known"}
_SERVICE = Field("service", TEXT, "The service.")
_KIND = Field("kind", enum(MEETING_KINDS), "The kind of meeting.")
_HOSTS = Field("hosts", COUNT, "How many people may start such meetings.")
_TYPE = tuple(Field(each.name, each.type, each.says, attrgetter(f"visit.{each.name}")) for each in VISIT[1:])
_COUNTS = tuple(
    Field(name, COUNT, f"At how many hosts they {_SAYS[name]}.", f"counts.{place}")
    for place, name in enumerate(OUTCOMES)
)
_GATES = ("0", "1", "2", "3+")
_DOOR = (
    _SERVICE,
    _KIND,
    _HOSTS,
    Field("open", COUNT, "At how many of them a stranger gets in."),
    Field("unwatched", COUNT, "At how many a stranger gets in before the host."),
    Field("unknown", COUNT, "At how many that is not known."),
    Field(
        "gates",
        numbers_by(_GATES),
        "Hosts by how many gates stop a stranger.",
        lambda door: dict(zip(_GATES, door.gates, strict=True)),
    ),
    Field("visitors", list_of(object_of((*_TYPE, *_COUNTS))), "What each visitor type meets."),
)
_ROOT = (
    _SERVICE,
    Field("control", TEXT, "The control that opens doors."),
    title_field("control"),
    Field("scope", nullable(WORD), "Where it is set."),
    Field("value", nullable(VALUE), "The value that is set there."),
    Field("hosts", COUNT, "How many hosts' doors it opens."),
    Field("freed", COUNT, "How many of them another value would shut."),
    Field("mended_value", nullable(VALUE), "That value.", "mended"),
)
_INVITEES = (
    ("turned_away", "Invited addresses that are turned away."),
    ("waiting", "Invited addresses that wait."),
    ("unknown", "Invited addresses of which it is not known what they meet."),
    ("walking_in", "Invited addresses that walk in."),
)
_NEED_ACCOUNT = ("need_account", "Invited addresses that need an account.")
_OPEN = Field("open", nullable(TRUTH), "True if a stranger gets in; null if not known.", "1.open")
_MEETING = (
    Field("id", TEXT, "The id of the planned meeting.", "1.id"),
    Field("label", WORD, "What it is called.", "1.label"),
    Field("service", TEXT, "The service.", "1.service"),
    Field("kind", enum(MEETING_KINDS), "The kind of meeting.", "1.kind"),
    Field(
        "organiser",
        TEXT,
        "Who organises it (id).",
        lambda pair: pair[0].snapshot.people.ids.take(np.array([pair[1].organiser]))[0],
    ),
    Field("starts_at", TIME, "When it starts.", lambda pair: rfc3339(pair[1].starts_at)),
    Field("recurring", TRUTH, "True for one of a series.", "1.recurring"),
    _OPEN,
    *(Field(name, TEXTS, says, f"1.{name}") for name, says in (*_INVITEES[:2], _NEED_ACCOUNT, _INVITEES[2])),
)
_VISIT = (
    Field("service", TEXT, "The service.", "encounter.service"),
    *(Field(each.name, each.type, each.says, attrgetter(f"encounter.visit.{each.name}")) for each in VISIT),
    Field("outcome", DOOR_OUTCOME, "What the visitor meets.", "encounter.outcome"),
    Field("gate", maybe(enum(GATES)), "The gate that decides; null if none stops the visitor.", "encounter.gate"),
    Field("control", maybe(WORD), "The control of that gate.", "encounter.control"),
    Field("value", nullable(VALUE), "Its value.", "encounter.value"),
)
_CAUSE = Field("cause", nullable(CAUSE), "Where the value comes from.", "encounter.cause")
_END = (
    Field("gates", COUNT, "How many gates stop the visitor.", "encounter.gates"),
    Field("reads", TEXT, "What the visitor reads.", lambda row: reads(row.encounter, row.answer.snapshot)),
    Field("inside", TEXTS, "What the visitor may do inside.", "encounter.inside"),
)
_VISIT_ROW = (
    *_VISIT,
    Field(
        "scope", WORD, "Where it is set.", lambda row: row.encounter.cause.scope or "" if row.encounter.cause else ""
    ),
    Field("where", WORD, "The file and line of the setting.", _line),
    *_END,
)
_ADDRESS = Field("address", WORD, "The invited address.", lambda row: row.invitee.address if row.invitee else "")
_NEEDS = Field(
    "need_account",
    nullable(TRUTH),
    "True if it needs an account.",
    lambda row: row.invitee.need_account if row.invitee else None,
)
_DOORS = Field(
    "doors",
    list_of(object_of(_DOOR)),
    "The doors of each service and kind of meeting.",
    lambda answer: getattr(answer, "doors", ()),
)
_ROOTS = Field("roots", list_of(object_of(_ROOT)), "What opens them.", lambda answer: getattr(answer, "roots", ()))
_MEETINGS = Field("meetings", list_of(object_of(_MEETING)), "Planned meetings to look at.", _meetings)
_VISITS = Field("visits", list_of(object_of((*_VISIT, _CAUSE, *_END))), "What each kind of visitor meets.", _visits)
_HOST = (
    Field("id", TEXT, "The host's id.", lambda answer: answer.snapshot.people.ids.take(np.array([answer.person]))[0]),
    Field("login", TEXT, "The host's login."),
    Field("hosting", TEXTS, "The services on which the host may start meetings."),
)
DOORS = Result(
    schema="doors/1",
    says="Who could get into meetings of an organisation, and what opens them.",
    lists=(_DOORS, _ROOTS, _MEETINGS, NOTES),
    csv=(
        Rows(
            "`door`: a row for each visitor type of each service and kind of meeting",
            (
                Field("service", TEXT, "The service.", "door.service"),
                Field("kind", enum(MEETING_KINDS), "The kind of meeting.", "door.kind"),
                *_TYPE,
                *_COUNTS,
                Field("hosts", COUNT, _HOSTS.says, "door.hosts"),
            ),
            _visitors,
        ),
    ),
)
PLANNED = Result(
    schema=DOORS.schema,
    says=DOORS.says,
    lists=DOORS.lists,
    csv=(
        Rows(
            "`door --meetings`: a row for each invited address",
            (
                Field("meeting", TEXT, "The id of the planned meeting.", "meeting.id"),
                Field("label", WORD, "What it is called.", "meeting.label"),
                Field("service", TEXT, "The service.", "meeting.service"),
                Field("kind", enum(MEETING_KINDS), "The kind of meeting.", "meeting.kind"),
                Field(
                    "organiser",
                    TEXT,
                    "Who organises it (login).",
                    lambda row: login_of(row.answer.snapshot, row.meeting.organiser),
                ),
                Field("open", nullable(TRUTH), _OPEN.says, "meeting.open"),
                Field("address", TEXT, "The invited address."),
                Field("outcome", TEXT, "What it meets."),
            ),
            _invitees,
        ),
    ),
)
HOST_DOORS = Result(
    schema="host-doors/1",
    says="What visitors of the meetings of one host meet.",
    lines=((), (Field("host", object_of(_HOST), "The host.", lambda answer: answer),)),
    lists=(_VISITS,),
    csv=(Rows("`door PERSON`: a row for each visit", _VISIT_ROW, _visits),),
)
MEETING_DOORS = Result(
    schema="meeting-doors/1",
    says="What each invited address and each kind of visitor meets at one planned meeting.",
    lists=(
        _DOORS,
        _ROOTS,
        _MEETINGS,
        Field(
            "invited",
            list_of(object_of((_ADDRESS, *_VISIT, _CAUSE, *_END, _NEEDS))),
            "What each invited address meets.",
            _invited,
        ),
        _VISITS,
        NOTES,
    ),
    csv=(
        Rows(
            "`door --meeting`: a row for each invited address, then for each visit",
            (_ADDRESS, *_VISIT_ROW, _NEEDS),
            lambda answer: (*_invited(answer), *_visits(answer)),
        ),
    ),
)
