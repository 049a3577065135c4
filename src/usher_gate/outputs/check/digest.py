"""A check in words for people, widest question first: how bad, what one change would help most, rules, groups, people.

The rows are typed cells; how they are drawn is up to the forms that use them.
"""

from __future__ import annotations

import numpy as np

from ...core.verdicts.codes import DRIFTS, LOOSE, MEETS, SETTLING, SHOWN_ORDER, UNAVAILABLE, UNKNOWN, VERDICTS
from ...core.verdicts.outcome import Root, Tail
from ...core.verdicts.result import ENDS_SOON_DAYS, CheckResult, ExceptionRow, Share
from ...core.words.record import record
from ...core.words.vocabulary import SEVERITIES
from ..section import (
    COUNT,
    DATE,
    SHARE,
    WHOLE,
    WORD,
    Column,
    Section,
    count,
    cut,
    joined,
    left,
    place_text,
    some,
)


@record
class Digest:
    """The whole answer for people."""

    answer: str
    details: tuple[str, ...]
    about: str
    verdicts: tuple[tuple[str, int], ...]
    sections: tuple[Section, ...]
    next_step: str


def root_text(root: Root) -> str:
    """What a root is, in words."""
    where = f"{root.service}: " if root.service else ""
    if root.value is not None and root.scope is not None:
        return f"{where}{root.control} = {root.value or '(nothing)'}, {place_text(root.scope)}"
    if root.scope == "person":
        return f"{root.control}, a fact of each person"
    if root.scope == "partners":
        return f"{root.control}, in the partners table"
    if root.control == "count":
        return "how many people there are of a kind"
    return f"{where}{root.control}, {'by the access rules' if root.scope == 'access-rules' else 'as it was seen or is not supported'}"


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
        answer += ": at worst " + joined(parts)
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
        f"{snapshot.name}, as it was at {snapshot.taken_text}, against {baseline.name} {baseline.version}",
        verdicts,
        tuple(section for section in sections if section.rows),
        _next(result),
    )


