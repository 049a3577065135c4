"""The report in words and tables.

What is wrong in three sentences, what to do first, and a part for each thing worth knowing.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from ...core.guests.states import FINE
from ...core.verdicts.areas import AreaShares, area_shares
from ...core.verdicts.codes import DRIFTS, UNAVAILABLE, UNKNOWN
from ...core.verdicts.result import ENDS_SOON_DAYS, CheckResult, RootRow
from ...core.verdicts.rules import Rule
from ...core.verdicts.uncovered import uncovered
from ...core.words.plural import plural
from ...core.words.record import record
from ...core.words.units import with_unit
from ...core.words.vocabulary import SEVERITIES
from ..baseline.answer import UncoveredAnswer
from ..baseline.table import uncovered_sections
from ..check.digest import agreed, findings_text, observed_lines, root_text, uncovered_lines
from ..check.headline import alarms, answer_of, doubts, lesser_lockouts
from ..conditions import conditional_lines
from ..door.pages import door_details, doors_section, first_of_all, meetings_section
from ..guests.pages import guests_page
from ..history.pages import history_page
from ..holes.answer import describe, outcome
from ..moved import moved_text
from ..section import COUNT, DATE, WHOLE, WORD, Column, Section, cut, few_logins, joined, left, scope_text, some
from .answer import ReportAnswer

# The areas in the order in which a visitor meets them, and what they are called on the page.
AREAS = {
    "door": "Doors",
    "room": "Rooms",
    "line": "Lines",
    "broadcast": "Broadcasts",
    "call": "Calls",
    "contact": "Contact outside",
    "app": "Apps",
    "file": "Files",
    "team": "Teams",
    "guest": "Guests",
    "sign-in": "Sign-in",
    "account": "Accounts",
}
_ROOTS, _ROWS, _UNITS = 15, 12, 30


@record
class PagePart:
    """A part of the page: its place in the address (`id`), heading, sentences and tables."""

    id: str
    heading: str
    sentences: tuple[str, ...]
    sections: tuple[Section, ...]


@record
class HeatRow:
    """A unit beside the areas: how many people, and for each area its cell.

    What it shows, and its shade, a step from 0 to 5.
    """

    unit: str
    people: int
    cells: tuple[tuple[str, int], ...]


@record
class HeatMap:
    """Units by areas, those with most drifting first as far as they are shown; `more` says how many are left out."""

    areas: tuple[str, ...]
    rows: tuple[HeatRow, ...]
    more: str


@record
class RuleSummary:
    """A rule with its findings and what is not known, why it matters, and the numbers of frameworks that it maps to."""

    rule: Rule
    drifts: int
    unclear: int
    maps: str
    holds: bool


def in_short(answer: ReportAnswer) -> list[str]:
    """Return what is wrong, in a few sentences.

    What is most urgent first, then what drifts, what is not known, holes and doors.
    """
    result = answer.result
    found = [*alarms(result), *doubts(result), answer_of(result), *_not_known(result), *lesser_lockouts(result)[:1]]
    if answer.holes is not None and any(rule.holes for rule in answer.holes.rules):
        found.append(outcome(answer.holes))
    if answer.doors is not None and any(door.open for door in answer.doors.doors):
        found.append(first_of_all(answer.doors.doors))
    findings = sum(row.verdicts for row in result.roots)
    top = max(result.roots, key=lambda row: row.verdicts, default=None)
    if top is not None and 2 * top.verdicts > findings:
        found.append(
            f"Most of it has one cause: {root_text(top.root, result.snapshot)} "
            f"({plural(top.people, 'person', 'people')})."
        )
    return found


def _not_known(result: CheckResult) -> list[str]:
    """Return how much is not known, where something drifts beside it (else the answer itself says so)."""
    number = sum(result.counts[code] for code in (UNKNOWN, UNAVAILABLE))
    drifts = result.drifting_people or any(each.drifting for each in result.other_counts)
    if not number or not drifts:
        return []
    people = plural(result.unclear_people, "person", "people")
    return [
        f"{plural(number, 'verdict')} of {people} {'is' if number == 1 else 'are'} unknown or unavailable, which "
        "counts as not good."
    ]


def what_first(answer: ReportAnswer) -> list[str]:
    """Return what to do first, in the order in which it helps."""
    result = answer.result
    found = []
    shut = {each.of for each in result.lockouts if each.all}
    if shut:
        found.append(f"Make sure that {' and '.join(sorted(shut))} accounts can sign in: today none of them can.")
    elif result.lockouts:
        worst = sorted({name for each in result.lockouts for name in each.people})
        people = result.snapshot.people
        rows = np.array([row for name in worst for row in people.ids.find(name)], np.int32)
        where = joined(sorted({each.resource for each in result.lockouts}))
        found.append(f"See to it that {some(people.logins.take(rows), 4)} can sign in to {where} again.")
    if answer.plan is not None:
        found.append(f"Make the changes of the plan below. {answer.plan.first}")
    else:
        found += [_mend(row, result) for row in result.roots if _mendable(row)][:3]
    found += [_with_people(row, result) for row in _facts(result)[:2]]
    if answer.guests is not None:
        due = sum(guest.states[0] != FINE for guest in answer.guests.guests)
        if due:
            found.append(
                f"Ask about {plural(due, 'guest')}: no one has looked at them for too long, or no one answers for them."
            )
    ended = [row.id for row in agreed(result) if row.state == "expired"]
    if ended:
        found.append(f"Decide on {plural(len(ended), 'exception')} that ended: {some(ended, 4)}.")
    return found


def _facts(result: CheckResult) -> list[RootRow]:
    """Return the roots that are facts of people, from which someone drifts badly; the worst first."""
    grave = {rule.id: SEVERITIES.index(rule.severity) for rule in result.rules}
    bad = [(min(grave[rule] for rule in row.rules), row) for row in result.roots if row.root.scope == "person"]
    bad = [each for each in bad if each[1].root.value is None and each[0] <= SEVERITIES.index("high")]
    return [row for _, row in sorted(bad, key=lambda each: (each[0], -each[1].people))]


def _with_people(row: RootRow, result: CheckResult) -> str:
    mine = [rule for rule in result.rules if rule.id in row.rules]
    rule = max(mine, key=lambda rule: int(result.rule_counts[rule.id][DRIFTS]))  # what most of them drift from
    return (
        f"Put {row.root.control} right with {plural(row.people, 'person', 'people')}: no setting does it for them. "
        f"What is asked: {rule.title[0].lower()}{rule.title[1:]}."
    )


def _mendable(row: RootRow) -> bool:
    return row.remedy is not None and row.remedy.mended_value is not None


def _mend(row: RootRow, result: CheckResult) -> str:
    assert row.remedy is not None
    root = row.root
    titles = {service.id: service.title for service in result.snapshot.services or ()}
    rule = next(rule for rule in result.rules if rule.id == row.rules[0])
    where = f" at {scope_text(root.scope, result.snapshot)}" if root.scope not in (None, "factory") else ""
    wanted = with_unit(root.control, row.remedy.mended_value or "")
    return (
        f"{titles.get(root.service or '') or root.service}: set {root.control}{where} to {wanted} "
        f"(it is {with_unit(root.control, root.value or '')}). {plural(row.verdicts, 'finding')} of "
        f"{plural(row.people, 'person', 'people')} "
        f"{'comes' if row.verdicts == 1 else 'come'} from there. What is asked: "
        f"{rule.title[0].lower()}{rule.title[1:]}."
    )


def parts(answer: ReportAnswer) -> list[PagePart]:
    """Return every part that has something to say, in order."""
    made = [
        _roots(answer),
        _plan(answer),
        _trend(answer),
        _doors(answer),
        *_sign_in(answer),
        _guests(answer),
        _exceptions(answer),
        _uncovered(answer),
    ]
    return [part for part in made if part is not None]


def _how(section: Section, verb: str) -> Section:
    """Return a table whose last line says where the rest is to be had."""
    return replace(section, more=re.sub(r"^(and [\d,]+ more).*", rf"\1: usher-gate {verb} --rows 0", section.more))


def _roots(answer: ReportAnswer) -> PagePart | None:
    """Return the page part about causes, or None if nothing drifts."""
    result = answer.result
    if not result.roots:
        return None
    where = result.where
    made = [
        (
            row.severity,
            row.people,
            row.verdicts,
            root_text(row.root, result.snapshot),
            where(row.root),
            with_unit(row.root.control, row.remedy.mended_value)
            if row.remedy is not None and row.remedy.mended_value is not None
            else "",
            ", ".join(row.rules),
        )
        for row in sorted(result.roots, key=lambda row: row.worst_first)
    ]
    rows, more = cut(made, _ROOTS, "usher-gate check --rows 0")
    columns = (
        Column("severity", WORD),
        Column("people", COUNT),
        Column("findings", COUNT),
        Column("what causes them"),
        Column("set in", WHOLE),
        Column("set it to"),
        Column("rules"),
    )
    said = f"{findings_text(result)}, from {plural(len(result.roots), 'cause')}. Mend the first ones first."
    return PagePart(
        "causes", "Where it comes from", (said,), (Section("Causes, the most severe first", columns, rows, more),)
    )


def _plan(answer: ReportAnswer) -> PagePart | None:
    plan = answer.plan
    if plan is None:
        return None
    rows, more = cut([(number, line) for number, line in enumerate(plan.changes, 1)], 40, "the plan's own file")
    section = Section("The changes, in the order of making them", (Column("", COUNT), Column("change")), rows, more)
    return PagePart("plan", "The plan", (plan.first,), (section,))


def _trend(answer: ReportAnswer) -> PagePart | None:
    """Return the page part about the history, or None if no checks are kept."""
    history = answer.history
    if history is None:
        return None
    page = history_page(history, _ROWS)
    sections = [_how(section, "history") for section in page.sections]
    sentences = [line for line in page.details if not line.startswith("People drifting,")]
    if answer.result.since is not None:
        since = answer.result.since
        sentences.insert(0, f"Since {str(since['from'])[:10]}: {moved_text(since)}.")
    steps = history.steps
    people = [step.counts.get(("drifting", ""), 0) for step in (steps[0], steps[-1])]
    first = (
        f"From {people[0]:,} people who drift on {steps[0].check.time[:10]} to {people[1]:,} on "
        f"{steps[-1].check.time[:10]}."
    )
    if len(steps) == 1:
        first = f"One check is kept, of {steps[0].check.time[:10]}: {plural(people[0], 'person', 'people')} drifting."
    return PagePart("trend", "How it has gone", (first, *sentences), tuple(sections))


def _doors(answer: ReportAnswer) -> PagePart | None:
    doors = answer.doors
    if doors is None or not doors.doors:
        return None
    sections = [doors_section([door for door in doors.doors if door.hosts])]
    if doors.meetings:
        sections.append(_how(meetings_section("Planned meetings to look at", doors, _ROWS), "door --meetings"))
    return PagePart("doors", "Open doors", (first_of_all(doors.doors), *door_details(doors)), tuple(sections))


def _sign_in(answer: ReportAnswer) -> Iterator[PagePart]:
    """Yield the page part about signing in, if there is anything to say."""
    result = answer.result
    holes = answer.holes
    sentences = [*alarms(result), *lesser_lockouts(result)]
    sentences += conditional_lines(result.conditional, result.snapshot)
    sentences += observed_lines(result)
    if result.snapshot.access_rules is None:
        sentences.append("Nothing is known about what a sign-in has to show: the snapshot has no access rules.")
    sections = []
    if holes is not None:
        every = [(rule, hole) for rule in holes.rules for hole in rule.holes]
        severity = {rule.id: SEVERITIES.index(rule.severity) for rule in result.rules}
        sentences.append(outcome(holes))
        made = [
            (
                len(hole.people),
                describe(hole),
                "; ".join(hole.because),
                rule.rule,
                few_logins(holes.snapshot, hole.people, 3),
            )
            for rule, hole in sorted(
                every, key=lambda one: (severity.get(one[0].rule, len(SEVERITIES)), -len(one[1].people), one[0].rule)
            )
        ]
        rows, more = cut(made, _ROWS, "usher-gate holes --rows 0")
        columns = (
            Column("people", COUNT),
            Column("who comes so"),
            Column("because"),
            Column("rule", WHOLE),
            Column("who"),
        )
        if rows:
            sections.append(Section("Ways past a requirement", columns, rows, more))
    stuck = tuple(
        (each.resource, len(each.people), few_logins(result.snapshot, each.people.tolist(), 3))
        for each in result.stranded
    )
    if stuck:
        three = (Column("resource", WHOLE), Column("people", COUNT), Column("who"))
        sections.append(Section("No way in until they register something", three, stuck))
    if sentences or sections:
        yield PagePart("sign-in", "Signing in", tuple(sentences), tuple(sections))


def _guests(answer: ReportAnswer) -> PagePart | None:
    guests = answer.guests
    if guests is None or not guests.guests:
        return None
    page = guests_page(guests, _ROWS)
    sections = [section for section in page.sections if not section.title.startswith("By home domain")]
    return PagePart(
        "guests", "Guests", (page.first, *page.details), tuple(_how(section, "guests") for section in sections)
    )


def _uncovered(answer: ReportAnswer) -> PagePart | None:
    """Return what no rule asks about, for the auditor."""
    result = answer.result
    first = uncovered_lines(result)
    if not first:
        return None
    asked_about = UncoveredAnswer(result.snapshot, result.baseline, uncovered(result.snapshot, result.baseline))
    sections = tuple(_how(section, "baseline --uncovered") for section in uncovered_sections(asked_about, _ROWS))
    return PagePart("uncovered", "What no rule asks about", (first[0].partition(" (")[0] + ".",), sections)


def _exceptions(answer: ReportAnswer) -> PagePart | None:
    """Return the page part about exceptions, or None if there are none."""
    rows = agreed(answer.result)
    if not rows:
        return None
    why = {each.id: (each.reason, each.approved_by) for each in answer.exceptions}
    made = tuple(
        (row.id, row.state, row.covers, row.until, left(row.days_left), *why.get(row.id, ("", "")))
        for row in sorted(rows, key=lambda row: (row.days_left, row.id))
    )
    columns = (
        Column("exception", WHOLE),
        Column("state", WORD),
        Column("covers", COUNT),
        Column("until", DATE),
        Column("that is"),
        Column("why"),
        Column("approved by"),
    )
    soon = sum(0 <= row.days_left <= ENDS_SOON_DAYS for row in rows)
    ended = sum(row.state == "expired" for row in rows)
    said = (
        f"{plural(len(rows), 'exception')}: {ended:,} ended, {soon:,} {'ends' if soon == 1 else 'end'} within "
        f"{ENDS_SOON_DAYS} days."
    )
    return PagePart("exceptions", "Exceptions", (said,), (Section("Exceptions, the next to end first", columns, made),))


def heat_map(answer: ReportAnswer) -> HeatMap | None:
    """Units by areas; None where no one is known to be in a unit, or no rule is about people."""
    shares = area_shares(answer.result, tuple(AREAS))
    if shares is None or not shares.areas or not shares.units:
        return None
    worst = sorted(range(len(shares.units)), key=lambda row: -int(shares.drifting[row].max()))[:_UNITS]
    hidden = len(shares.units) - len(worst)
    more = f"and {hidden:,} more units, in which fewer people drift" if hidden else ""
    return HeatMap(
        tuple(AREAS.get(area, area) for area in shares.areas),
        tuple(_heat_row(shares, row) for row in sorted(worst)),
        more,
    )


def _heat_row(shares: AreaShares, row: int) -> HeatRow:
    people = int(shares.people[row])
    columns = (shares.drifting[row].tolist(), shares.judged[row].tolist(), shares.unclear[row].tolist())
    cells = [_heat_cell(*numbers) for numbers in zip(*columns, strict=True)]
    return HeatRow(shares.units[row] or "in no unit", people, tuple(cells))


def _heat_cell(drifting: int, judged: int, unclear: int) -> tuple[str, int]:
    """Return a cell: empty if no one is judged, `?` if no finding but something unknown, else the share that drifts."""
    if not judged:
        return "", 0
    if unclear and not drifting:
        return "?", 0
    share = (200 * drifting + judged) // (
        2 * judged
    )  # to the nearest; but one of a thousand is not 0 %, nor all but one 100 %
    share = min(max(share, 1), 99) if 0 < drifting < judged else share
    return f"{share}\N{NO-BREAK SPACE}%", min(1 + share // 20, 5) if drifting else 0


def rule_summaries(answer: ReportAnswer) -> Sequence[RuleSummary]:
    """Return every rule, the worst that drift first."""
    result = answer.result
    summaries = [
        RuleSummary(
            rule=rule,
            drifts=result.rule_counts[rule.id][DRIFTS],
            unclear=result.rule_counts[rule.id][UNKNOWN] + result.rule_counts[rule.id][UNAVAILABLE],
            maps="; ".join(f"{framework}: {', '.join(names)}" for framework, names in rule.maps.items()),
            holds=result.holds(rule),
        )
        for rule in result.rules
    ]
    return sorted(
        summaries,
        key=lambda one: (not one.drifts, one.holds, SEVERITIES.index(one.rule.severity), -one.drifts, one.rule.id),
    )
