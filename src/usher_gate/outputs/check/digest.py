"""A check in words for people, widest question first: how bad, what one change would help most, rules, groups, people.

The rows are typed cells; how they are drawn is up to the forms that use them.
"""

from __future__ import annotations

import re

import numpy as np

from ...core.door.roots import DOOR
from ...core.organisation.settings import MEETING
from ...core.verdicts.codes import DRIFTS, LOOSE, MEETS, SETTLING, SHOWN_ORDER, UNAVAILABLE, UNKNOWN, VERDICTS
from ...core.verdicts.condition import Leaf
from ...core.verdicts.outcome import Outcome, Root, Tail
from ...core.verdicts.result import ENDS_SOON_DAYS, Block, CheckResult, ExceptionRow, RootRow, Share
from ...core.verdicts.rules import Rule
from ...core.words.compare import shown
from ...core.words.record import record
from ...core.words.times import show_time
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
    few_logins,
    joined,
    left,
    place_text,
    some,
    some_logins,
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
        return f"{where}{root.control} = {shown(root.value)}, {place_text(root.scope)}"
    if root.scope == "person":
        return f"{root.control}, a fact of each person"
    if root.scope == "partners":
        return f"{root.control}, in the partners table"
    if root.scope == "meetings":
        return f"{root.control}, of a planned meeting"
    if root.control == "count":
        return "how many people there are of a kind"
    if root.control == DOOR:
        return f"{where}a door that no one control shuts"
    return f"{where}{root.control}, {'by the access rules' if root.scope == 'access-rules' else 'as it was seen or is not supported'}"


def digest(result: CheckResult, rows: int) -> Digest:
    """The answer for people, at most `rows` rows of each kind (0 means all)."""
    snapshot, baseline = result.snapshot, result.baseline
    verdicts = tuple((name, result.counts[VERDICTS.index(name)]) for name in SHOWN_ORDER)
    sections = (
        _roots(result, rows),
        _rules(result, rows),
        _framework(result, rows),
        _services(result),
        _wholes(result, rows),
        _people(result, rows),
        _listed(result, rows),
        _others(result, rows, True),
        _others(result, rows, False),
        _contests(result, rows),
        _clashes(result, rows),
        _stranded(result, rows),
        *([] if rows else [exceptions_section(result)]),  # what is to be done about them stands in the details
    )
    return Digest(
        answer_of(result),
        tuple(_details(result)),
        f"{snapshot.name}, as it was at {snapshot.taken_text}, against {baseline.name} {baseline.version}",
        verdicts,
        tuple(section for section in sections if section.rows),
        _next(result),
    )


def answer_of(result: CheckResult) -> str:
    """How many drift; before it what makes the answer less than whole."""
    snapshot, people, drifting = result.snapshot, int(result.chosen.sum()), result.drifting_people
    before = []
    if snapshot.partial:
        before.append(f"In part only: not gathered were {joined(snapshot.partial)}.")
    if snapshot.stale:
        before.append(f"Stale: {snapshot.stale}.")
    if not len(snapshot.people):
        before.append("Nobody is judged: the snapshot has no active person.")
    elif result.judging_nobody:
        number = len(result.judging_nobody)
        verb = "judges" if number == 1 else "judge"
        before.append(f"{count(number, 'rule')} {verb} nobody: {some(result.judging_nobody, 5)}.")
    answer = f"None of {count(people, 'person', 'people')} drifts"
    if drifting:
        verb = "drifts" if drifting == 1 else "drift"
        answer = f"{drifting:,} of {count(people, 'person', 'people')} {verb}"
    parts = [
        f"{number:,} from a {severity} rule"
        for place, severity in enumerate(SEVERITIES)
        if (number := int(np.count_nonzero(result.worst_of == place)))
    ]
    if parts:
        answer += ": at worst " + joined(parts)
    return " ".join((*before, answer + "."))


def _ignored(result: CheckResult) -> int:
    """How many settings stand at planned meetings, of which no rule speaks."""
    settings = result.snapshot.settings
    if any(rule.subject == "meetings" for rule in result.baseline.rules):
        return 0
    return 0 if settings is None else int(np.count_nonzero(settings.kind == MEETING))