def _details(result: CheckResult) -> list[str]:
    found = _locked_out(result)
    groups, units = result.groups.whole, result.units.whole
    if groups or units:
        found.append(
            f"{joined([count(number, thing) for number, thing in ((groups, 'group'), (units, 'unit')) if number])} "
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
    soon = [
        exception.id
        for exception in _agreed(result)
        if exception.state != "expired" and exception.days_left <= ENDS_SOON_DAYS
    ]
    expired = [exception.id for exception in _agreed(result) if exception.state == "expired"]
    idle = [exception.id for exception in _agreed(result) if exception.state == "idle"]
    for names, one, many in (
        (expired, "expired and covers nothing any more", "expired and cover nothing any more"),
        (soon, f"ends within {ENDS_SOON_DAYS} days", f"end within {ENDS_SOON_DAYS} days"),
        (idle, "covers nothing today", "cover nothing today"),
    ):
        if names:
            found.append(f"{count(len(names), 'exception')} {one if len(names) == 1 else many}: {some(names, 5)}.")
    return found


def _locked_out(result: CheckResult) -> list[str]:
    """One line for each kind of people who are locked out, with all resources that the same ones are locked out of."""
    resources: dict[tuple[bool, str, tuple[str, ...]], list[str]] = {}
    for lockout in result.lockouts:
        resources.setdefault((not lockout.all, lockout.of, lockout.people), []).append(lockout.resource)
    found = []
    for (only_some, kind, people), names in sorted(resources.items()):
        whom = "accounts" if kind == "break-glass" else "people"
        number = f"{len(people):,} of the" if only_some else "ALL"
        verb = "is" if only_some and len(people) == 1 else "are"
        found.append(f"{number} {kind} {whom} {verb} locked out of {joined(names)}: {some(people, 5)}.")
    return found


def _agreed(result: CheckResult) -> list[ExceptionRow]:
    """The exceptions from any of the rules that the report speaks of."""
    rules = {rule.id for rule in result.rules}
    return [row for row in result.exceptions if rules & set(row.rules)]


def _roots(result: CheckResult, most: int) -> Section:
    drifting = sum(row.verdicts for row in result.roots)
    made = [(row.people, row.freed, row.verdicts, root_text(row.root), some(row.rules)) for row in result.roots]
    rows, more = cut(made, most, "--rows 0, or --format json")
    return Section(
        f"Where to begin: {count(len(made), 'root')} of {count(drifting, 'drifting verdict')}",
        (
            Column("people", COUNT),
            Column("freed", COUNT),
            Column("verdicts", COUNT),
            Column("what causes the drift"),
            Column("rules"),
        ),
        rows,
        more,
    )


def _rules(result: CheckResult, most: int) -> Section:
    wanting = [rule for rule in result.rules if any(result.rule_counts[rule.id][code] for code in range(MEETS))]
    wanting.sort(key=lambda rule: (SEVERITIES.index(rule.severity), -result.rule_counts[rule.id][DRIFTS], rule.id))
    wanting = [rule for rule in wanting if result.rule_counts[rule.id][DRIFTS]] + [
        rule for rule in wanting if not result.rule_counts[rule.id][DRIFTS]
    ]
    made = [
        (
            rule.id,
            rule.severity,
            *(result.rule_counts[rule.id][code] or None for code in (DRIFTS, UNAVAILABLE, UNKNOWN, SETTLING, LOOSE)),
            rule.title,
        )
        for rule in wanting
    ]
    rows, more = cut(made, most, "--rows 0, or --format json")
    good = len(result.rules) - len(wanting)
    return Section(
        f"Rules: {good} of {len(result.rules)} hold for everybody they judge",
        (
            Column("rule", WHOLE),
            Column("severity", WORD),
            Column("drifts", COUNT),
            Column("unavail.", COUNT),
            Column("unknown", COUNT),
            Column("settling", COUNT),
            Column("loose", COUNT),
            Column("what it asks"),
        ),
        rows,
        more,
    )


def _wholes(result: CheckResult, most: int) -> Section:
    found: dict[tuple[str, str], list[Share]] = {}
    for kind, shares in (("group", result.groups), ("unit", result.units)):
        for share in shares.wholes():
            found.setdefault((kind, share.id), []).append(share)
    ordered = sorted(found.items(), key=lambda entry: (-max(share.drifting for share in entry[1]), entry[0]))
    made = [
        (
            (f"{kind} {shares[0].name or name}"),
            f"{max(share.drifting for share in shares):,} of {max(share.judged for share in shares):,}",
            some(sorted({share.rule for share in shares}), 5),
        )
        for (kind, name), shares in ordered
    ]
    rows, more = cut(made, most, "--rows 0, or --format json")
    return Section(
        "Groups and units that drift as a whole",
        (Column("which"), Column("people drifting", SHARE), Column("rules")),
        rows,
        more,
    )


def _people(result: CheckResult, most: int) -> Section:
    people = np.flatnonzero(result.drifts_of)
    ordered = people[np.lexsort((people, -result.drifts_of[people], result.worst_of[people]))]
    shown = ordered[:most] if most else ordered
    causes: dict[int, list[str]] = {int(person): [] for person in shown}
    for block in sorted(result.blocks, key=lambda one_block: SEVERITIES.index(one_block.rule.severity)):
        places = np.searchsorted(block.people, shown)
        for person, place in zip(shown.tolist(), places.tolist(), strict=True):
            if place < len(block.people) and block.people[place] == person:
                tail = block.tails[int(block.tail[place])]
                if tail.verdict == DRIFTS:
                    causes[person].append(f"{block.rule.id} {_cause(tail)}")
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
    left = len(ordered) - len(shown)
    return Section(
        "People, the worst first",
        (Column("login", WHOLE), Column("worst", WORD), Column("drifts", COUNT), Column("from")),
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
            f"{other.subject[0]} {other.subject[1]}",
            other.rule.id,
            other.rule.severity,
            VERDICTS[other.tail.verdict],
            _cause(other.tail),
            other.tail.deciding[0].expected if other.tail.deciding else "",
        )
        for other in ordered
    ]
    rows, more = cut(made, most, "--rows 0, or --format csv")
    return Section(
        "The organisation and its partners",
        (
            Column("which"),
            Column("rule", WHOLE),
            Column("severity", WORD),
            Column("verdict", WORD),
            Column("what is"),
            Column("what is due"),
        ),
        rows,
        more,
    )


def _clashes(result: CheckResult, most: int) -> Section:
    made = [
        (
            clash.people,
            clash.service,
            f"{clash.first[0]} = {clash.first[1]}",
            f"{clash.second[0]} = {clash.second[1]}",
        )
        for clash in sorted(result.clashes, key=lambda clash: -clash.people)
    ]
    rows, more = cut(made, most, "--rows 0, or --format json")
    return Section(
        "Values that cannot work together",
        (Column("people", COUNT), Column("service"), Column("this"), Column("and this")),
        rows,
        more,
    )


def _exceptions(result: CheckResult) -> Section:
    made = tuple(
        (exception.id, exception.state, exception.covers, exception.until, left(exception.days_left))
        for exception in _agreed(result)
    )
    columns = (
        Column("exception", WHOLE),
        Column("state", WORD),
        Column("covers", COUNT),
        Column("until", DATE),
        Column(""),
    )
    return Section("Exceptions", columns, made)


def _next(result: CheckResult) -> str:
    """A call that shows where the first person's drift comes from."""
    for block in sorted(result.blocks, key=lambda one_block: SEVERITIES.index(one_block.rule.severity)):
        drifting = np.flatnonzero(np.array([tail.verdict == DRIFTS for tail in block.tails])[block.tail])
        if len(drifting):
            login = result.snapshot.people.logins.take(block.people[drifting[:1]])[0]
            return f"usher-gate why {login} --rule {block.rule.id}"
    return ""
