"""What people must be told of a change, in plain words: what changes for each, what they will be asked for, what to do before; and what
organisers may send to those whom they invited from outside.

Source: changes, section 2; answers, B 24. Who notices nothing is told nothing; everybody whom the same happens to gets one text.
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
from .compare import Comparison, NewlyMet

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
# What the words of levels mean, where they are not plain by themselves.
_MEANS = {
    "any": "any",
    "any-account": "an account of any kind",
    "anyone": "anybody, without an account too",
    "block": "it is blocked",
    "block-unless-justified": "it is blocked unless the sender gives a reason",
    "digits": "digits alone",
    "encrypted-read-only": "it is encrypted and can only be read",
    "end-to-end": "from one end to the other",
    "everyone": "everybody",
    "hosts": "hosts only",
    "invitees": "whoever is invited, and hosts",
    "limited": "a part",
    "listed": "those on a list",
    "listed-domains": "an account of a domain on our list",
    "members": "members of the organisation",
    "named-people": "people who are named for it",
    "none": "none",
    "organisation": "people of the organisation",
    "own-organisation": "an account of our own organisation",
    "own-record": "their own entry",
    "public": "everybody, also outside the organisation",
    "tell": "the sender is told",
    "transport": "on the way to the service",
    "with-hosts": "everybody, but only to hosts",
    "with-symbols": "letters, digits and symbols",
}
_MEANS_THERE = {
    ("door.waiting-room", "partners"): "people of partners, guests and members of the organisation",
    ("door.waiting-room", "guests"): "guests and members of the organisation",
    ("room.chat", "off"): "nobody",
    ("room.recording", "off"): "nobody",
    ("file.guard-action", "off"): "nothing",
}
_GATES = ("door.", "line.")  # the beginnings of the controls that decide who gets into a meeting


@record
class Notice:
    """One text, and the numbers (among the active people after the changes) of whoever gets it."""

    subject: str
    text: str
    people: tuple[int, ...]


@record
class Invitation:
    """What an organiser (a number, as in Notice) may send to somebody from outside, by address, whom they invited."""

    subject: str
    text: str
    organiser: int
    address: str


def notices(comparison: Comparison, checkers: tuple[Checker, Checker], helps: Mapping[str, str]) -> list[Notice]:
    """Everything that is to be told, each text once, in the order of the first person who gets it."""
    after = checkers[1].snapshot
    told: dict[int, list[str]] = {}
    for person, line in (
        *_settings(checkers),
        *_facts(checkers),
        *_stuck(comparison, after, helps),
        *_organised(comparison, after),
    ):
        told.setdefault(person, []).append(line)
    texts: dict[tuple[str, ...], list[int]] = {}
    for person in sorted(told):
        texts.setdefault(tuple(dict.fromkeys(told[person])), []).append(person)
    return [
        Notice(comparison.changes.title, _text(lines, comparison, after), tuple(people))
        for lines, people in texts.items()
    ]


def _text(lines: Sequence[str], comparison: Comparison, after: Snapshot) -> str:
    when = _when(comparison)
    hours = max((service.settle for service in after.services or ()), default=0) // HOUR
    slow = ""
    if hours and any(line.startswith("- ") for line in lines):
        slow = f" It can take up to {hours} hours until it has arrived everywhere."
    what = "\n".join(lines)
    head = f"Hello,\n\n{when} the following changes for you at {after.name}.{slow}"
    return f"{head}\n\n{what}\n\nIf this gets in your way, answer this message before then.\n"


def _when(comparison: Comparison) -> str:
    start = comparison.changes.start
    return f"From {date_in_words(start)}" if start is not None else "Soon"


def date_in_words(time: int) -> str:
    """A time in words, in UTC: `1 December 2026, 08:00 UTC`."""
    moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=time)
    return f"{moment.day} {_MONTHS[moment.month - 1]} {moment.year}, {moment:%H:%M} UTC"


def _settings(checkers: tuple[Checker, Checker]) -> Iterator[tuple[int, str]]:
    """Who gets another value of a control; and who may read that of the door, and gets in elsewhere as before."""
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
        if np.any(gated) and (standings := _as_before(checkers, service.id)):
            alike = kind.where([word in standings for word in kind.words])
            for person in np.flatnonzero(gated & alike).tolist():
                yield (
                    person,
                    "  This is about who gets into meetings that you hold. Into the meetings of others here you get as before.",
                )


def _moves(control: Control, was: str | None, now: str | None) -> str:
    """What becomes of a control, as the rest of a sentence."""
    title = f'"{control.title}"'
    if now is None:
        return f"{title} will no longer be decided; now it is {_said(control, was)}."
    if control.kind.name == "flag":
        return f"{title} will be switched {now}{'; now it is ' + was if was is not None else ''}."
    if was is None:
        return f"{title} becomes {_said(control, now)}; what it is now is not known."
    return f"{title} changes from {_said(control, was)} to {_said(control, now)}."


def _said(control: Control, value: str | None) -> str:
    value = value or ""
    means = _MEANS_THERE.get((control.id, value)) or _MEANS.get(value)
    return f'"{means or value.replace("-", " ").replace(";", ", ") or "none"}"'


def _as_before(checkers: tuple[Checker, Checker], name: str) -> frozenset[str]:
    """With which standings (member, guest) somebody meets at the doors of a service what they met before, everywhere."""
    found: list[dict[str, list[object]]] = []
    for checker in checkers:
        service = next(each for each in checker.snapshot.services or () if each.id == name)
        doors = Doors(hosts_of(checker.resolver, service)).doors() if kinds_of(service) else ()
        told: dict[str, list[object]] = {MEMBER: [], GUEST: []}
        for door in doors:
            for visitor in door.visitors:
                if visitor.visit.standing in told:
                    told[visitor.visit.standing].append(visitor.counts)
        found.append(told)
    return frozenset(standing for standing in found[0] if found[0][standing] == found[1][standing])


def _numbers_before(before: Snapshot, after: Snapshot) -> np.ndarray:
    """For each active person afterwards the number that they have now; MISSING for none."""
    now = {name: number for number, name in enumerate(before.people.ids.take(np.arange(len(before.people))))}
    return np.array([now.get(name, MISSING) for name in after.people.ids.take(np.arange(len(after.people)))], np.int64)


def _facts(checkers: tuple[Checker, Checker]) -> Iterator[tuple[int, str]]:
    """Who must show a second factor who need not now."""
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
                "- Signing in: you will be asked for a second factor every time one is due; without it you do not get in.",
            )


def _stuck(comparison: Comparison, after: Snapshot, helps: Mapping[str, str]) -> Iterator[tuple[int, str]]:
    """Who would get in nowhere until they register something."""
    numbers = {name: number for number, name in enumerate(after.people.ids.take(np.arange(len(after.people))))}
    by_person: dict[str, list[str]] = {}
    for resource, people in comparison.stranded:
        for person in people:
            by_person.setdefault(person, []).append(resource)
    for person, resources in by_person.items():
        if person in numbers:
            what = helps.get(person) or "ask whoever looks after sign-ins what is missing"
            yield (
                numbers[person],
                f"Please do this before: {what}. Otherwise you will not get into {', '.join(resources)}.",
            )


@record
class _Stopped:
    """What is new for invitees of one meeting, or of all meetings of a series: what it is called and when, and who meets what."""

    organiser: int
    said: str
    what: tuple[tuple[str, tuple[str, ...]], ...]  # for each of _MEETS the addresses


_MEETS = ("turned_away", "need_account", "waiting")
_TO_ORGANISERS = (
    "can no longer join",
    "can join only after signing in with an account",
    "will wait until you let them in",
)
_TO_INVITEES = (
    "you can no longer join with what you join with now",
    "you can join only after signing in with an account",
    "you will wait until somebody lets you in",
)


def _stopped(comparison: Comparison) -> Iterator[_Stopped]:
    """The meetings from the change on at which invitees are newly stopped, those of a series together."""
    series: dict[tuple[object, ...], list[NewlyMet]] = {}
    start = comparison.changes.start
    for new in comparison.meetings:
        goes_on = new.meeting.recurring and "/" not in new.meeting.id  # one row for all occurrences
        if start is not None and new.meeting.starts_at < start and not goes_on:
            continue
        if any(getattr(new, name) for name in _MEETS):
            series.setdefault((new.meeting.organiser, *new.series), []).append(new)
    for every in series.values():
        first = min((new.meeting for new in every), key=lambda meeting: meeting.starts_at)
        when = date_in_words(first.starts_at)
        if len(every) > 1:
            when = f"{len(every)} meetings, the first on {when}"
        else:
            when = f"recurring since {when}" if first.recurring and "/" not in first.id else f"on {when}"
        said = f'"{first.label or first.id}" ({when})'
        yield _Stopped(first.organiser, said, tuple((name, getattr(every[0], name)) for name in _MEETS))


def _organised(comparison: Comparison, after: Snapshot) -> Iterator[tuple[int, str]]:
    """What organisers are told of their meetings: a list, each series once."""
    told: dict[int, list[str]] = {}
    lost: dict[int, bool] = {}
    for one in _stopped(comparison):
        for (name, addresses), words in zip(one.what, _TO_ORGANISERS, strict=True):
            if addresses:
                told.setdefault(one.organiser, []).append(f"- {one.said}: {', '.join(addresses)} {words}.")
                lost[one.organiser] = lost.get(one.organiser, False) or name == "turned_away"
    outside = {each.organiser for each in invitations(comparison, after)}
    for organiser, lines in told.items():
        more = []
        if lost[organiser]:
            more.append(
                "Whoever can no longer join needs a guest account here, or has to come from a domain that may join: "
                "ask your administrators before then."
            )
        if organiser in outside:
            more.append("For each of those outside a message is drafted that you may send.")
        yield organiser, "\n".join(["", "Of the meetings that you organise these are affected:", *lines, *more])


def invitations(comparison: Comparison, after: Snapshot) -> list[Invitation]:
    """A message for each person from outside who is newly stopped at meetings, by organiser and address."""
    every = np.arange(len(after.people))
    own = {
        login.casefold()
        for login, guest in zip(after.people.logins.take(every), after.people.guests.tolist(), strict=True)
        if not guest
    }
    lines: dict[tuple[int, str], list[str]] = {}
    written: dict[tuple[int, str], str] = {}
    for one in _stopped(comparison):
        for (_, addresses), words in zip(one.what, _TO_INVITEES, strict=True):
            for address in addresses:
                if address.casefold() not in own:
                    key = one.organiser, address.casefold()
                    written.setdefault(key, address)
                    lines.setdefault(key, []).append(f"- {one.said}: {words}.")
    return [
        Invitation(
            f"Meetings at {after.name}",
            f"Hello,\n\nyou are invited to meetings at {after.name}. {_when(comparison)} this changes for you:\n\n"
            + "\n".join(mine)
            + "\n\nIf you need to take part and cannot do that, answer this message before then.\n",
            organiser,
            written[organiser, address],
        )
        for (organiser, address), mine in sorted(lines.items())
    ]
