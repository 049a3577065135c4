"""Notices: what people must know about a change, and drafts for organisers to send to outsiders they invited.

A notice says what changes for a person, what they will be asked for and what to do before. People who notice nothing
get none; people with the same changes get one text. Spec: changes 4.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from ..door.doors import Doors
from ..door.hosts import hosts_of
from ..door.visitors import GUEST, MEMBER, kinds_of
from ..organisation.columns import HOUR, MISSING
from ..organisation.facts import fact
from ..organisation.snapshot import Snapshot
from ..verdicts.checker import Checker
from ..words.catalogue import Control
from ..words.record import record
from .compare import ChangeComparison, NewlyMet

_MONTHS = (
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
)
_GATES = ("door.", "line.")  # the areas of controls that decide who gets into a meeting


@record
class Notice:
    """One text, and the numbers (among the active people after the changes) of the people who get it."""

    subject: str
    text: str
    people: tuple[int, ...]


@record
class Invitation:
    """A draft that an organiser (a person's number, as in Notice) may send to the address of an invited outsider."""

    subject: str
    text: str
    organiser: int
    address: str


def notices(comparison: ChangeComparison, checkers: tuple[Checker, Checker], helps: Mapping[str, str]) -> list[Notice]:
    """Return every message, each text once, in the order of the first person who gets it."""
    after = checkers[1].snapshot
    lines_of: dict[int, list[str]] = {}
    for person, line in (
        *_settings(checkers),
        *_facts(checkers),
        *_stuck(comparison, after, helps),
        *_organised(comparison, after),
    ):
        lines_of.setdefault(person, []).append(line)
    texts: dict[tuple[str, ...], list[int]] = {}
    for person in sorted(lines_of):
        texts.setdefault(tuple(dict.fromkeys(lines_of[person])), []).append(person)
    return [
        Notice(comparison.changes.title, _text(lines, comparison, after), tuple(people))
        for lines, people in texts.items()
    ]


def _text(lines: Sequence[str], comparison: ChangeComparison, after: Snapshot) -> str:
    when = _when(comparison)
    hours = max((service.settle for service in after.services or ()), default=0) // HOUR
    slow = ""
    if hours and any(line.startswith("- ") for line in lines):
        slow = f" It can take up to {hours} hours until it has arrived everywhere."
    what = "\n".join(lines)
    head = f"Hello,\n\n{when} the following changes for you at {after.name}.{slow}"
    return f"{head}\n\n{what}\n\nIf this gets in your way, answer this message before then.\n"


def _when(comparison: ChangeComparison) -> str:
    start = comparison.changes.start
    return f"From {date_in_words(start)}" if start is not None else "Soon"


def date_in_words(time: int) -> str:
    """Return a time in words, in UTC: `1 December 2026, 08:00 UTC`."""
    moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=time)
    return f"{moment.day} {_MONTHS[moment.month - 1]} {moment.year}, {moment:%H:%M} UTC"


def _settings(checkers: tuple[Checker, Checker]) -> Iterator[tuple[int, str]]:
    """Yield a line for each person and control whose value changes, and one about other people's meetings.

    The latter is for people whose controls of the door change and who get into other people's meetings as before.
    """
    before, after = checkers
    where = _numbers_before(before.snapshot, after.snapshot)
    services = {service.id: service for service in before.snapshot.services or ()}
    kind = after.snapshot.people.kind
    for service in after.snapshot.services or ():
        accounts = after.resolver.accounts(service)
        gated = np.zeros(len(where), bool)
        for control in sorted(
            service.controls
            & (before.resolver.controls_set(services[service.id]) | after.resolver.controls_set(service))
        ):
            first, second = (
                before.resolver.effective(services[service.id], control),
                after.resolver.effective(service, control),
            )
            lacking = second.lacking if second.unlicensed else None
            # Each person's value before and after, in the order of the people afterwards.
            olds, news = np.array(first.values, object), np.array(second.values, object)
            was: NDArray[np.object_] = np.full(len(where), None, object)
            was[where != MISSING] = olds[first.places[where[where != MISSING]]]
            now: NDArray[np.object_] = news[second.places]
            other = np.array(was != now, bool) & accounts & (where != MISSING)
            if lacking is not None:
                other &= ~lacking
            gated |= other & control.startswith(_GATES)
            known = after.snapshot.catalogue.index[control]
            for person in np.flatnonzero(other).tolist():
                yield person, f"- In {service.title}, {_moves(known, was[person], now[person])}"
        if np.any(gated):
            kinds = _kinds_as_before(checkers, service.id)
            as_before_mask = kind.where([word in kinds for word in kind.words])
            for person in np.flatnonzero(gated & as_before_mask).tolist():
                yield person, _AS_BEFORE


