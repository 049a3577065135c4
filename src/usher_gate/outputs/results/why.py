"""Where one person's values and verdicts come from, who has a value, and what became of a set of settings."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from operator import attrgetter
from typing import Any

import numpy as np

from ...core.door.agenda import Planned
from ...core.organisation.columns import Ints, Longs
from ...core.organisation.snapshot import Snapshot
from ...core.settings.effective import Cause
from ...core.settings.sets import SetSetting
from ...core.settings.ways import Ways
from ...core.verdicts.codes import SHOWN_ORDER, VERDICTS
from ...core.verdicts.explain import ExplainedValue, Overview, RuleExplanation
from ...core.words.compare import shown
from ...core.words.record import record
from ...core.words.vocabulary import PERSON_KINDS
from ..fields import (
    ABSENT,
    COUNT,
    INTEGER,
    SOME,
    TEXT,
    TEXTS,
    TRUTH,
    VALUE,
    WORD,
    Field,
    Type,
    enum,
    list_of,
    maybe,
    nullable,
    object_of,
)
from ..writers import Result
from .common import LEAVES, SEVERITY, title_field


@record
class ExplainedPerson:
    """The subject of the explanation."""

    id: str
    login: str
    name: str
    kind: str
    unit: str | None

    @property
    def text(self) -> str:
        """Return the person in words."""
        named = f"{self.name} ({self.login})" if self.name else self.login
        return f"{named}, {self.kind}{f', in {self.unit}' if self.unit else ', in no unit'}"


@record
class Explanation:
    """All that is to be explained.

    `line_of` turns a setting's row into FILE:LINE, `time_of` a time into words, `note_of` says what someone wrote
    beside a setting; `closing` are, for each rule that found a hole, the observed rules that would close it.
    """

    snapshot: Snapshot
    person: ExplainedPerson
    asked: str
    walks: tuple[ExplainedValue, ...]
    said: tuple[RuleExplanation, ...]
    line_of: Callable[[int], str]
    time_of: Callable[[int], str]
    note_of: Callable[[int], str]
    closing: Mapping[str, Sequence[str]]
    glance: Overview | None = None
    meeting: Planned | None = None  # the person's, whose own setting is the last step

    @property
    def subject(self) -> str:
        """Return what the explanation is about, in words."""
        if self.meeting is None:
            return self.person.text
        named = f"{self.meeting.label} ({self.meeting.id})" if self.meeting.label else self.meeting.id
        return f"{named}, a {self.meeting.kind} meeting on {self.meeting.service}; organised by {self.person.text}"


@record
class WaysAnswer:
    """Says who has a value of a control, by (service, person); `line_of` turns a setting's row into FILE:LINE."""

    snapshot: Snapshot
    control: str
    value: str
    found: tuple[tuple[str, Ways], ...]
    line_of: Callable[[int], str]


@record
class SetAnswer:
    """A named set of settings.

    How many rows of the table belong to it, and of each that is about people what becomes of it.
    """

    snapshot: Snapshot
    name: str
    rows: int
    settings: tuple[SetSetting, ...]
    line_of: Callable[[int], str]


@record
class Holder:
    """A person (number) that a set reaches, with the scopes of the settings that do.

    `effective_count` of `control_count` settings are effective; `hidden_by` says of the others what hides them.
    """

    person: int
    ways: tuple[str, ...]
    control_count: int
    effective_count: int
    hidden_by: tuple[str, ...]


def holders(answer: SetAnswer) -> list[Holder]:
    """Return the people that a set reaches; those with the most effective settings first."""
    ways: dict[int, list[str]] = {}
    effective: dict[int, int] = {}
    hidden: dict[int, list[str]] = {}
    for setting in answer.settings:
        for person in setting.reached.tolist():
            ways.setdefault(person, []).append(setting.cause.scope or "")
        for person in setting.counts.tolist():
            effective[person] = effective.get(person, 0) + 1
        for cause, people in setting.hidden:
            for person in people.tolist():
                hidden.setdefault(person, []).append(f"{setting.control} by {hider_text(cause)}")
    found = [
        Holder(
            person=person,
            ways=tuple(dict.fromkeys(scopes)),
            control_count=len(scopes),
            effective_count=effective.get(person, 0),
            hidden_by=tuple(hidden.get(person, ())),
        )
        for person, scopes in ways.items()
    ]
    return sorted(found, key=lambda holder: (-holder.effective_count, holder.control_count, holder.person))


