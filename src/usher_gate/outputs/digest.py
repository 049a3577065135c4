"""A check in words for people, widest question first: how bad, what one change would help most, rules, groups, people.

The rows are plain texts; how they are drawn is up to the formats that use them.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..core.verdicts.codes import DRIFTS, LOOSE, MEETS, SETTLING, SHOWN_ORDER, UNAVAILABLE, UNKNOWN, VERDICTS
from ..core.verdicts.outcome import Root, Tail
from ..core.verdicts.result import ENDS_SOON_DAYS, CheckResult, ExceptionRow, Share
from ..core.words.record import record
from ..core.words.vocabulary import SEVERITIES
from .safe import for_terminal as safe


@record
class Section:
    """A titled table: `columns` are (heading, right-aligned), `more` says how many rows are left out and how to see them."""

    title: str
    columns: tuple[tuple[str, bool], ...]
    rows: tuple[tuple[str, ...], ...]
    more: str = ""


@record
class Digest:
    """The whole answer for people."""

    answer: str
    details: tuple[str, ...]
    about: str
    verdicts: tuple[tuple[str, int], ...]
    sections: tuple[Section, ...]
    next_step: str


def count(number: int, thing: str, things: str | None = None) -> str:
    """A number and what it counts: `1 group`, `2,000 groups`."""
    return f"{number:,} {thing if number == 1 else things or thing + 's'}"


def _and(parts: Sequence[str]) -> str:
    return parts[0] if len(parts) == 1 else ", ".join(parts[:-1]) + " and " + parts[-1]


def root_text(root: Root) -> str:
    """What a root is, in words."""
    where = f"{root.service}: " if root.service else ""
    if root.value is not None and root.scope is not None:
        return safe(f"{where}{root.control} = {root.value or '(nothing)'}, {place_text(root.scope)}")
    if root.scope == "person":
        return safe(f"{root.control}, a fact of each person")
    if root.scope == "partners":
        return safe(f"{root.control}, in the partners table")
    if root.control == "count":
        return "how many people there are of a kind"
    return safe(
        f"{where}{root.control}, {'by the access rules' if root.scope == 'access-rules' else 'as it was seen or is not supported'}"
    )


def place_text(scope: str) -> str:
    """Where a setting stands, in words."""
    return {"factory": "as it came from the factory", "licence": "for want of a licence"}.get(scope, f"set at {scope}")


def digest(result: CheckResult, rows: int) -> Digest:
    """The answer for people, at most `rows` rows of each kind (0 means all)."""
    snapshot, baseline = result.snapshot, result.baseline
    people = int(result.chosen.sum())
    drifting = result.drifting_people
    answer = (
        f"{drifting:,} of {count(people, 'person', 'people')} {'drifts' if drifting == 1 else 'drift'}"
        if drifting
        else f"None of {count(people, 'person', 'people')} drifts"
    )
    parts = [
        f"{number:,} from a {severity} rule"
        for place, severity in enumerate(SEVERITIES)
        if (number := int(np.count_nonzero(result.worst_of == place)))
    ]
    if parts:
        answer += ": at worst " + _and(parts)
    verdicts = tuple((name, result.counts[VERDICTS.index(name)]) for name in SHOWN_ORDER)
    sections = (
        _roots(result, rows),
        _rules(result, rows),
        _wholes(result, rows),
        _people(result, rows),
        _others(result, rows),
        _clashes(result, rows),
        *([] if rows else [_exceptions(result)]),  # what is to be done about them stands in the details
    )
    return Digest(
        answer + ".",
        tuple(_details(result)),
        f"{safe(snapshot.name)}, as it was at {safe(snapshot.taken_text)}, against "
        f"{safe(baseline.name)} {safe(baseline.version)}",
        verdicts,
        tuple(each for each in sections if each.rows),
        _next(result),
    )


def _details(result: CheckResult) -> list[str]:
    found = _locked_out(result)
    groups, units = result.groups.whole, result.units.whole
    if groups or units:
        found.append(
            f"{_and([count(number, thing) for number, thing in ((groups, 'group'), (units, 'unit')) if number])} "
            f"{'drifts' if groups + units == 1 else 'drift'} as a whole."
        )
    for code, meaning in (
        (UNKNOWN, "unknown: the snapshot does not tell, so they count as not good"),
        (UNAVAILABLE, "unavailable: the licence that the control needs is not there"),
        (SETTLING, "settling: changed too lately to have arrived everywhere"),
        (LOOSE, "loose: right today, but nothing keeps people from changing it"),
    ):
        if result.counts[code]:
            found.append(
                f"{count(result.counts[code], 'verdict')} {'is' if result.counts[code] == 1 else 'are'} {meaning}."
            )
    if result.clashing_people:
        found.append(f"{count(result.clashing_people, 'person has', 'people have')} values that cannot work together.")
    soon = [each.id for each in _agreed(result) if each.state != "expired" and each.days_left <= ENDS_SOON_DAYS]
    expired = [each.id for each in _agreed(result) if each.state == "expired"]
    idle = [each.id for each in _agreed(result) if each.state == "idle"]
    for names, one, many in (
        (expired, "expired and covers nothing any more", "expired and cover nothing any more"),
        (soon, f"ends within {ENDS_SOON_DAYS} days", f"end within {ENDS_SOON_DAYS} days"),
        (idle, "covers nothing today", "cover nothing today"),
    ):
        if names:
            found.append(
                f"{count(len(names), 'exception')} {one if len(names) == 1 else many}: {safe(_some(names, 5))}."
            )
    return found


def _locked_out(result: CheckResult) -> list[str]:
    """One line for each kind of people who are locked out, with all resources that the same ones are locked out of."""
    resources: dict[tuple[bool, str, tuple[str, ...]], list[str]] = {}
    for each in result.lockouts:
        resources.setdefault((not each.all, each.of, each.people), []).append(each.resource)
    found = []
    for (some, kind, people), names in sorted(resources.items()):
        whom = "accounts" if kind == "break-glass" else "people"
        number = f"{len(people):,} of the" if some else "ALL"
        verb = "is" if some and len(people) == 1 else "are"
        found.append(f"{number} {kind} {whom} {verb} locked out of {safe(_and(names))}: {safe(_some(people, 5))}.")
    return found


def _agreed(result: CheckResult) -> list[ExceptionRow]:
    """The exceptions from any of the rules that the report speaks of."""
    rules = {rule.id for rule in result.rules}
    return [each for each in result.exceptions if rules & set(each.rules)]


def _cut(rows: Sequence[tuple[str, ...]], most: int, how: str) -> tuple[tuple[tuple[str, ...], ...], str]:
    if most and len(rows) > most:
        return tuple(rows[:most]), f"and {len(rows) - most:,} more: {how}"
    return tuple(rows), ""


def _roots(result: CheckResult, most: int) -> Section:
    drifting = sum(row.verdicts for row in result.roots)
    made = [
        (f"{row.people:,}", f"{row.freed:,}", f"{row.verdicts:,}", root_text(row.root), safe(_some(row.rules)))
        for row in result.roots
    ]
    rows, more = _cut(made, most, "--rows 0, or --format json")
    return Section(
        f"Where to begin: {count(len(made), 'root')} of {count(drifting, 'drifting verdict')}",
        (("people", True), ("freed", True), ("verdicts", True), ("what causes the drift", False), ("rules", False)),
        rows,
        more,
    )


def _some(names: Sequence[str], most: int = 3) -> str:
    return ", ".join(names[:most]) + (f" +{len(names) - most}" if len(names) > most else "")


def _rules(result: CheckResult, most: int) -> Section:
    wanting = [rule for rule in result.rules if any(result.rule_counts[rule.id][code] for code in range(MEETS))]
    wanting.sort(key=lambda rule: (SEVERITIES.index(rule.severity), -result.rule_counts[rule.id][DRIFTS], rule.id))
    wanting = [rule for rule in wanting if result.rule_counts[rule.id][DRIFTS]] + [
        rule for rule in wanting if not result.rule_counts[rule.id][DRIFTS]
    ]
    made = [
        (
            safe(rule.id),
            rule.severity,
            *(_number(result.rule_counts[rule.id][code]) for code in (DRIFTS, UNAVAILABLE, UNKNOWN, SETTLING, LOOSE)),
            safe(rule.title),
        )
        for rule in wanting
    ]
    rows, more = _cut(made, most, "--rows 0, or --format json")
    good = len(result.rules) - len(wanting)
    return Section(
        f"Rules: {good} of {len(result.rules)} hold for everybody they judge",
        (
            ("rule", False),
            ("severity", False),
            ("drifts", True),
            ("unavail.", True),
            ("unknown", True),
            ("settling", True),
            ("loose", True),
            ("what it asks", False),
        ),
        rows,
        more,
    )


def _number(number: int) -> str:
    return f"{number:,}" if number else "·"


def _wholes(result: CheckResult, most: int) -> Section:
    found: dict[tuple[str, str], list[Share]] = {}
    for kind, shares in (("group", result.groups), ("unit", result.units)):
        for share in shares.wholes():
            found.setdefault((kind, share.id), []).append(share)
    ordered = sorted(found.items(), key=lambda entry: (-max(share.drifting for share in entry[1]), entry[0]))
    made = [
        (
            safe(f"{kind} {shares[0].name or name}"),
            f"{max(share.drifting for share in shares):,} of {max(share.judged for share in shares):,}",
            safe(_some(sorted({share.rule for share in shares}), 5)),
        )
        for (kind, name), shares in ordered
    ]
    rows, more = _cut(made, most, "--rows 0, or --format json")
    return Section(
        "Groups and units that drift as a whole",
        (("which", False), ("people drifting", True), ("rules", False)),
        rows,
        more,
    )


def _people(result: CheckResult, most: int) -> Section:
    people = np.flatnonzero(result.drifts_of)
    ordered = people[np.lexsort((people, -result.drifts_of[people], result.worst_of[people]))]
    shown = ordered[:most] if most else ordered
    causes: dict[int, list[str]] = {int(person): [] for person in shown}
    for block in sorted(result.blocks, key=lambda each: SEVERITIES.index(each.rule.severity)):
        places = np.searchsorted(block.people, shown)
        for person, place in zip(shown.tolist(), places.tolist(), strict=True):
            if place < len(block.people) and block.people[place] == person:
                tail = block.tails[int(block.tail[place])]
                if tail.verdict == DRIFTS:
                    causes[person].append(f"{block.rule.id} {_cause(tail)}")
    logins = result.snapshot.people.logins.take(shown)
    made = tuple(
        (
            safe(login),
            SEVERITIES[int(result.worst_of[person])],
            f"{int(result.drifts_of[person]):,}",
            safe(_few(causes[person])),
        )
        for login, person in zip(logins, shown.tolist(), strict=True)
    )
    left = len(ordered) - len(shown)
    return Section(
        "People, the worst first",
        (("login", False), ("worst", False), ("drifts", True), ("from", False)),
        made,
        f"and {left:,} more: --rows 0, --person WHO, or --format csv" if left else "",
    )


def _few(causes: list[str]) -> str:
    return causes[0] + (f"; and {len(causes) - 1} more" if len(causes) > 1 else "") if causes else "(not listed)"


def _cause(tail: Tail) -> str:
    """What drifts, and where it is set, in a few words."""
    found = tail.deciding
    if found is None:
        return tail.reason
    leaf, outcome = found
    where = f" at {outcome.cause.scope}" if outcome.cause is not None else ""
    seen = " was seen" if tail.reason in ("observed", "not-applied") else ""
    return f"{leaf.name} {outcome.actual or '(nothing)'}{seen}{where}"


def _others(result: CheckResult, most: int) -> Section:
    ordered = sorted(
        result.others,
        key=lambda other: (other.tail.verdict, SEVERITIES.index(other.rule.severity), other.rule.id, other.subject),
    )
    made = [
        (
            safe(f"{other.subject[0]} {other.subject[1]}"),
            safe(other.rule.id),
            other.rule.severity,
            VERDICTS[other.tail.verdict],
            safe(_cause(other.tail)),
            safe(other.tail.deciding[0].expected) if other.tail.deciding else "",
        )
        for other in ordered
    ]
    rows, more = _cut(made, most, "--rows 0, or --format csv")
    return Section(
        "The organisation and its partners",
        (
            ("which", False),
            ("rule", False),
            ("severity", False),
            ("verdict", False),
            ("what is", False),
            ("what is due", False),
        ),
        rows,
        more,
    )


def _clashes(result: CheckResult, most: int) -> Section:
    made = [
        (
            f"{clash.people:,}",
            safe(clash.service),
            f"{clash.first[0]} = {clash.first[1]}",
            f"{clash.second[0]} = {clash.second[1]}",
        )
        for clash in sorted(result.clashes, key=lambda clash: -clash.people)
    ]
    rows, more = _cut(made, most, "--rows 0, or --format json")
    return Section(
        "Values that cannot work together",
        (("people", True), ("service", False), ("this", False), ("and this", False)),
        rows,
        more,
    )


def _exceptions(result: CheckResult) -> Section:
    made = tuple(
        (safe(each.id), each.state, f"{each.covers:,}", each.until, left(each.days_left)) for each in _agreed(result)
    )
    columns = (("exception", False), ("state", False), ("covers", True), ("until", False), ("", False))
    return Section("Exceptions", columns, made)


def left(days: int) -> str:
    """How far away the last day of something is, in words."""
    if days < 0:
        return f"ended {count(-days, 'day')} ago"
    return "ends today" if days == 0 else f"ends in {count(days, 'day')}"


def _next(result: CheckResult) -> str:
    """A call that shows where the first person's drift comes from."""
    for block in sorted(result.blocks, key=lambda each: SEVERITIES.index(each.rule.severity)):
        drifting = np.flatnonzero(np.array([tail.verdict == DRIFTS for tail in block.tails])[block.tail])
        if len(drifting):
            login = result.snapshot.people.logins.take(block.people[drifting[:1]])[0]
            return f"usher-gate why {safe(login)} --rule {safe(block.rule.id)}"
    return ""
