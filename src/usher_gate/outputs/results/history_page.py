"""The history, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from ...core.history.intervals import (
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
from ...core.words.plural import plural
from ..check.digest import root_text
from ..moved import moved_text
from ..page import Page
from ..section import COUNT, DATE, WHOLE, WORD, Column, Section, listed, part, some
from .history import WHAT_MEANS, HistoryAnswer, HistoryStep, what_changed

_BARS = "▁▂▃▄▅▆▇█"
_MOVED = {NEW_RULE: "by a new rule", NO_RULE: "of a dropped rule", NOT_KNOWN: "not known now", COVERED: "excepted"}
_MOVED |= {name: name for name in (NEW, BACK, GONE, LEFT)}
_DRIFTING = (NEW, BACK, NEW_RULE, STILL)  # what is said of findings that are there at the later check


def history_page(answer: HistoryAnswer, most: int) -> Page:
    """Return how it has gone since, or check by check."""
    how = ""
    if answer.since is None and answer.person is None:
        how = f"--since #{answer.steps[-1].check.number} --show people"
    return Page(_first(answer), tuple(_details(answer)), tuple(_sections(answer, most)), listed_by=how)


def _first(answer: HistoryAnswer) -> str:
    """Return the first line: of a comparison, of one person, or of the last check."""
    if answer.since is not None:
        then, now, changed = answer.since
        counted = what_changed(changed)
        return (
            f"Since {then.time[:10]}: {moved_text(counted)}; {counted.get(STILL, 0):,} still drift on {now.time[:10]}."
        )
    if answer.person is not None:
        name, intervals = answer.person
        rules = {
            interval.key.rule
            for interval in intervals
            if interval.last is None and interval.verdict == VERDICTS[DRIFTS]
        }
        return f"{name} drifts from {plural(len(rules), 'rule')} on {answer.steps[-1].check.time[:10]}."
    last = answer.steps[-1]
    people = last.counts.get(("drifting", ""), 0)
    of = last.counts.get(("people", ""), 0)
    return (
        f"{plural(len(answer.steps), 'check')} kept, the last of {last.check.time[:10]}: {people:,} of {of:,} people "
        "drift."
    )


def trend(numbers: list[int]) -> str:
    """Numbers as a line of bars, the greatest the highest."""
    high = max(numbers, default=0)
    return "".join(_BARS[number * (len(_BARS) - 1) // high if high else 0] for number in numbers)


def _details(answer: HistoryAnswer) -> Iterator[str]:
    """Yield the sentences below the first line."""
    if answer.part:
        yield f"About a part only: {answer.part}."
        return
    if answer.person is not None:
        return
    people = [step.counts.get(("drifting", ""), 0) for step in answer.steps]
    if len(people) > 1:
        yield (
            f"People drifting, {answer.day(answer.steps[0].check.number)} to now: {trend(people)}  {people[0]:,} to "
            f"{people[-1]:,}"
        )
    last = answer.steps[-1]
    if last.data_point.median_age is not None and last.data_point.oldest_age is not None:
        yield (
            f"Age of what drifts: median {plural(last.data_point.median_age, 'day')}, oldest "
            f"{plural(last.data_point.oldest_age, 'day')}."
        )


def _sections(answer: HistoryAnswer, most: int) -> Iterator[Section]:
    """Yield the tables: of one person, of a comparison, or check by check."""
    if answer.person is not None:
        yield _person(answer, most)
        rows = [(one.review, one.place, one.fate, answer.day(one.check)) for one in answer.decisions]
        columns = (Column("review", WHOLE), Column("place", WHOLE), Column("decided", WORD), Column("kept", DATE))
        yield listed("reviews", "What reviews of guests decided", columns, rows, most)
        return
    if answer.since is not None:
        yield from _since(answer, most)
        return
    seen = {
        name
        for step in answer.steps
        if step.data_point.changed is not None
        for name, many in step.data_point.changed.items()
        if many
    }
    words = [name for name in MOVES if name in (NEW, BACK, GONE) or name in seen]
    yield listed(
        "checks",
        "Check by check, the last first",
        (
            Column("taken", DATE),
            Column("people drifting", COUNT),
            Column("critical", COUNT, 1),
            Column("high", COUNT, 1),
            Column("findings", COUNT),
            *(Column(_MOVED[name], COUNT, 4 * (name in (NEW_RULE, LEFT, NO_RULE))) for name in words),
            Column("unknown", COUNT, 3),
            Column("causes", COUNT, 3),
            Column("open doors", COUNT, 2),
        ),
        [_row(step, words) for step in reversed(answer.steps)],
        most,
    )


def _row(step: HistoryStep, words: list[str]) -> tuple[str | int | None, ...]:
    counts, changed = step.counts, step.data_point.changed
    return (
        step.check.time[:10],
        counts.get(("drifting", ""), 0),
        counts.get(("severity", "critical"), 0),
        counts.get(("severity", "high"), 0),
        step.data_point.drifts,
        *(None if changed is None else changed.get(name, 0) for name in words),
        counts.get(("verdict", "unknown"), 0),
        sum(kind == "root" for kind, _ in counts),
        open_doors(counts),
    )


def _since(answer: HistoryAnswer, most: int) -> Iterator[Section]:
    """Yield the tables of what changed since a day."""
    assert answer.since is not None
    _, _, changed = answer.since
    counted = what_changed(changed)
    yield Section(
        "What became of it",
        (Column("what", WORD), Column("findings", COUNT), Column("what it means")),
        tuple((name, counted[name], WHAT_MEANS[name]) for name in WHAT if counted.get(name)),
        word="what",
    )
    yield from _moved("rule", [(one.key.rule, one.what) for one in changed], most)
    rows = [
        (root_text(one.root), one.then, one.now)
        for one in sorted(answer.roots, key=lambda one: (one.then - one.now, root_text(one.root)))
    ]
    of_causes = (Column("what causes them"), Column("then", COUNT), Column("now", COUNT))
    yield listed("causes", "By cause, where the number of findings changed", of_causes, rows, most)
    if answer.known is not None:
        units = answer.known.units
        there = [(units.get(one.key.id), one.what) for one in changed if one.key.type == "person"]
        yield from _moved("unit", [(unit or "in no unit", what) for unit, what in there if unit is not None], most)
    for word, title, wanted in (
        ("new", "New and back", (NEW, BACK, NEW_RULE)),
        ("gone", "Gone", (GONE, LEFT, NO_RULE)),
    ):
        names_by: dict[tuple[str, str], list[str]] = {}
        for one in changed:
            if one.what in wanted:
                names_by.setdefault((one.what, one.key.rule), []).append(answer.whose(one.key))
        made_rows = [
            (what, rule, len(names), some(names, 3 if most else len(names))) for (what, rule), names in names_by.items()
        ]
        columns = (Column("what", WORD), Column("rule", WHOLE), Column("findings", COUNT), Column("whose"))
        yield listed(word, title, columns, made_rows, most)
    yield from _oldest(answer, most)
    yield _people(answer, most)


def _oldest(answer: HistoryAnswer, most: int) -> Iterator[Section]:
    """Yield the table of findings that are still there, if there are any."""
    assert answer.since is not None
    _, now, changed = answer.since
    oldest = sorted((one for one in changed if one.what == STILL), key=lambda one: (one.first, one.key))
    columns = (
        Column("whose", WHOLE),
        Column("rule", WHOLE),
        Column("service", spare=1),
        Column("since", DATE),
        Column("days", COUNT),
    )
    rows = [
        (answer.whose(one.key), one.key.rule, one.key.service, answer.day(one.first), answer.age(one.first, now))
        for one in (oldest[:most] if most else oldest)
    ]
    yield part("still", "Still, the oldest first", columns, rows, len(oldest))


def _people(answer: HistoryAnswer, most: int) -> Section:
    """Return everybody who drifts at the later check, those with the most new findings first."""
    assert answer.since is not None
    by: dict[str, Counter[str]] = {}
    for one in answer.since[2]:
        if one.key.type == "person" and one.what in _DRIFTING:
            by.setdefault(answer.whose(one.key), Counter())[one.what] += 1
    rows = [
        (name, *(counted[what] or None for what in _DRIFTING))
        for name, counted in sorted(by.items(), key=lambda one: (-one[1][NEW] - one[1][BACK], one[0]))
    ]
    columns = (Column("who", WHOLE), *(Column(_MOVED.get(what, what), COUNT) for what in _DRIFTING))
    return listed("people", "Who drifts now, with their findings", columns, rows, most)


def _moved(heading: str, changes: Iterable[tuple[str, str]], most: int) -> Iterator[Section]:
    """Yield what became of findings, by something that they have, where anything did; the worst first."""
    by: dict[str, Counter[str]] = {}
    for name, what in changes:
        by.setdefault(name, Counter())[what] += 1
    moved = [(name, made) for name, made in by.items() if any(made[word] for word in MOVES)]
    words = [word for word in WHAT if word in (NEW, BACK, GONE, STILL) or any(made[word] for _, made in moved)]
    rows = [
        (name, *(made[word] or None for word in words))
        for name, made in sorted(moved, key=lambda one: (-one[1][NEW] - one[1][BACK], -one[1][GONE], one[0]))
    ]
    columns = (Column(heading, WHOLE), *(Column(_MOVED.get(word, word), COUNT) for word in words))
    yield listed(f"{heading}s", f"By {heading}, where something moved", columns, rows, most)


def _person(answer: HistoryAnswer, most: int) -> Section:
    """Return the table of one person's findings, with the days on which each began and ended."""
    assert answer.person is not None
    (name, intervals), drifts = answer.person, VERDICTS[DRIFTS]
    interval_rows = [
        (
            interval.key.rule,
            interval.key.service,
            interval.verdict,
            answer.day(interval.first),
            "" if interval.last is None else answer.day(interval.last),
        )
        for interval in sorted(
            intervals,
            key=lambda interval: (interval.last is not None, interval.verdict != drifts, -interval.first, interval.key),
        )
    ]
    columns = (
        Column("rule", WHOLE),
        Column("service"),
        Column("verdict", WORD),
        Column("from", DATE),
        Column("to", DATE),
    )
    return listed("findings", f"What was found about {name}, what lasts first", columns, interval_rows, most)
