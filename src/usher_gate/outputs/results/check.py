"""The fields of a check. Findings and shares of groups and units are written in pieces: a check may have millions."""

from __future__ import annotations

from collections.abc import Iterator
from operator import attrgetter
from typing import Any

from ...core.history.intervals import WHAT
from ...core.sign_in.health import observed_rules
from ...core.verdicts.result import CheckResult, RootRow
from ...core.words.record import record
from ..check.csv_ import finding_rows
from ..check.json_ import findings, group_shares, unit_shares
from ..fields import (
    COUNT,
    DATE,
    INTEGER,
    NOTES,
    SOME,
    TEXT,
    TEXTS,
    TIME,
    TRUTH,
    VALUE,
    VERDICT_COUNTS,
    WORD,
    Field,
    Type,
    constant,
    either,
    enum,
    item,
    list_of,
    map_of,
    maybe,
    nullable,
    object_of,
)
from ..writers import Result, Rows
from .common import CONDITIONAL, DETAIL, LOCKOUT, SEVERITY, title_field
from .exceptions import EXCEPTION_STATES
from .history import WHAT_MEANS


@record
class _Ignored:
    """A setting that applies to nothing, and where it is set."""

    file: str
    line: int
    scope: str
    nearest: str


def _ignored(result: CheckResult) -> Iterator[_Ignored]:
    ignored = result.snapshot.ignored
    if ignored is None:
        return
    words = ignored.scope.words
    rows = sorted(
        zip(ignored.scope.codes.tolist(), ignored.row.tolist(), strict=True), key=lambda row: (words[row[0]], row[1])
    )
    for code, row in rows:
        file, _, line = result.line_of(row).rpartition(":")
        yield _Ignored(file, int(line or 0), words[code], ignored.nearest[code])


def _ids(pair: tuple[CheckResult, Any]) -> list[str]:
    """Return the ids of the people of something in a result."""
    return pair[0].snapshot.people.ids.take(pair[1].people)


def _of_result(name: str) -> Any:
    """Return what reads a list of a result, each entry with the result."""
    read = attrgetter(name)
    return lambda result: [(result, each) for each in read(result)]


def _of_remedy(name: str, otherwise: Any = None) -> Any:
    """Return what reads what would help with a cause."""

    def read(pair: tuple[CheckResult, RootRow]) -> Any:
        remedy = pair[1].remedy
        return otherwise if remedy is None else getattr(remedy, name)

    return read