def _details(result: CheckResult) -> list[str]:
    found = locked_out(result)
    groups, units = result.groups.whole, result.units.whole
    if groups or units:
        found.append(
            f"{joined([count(number, thing) for number, thing in ((groups, 'group'), (units, 'unit')) if number])} "
            f"{'drifts' if groups + units == 1 else 'drift'} as a whole."
        )
    if ignored := _ignored(result):
        verb = "is" if ignored == 1 else "are"
        found.append(
            f"{count(ignored, 'setting')} of planned meetings' own {verb} not judged here: usher-gate door --meetings."
        )
    for code, meaning in (
        (UNKNOWN, "unknown: the snapshot does not tell, so they count as not good"),
        (UNAVAILABLE, "unavailable: the licence that the control needs is not there"),
        (SETTLING, "settling: changed too lately to have arrived everywhere"),
        (LOOSE, "loose: right today, but nothing keeps people from changing it"),
    ):
        if result.counts[code]:
            verb = "is" if result.counts[code] == 1 else "are"
            open_them = "" if result.wanted is not None else f" (--verdict {VERDICTS[code]})"
            found.append(f"{count(result.counts[code], 'verdict')} {verb} {meaning}{open_them}.")
    if result.contested_people:
        found.append(
            f"{count(result.contested_people, 'person has', 'people have')} contested values: settings of one standing disagree."
        )
    if result.stranded_people:
        verb = "is" if result.stranded_people == 1 else "are"
        where = some([each.resource for each in result.stranded], 3)
        found.append(
            f"{count(result.stranded_people, 'person', 'people')} {verb} stranded at {where}: no way in until they register something."
        )
    if result.clashing_people:
        found.append(f"{count(result.clashing_people, 'person has', 'people have')} values that cannot work together.")
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
            found.append(f"{count(len(names), 'exception')} {one if len(names) == 1 else many}: {some(names, 5)}.")
    return found


def locked_out(result: CheckResult) -> list[str]:
    """One line for each kind of people who are locked out, with all resources that the same ones are locked out of."""
    resources: dict[tuple[bool, str, tuple[str, ...]], list[str]] = {}
    behind: dict[tuple[bool, str, tuple[str, ...]], dict[str, str]] = {}
    for lockout in result.lockouts:
        key = not lockout.all, lockout.of, lockout.people
        resources.setdefault(key, []).append(lockout.resource)
        for rule in lockout.rules:
            since = "" if rule.changed is None else f" (changed {show_time(rule.changed)[:10]})"
            behind.setdefault(key, {})[rule.id] = rule.id + since
    found = []
    for key, names in sorted(resources.items()):
        only_some, kind, people = key
        whom = "accounts" if kind == "break-glass" else "people"
        number = f"{len(people):,} of the" if only_some else "ALL"
        verb = "is" if only_some and len(people) == 1 else "are"
        by = f"; by {', '.join(behind[key].values())}" if behind.get(key) else ""
        found.append(
            f"{number} {kind} {whom} {verb} locked out of {joined(names)}: {some_logins(result.snapshot, people, 5)}{by}."
        )
    return found


def agreed(result: CheckResult) -> list[ExceptionRow]:
    """The exceptions from any of the rules that the report speaks of."""
    rules = {rule.id for rule in result.rules}
    return [row for row in result.exceptions if rules & set(row.rules)]


def remedy_text(row: RootRow) -> str:
    """What to do about a root, and what that does: as it was found by judging again."""
    remedy = row.remedy
    if remedy is None:
        return ""
    harms = f" (harms {remedy.harms:,})" if remedy.harms else ""
    if remedy.mended_value is not None and not row.people:
        return f"set it to {shown(remedy.mended_value)}"
    if remedy.mended_value is not None:
        return f"set it to {shown(remedy.mended_value)}: frees {remedy.freed:,}{harms}"
    if row.root.scope == "licence":
        return f"give the licence: frees {remedy.freed:,}{harms}"
    if row.root.scope in ("person", "access-rules"):
        return f"if it held: frees {remedy.freed:,}{harms}"
    return (
        "no value passes every rule"
        if row.root.scope not in (None, "partners", "meetings") and row.root.value is not None
        else ""
    )


