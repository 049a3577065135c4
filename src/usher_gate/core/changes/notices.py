"""What people must be told of a change, in plain words: what changes for each, what they will be asked for, what to do before.

Source: changes, section 2. Who notices nothing is told nothing; everybody whom the same happens to gets one text.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from ..organisation.columns import HOUR, MISSING
from ..organisation.facts import fact
from ..organisation.snapshot import Snapshot
from ..verdicts.checker import Checker
from ..words.record import record
from .compare import Comparison

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
# How a value is said: of flags as yes or no, of others as it is written, with blanks.
_FLAG = {"on": "yes", "off": "no"}


@record
class Notice:
    """One text, and the numbers (among the active people after the changes) of whoever gets it."""

    subject: str
    text: str
    people: tuple[int, ...]


def notices(comparison: Comparison, checkers: tuple[Checker, Checker], helps: Mapping[str, str]) -> list[Notice]:
    """Everything that is to be told, each text once, in the order of the first person who gets it."""
    after = checkers[1].snapshot
    told: dict[int, list[str]] = {}
    for person, line in (
        *_settings(checkers),
        *_facts(checkers),
        *_stuck(comparison, after, helps),
        *_meetings(comparison),
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
    start = comparison.changes.start
    when = f"From {date_in_words(start)}" if start is not None else "Soon"
    hours = max((service.settle for service in after.services or ()), default=0) // HOUR
    slow = ""
    if hours and any(line.startswith("- ") for line in lines):
        slow = f" It can take up to {hours} hours until it has arrived everywhere."
    what = "\n".join(lines)
    head = f"Hello,\n\n{when} the following changes for you at {after.name}.{slow}"
    return f"{head}\n\n{what}\n\nIf this gets in your way, answer this message before then.\n"


def date_in_words(time: int) -> str:
    """A time in words, in UTC: `1 December 2026, 08:00 UTC`."""
    moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=time)
    return f"{moment.day} {_MONTHS[moment.month - 1]} {moment.year}, {moment:%H:%M} UTC"


def _settings(checkers: tuple[Checker, Checker]) -> Iterator[tuple[int, str]]:
    """Who gets another value of a control."""
    before, after = checkers
    where = _numbers_before(before.snapshot, after.snapshot)
    services = {service.id: service for service in before.snapshot.services or ()}
    for service in after.snapshot.services or ():
        accounts = after.resolver.accounts(service)
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
            title = after.snapshot.catalogue.index[control].title
            for person in np.flatnonzero(other).tolist():
                yield person, f"- {service.title}: {title}: {_said(now[person])} (until now {_said(was[person])})."


def _said(value: str | None) -> str:
    if value is None:
        return "not known"
    return _FLAG.get(value) or value.replace("-", " ").replace(";", ", ") or "none"


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


def _meetings(comparison: Comparison) -> Iterator[tuple[int, str]]:
    """Organisers of meetings whose invitees are newly stopped."""
    for new in comparison.meetings:
        yours, who = f'Your meeting "{new.meeting.label or new.meeting.id}"', new.meeting.organiser
        if new.turned_away:
            right = "Ask them to sign in with an account that is let in, or have them added."
            yield who, f"{yours}: {', '.join(new.turned_away)} could no longer join. {right}"
        if new.need_account:
            yield who, f"{yours}: {', '.join(new.need_account)} can join only if they sign in with an account."
        if new.waiting:
            yield who, f"{yours}: {', '.join(new.waiting)} will wait until you let them in."