_AS_BEFORE = "  This is about meetings that you hold. You get into the meetings of other people here as before."


def _moves(control: Control, before: str | None, after: str | None) -> str:
    """Return what changes about a control, as the rest of a sentence."""
    title = f'"{control.title}"'
    if after is None:
        return f"{title} will no longer be decided; now it is {_meaning(control, before)}."
    if control.kind.name == "flag":
        return f"{title} will be switched {after}{'' if before is None else f'; now it is {before}'}."
    if before is None:
        return f"{title} becomes {_meaning(control, after)}; what it is now is not known."
    return f"{title} changes from {_meaning(control, before)} to {_meaning(control, after)}."


def _meaning(control: Control, value: str | None) -> str:
    word = value or "none"
    meaning = control.meanings.get(word)
    return f'"{meaning or word.replace("-", " ").replace(";", ", ")}"'


def _kinds_as_before(checkers: tuple[Checker, Checker], name: str) -> frozenset[str]:
    """Return which kinds of people (member, guest) get into meetings on a service as before, at every host."""
    outcomes: list[dict[str, list[object]]] = []
    for checker in checkers:
        service = next(service for service in checker.snapshot.services or () if service.id == name)
        doors = Doors(hosts_of(checker.resolver, service)).doors() if kinds_of(service) else ()
        by_kind: dict[str, list[object]] = {MEMBER: [], GUEST: []}
        for visitor in (visitor for door in doors for visitor in door.visitors):
            if visitor.visit.standing in by_kind:
                by_kind[visitor.visit.standing].append(visitor.counts)
        outcomes.append(by_kind)
    before, after = outcomes
    return frozenset(kind for kind in before if before[kind] == after[kind])


def _numbers_before(before: Snapshot, after: Snapshot) -> np.ndarray:
    """Return for each active person afterwards the number that they have now; MISSING for none."""
    now = {name: number for number, name in enumerate(before.people.ids.take(np.arange(len(before.people))))}
    return np.array([now.get(name, MISSING) for name in after.people.ids.take(np.arange(len(after.people)))], np.int64)


def _facts(checkers: tuple[Checker, Checker]) -> Iterator[tuple[int, str]]:
    """Yield who must show a second factor who need not now."""
    before, after = checkers
    where = _numbers_before(before.snapshot, after.snapshot)
    columns = [fact("mfa", checker.snapshot) for checker in checkers]
    everybody = after.snapshot.second_factor_default and not before.snapshot.second_factor_default
    kind = after.snapshot.people.kind
    for person, old in enumerate(where.tolist()):
        was, now = (
            None
            if column is None or number == MISSING or column.codes[number] == MISSING
            else column.words[column.codes[number]]
            for column, number in zip(columns, (old, person), strict=True)
        )
        human = kind.words[int(kind.codes[person])] != "service"
        if human and ((now == "required" and was != "required") or (everybody and now != "required")):
            yield (
                person,
                "- Signing in: you will be asked for a second factor every time one is due; without it you do not "
                "get in.",
            )


def _stuck(comparison: ChangeComparison, after: Snapshot, helps: Mapping[str, str]) -> Iterator[tuple[int, str]]:
    """Yield who would get in nowhere until they register something."""
    numbers = {name: number for number, name in enumerate(after.people.ids.take(np.arange(len(after.people))))}
    by_person: dict[str, list[str]] = {}
    for resource, people in comparison.stranded:
        for person in people:
            by_person.setdefault(person, []).append(resource)
    for person, resources in by_person.items():
        if person in numbers:
            what = helps.get(person) or "ask the administrator of sign-ins what is missing"
            yield (
                numbers[person],
                f"Please do this before: {what}. Otherwise you will not get into {', '.join(resources)}.",
            )


