"""The history, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from ...core.history.spells import (
    BACK,
    COVERED,
    GONE,
    LEFT,
    MOVES,
    NEW,
    NEW_RULE,
    NO_RULE,
    NOT_KNOWN,
    STILL,
    WHAT,
    open_doors,
)
from ...core.verdicts.codes import DRIFTS, VERDICTS
from ..check.digest import root_text
from ..moved import moved_text
from ..page import Page
from ..section import COUNT, DATE, WHOLE, WORD, Column, Section, count, cut, some
from .answer import HistoryAnswer, Step, what_changed

_SHOW_ALL = "--rows 0, or --format json"
_BARS = "▁▂▃▄▅▆▇█"
_MEANS = {
    NEW: "drifts now, and never did before",
    BACK: "did before, not then, and does again",
    NEW_RULE: "a rule that the baseline has gained",
    STILL: "drifted then and drifts now",
    NOT_KNOWN: "drifted, and what is needed to judge it is missing now",
    COVERED: "drifted, and an exception covers it now",
    GONE: "drifted then, and does not any more",
    LEFT: "whom it was about has left",
    NO_RULE: "a rule that the baseline has lost",
}
_MOVED = {NEW_RULE: "by a new rule", NO_RULE: "of a dropped rule", NOT_KNOWN: "not known now", COVERED: "excepted"}
_MOVED |= {name: name for name in (NEW, BACK, GONE, LEFT)}


def history_page(answer: HistoryAnswer, most: int) -> Page:
    """How it has gone since, or check by check."""
    return Page(_first(answer), tuple(_details(answer)), tuple(_sections(answer, most)))


def _first(answer: HistoryAnswer) -> str:
    if answer.since is not None:
        then, now, changed = answer.since
        counted = what_changed(changed)
        return (
            f"Since {then.time[:10]}: {moved_text(counted)}; {counted.get(STILL, 0):,} still drift on {now.time[:10]}."
        )
    if answer.person is not None:
        name, spells = answer.person
        rules = {spell.key.rule for spell in spells if spell.last is None and spell.verdict == VERDICTS[DRIFTS]}
        return f"{name} drifts from {count(len(rules), 'rule')} on {answer.steps[-1].check.time[:10]}."
    last = answer.steps[-1]
    people = last.counts.get(("drifting", ""), 0)
    of = last.counts.get(("people", ""), 0)
    return f"{count(len(answer.steps), 'check')} kept, the last of {last.check.time[:10]}: {people:,} of {of:,} people drift."


def trend(numbers: list[int]) -> str:
    """Numbers as a line of bars, the greatest the highest."""
    high = max(numbers, default=0)
    return "".join(_BARS[number * (len(_BARS) - 1) // high if high else 0] for number in numbers)


def _details(answer: HistoryAnswer) -> Iterator[str]:
    if answer.part:
        yield f"Told of a part only: {answer.part}."
        return
    if answer.person is not None:
        return
    people = [step.counts.get(("drifting", ""), 0) for step in answer.steps]
    if len(people) > 1:
        yield f"People drifting, {answer.day(answer.steps[0].check.number)} to now: {trend(people)}  {people[0]:,} to {people[-1]:,}"
    last = answer.steps[-1]
    if last.leg.median_age is not None and last.leg.oldest_age is not None:
        yield f"Age of what drifts: median {count(last.leg.median_age, 'day')}, oldest {count(last.leg.oldest_age, 'day')}."


def _sections(answer: HistoryAnswer, most: int) -> Iterator[Section]:
    if answer.person is not None:
        yield _person(answer, most)
        rows, more = cut(
            [(one.review, one.place, one.fate, answer.day(one.check)) for one in answer.decisions], most, _SHOW_ALL
        )
        if rows:
            columns = (Column("review", WHOLE), Column("place", WHOLE), Column("decided", WORD), Column("kept", DATE))
            yield Section("What reviews of guests decided", columns, rows, more)
        return
    if answer.since is not None:
        yield from _since(answer, most)
        return
    seen = {
        name for step in answer.steps if step.leg.changed is not None for name, many in step.leg.changed.items() if many
    }
    told = [name for name in MOVES if name in (NEW, BACK, GONE) or name in seen]
    rows, more = cut([_row(step, told) for step in reversed(answer.steps)], most, _SHOW_ALL)
    yield Section(
        "Check by check, the last first",
        (
            Column("taken", DATE),
            Column("people drifting", COUNT),
            Column("critical", COUNT, 1),
            Column("high", COUNT, 1),
            Column("drifts", COUNT),
            *(Column(_MOVED[name], COUNT, 4 * (name in (NEW_RULE, LEFT, NO_RULE))) for name in told),
            Column("unknown", COUNT, 3),
            Column("roots", COUNT, 3),
            Column("open doors", COUNT, 2),
        ),
        rows,
        more,
    )


def _row(step: Step, told: list[str]) -> tuple[str | int | None, ...]:
    counts, changed = step.counts, step.leg.changed
    return (
        step.check.time[:10],
        counts.get(("drifting", ""), 0),
        counts.get(("severity", "critical"), 0),
        counts.get(("severity", "high"), 0),
        step.leg.drifts,
        *(None if changed is None else changed.get(name, 0) for name in told),
        counts.get(("verdict", "unknown"), 0),
        sum(kind == "root" for kind, _ in counts),
        open_doors(counts),
    )


def _since(answer: HistoryAnswer, most: int) -> Iterator[Section]:
    assert answer.since is not None
    _, now, changed = answer.since
    counted = what_changed(changed)
    yield Section(
        "What became of it",
        (Column("what", WORD), Column("drifts", COUNT), Column("what it means")),
        tuple((name, counted[name], _MEANS[name]) for name in WHAT if counted.get(name)),
    )
    yield from _moved("rule", [(one.key.rule, one.what) for one in changed], most)
    rows, more = cut(
        [
            (root_text(one.root), one.then, one.now)
            for one in sorted(answer.roots, key=lambda one: (one.then - one.now, root_text(one.root)))
        ],
        most,
        _SHOW_ALL,
    )
    if rows:
        yield Section(
            "By cause, where the number of drifts moved",
            (Column("what causes the drift"), Column("then", COUNT), Column("now", COUNT)),
            rows,
            more,
        )
    if answer.known is not None:
        units = answer.known.units
        there = [(units.get(one.key.id), one.what) for one in changed if one.key.type == "person"]
        yield from _moved("unit", [(unit or "in no unit", what) for unit, what in there if unit is not None], most)
    for title, wanted in (("New and back", (NEW, BACK, NEW_RULE)), ("Gone", (GONE, LEFT, NO_RULE))):
        told: dict[tuple[str, str], list[str]] = {}
        for one in changed:
            if one.what in wanted:
                told.setdefault((one.what, one.key.rule), []).append(answer.whose(one.key))
        made_rows = [(what, rule, len(names), some(names)) for (what, rule), names in told.items()]
        rows, more = cut(made_rows, most, _SHOW_ALL)
        if rows:
            yield Section(
                title,
                (Column("what", WORD), Column("rule", WHOLE), Column("drifts", COUNT), Column("whose")),
                rows,
                more,
            )
    oldest = sorted((one for one in changed if one.what == STILL), key=lambda one: (one.first, one.key))
    rows, more = cut(
        [
            (answer.whose(one.key), one.key.rule, one.key.service, answer.day(one.first), answer.age(one.first, now))
            for one in oldest
        ],
        most,
        _SHOW_ALL,
    )
    if rows:
        columns = (
            Column("whose", WHOLE),
            Column("rule", WHOLE),
            Column("service", spare=1),
            Column("since", DATE),
            Column("days", COUNT),
        )
        yield Section("Still, the oldest first", columns, rows, more)


def _moved(heading: str, told: Iterable[tuple[str, str]], most: int) -> Iterator[Section]:
    """What became of drifts, by something that they have, where anything did; the worst first."""
    by: dict[str, Counter[str]] = {}
    for name, what in told:
        by.setdefault(name, Counter())[what] += 1
    moved = [(name, made) for name, made in by.items() if any(made[word] for word in MOVES)]
    words = [word for word in WHAT if word in (NEW, BACK, GONE, STILL) or any(made[word] for _, made in moved)]
    rows, more = cut(
        [
            (name, *(made[word] or None for word in words))
            for name, made in sorted(moved, key=lambda one: (-one[1][NEW] - one[1][BACK], -one[1][GONE], one[0]))
        ],
        most,
        _SHOW_ALL,
    )
    if rows:
        columns = (Column(heading, WHOLE), *(Column(_MOVED.get(word, word), COUNT) for word in words))
        yield Section(f"By {heading}, where something moved", columns, rows, more)


def _person(answer: HistoryAnswer, most: int) -> Section:
    assert answer.person is not None
    (name, spells), drifts = answer.person, VERDICTS[DRIFTS]
    told = [
        (
            spell.key.rule,
            spell.key.service,
            spell.verdict,
            answer.day(spell.first),
            "" if spell.last is None else answer.day(spell.last),
        )
        for spell in sorted(
            spells, key=lambda spell: (spell.last is not None, spell.verdict != drifts, -spell.first, spell.key)
        )
    ]
    rows, more = cut(told, most, _SHOW_ALL)
    columns = (
        Column("rule", WHOLE),
        Column("service"),
        Column("verdict", WORD),
        Column("from", DATE),
        Column("to", DATE),
    )
    return Section(f"What was found about {name}, what lasts first", columns, rows, more)
