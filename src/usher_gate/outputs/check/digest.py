"""A check in words for people, widest question first: how bad, what one change would help most, rules, groups, people.

The rows are typed cells; how they are drawn is up to the forms that use them.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace

import numpy as np

from ...core.door.roots import DOOR
from ...core.organisation.columns import Bools
from ...core.organisation.settings import MEETING
from ...core.organisation.snapshot import Snapshot
from ...core.sign_in.health import observed_rules
from ...core.verdicts.codes import DRIFTS, LOOSE, MEETS, SETTLING, SHOWN_ORDER, UNAVAILABLE, UNKNOWN, VERDICTS
from ...core.verdicts.condition import Leaf
from ...core.verdicts.outcome import Outcome, Root, VerdictDetail
from ...core.verdicts.remedy import Remedy
from ...core.verdicts.result import ENDS_SOON_DAYS, CheckResult, DriftShare, ExceptionRow, FindingBlock, RootRow
from ...core.verdicts.rules import Rule
from ...core.verdicts.uncovered import count_uncovered
from ...core.words.plural import noun, plural
from ...core.words.record import record
from ...core.words.times import show_time
from ...core.words.vocabulary import SEVERITIES
from ..conditions import conditional_lines
from ..safe import why_call
from ..section import (
    COUNT,
    DATE,
    SHARE,
    WHOLE,
    WORD,
    Column,
    Section,
    few_logins,
    joined,
    left,
    listed,
    place_text,
    scope_text,
    some,
    some_logins,
)
from ..titles import asked_text, is_text, on_service, place_word, quoted_value_of, setting_text, title_of
from .headline import headline, lesser_lockouts


@record
class Digest:
    """The whole answer for people. `answer` are the first lines; the bar shows `verdicts`, which are `bar` in words."""

    answer: tuple[str, ...]
    details: tuple[str, ...]
    about: str
    bar: str
    verdicts: tuple[tuple[str, int], ...]
    sections: tuple[Section, ...]
    next_step: tuple[str, ...]  # the words of a call


def root_text(root: Root, snapshot: Snapshot | None = None) -> str:
    """Return what a root is, in words; with a snapshot also what groups and units are called."""
    where, control = on_service(root.service, root.control), title_of(root.control)
    if root.value is not None and root.scope is not None:
        return f"{where}{setting_text(root.control, root.value)}, {place_text(root.scope, snapshot)}"
    if root.scope == "person":
        return f"{control}, a fact of each person"
    if root.scope == "partners":
        return f"{control}, in the partners table"
    if root.scope == "meetings":
        return f"{control}, of a planned meeting"
    if root.control == "count":
        return "how many people there are of a kind"
    if root.control == DOOR:
        return f"{where}a door that no one control shuts"
    if root.scope == "access-rules":
        return f"{where}{control}, by the access rules"
    if snapshot is None:
        return f"{where}{control}, as it was seen or is not supported"
    return f"{where}{control}, {'as it was seen' if _is_supported(root, snapshot) else 'which is not supported there'}"


def _is_supported(root: Root, snapshot: Snapshot) -> bool:
    """Return whether the service of a root has its control."""
    return any(root.control in service.controls for service in snapshot.services or () if service.id == root.service)


def digest(result: CheckResult, rows: int) -> Digest:
    """Return the answer for people, at most `rows` rows of each kind (0 means all)."""
    snapshot, baseline = result.snapshot, result.baseline
    verdicts = tuple((name, result.counts[VERDICTS.index(name)]) for name in SHOWN_ORDER)
    left_out = ["settling", *(["exceptions"] if rows else [])]  # what to do about exceptions is in the details
    words = [word for word in SECTIONS if word not in left_out]
    judged = sum(number for name, number in verdicts if name != "exempt")
    return Digest(
        answer=headline(result),
        details=tuple(_details(result)),
        about=f"{snapshot.name}, as it was at {snapshot.taken_text}, against {baseline.name} {baseline.version}",
        bar=f"{plural(judged, 'verdict')} of {plural(int(result.chosen.sum()), 'person', 'people')}",
        verdicts=verdicts,
        sections=tuple(replace(section, word="") for section in sections(result, rows, words)),
        next_step=_next(result),
    )


# The sections by the word that --show names them by, in the order of --show all.
SECTIONS: Mapping[str, tuple[Callable[[CheckResult, int], Section], ...]] = {
    "causes": (lambda result, rows: _roots(result, rows),),
    "rules": (lambda result, rows: _rules(result, rows), lambda result, rows: framework_section(result, rows)),
    "services": (lambda result, _: _services(result),),
    "groups": (lambda result, rows: _wholes(result, rows),),
    "people": (lambda result, rows: _people(result, rows), lambda result, rows: _listed(result, rows)),
    "others": (lambda result, rows: _others(result, rows, True), lambda result, rows: _others(result, rows, False)),
    "conflicts": (lambda result, rows: _contests(result, rows), lambda result, rows: _clashes(result, rows)),
    "stranded": (lambda result, rows: _stranded(result, rows),),
    "exceptions": (lambda result, _: exceptions_section(result),),
    "settling": (lambda result, rows: _listed(result, rows),),
}


def sections(result: CheckResult, rows: int, words: Iterable[str]) -> tuple[Section, ...]:
    """Return the sections of some words that have something to show."""
    made = (replace(make(result, rows), word=word) for word in words for make in SECTIONS[word])
    return tuple(section for section in made if section.rows)


def meeting_settings(result: CheckResult) -> int:
    """Return how many settings are set at planned meetings, which no rule asks about."""
    settings = result.snapshot.settings
    if any(rule.subject == "meetings" for rule in result.baseline.rules):
        return 0
    return 0 if settings is None else int(np.count_nonzero(settings.kind == MEETING))


def _details(result: CheckResult) -> list[str]:
    """Return the sentences below the first line, lock-outs first."""
    found = [*lesser_lockouts(result), *conditional_lines(result.conditional, result.snapshot)]
    found += observed_lines(result)
    for groups, units, verbs, what in (
        (result.groups.whole, result.units.whole, ("drifts", "drift"), "as a whole"),
        (
            result.groups.with_own_setting,
            result.units.with_own_setting,
            ("has", "have"),
            "a setting that causes findings",
        ),
    ):
        if groups or units:
            number = [plural(each, thing) for each, thing in ((groups, "group"), (units, "unit")) if each]
            found.append(f"{joined(number)} {verbs[groups + units != 1]} {what}.")
    if number_of_settings := meeting_settings(result):
        verb_of_settings = "is" if number_of_settings == 1 else "are"
        found.append(
            f"{plural(number_of_settings, 'setting')} of planned meetings {verb_of_settings} not judged here: "
            "usher-gate door --meetings."
        )
    for code, meaning in (
        (UNKNOWN, "unknown: the snapshot does not say, and what is not known is not good"),
        (UNAVAILABLE, "unavailable: the licence that the control needs is not there"),
        (SETTLING, "settling: changed too lately to have arrived everywhere"),
        (LOOSE, "loose: right today, but nothing keeps people from changing it"),
    ):
        if result.counts[code]:
            verb = "is" if result.counts[code] == 1 else "are"
            open_them = "" if result.wanted is not None else f" (--verdict {VERDICTS[code]})"
            found.append(f"{plural(result.counts[code], 'verdict')} {verb} {meaning}{open_them}.")
    if result.contested_people:
        found.append(
            f"{plural(result.contested_people, 'person has', 'people have')} contested values: settings of equal rank "
            "disagree."
        )
    if result.stranded_people:
        verb = "is" if result.stranded_people == 1 else "are"
        where = some([each.resource for each in result.stranded], 3)
        found.append(
            f"{plural(result.stranded_people, 'person', 'people')} {verb} stranded at {where}: no way in until they "
            "register something."
        )
    if result.clashing_people:
        found.append(f"{plural(result.clashing_people, 'person has', 'people have')} values that cannot work together.")
    return [*found, *_exception_lines(result), *uncovered_lines(result)]


def _exception_lines(result: CheckResult) -> Iterator[str]:
    """Yield a sentence for the exceptions that have expired, end soon, or cover nothing."""
    soon = [
        exception.id
        for exception in agreed(result)
        if exception.state != "expired" and exception.days_left <= ENDS_SOON_DAYS
    ]
    expired = [exception.id for exception in agreed(result) if exception.state == "expired"]
    idle = [exception.id for exception in agreed(result) if exception.state == "idle"]
    for names, one, many in (
        (expired, "expired and covers nothing any more", "expired and cover nothing any more"),
        (soon, f"ends within {ENDS_SOON_DAYS} days", f"end within {ENDS_SOON_DAYS} days"),
        (idle, "covers nothing today", "cover nothing today"),
    ):
        if names:
            yield f"{plural(len(names), 'exception')} {one if len(names) == 1 else many}: {some(names, 5)}."


def uncovered_lines(result: CheckResult) -> list[str]:
    """Return how many controls no rule asks about; nothing where the report speaks of some rules or people only."""
    text = uncovered_text(result)
    return [f"{text}."] if text else []


def uncovered_text(result: CheckResult) -> str:
    """Return the same as a clause; "" for nothing."""
    many, of = count_uncovered(result.snapshot, result.baseline)
    if not many or len(result.rules) < len(result.baseline.rules) or not result.chosen.all():
        return ""
    verb = "is" if many == 1 else "are"
    return (
        f"{many:,} of {plural(of, 'control')} of your services {verb} asked about by no rule (usher-gate baseline "
        "--uncovered)"
    )


def observed_lines(result: CheckResult) -> list[str]:
    """Return the access rules that are only observed, with their age."""
    observed = observed_rules(result.snapshot, result.observed_days)
    if not observed:
        return []
    verb, stops = ("is", "stops") if len(observed) == 1 else ("are", "stop")
    texts = [
        f"{each.rule.id} ({each.text}{', which is long' if each.is_old and each.days is not None else ''})"
        for each in observed
    ]
    return [f"{plural(len(observed), 'access rule')} {verb} only observed and {stops} no one: {some(texts, 5)}."]


def agreed(result: CheckResult) -> list[ExceptionRow]:
    """Return the exceptions from any of the rules that the report speaks of."""
    rules = {rule.id for rule in result.rules}
    return [row for row in result.exceptions if rules & set(row.rules)]


def remedy_text(row: RootRow, result: CheckResult) -> str:
    """Return what to do about a root, and what that does: as it was found by judging again."""
    remedy = row.remedy
    words = remedy_words(row, result)
    seen = row.root.service is not None and row.root.scope is None and row.root.control != DOOR
    if seen or is_as_it_should_be(row, result):
        return words
    if remedy is None:
        return ""
    harms = f" (harms {remedy.harms:,}: {_harmed(remedy, result)})" if remedy.harms else ""
    if remedy.mended_value is not None and not row.people:
        return f"set it to {quoted_value_of(row.root.control, remedy.mended_value)}"
    if remedy.mended_value is not None:
        return f"set it to {quoted_value_of(row.root.control, remedy.mended_value)}: clears {remedy.freed:,}{harms}"
    if row.root.scope == "licence":
        return f"give the licence: clears {remedy.freed:,}{harms}"
    if row.root.scope in ("person", "access-rules"):
        frees = f"clears {remedy.freed:,}{harms}" if remedy.freed or remedy.harms else ""
        return " ".join((words, f"({frees})" if words and frees else frees)).strip()
    return (
        "no value passes every rule"
        if row.root.scope not in (None, "partners", "meetings") and row.root.value is not None
        else ""
    )


def remedy_words(row: RootRow, result: CheckResult) -> str:
    """Return what to do about a cause for which no value is to be set; "" if nothing is known."""
    root = row.root
    rules = [rule for rule in result.rules if rule.id in row.rules]
    rules.sort(key=lambda rule: (-result.rule_counts[rule.id][DRIFTS], rule.id))  # what most of them drift from
    words = next((rule.mend for rule in rules if rule.mend), "")
    if is_as_it_should_be(row, result):
        return "set as it should be, and not applied: apply it again, or look again"
    if root.service is not None and root.scope is None and root.control != DOOR:
        return "look again" if _is_supported(root, result.snapshot) else words
    if root.scope == "licence":
        return "give the licence"
    if root.service is None or root.scope in ("person", "access-rules"):
        return words
    return "no value passes every rule" if row.remedy is not None and root.value is not None else words


def _harmed(remedy: Remedy, result: CheckResult) -> str:
    """Return the first of the people that a remedy harms, and how many more there are."""
    shown = some_logins(result.snapshot, remedy.harmed[:2], 2)
    more = remedy.harms - len(remedy.harmed[:2])
    return f"{shown} and {more:,} more" if more else shown


def is_as_it_should_be(row: RootRow, result: CheckResult) -> bool:
    """Return whether the value of a setting passes all that the rules ask of the control.

    Then what was seen is what drifts.
    """
    root = row.root
    if root.service is None or root.value is None or root.scope in (None, "licence"):
        return False
    rules = [rule for rule in result.rules if rule.id in row.rules]
    asked = [leaf for rule in rules for leaf in rule.leaves if leaf.about == "control" and leaf.name == root.control]
    return bool(asked) and all(leaf.comparison is not None and leaf.comparison.passes(root.value) for leaf in asked)


def findings_text(result: CheckResult) -> str:
    """Return how many findings there are, and of what."""
    of_people = int(result.counts[DRIFTS])
    others = {each.type: each.counts[DRIFTS] for each in result.other_counts if each.counts[DRIFTS]}
    whole = of_people + sum(others.values())
    if not others:
        return f"{plural(whole, 'finding')} of people"
    names = {"meeting": "meetings", "partner": "partners", "organisation": "the organisation"}
    rest = f"{sum(others.values()):,} of {joined([names[kind] for kind in names if kind in others])}"
    return f"{plural(whole, 'finding')}: {of_people:,} of people, {rest}"


def _roots(result: CheckResult, most: int) -> Section:
    """Return the table of causes, the most severe first, with what would help."""
    made = [
        (
            row.severity,
            row.people,
            row.verdicts,
            root_text(row.root, result.snapshot),
            remedy_text(row, result),
            some(row.rules),
        )
        for row in sorted(result.roots, key=lambda row: row.worst_first)
    ]
    return listed(
        "",
        f"Where to begin: {plural(len(made), 'cause')} of {findings_text(result)}",
        (
            Column("severity", WORD),
            Column("people", COUNT),
            Column("findings", COUNT),
            Column("what causes them"),
            Column("what would help"),
            Column("rules", spare=2),
        ),
        made,
        most,
    )


def _rules(result: CheckResult, most: int) -> Section:
    """Return the table of rules with something open, the ones with findings first."""
    wanting = [rule for rule in result.rules if any(result.rule_counts[rule.id][code] for code in range(MEETS))]
    people = _people_of_rules(result)
    wanting.sort(
        key=lambda rule: (
            not result.rule_counts[rule.id][DRIFTS],
            SEVERITIES.index(rule.severity),
            -people.get(rule.id, 0),
            -result.rule_counts[rule.id][DRIFTS],
            rule.id,
        )
    )
    made = [
        (
            rule.id,
            rule.severity,
            *(result.rule_counts[rule.id][code] or None for code in (DRIFTS, UNAVAILABLE, UNKNOWN, SETTLING, LOOSE)),
            rule.title,
        )
        for rule in wanting
    ]
    idle = [rule for rule in result.rules if rule.id in result.judging_nobody and rule not in wanting]
    good = sum(result.holds(rule) for rule in result.rules)
    loose = sum(result.holds(rule) for rule in wanting)
    not_quite = f", {loose} of them loose or settling" if loose else ""
    nobody = f"; {len(idle)} {noun(len(idle), 'judges', 'judge')} no one" if idle else ""
    return listed(
        "",
        f"Rules: {good} of {len(result.rules)} hold{not_quite}{nobody}",
        (
            Column("rule", WHOLE),
            Column("severity", WORD),
            Column("findings", COUNT),
            Column("unavail.", COUNT, spare=1),
            Column("unknown", COUNT, spare=1),
            Column("settling", COUNT, spare=2),
            Column("loose", COUNT, spare=3),
            Column("what it asks"),
        ),
        made,
        most,
    )


def _people_of_rules(result: CheckResult) -> dict[str, int]:
    """Return for each rule, how many people drift from it on some service, as far as they are listed."""
    masks: dict[str, Bools] = {}
    for block in result.blocks:
        drifts = np.array([detail.verdict == DRIFTS for detail in block.details], bool)
        if drifts.any():
            mask = masks.setdefault(block.rule.id, np.zeros(len(result.chosen), bool))
            mask[block.people[drifts[block.detail]]] = True
    return {rule: int(np.count_nonzero(mask)) for rule, mask in masks.items()}


def _wholes(result: CheckResult, most: int) -> Section:
    """Return the table of groups and units that drift as a whole or have the setting that causes findings."""
    severity = {rule.id: SEVERITIES.index(rule.severity) for rule in result.rules}
    found: dict[tuple[str, str], list[DriftShare]] = {}
    for kind, shares in (("group", result.groups), ("unit", result.units)):
        for share in shares.notable():
            found.setdefault((kind, share.id), []).append(share)
    made = []
    for (kind, name), of_owner in found.items():
        for is_whole in (True, False):
            of_kind = [share for share in of_owner if share.as_a_whole == is_whole]
            if not of_kind:
                continue
            most_of = max(of_kind, key=lambda share: share.drifting)
            why = " and ".join(
                word
                for word, holds in (
                    ("drifts as a whole", is_whole),
                    ("has the setting that causes it", any(share.own_setting for share in of_kind)),
                )
                if holds
            )
            row = (
                f"{kind} {of_kind[0].name or name}",
                f"{most_of.drifting:,} of {most_of.judged:,}",
                why,
                some(sorted({share.rule for share in of_kind}), 5),
            )
            worst = min(severity[share.rule] for share in of_kind)
            made.append(((worst, -most_of.drifting, -len(of_kind), kind, name, not is_whole), row))
    return listed(
        "",
        "Groups and units that drift as a whole, or have the setting that causes it",
        (Column("which"), Column("people drifting", SHARE), Column("why it is listed"), Column("rules", spare=1)),
        [row for _, row in sorted(made)],
        most,
    )


def _people(result: CheckResult, most: int) -> Section:
    """Return the table of people who drift, the worst first, with the causes of their findings."""
    listed = result.wanted is None or "drifts" in result.wanted
    people = np.flatnonzero(result.drifts_of) if listed else np.empty(0, np.int64)
    ordered = people[np.lexsort((people, -result.drifts_of[people], result.worst_of[people]))]
    shown = ordered[:most] if most else ordered
    causes: dict[int, list[str]] = {int(person): [] for person in shown}
    for block in sorted(result.blocks, key=lambda one_block: SEVERITIES.index(one_block.rule.severity)):
        places = np.searchsorted(block.people, shown)
        for person, place in zip(shown.tolist(), places.tolist(), strict=True):
            if place < len(block.people) and block.people[place] == person:
                detail = block.details[int(block.detail[place])]
                if detail.verdict == DRIFTS:
                    causes[person].append(f"{block.rule.id} {cause_text(detail, result.snapshot, block.service)}")
    logins = result.snapshot.people.logins.take(shown)
    made = tuple(
        (
            login,
            SEVERITIES[int(result.worst_of[person])],
            int(result.drifts_of[person]),
            _few(causes[person]),
        )
        for login, person in zip(logins, shown.tolist(), strict=True)
    )
    return Section(
        "People, the worst first",
        (Column("login", WHOLE), Column("worst", WORD), Column("findings", COUNT), Column("from")),
        made,
        left_out=len(ordered) - len(shown),
    )


def _few(causes: list[str]) -> str:
    if not causes:
        return "(not listed)"
    return causes[0] + (f"; and {len(causes) - 1} more" if len(causes) > 1 else "")


def due_text(detail: VerdictDetail) -> str:
    """Return what the leaf that decides asks for, in words."""
    return asked_text(detail.deciding[0]) if detail.deciding else ""


def cause_text(detail: VerdictDetail, snapshot: Snapshot | None = None, service: str | None = None) -> str:
    """Return what drifts, and where it is set, in a few words.

    With a snapshot also what groups and units are called.
    """
    found = detail.deciding
    if found is None:
        return f"{on_service(service, '')}{detail.reason}"
    leaf, outcome = found
    where = ""
    if outcome.cause is not None and outcome.visit is None:
        where = f"{place_word(leaf.name)} {scope_text(outcome.cause.scope or '', snapshot)}"
    return f"{on_service(service, leaf.name)}{actual_text(detail)}{where}{words_apart(leaf, outcome)}"


def actual_text(detail: VerdictDetail) -> str:
    """Return what is there, in a few words."""
    found = detail.deciding
    if found is None:
        return detail.reason
    leaf, outcome = found
    if outcome.visit is not None:
        return f"{outcome.met}: {outcome.visit.text}{_by_root(detail)}"
    if leaf.about == "proof":
        return f"{leaf.name} is not asked for everywhere"
    seen = " was seen" if detail.reason in ("observed", "not-applied", "not-seen-since") else ""
    actual = f"{title_of(leaf.name)} not known" if outcome.actual is None else is_text(leaf.name, outcome.actual)
    return f"{actual}{seen}"


def _by_root(detail: VerdictDetail) -> str:
    """Return what lets someone in at a door, in words."""
    root = detail.root
    if root is None or root.scope is None:
        return ""
    return f", by {is_text(root.control, root.value or '')}{place_word(root.control)} {root.scope}"


def words_apart(leaf: Leaf, outcome: Outcome) -> str:
    """Return which words a failing set has too many, and which it lacks."""
    if leaf.comparison is None or outcome.actual is None or outcome.verdict != DRIFTS:
        return ""
    many, few = leaf.comparison.apart(outcome.actual)
    said = [f"{joined(sorted(words))} {what}" for words, what in ((many, "too many"), (few, "missing")) if words]
    return f" ({'; '.join(said)})" if said else ""


def _others(result: CheckResult, most: int, meetings: bool) -> Section:
    """Return the table of planned meetings, or of the organisation and its partners, that do not meet a rule."""
    ordered = sorted(
        (other for other in result.others if (other.subject[0] == "meeting") == meetings),
        key=lambda other: (other.detail.verdict, SEVERITIES.index(other.rule.severity), other.rule.id, other.subject),
    )
    made = [
        (
            f"{other.label or other.subject[1]} ({other.subject[1]})"
            if meetings
            else f"{other.subject[0]} {other.subject[1]}",
            other.rule.id,
            other.rule.severity,
            VERDICTS[other.detail.verdict],
            cause_text(other.detail, result.snapshot),
            due_text(other.detail),
        )
        for other in ordered
    ]
    return listed(
        "",
        "Planned meetings" if meetings else "The organisation and its partners",
        (
            Column("which"),
            Column("rule", WHOLE),
            Column("severity", WORD),
            Column("verdict", WORD),
            Column("what is"),
            Column("what is due", spare=1),
        ),
        made,
        most,
    )


def framework_section(result: CheckResult, most: int) -> Section:
    """Return the rules by the numbers of a framework: what an auditor asks for."""
    numbers: dict[str, list[Rule]] = {}
    for rule in result.rules:
        for name in rule.maps.get(result.by or "", ()):
            numbers.setdefault(name, []).append(rule)
    made = []
    for name, rules in sorted(numbers.items(), key=lambda entry: _natural(entry[0])):
        sums = [sum(result.rule_counts[rule.id][code] for rule in rules) for code in range(MEETS + 1)]
        holds = sum(not any(result.rule_counts[rule.id][code] for code in range(MEETS)) for rule in rules)
        rest = sum(sums[code] for code in (UNAVAILABLE, UNKNOWN, SETTLING, LOOSE))
        made.append(
            (
                name,
                f"{holds} of {len(rules)}",
                sums[DRIFTS] or None,
                rest or None,
                sums[MEETS] or None,
                ", ".join(rule.id for rule in rules),
            )
        )
    columns = (
        Column("number", WHOLE),
        Column("rules that hold", SHARE),
        Column("findings", COUNT),
        Column("not certain", COUNT),
        Column("meets", COUNT),
        Column("rules", spare=1),
    )
    return listed("", f"By {result.by}", columns, made, most)


def _natural(text: str) -> tuple[tuple[int, str], ...]:
    """Return an order in which AC-2 comes before AC-12."""
    return tuple((int(part), "") if part.isdecimal() else (-1, part) for part in re.split(r"([0-9]+)", text) if part)


def _services(result: CheckResult) -> Section:
    """Return services side by side, if there are several."""
    rows = tuple(
        (
            row.id,
            row.accounts,
            row.drifting,
            *(number or None for number in row.worst),
            len(row.not_applicable) or None,
        )
        for row in result.services
    )
    columns = (Column("service", WHOLE), Column("accounts", COUNT), Column("drifting", COUNT))
    severities = tuple(Column(severity, COUNT) for severity in SEVERITIES)
    title = "Services: who has an account there, and who drifts there (at worst from a rule of each severity)"
    several = len(rows) > 1 or any(row.not_applicable for row in result.services)
    return Section(title, (*columns, *severities, Column("rules not applicable", COUNT)), rows if several else ())


def _listed(result: CheckResult, most: int) -> Section:
    """Return the findings with the verdicts that are asked for, other than drift."""
    wanted = (result.wanted or frozenset()) - {"drifts"}
    found: list[tuple[int, str, FindingBlock, int]] = []
    for block in result.blocks:
        kept = np.array([VERDICTS[detail.verdict] in wanted for detail in block.details], bool)[block.detail]
        found += [
            (int(block.people[place]), block.rule.id, block, int(block.detail[place])) for place in np.flatnonzero(kept)
        ]
    found.sort(key=lambda each: (each[2].rule.id, each[2].service or "", each[0]))
    rows = []
    for person, rule, block, which in found[:most] if most else found:
        detail = block.details[which]
        login = result.snapshot.people.logins.take(np.array([person]))[0]
        due = due_text(detail)
        what = f"{cause_text(detail, result.snapshot, block.service)}{arrival(result.snapshot, block.service, detail)}"
        rows.append((login, rule, VERDICTS[detail.verdict], what, due))
    return Section(
        f"Verdicts that are {' or '.join(sorted(wanted))}: {len(found):,}",
        (
            Column("login", WHOLE),
            Column("rule", WHOLE),
            Column("verdict", WORD),
            Column("what is"),
            Column("what is due", spare=1),
        ),
        tuple(rows),
        left_out=len(found) - len(rows),
    )


def arrival(snapshot: Snapshot, service: str | None, detail: VerdictDetail) -> str:
    """Return when a recent change should have arrived, or that no one has looked since old evidence."""
    found = detail.deciding
    if detail.verdict != SETTLING or found is None or found[1].cause is None:
        return ""
    settle = next((one.settle for one in snapshot.services or () if one.id == service), 0)
    due = show_time(found[1].cause.changed + settle)
    return f"; should be there by {due}" if detail.reason == "young" else f"; due since {due}, and not looked at again"


def _contests(result: CheckResult, most: int) -> Section:
    """Return the table of values for which settings of equal rank disagree."""
    made = [
        (
            len(each.people),
            each.service,
            setting_text(each.control, each.value),
            "; ".join(f"{scope} says {quoted_value_of(each.control, value)}" for scope, value in each.settings),
            few_logins(result.snapshot, each.people.tolist(), most),
        )
        for each in sorted(result.contests, key=lambda each: -len(each.people))
    ]
    columns = (
        Column("people", COUNT),
        Column("service"),
        Column("counts"),
        Column("settings of equal rank"),
        Column("who", spare=1),
    )
    return listed("", "Contested values", columns, made, most)


def _stranded(result: CheckResult, most: int) -> Section:
    made = [
        (each.resource, len(each.people), few_logins(result.snapshot, each.people.tolist(), most))
        for each in result.stranded
    ]
    columns = (Column("resource", WHOLE), Column("people", COUNT), Column("who", spare=1))
    return listed("", "Stranded: no way in until they register something", columns, made, most)


def _clashes(result: CheckResult, most: int) -> Section:
    """Return the table of values that cannot work together."""
    made = [
        (
            len(clash.people),
            clash.service,
            setting_text(*clash.first),
            setting_text(*clash.second),
            few_logins(result.snapshot, clash.people.tolist(), most),
        )
        for clash in sorted(result.clashes, key=lambda clash: -len(clash.people))
    ]
    return listed(
        "",
        "Values that cannot work together",
        (Column("people", COUNT), Column("service"), Column("value"), Column("and"), Column("who", spare=1)),
        made,
        most,
    )


def exceptions_section(result: CheckResult) -> Section:
    """Return the exceptions from the rules that the report speaks of."""
    made = tuple(
        (exception.id, exception.state, exception.covers, exception.until, left(exception.days_left))
        for exception in agreed(result)
    )
    columns = (
        Column("exception", WHOLE),
        Column("state", WORD),
        Column("covers", COUNT),
        Column("until", DATE),
        Column(""),
    )
    return Section("Exceptions", columns, made)


def _next(result: CheckResult) -> tuple[str, ...]:
    """Return a call that shows where the first person's findings come from; () where no one drifts."""
    for block in sorted(result.blocks, key=lambda one_block: SEVERITIES.index(one_block.rule.severity)):
        drifting = np.flatnonzero(np.array([detail.verdict == DRIFTS for detail in block.details])[block.detail])
        if len(drifting):
            first, people = block.people[drifting[:1]], result.snapshot.people
            return why_call(people.logins.take(first)[0], people.ids.take(first)[0], "--rule", block.rule.id)
    return ()