@record
class _AffectedMeeting:
    """A meeting, or all meetings of a series, at which invitees are newly stopped.

    `title` says which and when. `addresses` holds, for each of _OUTCOMES, the invitees who newly have that outcome.
    """

    organiser: int
    title: str
    addresses: tuple[tuple[str, ...], ...]


# The outcomes, by field of NewlyMet, in the words for organisers and for invitees.
_OUTCOMES = (
    ("turned_away", "can no longer join", "you can no longer join the way you do now"),
    (
        "need_account",
        "can join only after signing in with an account",
        "you can join only after signing in with an account",
    ),
    ("waiting", "will wait until you let them in", "you will wait until someone lets you in"),
)


def _affected_meetings(comparison: ChangeComparison) -> Iterator[_AffectedMeeting]:
    """Yield the affected meetings that are not over when the change is made; a series once."""
    series: dict[tuple[object, ...], list[NewlyMet]] = {}
    start = comparison.changes.start
    for met in comparison.meetings:
        is_over = start is not None and met.meeting.starts_at < start and not _is_whole_series(met)
        if not is_over and any(getattr(met, name) for name, _, _ in _OUTCOMES):
            series.setdefault((met.meeting.organiser, *met.series), []).append(met)
    for occurrences in series.values():
        first = min(occurrences, key=lambda met: met.meeting.starts_at)
        when = date_in_words(first.meeting.starts_at)
        if len(occurrences) > 1:
            when = f"{len(occurrences)} meetings, the first on {when}"
        else:
            when = f"recurring since {when}" if _is_whole_series(first) else f"on {when}"
        yield _AffectedMeeting(
            organiser=first.meeting.organiser,
            title=f'"{first.meeting.label or first.meeting.id}" ({when})',
            addresses=tuple(getattr(first, name) for name, _, _ in _OUTCOMES),
        )


def _is_whole_series(met: NewlyMet) -> bool:
    """Return whether one row of the table is a whole series; else each occurrence has a row, called SERIES/TIME."""
    return met.meeting.recurring and "/" not in met.meeting.id


def _organised(comparison: ChangeComparison, after: Snapshot) -> Iterator[tuple[int, str]]:
    """Yield for each organiser the list of their affected meetings."""
    lines: dict[int, list[str]] = {}
    losing = set[int]()
    for meeting in _affected_meetings(comparison):
        for (name, words, _), addresses in zip(_OUTCOMES, meeting.addresses, strict=True):
            if addresses:
                line = f"- {meeting.title}: {', '.join(addresses)} {words}."
                lines.setdefault(meeting.organiser, []).append(line)
                losing |= {meeting.organiser} if name == "turned_away" else set()
    with_drafts = {invitation.organiser for invitation in invitations(comparison, after)}
    for organiser, mine in lines.items():
        text = ["", "These of the meetings that you organise are affected:", *mine]
        if organiser in losing:
            text.append("If they have to take part, ask your administrators before then to let them in.")
        if organiser in with_drafts:
            text.append("For each of those outside there is a draft of a message that you may send.")
        yield organiser, "\n".join(text)


def invitations(comparison: ChangeComparison, after: Snapshot) -> list[Invitation]:
    """Return a draft for each organiser and each outsider who is newly stopped at their meetings."""
    everyone = np.arange(len(after.people))
    own_logins = {
        login.casefold()
        for login, is_guest in zip(after.people.logins.take(everyone), after.people.guests.tolist(), strict=True)
        if not is_guest
    }
    lines: dict[tuple[int, str], list[str]] = {}
    spelling: dict[str, str] = {}
    for meeting in _affected_meetings(comparison):
        for (_, _, words), addresses in zip(_OUTCOMES, meeting.addresses, strict=True):
            for address in addresses:
                folded = address.casefold()
                if folded not in own_logins:
                    spelling.setdefault(folded, address)
                    lines.setdefault((meeting.organiser, folded), []).append(f"- {meeting.title}: {words}.")
    head = f"Hello,\n\nyou are invited to meetings at {after.name}. {_when(comparison)} this changes for you:\n\n"
    end = "\n\nIf you need to take part and cannot do that, answer this message before then.\n"
    return [
        Invitation(
            subject=f"Meetings at {after.name}",
            text=head + "\n".join(mine) + end,
            organiser=organiser,
            address=spelling[folded],
        )
        for (organiser, folded), mine in sorted(lines.items())
    ]