def hider_text(cause: Cause) -> str:
    """Return what hides a setting, in words."""
    if cause.scope is None:
        return "what is not known"
    return "the want of a licence" if cause.scope == "licence" else cause.scope


# Most of what follows is read from a pair: the answer, which knows lines and times, and the thing itself.
_Pair = tuple[Any, Any]


def _with(answer: Any, things: Sequence[Any]) -> list[_Pair]:
    return [(answer, thing) for thing in things]


def _of_cause(cause_of: Callable[[Any], Cause | None]) -> tuple[Field, ...]:
    """Return the fields of an effective value: what it is, where it is set, and in which line."""

    def read(name: str) -> Callable[[_Pair], Any]:
        return lambda pair: None if (cause := cause_of(pair[1])) is None else getattr(cause, name)

    return (
        Field("value", nullable(VALUE), "The value; null if it is not known.", read("value")),
        Field("scope", nullable(WORD), "Where it is set.", read("scope")),
        Field("pinned", TRUTH, "True if nothing below can override it.", lambda pair: bool(read("pinned")(pair))),
        Field("at", maybe(WORD), "The file and line of the setting.", lambda pair: _line(pair[0], cause_of(pair[1]))),
    )


def _by_scope(fields: tuple[Field, ...]) -> tuple[Field, ...]:
    """Return the fields of an effective value with the scope first."""
    return (fields[1], fields[0], *fields[2:])


def _line(answer: Any, cause: Cause | None) -> str:
    return "" if cause is None else answer.line_of(cause.row)


_RULE = Field("rule", TEXT, "The rule.", "1.rule.id")
_SERVICE = Field("service", TEXT, "The service.", "1.service")
_CONTROL = Field("control", TEXT, "The control.", "1.control")
_RESOLVED = list_of(object_of((_SERVICE, _CONTROL, title_field("1.control"), *_of_cause(lambda got: got.cause))))
_FACTS = list_of(
    object_of(
        (
            Field("fact", TEXT, "The fact of the person.", "0"),
            Field("value", nullable(WORD), "Its value; null if it is not known.", "1"),
        )
    )
)
_VERDICT = enum(SHOWN_ORDER)


def _of_detail(name: str, otherwise: Any = None) -> Callable[[_Pair], Any]:
    return lambda pair: otherwise if pair[1].detail is None else getattr(pair[1].detail, name)


def _would_be(pair: _Pair) -> str | None:
    code = _of_detail("would_be")(pair)
    return None if code is None else VERDICTS[code]


_SAID = list_of(
    object_of(
        (
            _RULE,
            Field("severity", SEVERITY.type, SEVERITY.says, "1.rule.severity"),
            Field("title", WORD, "What the rule asks.", "1.rule.title"),
            Field("service", nullable(WORD), "The service; null for rules about no service.", "1.service"),
            Field("verdict", _VERDICT, "The verdict.", lambda pair: VERDICTS[pair[1].verdict]),
            Field(
                "reason",
                WORD,
                "Why it is so.",
                lambda pair: pair[1].detail.reason if pair[1].detail else pair[1].exempt,
            ),
            Field("leaves", LEAVES, "The comparisons that decide.", _of_detail("leaves", ())),
            Field("exception", nullable(WORD), "The exception that covers it.", _of_detail("exception")),
            Field("would_be", nullable(_VERDICT), "The verdict without that exception.", _would_be),
            Field("values", _RESOLVED, "The values that it looks at.", lambda pair: _with(pair[0], pair[1].values)),
            Field("facts", _FACTS, "The facts that it looks at.", "1.facts"),
        )
    )
)
_SETTING = (
    Field("scope", TEXT, "Where it is set.", "1.scope"),
    Field("value", VALUE, "The value.", "1.value"),
    Field("pinned", TRUTH, "True if nothing below can override it.", "1.pinned"),
    Field("rank", nullable(INTEGER), "Its rank among groups.", "1.rank"),
    Field(
        "changed_at",
        nullable(WORD),
        "When it was changed.",
        lambda pair: None if pair[1].changed is None else pair[0].time_of(pair[1].changed),
    ),
    Field("young", TRUTH, "True if it may not have arrived yet.", "1.young"),
    Field("at", maybe(WORD), "The file and line of the setting.", lambda pair: pair[0].line_of(pair[1].row)),
    Field("note", maybe(WORD), "What was written beside it.", lambda pair: pair[0].note_of(pair[1].row)),
    Field("state", enum(("stands", "overridden", "beaten", "after-pin")), "What became of it.", "1.state"),
)
_STEP = (
    Field("step", TEXT, "The step, from the widest to the person.", "1.name"),
    Field("gap", maybe(WORD), "What is not known about it.", "1.gap"),
    Field("ends_the_walk", TRUTH, "True if a pinned setting ends the walk here.", "1.ends"),
    Field(
        "settings",
        list_of(object_of(_SETTING)),
        "Its settings, the strongest first.",
        lambda pair: _with(pair[0], pair[1].settings),
    ),
)