_PEOPLE_IDS = Field("people", SOME, "Who has them (ids).", _ids)
_OTHER = (
    Field("type", TEXT, "What kind of subject."),
    Field("judged", COUNT, "How many are judged."),
    Field("drifting", COUNT, "How many of them drift."),
    Field("verdicts", VERDICT_COUNTS, "Verdicts about them.", "counts"),
)
_SUMMARY = (
    Field("people", COUNT, "How many active people the check is about.", lambda result: int(result.chosen.sum())),
    Field("drifting_people", COUNT, "How many of them drift."),
    Field("groups_drifting_as_a_whole", COUNT, "How many groups drift as a whole.", "groups.whole"),
    Field("units_drifting_as_a_whole", COUNT, "How many units drift as a whole.", "units.whole"),
    Field("rules_judging_nobody", TEXTS, "Rules that judge no one, so that they cannot hold.", "judging_nobody"),
    Field("people_contested", COUNT, "How many people have settings of equal rank that disagree.", "contested_people"),
    Field("contradicting_people", COUNT, "How many people have values that cannot work together.", "clashing_people"),
    Field("stranded_people", COUNT, "How many people have no way in until they register something."),
    Field("unclear_people", COUNT, "How many people have a verdict that is unknown or unavailable."),
    Field("ignored_settings", COUNT, "How many settings apply to nothing."),
    Field("verdicts", VERDICT_COUNTS, "Verdicts about people.", "counts"),
    Field("others", list_of(object_of(_OTHER)), "Subjects other than people.", "other_counts"),
)
_SNAPSHOT = (
    Field("missing", TEXTS, "Tables and columns that the snapshot does not have."),
    Field("manifest", nullable(TEXT), "The digest of its manifest."),
    Field("partial", TEXTS, "Sources that are missing."),
    Field("stale", maybe(TEXT), "That it is older than it should be."),
)
_SINCE = (
    Field("from", TIME, "When the snapshot of the check before was taken.", item("from")),
    *(Field(name, COUNT, f"How many findings: {WHAT_MEANS[name]}.", item(name)) for name in WHAT),
    Field("oldest_age_days", nullable(COUNT), "The age of the oldest finding.", item("oldest_age_days")),
)
_RULE = (
    Field("id", TEXT, "The id of the rule.", "1.id"),
    Field("title", TEXT, "What it asks.", "1.title"),
    Field("severity", SEVERITY.type, SEVERITY.says, "1.severity"),
    Field("because", WORD, "Why.", "1.because"),
    Field("mend", WORD, "What to do where it drifts.", "1.mend"),
    Field("maps", map_of(TEXTS), "Controls of frameworks that it maps to.", "1.maps"),
    Field("verdicts", VERDICT_COUNTS, "Its verdicts.", lambda pair: pair[0].rule_counts[pair[1].id]),
)
_SERVICE = (
    Field("id", TEXT, "The service."),
    Field("accounts", COUNT, "How many people have an account there."),
    Field("drifting", COUNT, "How many of them drift there."),
    Field("verdicts", VERDICT_COUNTS, "Verdicts there.", "counts"),
    Field("not_applicable", TEXTS, "Rules whose controls it does not have."),
)
_SHARE = (
    Field("rule", TEXT, "The rule."),
    Field("judged", COUNT, "How many of its people are judged."),
    Field("drifting", COUNT, "How many of them drift."),
    Field("as_a_whole", TRUTH, "True if all of them drift."),
    Field("own_setting", TRUTH, "True if it has the setting that causes it."),
)
_GROUP = (Field("id", TEXT, "The group."), Field("name", nullable(WORD), "What it is called."), *_SHARE)
_UNIT = (Field("path", TEXT, "The unit.", "id"), *_SHARE)
_ROOT = (
    Field("service", nullable(WORD), "The service; null for what is on none.", "1.root.service"),
    Field("control", TEXT, "The control, or what else causes findings.", "1.root.control"),
    title_field("1.root.control"),
    Field("scope", nullable(WORD), "Where it is set.", "1.root.scope"),
    Field("value", nullable(VALUE), "The value that is set there.", "1.root.value"),
    Field("where", maybe(TEXT), "The file and line of the setting.", lambda pair: pair[0].where(pair[1].root)),
    Field("rules", SOME, "The rules that drift because of it.", "1.rules"),
    Field("severity", SEVERITY.type, "The worst severity of these.", "1.severity"),
    Field("people", COUNT, "How many people drift because of it.", "1.people"),
    Field("verdicts", COUNT, "How many findings it causes.", "1.verdicts"),
    Field("mended_value", nullable(VALUE), "The value that would help.", _of_remedy("mended_value")),
    Field("freed", nullable(COUNT), "How many people that value clears.", _of_remedy("freed")),
    Field("ended", nullable(COUNT), "How many findings that value ends.", _of_remedy("ended")),
    Field("if_removed", nullable(COUNT), "How many people taking the setting away clears.", _of_remedy("if_removed")),
    Field("harms", nullable(COUNT), "How many people newly drift by that value.", _of_remedy("harms")),
    Field("harmed", TEXTS, "Some of them (ids).", _of_remedy("harmed", ())),
)
_CONTEST = (
    Field("service", TEXT, "The service.", "1.service"),
    Field("control", TEXT, "The control.", "1.control"),
    title_field("1.control"),
    Field("value", VALUE, "The value that counts.", "1.value"),
    Field(
        "settings",
        list_of(
            object_of(
                (
                    Field("scope", TEXT, "Where it is set.", "0"),
                    Field("value", VALUE, "The value that is set there.", "1"),
                )
            )
        ),
        "The settings of equal rank.",
        "1.settings",
    ),
    _PEOPLE_IDS,
)
_CLASH = (
    Field("service", TEXT, "The service.", "1.service"),
    Field("controls", SOME, "The two controls.", lambda pair: [pair[1].first[0], pair[1].second[0]]),
    Field("values", list_of(VALUE), "Their values.", lambda pair: [pair[1].first[1], pair[1].second[1]]),
    _PEOPLE_IDS,
)
_ID = Field("id", TEXT, "Its id.")
_SUBJECTS = tuple(
    object_of((Field("type", enum(types), "What kind of subject it is."), _ID, *more))
    for types, more in (
        (("person",), (Field("login", TEXT, "The person's login."),)),
        (("partner", "organisation"), ()),
        (
            ("meeting",),
            (Field("label", WORD, "What the meeting is called."), Field("organiser", TEXT, "Who organises it (id).")),
        ),
    )
)
_FINDING = (
    Field("rule", TEXT, "The rule."),
    SEVERITY,
    Field("subject", either(_SUBJECTS, constant(None)), "Whose verdict it is."),
    *DETAIL,
)
_OBSERVED = (
    Field("id", TEXT, "The access rule.", "rule.id"),
    Field("title", WORD, "Its title.", "rule.title"),
    Field("days", nullable(COUNT), "For how many days it has only been observed."),
    Field("old", TRUTH, "True if that is long.", "is_old"),
)
_STRANDED = (
    Field("resource", TEXT, "The resource."),
    Field(
        "people", COUNT, "How many people have no way in until they register something.", lambda each: len(each.people)
    ),
)
_EXCEPTION = (
    Field("id", TEXT, "The exception."),
    Field("state", enum(EXCEPTION_STATES), "Whether it covers something, nothing, or has ended."),
    Field("covers", COUNT, "How many verdicts it covers today."),
    Field("until", DATE, "Its last day."),
    Field("days_left", INTEGER, "How many days are left."),
)
_IGNORED = (
    Field("file", TEXT, "The file of the setting."),
    Field("line", COUNT, "Its line."),
    Field("scope", TEXT, "Where it is set: something that does not exist."),
    Field("nearest", maybe(TEXT), "What may have been meant."),
)
_BASELINE = (Field("name", TEXT, "Its name."), Field("version", TEXT, "Its version."))


