"""The kept checks of an organisation, and what became of findings between two of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from operator import attrgetter
from typing import TYPE_CHECKING, Any

from ...core.guests.deciding import FATES
from ...core.history.intervals import (
    BACK,
    COVERED,
    GONE,
    KEPT,
    LEFT,
    MOVES,
    NEW,
    NEW_RULE,
    NO_RULE,
    NOT_KNOWN,
    STILL,
    WHAT,
    Changed,
    Interval,
    IntervalKey,
    ReviewDecision,
    open_doors,
)
from ...core.history.trend import DataPoint
from ...core.organisation.columns import DAY
from ...core.verdicts.outcome import Root
from ...core.words.record import record
from ...core.words.vocabulary import SEVERITIES
from ..fields import (
    COUNT,
    DATE,
    NOTES,
    TEXT,
    TIME,
    TRUTH,
    Field,
    enum,
    item,
    list_of,
    maybe,
    nullable,
    numbers_by,
    object_of,
)
from ..writers import Result, Rows

if TYPE_CHECKING:
    from ...files.history.store import Check

Counts = Mapping[tuple[str, str], int]


@record
class HistoryStep:
    """One check: what else was counted of it, and what drifted beside the check before."""

    check: Check
    counts: Counts
    data_point: DataPoint


@record
class RootMoved:
    """A cause of drift, and how many findings came from it then and now."""

    root: Root
    then: int
    now: int


@record
class Known:
    """Describes what the present snapshot says of people, by id.

    Their login and the path of their unit ("" for none).
    """

    logins: Mapping[str, str]
    units: Mapping[str, str]


@record
class HistoryAnswer:
    """Every kept check in order.

    With `since` what became of everything between two of them, and the causes that moved (none if only a part is
    shown); with `person` that person's intervals; `known` where there is a snapshot to ask.
    """

    steps: tuple[HistoryStep, ...]
    since: tuple[Check, Check, tuple[Changed, ...]] | None = None
    person: tuple[str, tuple[Interval, ...]] | None = None
    notes: tuple[str, ...] = ()
    roots: tuple[RootMoved, ...] = ()
    known: Known | None = None
    decisions: tuple[ReviewDecision, ...] = ()  # what reviews of guests decided about the person
    part: str = ""  # what `since` was narrowed to, in words

    def whose(self, key: IntervalKey) -> str:
        """Return the subject of a verdict, named by login if it is known."""
        return key.id if self.known is None or key.type != "person" else self.known.logins.get(key.id, key.id)

    def day(self, number: int) -> str:
        """Return the day (YYYY-MM-DD, UTC) of a check by its number; ? for one that is not there."""
        return next((step.check.time[:10] for step in self.steps if step.check.number == number), "?")

    def age(self, first: int, now: Check) -> int:
        """Return the age in whole days of an interval at a check."""
        began = next(step.check.taken_at for step in self.steps if step.check.number == first)
        return int((now.taken_at - began) // DAY)


def what_changed(changed: Sequence[Changed]) -> Mapping[str, int]:
    """Return how many findings became what."""
    return Counter(one.what for one in changed)


def since_object(answer: HistoryAnswer) -> dict[str, Any] | None:
    """Return what became of everything, counted, as JSON; None without two checks to compare."""
    if answer.since is None:
        return None
    then, now, changed = answer.since
    counted = what_changed(changed)
    return {"from": then.time, "to": now.time, **{name: counted.get(name, 0) for name in WHAT}}


WHAT_MEANS = {
    NEW: "drifts now, and never did before",
    BACK: "did before, not then, and does again",
    NEW_RULE: "a rule that the baseline has gained",
    STILL: "drifted then and drifts now",
    NOT_KNOWN: "drifted, and what is needed to judge it is missing now",
    COVERED: "drifted, and an exception covers it now",
    GONE: "drifted then, and does not any more",
    LEFT: "the subject has left",
    NO_RULE: "a rule that the baseline has lost",
}


def _count(kind: str, name: str = "") -> Callable[[HistoryStep], int]:
    return lambda step: step.counts.get((kind, name), 0)


def _moves(name: str) -> Callable[[HistoryStep], int | None]:
    return lambda step: None if step.data_point.changed is None else step.data_point.changed.get(name, 0)


def _changed(answer: HistoryAnswer) -> Iterator[tuple[HistoryAnswer, Changed]]:
    return ((answer, one) for one in (() if answer.since is None else answer.since[2]))


def _changed_rows(answer: HistoryAnswer) -> Iterator[tuple[HistoryAnswer, Changed]] | None:
    return None if answer.since is None else _changed(answer)


def _intervals(answer: HistoryAnswer) -> Iterator[tuple[HistoryAnswer, Interval]]:
    return ((answer, one) for one in (() if answer.person is None else answer.person[1]))


def _age(pair: tuple[HistoryAnswer, Changed]) -> int:
    answer, one = pair
    assert answer.since is not None
    return answer.age(one.first, answer.since[1])


_BASELINE = object_of(
    (Field("name", TEXT, "Its name.", "baseline_name"), Field("version", TEXT, "Its version.", "baseline_version"))
)
_NUMBER = Field("check", COUNT, "The number of the check.", "check.number")
_TAKEN = Field("taken_at", TIME, "When its snapshot was taken.", "check.time")
_LINK = Field(
    "link", TEXT, "The digest that links it to the checks before it.", lambda step: step.check.digests["link"]
)
_PEOPLE = Field("people", COUNT, "How many active people there were.", _count("people"))
_DRIFTING = Field("drifting_people", COUNT, "How many of them drifted.", _count("drifting"))
_DRIFTS = Field("drifts", COUNT, "How many findings there were.", "data_point.drifts")
_MOVES = tuple(
    Field(
        name,
        nullable(COUNT),
        f"How many findings since the check before: {WHAT_MEANS[name]}; null for the first.",
        _moves(name),
    )
    for name in MOVES
)
_CHECK = (
    _NUMBER,
    _TAKEN,
    Field("baseline", _BASELINE, "The baseline.", "check"),
    _LINK,
    _PEOPLE,
    _DRIFTING,
    Field(
        "severities",
        numbers_by(SEVERITIES),
        "How many people drifted at worst from a rule of each severity.",
        lambda step: {name: step.counts.get(("severity", name), 0) for name in SEVERITIES},
    ),
    _DRIFTS,
    *_MOVES,
    Field("unknown", COUNT, "How many verdicts were unknown.", _count("verdict", "unknown")),
    Field("roots", COUNT, "How many causes there were.", lambda step: sum(kind == "root" for kind, _ in step.counts)),
    Field("open_doors", COUNT, "How many doors were open to a stranger.", lambda step: open_doors(step.counts)),
    Field("median_age_days", nullable(COUNT), "The median age of the findings.", "data_point.median_age"),
    Field("oldest_age_days", nullable(COUNT), "The age of the oldest one.", "data_point.oldest_age"),
)
_SUBJECT = object_of((Field("type", TEXT, "What kind of subject it is."), Field("id", TEXT, "Its id.")))
_WHAT = Field("what", enum(WHAT), "What became of the finding.", "1.what")
_RULE = Field("rule", TEXT, "The rule.", "1.key.rule")
_SERVICE = Field("service", maybe(TEXT), "The service; null for rules about no service.", "1.key.service")
_SINCE = Field("since", DATE, "The day of the check in which it began.", lambda pair: pair[0].day(pair[1].first))
_AGE = Field("age_days", COUNT, "Its age in whole days.", _age)
_CHANGED = (_WHAT, _RULE, _SERVICE, Field("subject", _SUBJECT, "Whose finding it is.", "1.key"), _SINCE, _AGE)
_ROOT = (
    Field("service", nullable(TEXT), "The service.", "root.service"),
    Field("control", TEXT, "The control, or what else causes findings.", "root.control"),
    Field("scope", nullable(TEXT), "Where it is set.", "root.scope"),
    Field("value", nullable(TEXT), "The value that is set there.", "root.value"),
    Field("then", COUNT, "How many findings it caused then."),
    Field("now", COUNT, "How many it causes now."),
)
_INTERVAL = (
    _RULE,
    _SERVICE,
    Field("verdict", enum(sorted(KEPT)), "The verdict.", "1.verdict"),
    Field("from", DATE, "The day of the check in which it began.", lambda pair: pair[0].day(pair[1].first)),
    Field(
        "to",
        nullable(DATE),
        "The day of the last check with it; null if it lasts.",
        lambda pair: None if pair[1].last is None else pair[0].day(pair[1].last),
    ),
    Field("left", TRUTH, "True if it ended because the person left.", "1.left"),
)
_DECISION = (
    Field("review", TEXT, "The review of guests.", "1.review"),
    Field("place", TEXT, "What was decided about: `account`, or a group.", "1.place"),
    Field("decision", enum(FATES), "What was decided.", "1.fate"),
    Field("kept", DATE, "The day of the first check after it.", lambda pair: pair[0].day(pair[1].check)),
)
_COUNTED = object_of(
    (
        Field("from", TIME, "When the earlier snapshot was taken.", item("from")),
        Field("to", TIME, "When the later one was taken.", item("to")),
        *(Field(name, COUNT, f"How many findings: {WHAT_MEANS[name]}.", item(name)) for name in WHAT),
    )
)
HISTORY = Result(
    schema="history/1",
    says="The kept checks, what became of findings between two of them, and what was found about one person.",
    lines=(
        (),
        (Field("since", nullable(_COUNTED), "What became of findings, counted; null without --since.", since_object),),
    ),
    lists=(
        Field("checks", list_of(object_of(_CHECK)), "Each kept check.", "steps"),
        Field("changed", list_of(object_of(_CHANGED)), "What became of each finding.", _changed),
        Field("roots", list_of(object_of(_ROOT)), "Causes whose number of findings changed."),
        Field(
            "spells", list_of(object_of(_INTERVAL)), "What was found about the person, from when to when.", _intervals
        ),
        Field(
            "decisions",
            list_of(object_of(_DECISION)),
            "What reviews of guests decided about the person.",
            lambda answer: [(answer, one) for one in answer.decisions],
        ),
        NOTES,
    ),
    csv=(
        Rows(
            "`history --since`: a row for each finding that became something",
            (
                _WHAT,
                _RULE,
                _SERVICE,
                Field("subject_type", TEXT, "What kind of subject it is.", "1.key.type"),
                Field("subject", TEXT, "Its id.", "1.key.id"),
                _SINCE,
                _AGE,
            ),
            _changed_rows,
        ),
        Rows(
            "`history`: a row for each check",
            (_NUMBER, _TAKEN, _PEOPLE, _DRIFTING, _DRIFTS, *_MOVES, _LINK),
            attrgetter("steps"),
        ),
    ),
    head=lambda answer: (answer.steps[-1].check.organisation, answer.steps[-1].check.time),
)