def _roots(result: CheckResult, most: int) -> Section:
    drifting = sum(row.verdicts for row in result.roots)
    made = [(row.people, row.verdicts, root_text(row.root), remedy_text(row), some(row.rules)) for row in result.roots]
    rows, more = cut(made, most, "--rows 0, or --format json")
    return Section(
        f"Where to begin: {count(len(made), 'root')} of {count(drifting, 'drifting verdict')}",
        (
            Column("people", COUNT),
            Column("verdicts", COUNT),
            Column("what causes the drift"),
            Column("what would help"),
            Column("rules", spare=2),
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
    idle = [rule for rule in result.rules if rule.id in result.judging_nobody and rule not in wanting]
    good = len(result.rules) - len(wanting) - len(idle)
    nobody = f"; {len(idle)} {'judges' if len(idle) == 1 else 'judge'} nobody" if idle else ""
    return Section(
        f"Rules: {good} of {len(result.rules)} hold for everybody they judge{nobody}",
        (
            Column("rule", WHOLE),
            Column("severity", WORD),
            Column("drifts", COUNT),
            Column("unavail.", COUNT, spare=1),
            Column("unknown", COUNT, spare=1),
            Column("settling", COUNT, spare=2),
            Column("loose", COUNT, spare=3),
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
    listed = result.wanted is None or "drifts" in result.wanted
    people = np.flatnonzero(result.drifts_of) if listed else np.empty(0, np.int64)
    ordered = people[np.lexsort((people, -result.drifts_of[people], result.worst_of[people]))]
    shown = ordered[:most] if most else ordered
    causes: dict[int, list[str]] = {int(person): [] for person in shown}
    for block in sorted(result.blocks, key=lambda one_block: SEVERITIES.index(one_block.rule.severity)):
        places = np.searchsorted(block.people, shown)
        for person, place in zip(shown.tolist(), places.tolist(), strict=True):
            if place < len(block.people) and block.people[place] == person:
                tail = block.tails[int(block.tail[place])]
                if tail.verdict == DRIFTS:
                    on = f"{block.service}: " if block.service else ""
                    causes[person].append(f"{block.rule.id} {on}{cause_text(tail)}")
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


def cause_text(tail: Tail) -> str:
    """What drifts, and where it is set, in a few words."""
    found = tail.deciding
    if found is None:
        return tail.reason
    leaf, outcome = found
    where = f" at {outcome.cause.scope}" if outcome.cause is not None else ""
    seen = " was seen" if tail.reason in ("observed", "not-applied", "not-seen-since") else ""
    actual = "not known" if outcome.actual is None else shown(outcome.actual)
    if leaf.about == "proof":
        actual = "is not asked for everywhere"
    if outcome.visit is not None:
        return f"{outcome.met}: {outcome.visit.text}{_by_root(tail)}"
    return f"{leaf.name} {actual}{seen}{where}{words_apart(leaf, outcome)}"


def _by_root(tail: Tail) -> str:
    """What lets somebody in at a door, in words."""
    root = tail.root
    if root is None or root.scope is None:
        return ""
    return f", by {root.control} {shown(root.value or '')} at {root.scope}"


def words_apart(leaf: Leaf, outcome: Outcome) -> str:
    """Of a set that fails: the words that are too many, and those that are missing."""
    if leaf.comparison is None or outcome.actual is None or outcome.verdict != DRIFTS:
        return ""
    many, few = leaf.comparison.apart(outcome.actual)
    said = [f"{joined(sorted(words))} {what}" for words, what in ((many, "too many"), (few, "missing")) if words]
    return f" ({'; '.join(said)})" if said else ""


def _others(result: CheckResult, most: int, meetings: bool) -> Section:
    ordered = sorted(
        (other for other in result.others if (other.subject[0] == "meeting") == meetings),
        key=lambda other: (other.tail.verdict, SEVERITIES.index(other.rule.severity), other.rule.id, other.subject),
    )
    made = [
        (
            f"{other.label or other.subject[1]} ({other.subject[1]})"
            if meetings
            else f"{other.subject[0]} {other.subject[1]}",
            other.rule.id,
            other.rule.severity,
            VERDICTS[other.tail.verdict],
            cause_text(other.tail),
            other.tail.deciding[0].expected if other.tail.deciding else "",
        )
        for other in ordered
    ]
    rows, more = cut(made, most, "--rows 0, or --format csv")
    return Section(
        "Planned meetings" if meetings else "The organisation and its partners",
        (
            Column("which"),
            Column("rule", WHOLE),
            Column("severity", WORD),
            Column("verdict", WORD),
            Column("what is"),
            Column("what is due", spare=1),
        ),
        rows,
        more,
    )


def _framework(result: CheckResult, most: int) -> Section:
    """The rules by the numbers of a framework: what an auditor asks for."""
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
    rows, more = cut(made, most, "--rows 0")
    columns = (
        Column("number", WHOLE),
        Column("rules that hold", SHARE),
        Column("drifts", COUNT),
        Column("not certain", COUNT),
        Column("meets", COUNT),
        Column("rules", spare=1),
    )
    return Section(f"By {result.by}", columns, rows, more)


def _natural(text: str) -> tuple[tuple[int, str], ...]:
    """An order in which AC-2 comes before AC-12."""
    return tuple((int(part), "") if part.isdecimal() else (-1, part) for part in re.split(r"([0-9]+)", text) if part)


def _services(result: CheckResult) -> Section:
    """Services side by side, if there are several."""
    rows = tuple(
        (row.id, row.accounts, row.drifting, *(number or None for number in row.worst)) for row in result.services
    )
    columns = (Column("service", WHOLE), Column("accounts", COUNT), Column("drifting", COUNT))
    severities = tuple(Column(severity, COUNT) for severity in SEVERITIES)
    title = "Services: who has an account there, and who drifts there (at worst from a rule of each severity)"
    return Section(title, columns + severities, rows if len(rows) > 1 else ())


def _listed(result: CheckResult, most: int) -> Section:
    """The findings with the verdicts that are asked for, other than drift."""
    wanted = (result.wanted or frozenset()) - {"drifts"}
    found: list[tuple[int, str, Block, int]] = []
    for block in result.blocks:
        kept = np.array([VERDICTS[tail.verdict] in wanted for tail in block.tails], bool)[block.tail]
        found += [
            (int(block.people[place]), block.rule.id, block, int(block.tail[place])) for place in np.flatnonzero(kept)
        ]
    found.sort(key=lambda each: (each[2].rule.id, each[2].service or "", each[0]))
    rows = []
    for person, rule, block, which in found[:most] if most else found:
        tail = block.tails[which]
        login = result.snapshot.people.logins.take(np.array([person]))[0]
        on = f"{block.service}: " if block.service else ""
        due = tail.deciding[0].expected if tail.deciding else ""
        rows.append(
            (login, rule, VERDICTS[tail.verdict], f"{on}{cause_text(tail)}{arrival(result, block.service, tail)}", due)
        )
    left_out = len(found) - len(rows)
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
        f"and {left_out:,} more: --rows 0, or --format csv" if left_out else "",
    )


def arrival(result: CheckResult, service: str | None, tail: Tail) -> str:
    """Of a change that may not have arrived: when it should be there; of old evidence, that nobody has looked since."""
    found = tail.deciding
    if tail.verdict != SETTLING or found is None or found[1].cause is None:
        return ""
    settle = next((one.settle for one in result.snapshot.services or () if one.id == service), 0)
    due = show_time(found[1].cause.changed + settle)
    return f"; should be there by {due}" if tail.reason == "young" else f"; due since {due}, and not looked at again"


def _contests(result: CheckResult, most: int) -> Section:
    made = [
        (
            len(each.people),
            each.service,
            f"{each.control} = {shown(each.value)}",
            "; ".join(f"{scope} says {shown(value)}" for scope, value in each.settings),
            few_logins(result.snapshot, each.people.tolist(), most),
        )
        for each in sorted(result.contests, key=lambda each: -len(each.people))
    ]
    rows, more = cut(made, most, "--rows 0, or --format json")
    columns = (
        Column("people", COUNT),
        Column("service"),
        Column("counts"),
        Column("settings of one standing"),
        Column("who", spare=1),
    )
    return Section("Contested values", columns, rows, more)


def _stranded(result: CheckResult, most: int) -> Section:
    made = [
        (each.resource, len(each.people), few_logins(result.snapshot, each.people.tolist(), most))
        for each in result.stranded
    ]
    rows, more = cut(made, most, "--rows 0, or usher-gate holes")
    columns = (Column("resource", WHOLE), Column("people", COUNT), Column("who", spare=1))
    return Section("Stranded: no way in until they register something", columns, rows, more)


def _clashes(result: CheckResult, most: int) -> Section:
    made = [
        (
            len(clash.people),
            clash.service,
            f"{clash.first[0]} = {shown(clash.first[1])}",
            f"{clash.second[0]} = {shown(clash.second[1])}",
            few_logins(result.snapshot, clash.people.tolist(), most),
        )
        for clash in sorted(result.clashes, key=lambda clash: -len(clash.people))
    ]
    rows, more = cut(made, most, "--rows 0, or --format json")
    return Section(
        "Values that cannot work together",
        (Column("people", COUNT), Column("service"), Column("value"), Column("and"), Column("who", spare=1)),
        rows,
        more,
    )


def exceptions_section(result: CheckResult) -> Section:
    """The exceptions from the rules that the report speaks of."""
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


def _next(result: CheckResult) -> str:
    """A call that shows where the first person's drift comes from."""
    for block in sorted(result.blocks, key=lambda one_block: SEVERITIES.index(one_block.rule.severity)):
        drifting = np.flatnonzero(np.array([tail.verdict == DRIFTS for tail in block.tails])[block.tail])
        if len(drifting):
            login = result.snapshot.people.logins.take(block.people[drifting[:1]])[0]
            return f"usher-gate why {login} --rule {block.rule.id}"
    return ""
