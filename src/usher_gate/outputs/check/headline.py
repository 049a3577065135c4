"""The first lines of a check: what must be said before everything else, and how many of what drift.

Spec: command-line 2.1 and 3.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ...core.sign_in.lockout import Lockout
from ...core.verdicts.codes import UNAVAILABLE, UNKNOWN
from ...core.verdicts.result import CheckResult, OtherCount
from ...core.words.plural import plural
from ...core.words.record import record
from ...core.words.times import show_time
from ...core.words.vocabulary import SEVERITIES
from ..section import joined, some, some_logins

_THINGS = {
    "meeting": ("planned meeting", "planned meetings"),
    "partner": ("partner", "partners"),
    "organisation": ("organisation", "organisations"),
}


def headline(result: CheckResult) -> tuple[str, ...]:
    """Return the first lines, the gravest first.

    Who is locked out, what makes the answer less than whole, and how many of what drift.
    """
    return (*alarms(result), *doubts(result), answer_of(result))


def alarms(result: CheckResult) -> list[str]:
    """Lock-outs of break-glass accounts, and of all privileged people."""
    return locked_out(result, [lockout for lockout in result.lockouts if _is_alarming(lockout)])


def lesser_lockouts(result: CheckResult) -> list[str]:
    """Return the other lock-outs: of some privileged people."""
    return locked_out(result, [lockout for lockout in result.lockouts if not _is_alarming(lockout)])


def _is_alarming(lockout: Lockout) -> bool:
    return lockout.of == "break-glass" or lockout.all


def lockout_key(lockout: Lockout) -> tuple[bool, str, str]:
    """Return a key that sorts lock-outs.

    Where no one of a kind is left first, break-glass accounts before privileged people.
    """
    return not lockout.all, lockout.of, lockout.resource


def locked_out(result: CheckResult, lockouts: Sequence[Lockout]) -> list[str]:
    """Return one line for each kind of people who are locked out, with all resources that the same ones are locked out
    of.
    """
    resources: dict[tuple[bool, str, tuple[str, ...]], list[str]] = {}
    rules: dict[tuple[bool, str, tuple[str, ...]], dict[str, str]] = {}
    for lockout in lockouts:
        key = not lockout.all, lockout.of, lockout.people
        resources.setdefault(key, []).append(lockout.resource)
        for rule in lockout.rules:
            since = "" if rule.changed is None else f" (changed {show_time(rule.changed)[:10]})"
            rules.setdefault(key, {})[rule.id] = rule.id + since
    lines = []
    for key, names in sorted(resources.items()):
        only_some, kind, people = key
        subject = "accounts" if kind == "break-glass" else "people"
        number = f"{len(people):,} of the" if only_some else "ALL"
        verb = "is" if only_some and len(people) == 1 else "are"
        by = f"; by {', '.join(rules[key].values())}" if rules.get(key) else ""
        logins = some_logins(result.snapshot, people, 5)
        lines.append(f"{number} {kind} {subject} {verb} locked out of {joined(names)}: {logins}{by}.")
    return lines


def doubts(result: CheckResult) -> list[str]:
    """Return what makes the answer less than whole, whatever it is."""
    lines = [f"{line[:1].upper()}{line[1:]}." for line in snapshot_doubts(result)]
    if len(result.snapshot.people) and result.judging_nobody:
        number = len(result.judging_nobody)
        verb = "judges" if number == 1 else "judge"
        lines.append(f"{plural(number, 'rule')} {verb} no one: {some(result.judging_nobody, 5)}.")
    if number := result.ignored_settings:
        lines.append(
            f"{plural(number, 'setting')} {'applies' if number == 1 else 'apply'} to nothing: {ignored_places(result)}."
        )
    return lines


def snapshot_doubts(result: CheckResult) -> list[str]:
    """Return why the snapshot may not be the whole truth: it is old, partial, or without people."""
    snapshot = result.snapshot
    lines = [snapshot.stale] if snapshot.stale else []
    if snapshot.partial:
        lines.append(f"the snapshot is partial: {joined(snapshot.partial)} {_were(snapshot.partial)} not gathered")
    if not len(snapshot.people):
        lines.append("no one is judged: the snapshot has no active person")
    return lines


def short_answer(result: CheckResult) -> str:
    """Return the answer in a sentence: lock-outs that alarm, then how many drift, the worst severity of each alone."""
    alarming = [lockout for lockout in result.lockouts if _is_alarming(lockout)]
    said = []
    for kind, account in (("break-glass", "break-glass account"), ("privileged", "administrator")):
        people = {person for lockout in alarming if lockout.of == kind for person in lockout.people}
        whole = any(lockout.all for lockout in alarming if lockout.of == kind)
        if people:
            verb = "is" if len(people) == 1 and not whole else "are"
            said.append(f"{f'ALL {account}s' if whole else plural(len(people), account)} {verb} locked out")
    start = f"{'; '.join(said)}. " if said else ""
    drifting = sorted(_short(result), key=lambda clause: clause.worst)
    if not drifting:
        return start + answer_of(result)
    answer = "; ".join(clause.text for clause in drifting)
    if not result.drifting_people and result.chosen.any():
        answer += f"; none of {plural(int(result.chosen.sum()), 'person', 'people')} drifts"
    return f"{start}{answer[0].upper()}{answer[1:]}."


def _short(result: CheckResult) -> Iterator[_Clause]:
    """Yield a clause for each type of subject that drifts: how many, and how many from the worst severity."""
    if result.drifting_people:
        by_severity = [int(np.count_nonzero(result.worst_of == place)) for place in range(len(SEVERITIES))]
        people = plural(int(result.chosen.sum()), "person", "people")
        yield _clause(f"{result.drifting_people:,} of {people}", result.drifting_people, by_severity)
    for each in result.other_counts:
        if each.drifting:
            subject = "the organisation" if each.type == "organisation" else _things(each, each.drifting)
            yield _clause(subject, each.drifting, list(each.worst))


def _clause(subject: str, drifting: int, by_severity: Sequence[int]) -> _Clause:
    worst = next(place for place, number in enumerate(by_severity) if number)
    rule = f"a {SEVERITIES[worst]} rule"
    if by_severity[worst] == drifting:
        return _Clause(worst, f"{subject} {'drifts' if drifting == 1 else 'drift'} from {rule}")
    return _Clause(worst, f"{subject} drift, {by_severity[worst]:,} of them from {rule}")


def _were(things: Sequence[str]) -> str:
    return "was" if len(things) == 1 and not things[0].startswith("the settings") else "were"


def ignored_places(result: CheckResult) -> str:
    """Return where the settings that apply to nothing are set.

    The first few places, each with the nearest one that exists.
    """
    ignored, shown = result.snapshot.ignored, list[str]()
    assert ignored is not None
    for word, near in sorted(zip(ignored.scope.words, ignored.nearest, strict=True))[:3]:
        shown.append(f"{word} does not exist" + (f" (did you mean {near}?)" if near else ""))
    more = len(ignored.scope.words) - len(shown)
    return ", ".join(shown) + (f" +{more:,}" if more else "")


@record
class _Clause:
    """Describes what is said of one type of subject: how severe the worst is (a place in SEVERITIES), and the words."""

    worst: int
    text: str


def answer_of(result: CheckResult) -> str:
    """Return how many people, planned meetings, partners drift, the worst first; or what is not known.

    Or that nothing drifts.
    """
    drifting = sorted(_drifting(result), key=lambda clause: clause.worst)
    if drifting:
        answer = "; ".join(clause.text for clause in drifting)
        if not result.drifting_people and result.chosen.any():
            answer += f"; none of {plural(int(result.chosen.sum()), 'person', 'people')} drifts"
        return f"{answer[0].upper()}{answer[1:]}."
    unclear = list(_unclear(result))
    if unclear:
        return f"Nothing is known to drift: {joined(unclear)}."
    people = plural(int(result.chosen.sum()), "person", "people")
    others = [_things(each, each.judged) for each in result.other_counts if each.type != "organisation"]
    answer = f"None of {people} drifts" + (f", nor does any of {joined(others)}" if others else "")
    if any(each.type == "organisation" for each in result.other_counts):
        answer += "; what is asked of the organisation holds"
    return answer + "."


def _drifting(result: CheckResult) -> Iterator[_Clause]:
    """Yield the clauses of the first line that count people and other subjects who drift."""
    if result.drifting_people:
        by_severity = [int(np.count_nonzero(result.worst_of == place)) for place in range(len(SEVERITIES))]
        people = plural(int(result.chosen.sum()), "person", "people")
        verb = "drifts" if result.drifting_people == 1 else "drift"
        parts = [
            f"{number:,} from a {severity} rule"
            for severity, number in zip(SEVERITIES, by_severity, strict=True)
            if number
        ]
        worst = next(place for place, number in enumerate(by_severity) if number)
        yield _Clause(worst, f"{result.drifting_people:,} of {people} {verb}: at worst {joined(parts)}")
    for each in result.other_counts:
        if not each.drifting:
            continue
        worst = next(place for place, number in enumerate(each.worst) if number)
        at_worst = ", at worst" if len([number for number in each.worst if number]) > 1 else ""
        verb = "drifts" if each.drifting == 1 else "drift"
        subject = "the organisation" if each.type == "organisation" else _things(each, each.drifting)
        yield _Clause(worst, f"{subject} {verb}{at_worst} from a {SEVERITIES[worst]} rule")


def _things(each: OtherCount, number: int) -> str:
    return plural(number, *_THINGS[each.type])


def _unclear(result: CheckResult) -> Iterator[str]:
    """Yield the verdicts that are unknown or unavailable, by type of subject."""
    number, words = _unclear_words(result.counts)
    if number:
        people = plural(result.unclear_people, "person", "people")
        yield f"{plural(number, 'verdict')} of {people} {'is' if number == 1 else 'are'} {words}"
    for each in result.other_counts:
        number, words = _unclear_words(each.counts)
        if number:
            subject = "the organisation" if each.type == "organisation" else _THINGS[each.type][1]
            yield f"{plural(number, 'verdict')} of {subject} {'is' if number == 1 else 'are'} {words}"


def _unclear_words(counts: Sequence[int]) -> tuple[int, str]:
    """Return how many verdicts are unknown or unavailable, and which of the two."""
    words = [word for code, word in ((UNKNOWN, "unknown"), (UNAVAILABLE, "unavailable")) if counts[code]]
    return counts[UNKNOWN] + counts[UNAVAILABLE], " or ".join(words)
