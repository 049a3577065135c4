"""The report in words and tables.

What is wrong in three sentences, what to do first, and a part for each thing worth knowing.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from ...core.guests.states import FINE
from ...core.organisation.select import Unanswerable, select
from ...core.organisation.selector import Selector
from ...core.organisation.snapshot import Snapshot
from ...core.verdicts.areas import AreaShares, area_shares
from ...core.verdicts.codes import DRIFTS, UNAVAILABLE, UNKNOWN
from ...core.verdicts.outcome import VerdictDetail
from ...core.verdicts.result import ENDS_SOON_DAYS, CheckResult, RootRow
from ...core.verdicts.rules import Rule
from ...core.verdicts.uncovered import uncovered
from ...core.words.plural import plural
from ...core.words.record import record
from ...core.words.vocabulary import REASONS, SEVERITIES
from ..check.digest import agreed, findings_text, observed_lines, remedy_words, root_text, uncovered_lines
from ..check.headline import alarms, lesser_lockouts, short_answer, snapshot_doubts
from ..check.screen import labelled_lines
from ..conditions import conditional_lines
from ..moved import moved_text
from ..results.baseline import UncoveredAnswer
from ..results.baseline_page import uncovered_sections
from ..results.door_page import door_lines, doors_section, first_of_all, meetings_section
from ..results.guests_page import guests_page
from ..results.history_page import history_page
from ..results.holes import describe, outcome
from ..section import COUNT, DATE, WHOLE, WORD, Column, Section, few_logins, joined, left, listed, some
from ..titles import quoted_value_of, title_of, value_of
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
_ROOTS, _ROWS, _UNITS, _FIRST = 15, 12, 30, 4


@record
class PagePart:
    """A part of the page: its place in the address (`id`), heading, sentences and tables."""

    id: str
    heading: str
    sentences: tuple[str, ...]
    sections: tuple[Section, ...]


@record
class HeatRow:
    """A unit (its path, "" for people in none) beside the areas: how many people, and for each area its cell.

    What it shows, and its shade, a step from 0 to 5.
    """

    path: str
    unit: str
    people: int
    cells: tuple[tuple[str, int], ...]


@record
class HeatMap:
    """Units by areas, those with most drifting first as far as they are shown; `more` says how many are left out."""

    areas: tuple[str, ...]
    keys: tuple[str, ...]  # what the areas are called in the annex
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
    """Return what is wrong, in a few sentences: what makes the answer doubtful, then the answer of `check`."""
    result = answer.result
    found = [f"{line[:1].upper()}{line[1:]}." for line in snapshot_doubts(result)] + [short_answer(result)]
    findings = sum(row.verdicts for row in result.roots)
    top = max(result.roots, key=lambda row: row.verdicts, default=None)
    if top is not None and 2 * top.verdicts > findings:
        found.append(
            f"Most of it has one cause: {root_text(top.root, result.snapshot)} "
            f"({plural(top.people, 'person', 'people')})."
        )
    return found


def labelled(answer: ReportAnswer) -> list[tuple[str, str]]:
    """Return what else is to be known at once: the labelled lines of `check`, and holes."""
    found = [(label, text) for label, text, _ in labelled_lines(answer.result)]
    if answer.holes is not None and any(rule.holes for rule in answer.holes.rules):
        found.append(("holes", outcome(answer.holes).removesuffix(".")))
    return found


def what_first(answer: ReportAnswer) -> list[str]:
    """Return what to do first, in the order in which it helps; each a sentence with who, what, where and what it ends.

    On the page of a part only what its head can do.
    """
    result = answer.result
    found = [*_let_in(result)]
    if answer.plan is not None:
        found.append(f"Make the changes of the plan below. {answer.plan.first}")
    else:
        mendable = [row for row in result.roots if _mendable(row) and is_own(row, answer)]
        found += [_mend(row, result) for row in sorted(mendable, key=lambda row: row.worst_first)[:_FIRST]]
    found += [_with_people(row, result) for row in _facts(result)[:_FIRST]]
    if answer.guests is not None:
        due = sum(guest.states[0] != FINE for guest in answer.guests.guests)
        if due:
            found.append(
                f"Ask about {plural(due, 'guest')}: no one has looked at them for too long, or no one answers for them."
            )
    ended = [row.id for row in agreed(result) if row.state == "expired"]
    if ended and answer.part is None:
        found.append(f"Decide on {plural(len(ended), 'exception')} that ended: {some(ended, 4)}.")
    return found


def for_others(answer: ReportAnswer) -> list[str]:
    """Return what the head of a part has to ask others for; nothing on the page of the whole organisation."""
    if answer.part is None or answer.plan is not None:
        return []
    rows = [row for row in answer.result.roots if _mendable(row) and not is_own(row, answer)]
    return [_mend(row, answer.result) for row in sorted(rows, key=lambda row: row.worst_first)[:_FIRST]]


def is_own(row: RootRow, answer: ReportAnswer) -> bool:
    """Return whether a cause is set for people that the page is about, and for no one else."""
    if answer.part is None:
        return True
    kind, _, name = (row.root.scope or "").partition(":")
    if kind not in ("unit", "group", "person"):
        return False
    snapshot, chosen = answer.result.snapshot, answer.result.chosen
    if kind == "person":
        return any(chosen[person] for person in snapshot.people.ids.find(name))
    try:
        there = select(Selector(kind, (name,)), snapshot)
    except Unanswerable:
        return False
    return not bool(np.any(there & ~chosen))


def _let_in(result: CheckResult) -> Iterator[str]:
    """Yield who has to be able to sign in again."""
    shut = {each.of for each in result.lockouts if each.all}
    if shut:
        yield f"Make sure that {' and '.join(sorted(shut))} accounts can sign in: today none of them can."
    elif result.lockouts:
        worst = sorted({name for each in result.lockouts for name in each.people})
        people = result.snapshot.people
        rows = np.array([row for name in worst for row in people.ids.find(name)], np.int32)
        where = joined(sorted({each.resource for each in result.lockouts}))
        yield f"See to it that {some(people.logins.take(rows), 4)} can sign in to {where} again."


def _facts(result: CheckResult) -> list[RootRow]:
    """Return the causes that are facts of people, from which someone drifts badly; the worst first."""
    high = SEVERITIES.index("high")
    rows = [row for row in result.roots if row.root.scope == "person" and row.root.value is None]
    bad = [row for row in rows if SEVERITIES.index(row.severity) <= high]
    return sorted(bad, key=lambda row: row.worst_first)


def _with_people(row: RootRow, result: CheckResult) -> str:
    """Return what to do with people: no setting does it for them."""
    mine = [rule for rule in result.rules if rule.id in row.rules]
    rule = max(mine, key=lambda rule: int(result.rule_counts[rule.id][DRIFTS]))  # what most of them drift from
    people = plural(row.people, "person", "people")
    words = remedy_words(row, result).rstrip(".") or f"{rule.title[0].upper()}{rule.title[1:]}"
    return f"With {people} ({title_of(row.root.control)}): {words}. This ends {plural(row.verdicts, 'finding')}."


def _mendable(row: RootRow) -> bool:
    return row.remedy is not None and row.remedy.mended_value is not None


def _mend(row: RootRow, result: CheckResult) -> str:
    """Return one edit as a sentence: what, for which people, on which service, to which value, its effect."""
    assert row.remedy is not None
    root, remedy = row.root, row.remedy
    titles = {service.id: service.title for service in result.snapshot.services or ()}
    service = titles.get(root.service or "") or root.service
    wanted = quoted_value_of(root.control, remedy.mended_value or "")
    ended = row.verdicts if remedy.ended is None else remedy.ended
    of = f" of {plural(row.people, 'person', 'people')}" if row.people else ""
    line = result.where(root)
    where = f" ({line})" if line else ""
    harms = f", and makes {plural(remedy.harms, 'person', 'people')} drift who did not" if remedy.harms else ""
    return (
        f"Set '{title_of(root.control)}' of {_of_scope(root.scope or '', result.snapshot)} on {service} to {wanted}"
        f"{where}: ends {plural(ended, 'finding')}{of}{harms}."
    )


def _of_scope(scope: str, snapshot: Snapshot) -> str:
    """Return the people that a setting is for, in words."""
    kind, _, name = scope.partition(":")
    known = snapshot.scope_name(scope) or name
    return {
        "organisation": "everyone",
        "factory": "everyone (nothing is set now)",
        "group": f"the group {known}",
        "unit": f"{known} ({name})" if known != name else name,
        "meeting": f"the meeting {known}",
    }.get(kind, known)


def parts(answer: ReportAnswer) -> list[PagePart]:
    """Return every part that has something to say, in order."""
    made = [
        _roots(answer),
        _plan(answer),
        _unknown(answer),
        _trend(answer),
        _doors(answer),
        *_sign_in(answer),
        _guests(answer),
        _exceptions(answer),
        _uncovered(answer),
    ]
    return [part for part in made if part is not None]


def _how(section: Section, where: str, option: str = " --rows 0") -> Section:
    """Return a table whose last line says where the rest is to be had."""
    more = f"and {section.left_out:,} more: {where}{option}" if section.left_out else section.more
    return replace(section, more=more, left_out=0)


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
            value_of(row.root.control, row.remedy.mended_value)
            if row.remedy is not None and row.remedy.mended_value is not None
            else "",
            ", ".join(row.rules),
        )
        for row in sorted(result.roots, key=lambda row: row.worst_first)
    ]
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
    causes = _how(listed("", "Causes, the most severe first", columns, made, _ROOTS), "usher-gate check")
    return PagePart("causes", "Where it comes from", (said,), (causes,))


def _unknown(answer: ReportAnswer) -> PagePart | None:
    """Return the page part about what is not known, and how to bring it; None where everything is known."""
    result = answer.result
    counted: dict[tuple[str, str, str, str], int] = {}
    for block in result.blocks:
        numbers = np.bincount(block.detail, minlength=len(block.details))
        for detail, number in zip(block.details, numbers.tolist(), strict=True):
            if number and detail.verdict in (UNKNOWN, UNAVAILABLE):
                key = block.rule.id, block.service or "", *_missing(detail)
                counted[key] = counted.get(key, 0) + number
    for other in result.others:
        if other.detail.verdict in (UNKNOWN, UNAVAILABLE):
            key = other.rule.id, " ".join(other.subject), *_missing(other.detail)
            counted[key] = counted.get(key, 0) + 1
    if not counted:
        return None
    rows = [(number, *key) for key, number in sorted(counted.items(), key=lambda one: (-one[1], one[0]))]
    columns = (
        Column("verdicts", COUNT),
        Column("rule", WHOLE),
        Column("on"),
        Column("what is missing"),
        Column("how to bring it"),
    )
    people = plural(result.unclear_people, "person", "people")
    verdicts = sum(counted.values())
    first = f"{plural(verdicts, 'verdict')} cannot be reached, those of {people} among them; each counts as not good."
    return PagePart("unknown", "What is not known", (first,), (listed("", "What is missing", columns, rows, 0),))


_BRING = {
    "no-licence": "Give the licence, or leave these people out of the rule.",
    "no-value": "Set it, or write the service default in services.yaml.",
    "no-fact": "Fill it in the snapshot's tables, or gather a source that knows it.",
    "no-audience": "Fill the column that the rule's audience asks for.",
    "no-access-rules": "Gather the access rules (access-rules.yaml).",
}


def _missing(detail: VerdictDetail) -> tuple[str, str]:
    """Return what a verdict lacks, and how to bring it."""
    found = detail.deciding
    name = f"{title_of(found[0].name)}: " if found is not None and found[0].name else ""
    what = REASONS.get(detail.reason, "") or "It is not known."
    return f"{name}{what}", _BRING.get(detail.reason, "Look at it again, and gather once more.")


def _plan(answer: ReportAnswer) -> PagePart | None:
    plan = answer.plan
    if plan is None:
        return None
    title, columns = "The changes, in the order of making them", (Column("", COUNT), Column("change"))
    section = _how(listed("", title, columns, [*enumerate(plan.changes, 1)], 40), "the plan's own file", "")
    return PagePart("plan", "The plan", (plan.first,), (section,))


def _trend(answer: ReportAnswer) -> PagePart | None:
    """Return the page part about the history, or None if no checks are kept."""
    history = answer.history
    if history is None:
        return None
    page = history_page(history, _ROWS)
    sections = [_how(section, "usher-gate history") for section in page.sections]
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
        planned = meetings_section("Planned meetings to look at", doors, _ROWS)
        sections.append(_how(planned, "usher-gate door --meetings"))
    sentences = first_of_all(doors.doors), *(text for _, text, _ in door_lines(doors))
    return PagePart("doors", "Open doors", sentences, tuple(sections))


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
        columns = (
            Column("people", COUNT),
            Column("who comes so"),
            Column("because"),
            Column("rule", WHOLE),
            Column("who"),
        )
        if made:
            sections.append(_how(listed("", "Ways past a requirement", columns, made, _ROWS), "usher-gate holes"))
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
        "guests",
        "Guests",
        (page.first, *page.details),
        tuple(_how(section, "usher-gate guests") for section in sections),
    )


def _uncovered(answer: ReportAnswer) -> PagePart | None:
    """Return what no rule asks about, for the auditor."""
    result = answer.result
    first = uncovered_lines(result)
    if not first:
        return None
    asked_about = UncoveredAnswer(result.snapshot, result.baseline, uncovered(result.snapshot, result.baseline))
    sections = tuple(
        _how(section, "usher-gate baseline --uncovered") for section in uncovered_sections(asked_about, _ROWS)
    )
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
        shares.areas,
        tuple(_heat_row(shares, row) for row in sorted(worst)),
        more,
    )


def _heat_row(shares: AreaShares, row: int) -> HeatRow:
    people = int(shares.people[row])
    columns = (shares.drifting[row].tolist(), shares.judged[row].tolist(), shares.unclear[row].tolist())
    cells = [_heat_cell(*numbers) for numbers in zip(*columns, strict=True)]
    return HeatRow(shares.units[row], shares.units[row] or "in no unit", people, tuple(cells))


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