def _walk(name: str, type_: Type, says: str) -> Field:
    read = attrgetter(name)
    return Field(name, type_, says, lambda pair: read(pair[1].walk))


_WALK = (
    Field("service", TEXT, "The service.", "1.walk.service.id"),
    _walk("control", TEXT, "The control."),
    title_field("1.walk.control"),
    _walk("supported", TRUTH, "True if the service has the control."),
    _walk("account", TRUTH, "True if the person has an account there."),
    _walk("value", nullable(VALUE), "The effective value; null if it is not known."),
    _walk("scope", nullable(WORD), "Where it is set."),
    _walk("pinned", TRUTH, "True if nothing below can override it."),
    _walk("changeable", TRUTH, "True if the person may change it."),
    _walk("young", TRUTH, "True if it may not have arrived yet."),
    _walk(
        "licence",
        maybe(enum(("held", "without", "unavailable", "unknown"))),
        "Whether the person has the licence that the control needs.",
    ),
    _walk(
        "contested",
        list_of(
            object_of(
                (
                    Field("scope", TEXT, "Where it is set.", "0"),
                    Field("value", VALUE, "The value that is set there.", "1"),
                )
            )
        ),
        "Settings of equal rank that disagree.",
    ),
    _walk("seen", list_of(WORD), "Values that were really seen last."),
    Field(
        "steps",
        list_of(object_of(_STEP)),
        "The steps, the widest first.",
        lambda pair: _with(pair[0], pair[1].walk.steps),
    ),
    Field(
        "arrives_at",
        nullable(WORD),
        "When a recent change should have arrived.",
        lambda pair: None if pair[1].walk.arrives is None else pair[0].time_of(pair[1].walk.arrives),
    ),
    _walk("chains", list_of(SOME), "Through which groups the person is in a group, the innermost first."),
    Field("rules", _SAID, "What the rules that look at it say.", lambda pair: _with(pair[0], pair[1].rules)),
    _walk(
        "contradictions",
        list_of(
            object_of(
                (
                    Field("control", TEXT, "The other control."),
                    Field("value", WORD, "Its value."),
                    Field("scope", WORD, "Where it is set."),
                )
            )
        ),
        "Values of other controls that cannot work with it.",
    ),
)


def _overview(name: str, type_: Type, says: str) -> Field:
    """Return a field of the overview; empty where a control or a rule was asked for."""
    return Field(name, type_, says, lambda answer: getattr(answer.glance, name) if answer.glance is not None else ())


_PERSON = (
    Field("id", TEXT, "The person's id."),
    Field("login", TEXT, "Their login."),
    Field("name", maybe(WORD), "Their name."),
    Field("kind", enum(PERSON_KINDS), "Which kind of person."),
    Field("unit", nullable(WORD), "Their unit."),
)
WHY = Result(
    schema="why/1",
    says="Where the values and verdicts of one person come from.",
    lines=(
        (),
        (
            Field("person", object_of(_PERSON), "The person."),
            Field("asked", WORD, "The rule or control that was asked for; empty for an overview."),
            Field(
                "meeting",
                TEXT,
                "The planned meeting that was asked for.",
                lambda answer: ABSENT if answer.meeting is None else answer.meeting.id,
                optional=True,
            ),
        ),
    ),
    lists=(
        Field("verdicts", _SAID, "What rules say.", lambda answer: _with(answer, (answer.glance or answer).said)),
        Field(
            "values",
            _RESOLVED,
            "The person's values.",
            lambda answer: _with(answer, answer.glance.values if answer.glance is not None else ()),
        ),
        _overview("facts", _FACTS, "The person's facts."),
        _overview("locked_out", TEXTS, "Resources from which the person is locked out."),
        _overview("stranded", TEXTS, "Resources without a way in until the person registers something."),
        Field("walks", list_of(object_of(_WALK)), "How values come about.", lambda answer: _with(answer, answer.walks)),
    ),
)