def _column(name: str, says: str, type_: Type = TEXT) -> Field:
    """Return a column whose cells are made in pieces."""
    return Field(name, type_, says, constant(None))


_COLUMNS = (
    _column("rule", "The rule."),
    _column("severity", SEVERITY.says),
    _column("subject_type", "What kind of subject it is."),
    _column("subject", "Its id."),
    _column("login", "The person's login; of a meeting the organiser's."),
    _column("service", "The service."),
    _column("verdict", "The verdict."),
    _column("reason", "Why it is so."),
    _column("about", "The control, or what else is compared, of the comparison that decides."),
    _column("actual", "What is there."),
    _column("expected", "What is due."),
    _column("scope", "Where it is set."),
    _column("value", "The value that is set there."),
    _column("pinned", "True if nothing below can override it.", TRUTH),
    _column("exception", "The exception that covers it."),
    _column("would_be", "The verdict without that exception."),
    _column("title", "What the rule asks."),
    _column("name", "The person's name; of a meeting what it is called."),
    _column("unit", "The person's unit."),
    _column("where", "The file and line of the setting."),
    _column("mended_value", "The value that would help."),
    _column("mend", "What to do where the rule drifts."),
    _column("maps", "Controls of frameworks that the rule maps to."),
    _column("taken_at", "When the snapshot was taken.", TIME),
)
CHECK = Result(
    schema="check/1",
    says="Who drifts from a baseline, from what, and where it comes from.",
    lines=(
        (Field("baseline", object_of(_BASELINE), "The baseline."),),
        (Field("summary", object_of(_SUMMARY), "The check in figures.", lambda result: result),),
        (Field("snapshot", object_of(_SNAPSHOT), "What may be doubted about the snapshot."),),
        (
            Field(
                "since",
                nullable(object_of(_SINCE)),
                "What became of findings since the check before; null without a history.",
            ),
        ),
    ),
    lists=(
        Field("rules", list_of(object_of(_RULE)), "The rules.", _of_result("rules")),
        Field("services", list_of(object_of(_SERVICE)), "The services."),
        Field("groups", list_of(object_of(_GROUP)), "Groups with people who drift, by rule."),
        Field("units", list_of(object_of(_UNIT)), "Units with people who drift, by rule."),
        Field("roots", list_of(object_of(_ROOT)), "The causes of findings.", _of_result("roots")),
        Field(
            "contested",
            list_of(object_of(_CONTEST)),
            "Values for which settings of equal rank disagree.",
            _of_result("contests"),
        ),
        Field("contradictions", list_of(object_of(_CLASH)), "Values that cannot work together.", _of_result("clashes")),
        Field(
            "findings",
            list_of(object_of(_FINDING)),
            "Every verdict that is asked for: by default every finding.",
            "blocks",
        ),
        Field("lockouts", list_of(LOCKOUT), "Who is locked out."),
        Field("conditional", list_of(CONDITIONAL), "Break-glass accounts that get in only under conditions."),
        Field(
            "observed_rules",
            list_of(object_of(_OBSERVED)),
            "Access rules that are only observed.",
            lambda result: observed_rules(result.snapshot, result.observed_days),
        ),
        Field("stranded", list_of(object_of(_STRANDED)), "Who has no way in until they register something."),
        Field("exceptions", list_of(object_of(_EXCEPTION)), "The exceptions."),
        Field("ignored", list_of(object_of(_IGNORED)), "Settings that apply to nothing.", _ignored),
        NOTES,
    ),
    csv=(Rows("`check`: a row for each finding", _COLUMNS, finding_rows, ready=True),),
    pieces={"groups": group_shares, "units": unit_shares, "findings": findings},
)
