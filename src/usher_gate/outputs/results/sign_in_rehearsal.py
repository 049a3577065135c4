"""What a change of access rules would have done to sign-ins that happened."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

import numpy as np

from ...core.organisation.snapshot import Snapshot
from ...core.sign_in.decide import OUTCOMES, OWN
from ...core.sign_in.lockout import Lockout
from ...core.sign_in.rehearsal import HARD, RESULTS, AffectedPerson, Rehearsal
from ...core.sign_in.replay import PARTNER, TriedRule
from ...core.words.record import record
from ...core.words.times import show_time
from ..fields import COUNT, DATE, TEXT, TEXTS, WORD, Field, enum, list_of, maybe, nullable, object_of
from ..writers import Result, Rows
from .common import LOCKOUT

FATES = tuple(OUTCOMES[fate] for fate in HARD)  # challenged, stuck, denied, unknown


@record
class UnusedEvents:
    """Events that could not be used: why, what stood there, how many, and the first place."""

    why: str
    value: str
    count: int
    place: str


@record
class RehearsalAnswer:
    """The counts, what was tried (`change` in words, and the rules that take part), and what could not be read."""

    snapshot: Snapshot
    change: str
    rules: Sequence[TriedRule]
    rehearsal: Rehearsal
    files: int
    read: int
    missed: tuple[UnusedEvents, ...]
    lockouts: tuple[Lockout, ...]
    spelled: Mapping[tuple[str, str], str]  # other words in the log, by column: what they were read as

    @property
    def readable(self) -> bool:
        """Return whether at least half of the events could be used."""
        return 2 * self.rehearsal.sign_ins >= self.read


def date(day: int) -> str:
    """Return a day as it is written."""
    return (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(days=day)).strftime("%Y-%m-%d")


def titles(answer: RehearsalAnswer) -> Mapping[str, str]:
    """Return what the rules that take part in the change are called."""
    found = {tried.rule.id: tried.rule.title for tried in answer.rules if tried.then}
    return {**found, OWN: "the person must show a second factor", PARTNER: "the partner's guests_in is off"}


def users(answer: RehearsalAnswer) -> list[str]:
    """Return the logins of the uses of break-glass accounts."""
    who = np.array([use.person for use in answer.rehearsal.uses], np.int64)
    return answer.snapshot.people.logins.take(who)


def logins(answer: RehearsalAnswer) -> list[str]:
    """Return the logins of the people who would be hurt."""
    return answer.snapshot.people.logins.take(np.array(answer.rehearsal.rows, np.int64))


def against(answer: RehearsalAnswer) -> list[str]:
    """Return the logins of the people who got in although the rules as they are would not have let them like that."""
    rows = np.array([each.row for each in answer.rehearsal.against], np.int64)
    return answer.snapshot.people.logins.take(rows)


class _Move(NamedTuple):
    """How many sign-ins had one outcome now and another then, and how many of them got in."""

    now: str
    then: str
    sign_ins: int
    got_in: int


def _moves(answer: RehearsalAnswer) -> Iterator[_Move]:
    done = answer.rehearsal
    for now, row in enumerate(done.outcomes):
        for then, number in enumerate(row):
            if number:
                yield _Move(OUTCOMES[now], OUTCOMES[then], number, done.got_in[now][then])


def _people(answer: RehearsalAnswer) -> Iterator[tuple[AffectedPerson, str]]:
    return zip(answer.rehearsal.people, logins(answer), strict=True)


def _against(answer: RehearsalAnswer) -> Iterator[tuple[object, str, str]]:
    rows = np.array([each.row for each in answer.rehearsal.against], np.int64)
    return zip(answer.rehearsal.against, answer.snapshot.people.ids.take(rows), against(answer), strict=True)


def _fates(where: str) -> tuple[Field, ...]:
    """Return a field for each fate, read from the numbers at a path."""
    return tuple(
        Field(fate, COUNT, f"How many of its sign-ins would be {fate}.", f"{where}.{place}")
        for place, fate in enumerate(FATES)
    )


_OUTCOME = enum(OUTCOMES)
_MOVE = (
    Field("now", _OUTCOME, "The outcome by the rules as they are."),
    Field("then", _OUTCOME, "The outcome by the change."),
    Field("sign_ins", COUNT, "How many sign-ins."),
    Field("got_in", COUNT, "How many of them got in."),
)
_DAY = (
    Field("day", DATE, "The day (UTC).", lambda each: date(each.day)),
    Field("sign_ins", COUNT, "How many sign-ins there were."),
    Field("got_in", COUNT, "How many of them got in."),
    *_fates("hurt"),
)
_PEOPLE_COUNT = Field("people", COUNT, "Of how many people.", "1.people")
_RULE = (
    Field("id", TEXT, "The rule.", "1.name"),
    Field("title", WORD, "Its title.", lambda pair: titles(pair[0]).get(pair[1].name, "")),
    *_fates("1.sign_ins"),
    _PEOPLE_COUNT,
)
_RESOURCE = (Field("name", TEXT, "The resource."), *_fates("sign_ins"), Field("people", COUNT, "Of how many people."))
_PERSON = (Field("id", TEXT, "Whose (id).", "0.name"), Field("login", TEXT, "Their login.", "1"), *_fates("0.sign_ins"))
_AGAINST = (
    Field("id", TEXT, "Who got in although the rules as they are would not have let them (id).", "1"),
    Field("login", TEXT, "Their login.", "2"),
    Field("kept_out", COUNT, "How many of their sign-ins would be kept out.", "0.kept_out"),
    Field("challenged", COUNT, "How many would be asked for more than was shown.", "0.challenged"),
)
_USE = (
    Field("time", TEXT, "When.", lambda pair: show_time(pair[0].time)),
    Field("login", TEXT, "The break-glass account.", "1"),
    Field("resource", TEXT, "To which resource.", "0.resource"),
    Field("result", maybe(enum(RESULTS)), "What the log says of it.", "0.result"),
    Field(
        "network",
        nullable(TEXTS),
        "From which networks.",
        lambda pair: None if pair[0].networks is None else sorted(pair[0].networks),
    ),
)
_UNUSED = (
    Field("why", TEXT, "Why events could not be used."),
    Field("value", WORD, "What is there."),
    Field("events", COUNT, "How many events.", "count"),
    Field("first", TEXT, "The file and line of the first one.", "place"),
)
_EVENTS = (
    Field("files", COUNT, "How many files."),
    Field("read", COUNT, "How many events were read."),
    Field("decided", COUNT, "How many of them were decided.", "rehearsal.sign_ins"),
    Field("unused", COUNT, "How many could not be used.", lambda answer: sum(miss.count for miss in answer.missed)),
    Field("got_in", COUNT, "How many got in.", "rehearsal.inside"),
)
_WOULD_BE = (
    *_fates("rehearsal.hurt"),
    Field("people", COUNT, "Of how many people.", lambda answer: len(answer.rehearsal.people)),
    Field("changed", COUNT, "How many sign-ins would meet something else.", "rehearsal.changed"),
    Field("eased", COUNT, "How many that are denied or stuck now would be let in or challenged.", "rehearsal.eased"),
    Field(
        "denied_now",
        COUNT,
        "How many got in although the rules as they are would not let them.",
        "rehearsal.denied_now",
    ),
    Field(
        "challenged_now",
        COUNT,
        "How many got in although they would have been asked for more.",
        "rehearsal.challenged_now",
    ),
)
SIGN_IN_REHEARSAL = Result(
    schema="sign-in-rehearsal/1",
    says="What a change of access rules would have done to sign-ins that happened.",
    lines=(
        (Field("tried", TEXT, "The change, in words.", "change"),),
        (Field("events", object_of(_EVENTS), "What the log holds.", lambda answer: answer),),
        (Field("would_be", object_of(_WOULD_BE), "What would become of sign-ins that got in.", lambda answer: answer),),
    ),
    lists=(
        Field("changes", list_of(object_of(_MOVE)), "How many sign-ins by outcome, now and then.", _moves),
        Field("days", list_of(object_of(_DAY)), "Day by day.", "rehearsal.days"),
        Field(
            "rules",
            list_of(object_of(_RULE)),
            "The rules that do it.",
            lambda answer: [(answer, hurt) for hurt in answer.rehearsal.rules],
        ),
        Field("resources", list_of(object_of(_RESOURCE)), "What people signed in to.", "rehearsal.resources"),
        Field("people", list_of(object_of(_PERSON)), "Who would be affected.", _people),
        Field(
            "against",
            list_of(object_of(_AGAINST)),
            "Who got in although the rules as they are would not have let them.",
            _against,
        ),
        Field("lockouts", list_of(LOCKOUT), "Who would be locked out."),
        Field(
            "break_glass",
            list_of(object_of(_USE)),
            "When break-glass accounts were used.",
            lambda answer: zip(answer.rehearsal.uses, users(answer), strict=True),
        ),
        Field("unused", list_of(object_of(_UNUSED)), "Events that could not be used.", "missed"),
    ),
    csv=(
        Rows(
            "`rehearse`: a row for each person who would be affected",
            (_PERSON[0].named("person"), *_PERSON[1:]),
            _people,
        ),
    ),
)
