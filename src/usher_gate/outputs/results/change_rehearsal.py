"""What a file of changes, or another baseline, would do."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from operator import attrgetter
from typing import Any, NamedTuple

import numpy as np

from ...core.changes.access import WHAT
from ...core.changes.baselines import STRICTER, WEAKER, WHAT_HAPPENED
from ...core.changes.compare import WORDS, ChangeComparison
from ...core.organisation.columns import MISSING
from ...core.words.record import record
from ...core.words.times import rfc3339
from ..fields import (
    ABSENT,
    COUNT,
    NOTES,
    SOME,
    TEXT,
    TEXTS,
    TIME,
    TRUTH,
    VERDICT_COUNTS,
    WORD,
    Field,
    Type,
    enum,
    item,
    list_of,
    maybe,
    nullable,
    object_of,
)
from ..writers import Result, Rows, body, head_of
from .common import LOCKED_KINDS, RULE_OF_VALUE, SEVERITY, VALUE_MOVED
from .sign_in_rehearsal import SIGN_IN_REHEARSAL, RehearsalAnswer


@record
class ChangedAnswer:
    """The comparison, each change in words, the sign-ins of the log (None where they are not asked), and what would
    help people who newly get in nowhere, by id.

    `notices` says how many messages were drafted, and for how many people (None: none were asked for).
    """

    comparison: ChangeComparison
    descriptions: tuple[str, ...]
    sign_ins: RehearsalAnswer | None
    helps: Mapping[str, str]
    notices: tuple[int, int] | None
    notes: tuple[str, ...]


def logins_of(answer: ChangedAnswer, ids: tuple[str, ...]) -> list[str]:
    """Return the logins of some people of the snapshot after."""
    people = answer.comparison.after.people
    every = dict(zip(people.ids.take(np.arange(len(people))), people.logins.take(np.arange(len(people))), strict=True))
    return [every.get(one, one) for one in ids]


class _ChangeRow(NamedTuple):
    """A row of the CSV."""

    what: str
    subject: str
    subject_type: str = "person"
    rule: str = ""
    service: str = ""
    login: str = ""
    before: str = ""
    after: str = ""


def _rows(answer: ChangedAnswer) -> Iterator[_ChangeRow]:
    """Yield one row for each thing that the changes would move."""
    made = answer.comparison
    for what, moves in (("begun", made.begun), ("ended", made.ended), ("worse", made.worse)):
        for each in moves:
            kind, name, login = each.subject
            row = _ChangeRow(what, name, kind, each.rule, service=each.service or "", login=login)
            yield row._replace(before=WORDS[each.before], after=WORDS[each.after])
    for new in made.meetings:
        row = _ChangeRow("", new.meeting.id, "meeting", service=new.meeting.service)
        for name, _ in _INVITEES:
            yield from (row._replace(what=name.replace("_", "-"), login=address) for address in getattr(new, name))
    for what, locked in (("locked-out", made.locked_begun), ("no-longer-locked-out", made.locked_ended)):
        yield from (_ChangeRow(what, out.person, after=out.resource) for out in locked)
    for move in made.access:
        yield from (_ChangeRow(f"sign-in-{move.what}", person, after=move.resource) for person in move.people)
    for what, values in (("affected", made.affected), ("weaker", made.weaker), ("protected", made.protected)):
        for value in values:
            before, after = (f"{value.control} {one or 'not known'}" for one in (value.before, value.after))
            row = _ChangeRow(what, value.person, rule=value.rule, service=value.service, login=value.login)
            yield row._replace(before=before, after=after)
    for resource, people in made.stranded:
        yield from (_ChangeRow("register-first", person, after=resource) for person in people)


class _StrandedRow(NamedTuple):
    """Someone who newly gets in nowhere at a resource, and what would help."""

    resource: str
    id: str
    helps: str


def _stranded(answer: ChangedAnswer) -> Iterator[_StrandedRow]:
    for resource, people in answer.comparison.stranded:
        for person in people:
            yield _StrandedRow(resource, person, answer.helps.get(person, ""))


def _start(start: int | None) -> str | None:
    return None if start is None or start == MISSING else rfc3339(start)


_FIRST, _SECOND = item(0), item(1)


def _both(of: Type, says: str, before: Any = _FIRST, after: Any = _SECOND) -> Type:
    """Return the type of something before and after the changes, read from a pair."""
    return object_of((Field("before", of, f"{says} before.", before), Field("after", of, f"{says} after.", after)))


_INVITEES = (
    ("turned_away", "Invited addresses that are newly turned away."),
    ("waiting", "Invited addresses that newly wait."),
    ("walking_in", "Invited addresses that newly walk in."),
    ("need_account", "Invited addresses that newly need an account."),
)
_VERDICT = enum(WORDS)
_SUBJECT = object_of(
    (
        Field("type", enum(("person", "meeting", "partner", "organisation")), "What kind of subject it is.", "0"),
        Field("id", TEXT, "Its id.", "1"),
        Field(
            "login",
            TEXT,
            "The person's login.",
            lambda subject: subject[2] if subject[0] == "person" else ABSENT,
            optional=True,
        ),
    )
)
_MOVED = (
    Field("rule", TEXT, "The rule."),
    Field("service", nullable(TEXT), "The service; null for rules about no service."),
    Field("subject", _SUBJECT, "Whose verdict it is."),
)
_WORSE = (
    *_MOVED,
    Field("from", _VERDICT, "The verdict before.", lambda moved: WORDS[moved.before]),
    Field("to", _VERDICT, "The verdict after.", lambda moved: WORDS[moved.after]),
)
_MOVES = (
    Field("from", _VERDICT, "The verdict before.", lambda move: WORDS[move[0][0]]),
    Field("to", _VERDICT, "The verdict after.", lambda move: WORDS[move[0][1]]),
    Field("count", COUNT, "How many verdicts.", "1"),
)
_BY_RULE = (
    Field("id", TEXT, "The rule.", "0"),
    Field("begun", COUNT, "How many findings begin.", "1.0"),
    Field("ended", COUNT, "How many findings end.", "1.1"),
)
_VERDICTS = object_of(
    (
        Field("before", VERDICT_COUNTS, "Verdicts before.", "counts.0"),
        Field("after", VERDICT_COUNTS, "Verdicts after.", "counts.1"),
        Field("moves", list_of(object_of(_MOVES)), "Verdicts that became others.", lambda made: made.moves.items()),
        Field("drifting_people", _both(COUNT, "People who drift"), "How many people drift.", "drifting"),
        Field("begun", list_of(object_of(_MOVED)), "Findings that begin."),
        Field("ended", list_of(object_of(_MOVED)), "Findings that end."),
        Field("worse", list_of(object_of(_WORSE)), "Verdicts that get worse."),
        Field("rules", list_of(object_of(_BY_RULE)), "Findings by rule.", lambda made: made.rules.items()),
    )
)
_DOORS = object_of(
    tuple(
        Field(name, _both(COUNT, says, f"0.{name}", f"1.{name}"), f"{says}.", lambda pair: pair)
        for name, says in (("open", "Doors open to a stranger"), ("unknown", "Doors of which that is not known"))
    )
)
_NAMED = object_of((Field("name", WORD, "Its name.", "0"), Field("version", WORD, "Its version.", "1")))
_FIELD = (
    Field("field", TEXT, "The field of the rule.", "0"),
    Field("before", WORD, "What it was.", "1"),
    Field("after", WORD, "What it is.", "2"),
)
_MOVED_RULE = (
    Field("id", TEXT, "The rule."),
    Field("what", enum(WHAT_HAPPENED), "Whether it is new, dropped or changed."),
    SEVERITY,
    Field("direction", maybe(enum((STRICTER, WEAKER))), "Whether it asks for more or less; null for neither."),
    Field("fields", list_of(object_of(_FIELD)), "What is other in it."),
)
_BASELINE = object_of(
    (
        Field("before", _NAMED, "The baseline that was."),
        Field("after", _NAMED, "The one in its place."),
        Field("rules", list_of(object_of(_MOVED_RULE)), "The rules that are other."),
        Field("idle_exceptions", TEXTS, "Exceptions that cover someone now and no one then.", "idle"),
    )
)
_LOCKED = list_of(
    object_of(
        (
            Field("resource", TEXT, "The resource."),
            Field("of", LOCKED_KINDS, "Which kind of account."),
            Field("person", TEXT, "Who (id)."),
        )
    )
)
_LOCKOUTS = object_of(
    (
        Field("begun", _LOCKED, "Who is newly locked out.", "locked_begun"),
        Field("ended", _LOCKED, "Who is locked out no more.", "locked_ended"),
    )
)
_MEETING = (
    Field("id", TEXT, "The planned meeting.", "meeting.id"),
    Field("label", WORD, "What it is called.", "meeting.label"),
    Field(
        "open",
        _both(
            nullable(TRUTH),
            "True if a stranger gets in; null if not known;",
            attrgetter("was_open"),
            attrgetter("meeting.open"),
        ),
        "Whether a stranger gets in.",
        lambda new: new,
    ),
    *(Field(name, TEXTS, says, attrgetter(name)) for name, says in _INVITEES),
)
_STRANDED = (
    Field("resource", TEXT, "The resource."),
    Field("id", TEXT, "Who has no way in until they register something (id)."),
    Field("helps", maybe(TEXT), "What would help."),
)
_REACH = (
    Field("change", COUNT, "The number of the change in the file."),
    Field("people", COUNT, "How many people get another value by it."),
    Field("without_need", COUNT, "How many of them had nothing to mend there."),
)
_ACCESS = (
    Field("resource", TEXT, "The resource."),
    Field("what", enum(WHAT), "What their possible sign-ins newly meet."),
    Field("people", SOME, "Whose (ids)."),
    Field("always", TEXTS, "Those of them whose every such sign-in would meet that."),
)
_VALUES = list_of(object_of(VALUE_MOVED))


def _people(name: str, read: str, says: str) -> Field:
    """Return the field of some people, by id and login."""
    member = (Field("id", TEXT, "Their id.", "0"), Field("login", TEXT, "Their login.", "1"))
    return Field(name, list_of(object_of(member)), says, f"comparison.{read}")


CHANGE_REHEARSAL = Result(
    schema="change-rehearsal/1",
    says="What a file of changes, or another baseline, would do.",
    lines=(
        (
            Field("title", TEXT, "What the changes are called.", "comparison.changes.title"),
            Field(
                "from",
                nullable(TIME),
                "When they are to be made.",
                lambda answer: _start(answer.comparison.changes.start),
            ),
        ),
        (Field("verdicts", _VERDICTS, "Verdicts before and after.", "comparison"),),
        (Field("doors", nullable(_DOORS), "Doors of hosts; null if no door is touched.", "comparison.open_doors"),),
        (
            Field(
                "baseline",
                nullable(_BASELINE),
                "What is other in the baseline; null without one.",
                "comparison.baseline",
            ),
        ),
        (
            Field(
                "sign_ins",
                nullable(
                    Type(object_of(SIGN_IN_REHEARSAL.fields).schema, lambda answer: body(SIGN_IN_REHEARSAL, answer))
                ),
                "What becomes of sign-ins of the log; null without one.",
            ),
        ),
        (Field("lockouts", _LOCKOUTS, "Who is locked out of resources for administrators.", "comparison"),),
    ),
    lists=(
        Field(
            "meetings", list_of(object_of(_MEETING)), "Planned meetings where something is new.", "comparison.meetings"
        ),
        Field("stranded", list_of(object_of(_STRANDED)), "Who has to register something first.", _stranded),
        Field("reach", list_of(object_of(_REACH)), "How far each change reaches.", "comparison.reach"),
        Field(
            "access", list_of(object_of(_ACCESS)), "Whose possible sign-ins meet something else.", "comparison.access"
        ),
        Field("affected", _VALUES, "Values that change for people with nothing to mend there.", "comparison.affected"),
        Field("weaker", _VALUES, "Values that get weaker.", "comparison.weaker"),
        Field(
            "protected",
            list_of(object_of((RULE_OF_VALUE, *VALUE_MOVED))),
            "Values that change although a rule leaves the person out.",
            "comparison.protected",
        ),
        _people("newly_drifting", "newly", "Who drifts and did not."),
        _people("no_longer_drifting", "no_longer", "Who drifted and does not any more."),
        NOTES,
    ),
    csv=(
        Rows(
            "`rehearse --changes`: a row for each thing that would move",
            (
                Field("what", TEXT, "What happens."),
                Field("rule", TEXT, "The rule."),
                Field("service", TEXT, "The service."),
                Field("subject_type", TEXT, "To what kind of subject."),
                Field("subject", TEXT, "Its id."),
                Field("login", TEXT, "The login, or the invited address."),
                Field("from", TEXT, "What it was.", "before"),
                Field("to", TEXT, "What it becomes.", "after"),
            ),
            _rows,
        ),
    ),
    head=lambda answer: head_of(answer.comparison.before),
)