@record
class _HasRow:
    """Someone who has a value on a service."""

    answer: WaysAnswer
    service: str
    ways: Ways
    id: str
    login: str


def _have(answer: WaysAnswer) -> Iterator[_HasRow]:
    people, numbers = answer.snapshot.people, np.array([ways.person for _, ways in answer.found], np.int64)
    columns = zip(answer.found, people.ids.take(numbers), people.logins.take(numbers), strict=True)
    return (
        _HasRow(answer=answer, service=service, ways=ways, id=name, login=login)
        for (service, ways), name, login in columns
    )


_WAY = (
    Field("scope", TEXT, "Where it is set.", "1.scope"),
    Field("pinned", TRUTH, "True if nothing below can override it.", "1.pinned"),
    Field("at", maybe(WORD), "The file and line of the setting.", lambda pair: pair[0].line_of(pair[1].row)),
)
_EFFECTIVE = (Field("scope", TEXT, "Where the effective value is set."), Field("value", nullable(VALUE), "That value."))
_HAS = (
    Field("id", TEXT, "Who (id)."),
    Field("login", TEXT, "Their login."),
    Field("service", TEXT, "The service."),
    Field("has", TRUTH, "True if it is their effective value.", "ways.has"),
    Field(
        "ways",
        list_of(object_of(_WAY)),
        "The settings that give it to them.",
        lambda row: _with(row.answer, row.ways.ways),
    ),
    Field("counts", nullable(object_of(_EFFECTIVE)), "The setting that is effective.", "ways.counts"),
)
WAYS = Result(
    schema="ways/1",
    says="Who has a value of a control, and which settings give it to them.",
    lines=((), (Field("control", TEXT, "The control."), Field("value", Type(TEXT.schema, shown), "The value."))),
    lists=(Field("people", list_of(object_of(_HAS)), "Everyone who has it, or would have it by some setting.", _have),),
)


def _ids(answer: SetAnswer, people: Ints | Longs) -> list[str]:
    return answer.snapshot.people.ids.take(people)


def _holder_rows(answer: SetAnswer) -> Iterator[tuple[Holder, str, str]]:
    found, people = holders(answer), answer.snapshot.people
    numbers = np.array([holder.person for holder in found], np.int64)
    return zip(found, people.ids.take(numbers), people.logins.take(numbers), strict=True)


_HIDDEN = (
    *_of_cause(lambda hidden: hidden[0]),
    Field("people", TEXTS, "From which people (ids).", lambda pair: _ids(pair[0], pair[1][1])),
)
_IN_SET = (
    _SERVICE,
    _CONTROL,
    title_field("1.control"),
    *_by_scope(_of_cause(attrgetter("cause"))),
    Field("reached", TEXTS, "The people that it reaches (ids).", lambda pair: _ids(pair[0], pair[1].reached)),
    Field("counts", TEXTS, "People for which it is effective (ids).", lambda pair: _ids(pair[0], pair[1].counts)),
    Field(
        "hidden",
        list_of(object_of(_by_scope(_HIDDEN))),
        "What hides it from others.",
        lambda pair: _with(pair[0], pair[1].hidden),
    ),
)
_HOLDER = (
    Field("id", TEXT, "Who (id).", "1"),
    Field("login", TEXT, "Their login.", "2"),
    Field("ways", TEXTS, "Where the settings that reach them are set.", "0.ways"),
    Field("controls", COUNT, "How many settings reach them.", "0.control_count"),
    Field("counts", COUNT, "How many of them are effective.", "0.effective_count"),
)
SET = Result(
    schema="set/1",
    says="What became of a named set of settings.",
    lines=(
        (),
        (
            Field("set", TEXT, "The name of the set.", "name"),
            Field("rows", COUNT, "How many rows of the settings table belong to it."),
        ),
    ),
    lists=(
        Field("settings", list_of(object_of(_IN_SET)), "Its settings.", lambda answer: _with(answer, answer.settings)),
        Field("people", list_of(object_of(_HOLDER)), "The people that it reaches.", _holder_rows),
    ),
)
