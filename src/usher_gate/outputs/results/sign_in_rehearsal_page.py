"""What a change would have done to sign-ins that happened, for people: a first line and sections."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...core.sign_in.rehearsal import AffectedPerson, BreakGlassUse, DayCounts
from ...core.words.plural import plural
from ...core.words.times import show_time
from ...core.words.vocabulary import ELSEWHERE
from ..page import Page, about_snapshot
from ..section import COUNT, WHOLE, WORD, Cell, Column, Section, part, some_logins
from .holes_page import locked_section
from .sign_in_rehearsal import FATES, RehearsalAnswer, against, date, logins, titles, users

_SHOWN = (2, 1, 0, 3)  # the worst first
_WIDEST_PICTURE = 50  # columns
_STEPS = " ▁▂▃▄▅▆▇"  # none is full, so that one row does not touch the next


def _answer(answer: RehearsalAnswer) -> str:
    """Return what would become of the sign-ins; before it, that most of the log could not be used."""
    if answer.readable:
        return _of_those_read(answer)
    worst = answer.missed[0]
    what = f" {worst.value}" if worst.value else ""
    why = f"{worst.count:,} {'event' if worst.count == 1 else 'events'} {worst.why}{what and ':'}{what} ({worst.place})"
    return (
        f"Only {answer.rehearsal.sign_ins:,} of {plural(answer.read, 'event')} could be used: {why}. "
        f"{_of_those_read(answer)}"
    )


def _of_those_read(answer: RehearsalAnswer) -> str:
    """Return the first line: how many past sign-ins would be stopped or challenged."""
    done = answer.rehearsal
    if not done.sign_ins:
        return "No sign-in could be decided."
    hurt = dict(zip(FATES, done.hurt, strict=True))
    if not any(hurt.values()):
        return f"No one would be affected: all {done.inside:,} sign-ins that got in would still get in."
    shut = hurt["denied"] + hurt["stuck"]
    whose = plural(len(done.people), "person", "people")
    said = (
        f"Of {done.inside:,} sign-ins that got in, {shut:,} would not any more ({hurt['denied']:,} denied, "
        f"{hurt['stuck']:,} stuck)"
    )
    if hurt["challenged"]:
        said += f", and {hurt['challenged']:,} would be challenged"
    if hurt["unknown"]:
        said += f"; {hurt['unknown']:,} cannot be decided"
    return f"{said}: {whose}."


def _details(answer: RehearsalAnswer) -> list[str]:
    """Return the sentences below the first line."""
    done, unused = answer.rehearsal, sum(miss.count for miss in answer.missed)
    days = sorted({date(day.day) for day in (done.days[:1] + done.days[-1:])})
    period = f", {' to '.join(days)}" if days else ""
    found = [f"Tried: {answer.change}."]
    found.append(
        f"{plural(answer.read, 'event')} in {plural(answer.files, 'file')}{period}; {unused:,} could not be used."
    )
    if done.eased:
        found.append(f"{done.eased:,} that are denied or stuck now would be let in or challenged.")
    if done.denied_now or done.challenged_now:
        parts = (
            [f"{done.denied_now:,} got in although the rules as they are would not let them"] if done.denied_now else []
        )
        if done.challenged_now:
            parts.append(f"{done.challenged_now:,} got in although they would have asked for more than was shown")
        why = "the rules or the people changed since, or the log does not say all that was shown"
        found.append(f"{', '.join(parts)} (--show against): {why}.")
    if answer.spelled:
        read = ", ".join(f"{column} {word} as {right}" for (column, word), right in sorted(answer.spelled.items())[:6])
        found.append(f"Read as our own words: {read}.")
    return found


def _hurt_rows(rows: Sequence[AffectedPerson], most: int) -> list[tuple[Cell, ...]]:
    return [(hurt.name, *(hurt.sign_ins[fate] or None for fate in _SHOWN)) for hurt in rows[: most or None]]


_FATE_COLUMNS = tuple(Column(FATES[fate], COUNT) for fate in _SHOWN)


def _sections(answer: RehearsalAnswer, most: int) -> Iterator[Section]:
    """Yield the tables: rules, resources, people, lock-outs, break-glass use, unusable events."""
    done, named = answer.rehearsal, titles(answer)
    modes = {tried.rule.id: tried.rule.mode for tried in answer.rules if tried.then}
    rules = [
        (*cells, hurt.people, modes.get(hurt.name, ""), named.get(hurt.name, ""))
        for cells, hurt in zip(_hurt_rows(done.rules, most), done.rules, strict=False)
    ]
    whose = Column("people", COUNT)
    columns = (Column("rule", WHOLE), *_FATE_COLUMNS, whose, Column("mode"), Column("title"))
    yield part("sign-ins", "The rules that do it", columns, rules, len(done.rules))
    resources = [
        (*cells, hurt.people) for cells, hurt in zip(_hurt_rows(done.resources, most), done.resources, strict=False)
    ]
    columns = (Column("resource"), *_FATE_COLUMNS, whose)
    yield part("sign-ins", "What they signed in to", columns, resources, len(done.resources))
    people = [(login, *cells) for login, cells in zip(logins(answer), _hurt_rows(done.people, most), strict=False)]
    columns = (Column("login", WHOLE), Column("id", WHOLE), *_FATE_COLUMNS)
    yield part("sign-ins", "Who would be affected", columns, people, len(done.people))
    yield from _log_sections(answer, most)


def _log_sections(answer: RehearsalAnswer, most: int) -> Iterator[Section]:
    """Yield the tables of what the log says: against the rules as they are, break-glass use, unusable events."""
    done, few = answer.rehearsal, most or None
    against_rows = [
        (login, each.kept_out or None, each.challenged or None)
        for login, each in zip(against(answer), done.against[:few], strict=False)
    ]
    title = "Who got in although the rules as they are would not have let them"
    columns = Column("login", WHOLE), Column("would be kept out", COUNT), Column("would be asked for more", COUNT)
    yield part("against", title, columns, against_rows, len(done.against))
    yield locked_section("Locked out then", answer.lockouts, answer.snapshot)
    uses = [_use(use, login) for use, login in zip(done.uses[:few], users(answer), strict=False)]
    title = f"Break-glass accounts were used: {plural(done.used, 'time')}"
    of_uses = (Column("when (UTC)", WHOLE), Column("login", WHOLE), Column("result"), Column("from"), Column("to"))
    yield part("break-glass", title, of_uses, uses, len(done.uses))
    missed = [(miss.count, miss.why, miss.value, miss.place) for miss in answer.missed[:few]]
    of_events = (Column("events", COUNT), Column("why"), Column("what is there"), Column("first", WHOLE))
    yield part("events", "Events that could not be used", of_events, missed, len(answer.missed))


def _use(use: BreakGlassUse, login: str) -> tuple[str, ...]:
    place = "not said" if use.networks is None else " and ".join(sorted(use.networks)) or ELSEWHERE
    return show_time(use.time).removesuffix(" UTC"), login, use.result, place, use.resource


def _spark(numbers: Sequence[int]) -> str:
    """Numbers as a row of little columns; whatever is not nothing can be seen."""
    most = max(numbers)
    return "".join(_STEPS[0 if not number else max(1, round(number / most * (len(_STEPS) - 1)))] for number in numbers)


def _of_day(day: DayCounts | None, place: int) -> int:
    if day is None:
        return 0
    return day.got_in if place < 0 else day.hurt[place]


def _pictures(days: Sequence[DayCounts], width: int) -> list[tuple[str, str, str]]:
    """Return the days as a picture: what, the columns, and the highest of them. Many days are added up to fit."""
    filled: list[DayCounts | None] = (
        [None] * (days[-1].day - days[0].day + 1) if days[-1].day - days[0].day < 4000 else [*days]
    )
    for day in days if len(filled) != len(days) else ():
        filled[day.day - days[0].day] = day
    if len(filled) == len(days):
        filled = [*days]
    step = -(-len(filled) // width)
    rows = []
    for place in (-1, *_SHOWN):
        name = "got in" if place < 0 else FATES[place]
        numbers = [_of_day(day, place) for day in filled]
        if any(numbers):
            peak = next(day for day in days if _of_day(day, place) == max(numbers))
            sums = [sum(numbers[start : start + step]) for start in range(0, len(numbers), step)]
            rows.append((name, _spark(sums), f"most: {max(numbers):,} on {date(peak.day)}"))
    return rows


def rehearsal_page(answer: RehearsalAnswer, most: int) -> Page:
    """Return what would become of past sign-ins, and because of which rules."""
    sections = (*_sections(answer, most), *_days(answer.rehearsal.days))
    return Page(
        first=_answer(answer),
        details=tuple(_details(answer)),
        sections=sections,
        about=about_snapshot(answer.snapshot),
        listed_by="--show sign-ins" if any(answer.rehearsal.hurt) else "",
        labelled=tuple(_labelled(answer)),
    )


def _labelled(answer: RehearsalAnswer) -> Iterator[tuple[str, str]]:
    """Yield the alarms: who would be locked out, and that break-glass accounts were used."""
    locked = dict.fromkeys(person for lockout in answer.lockouts for person in lockout.people)
    if locked:
        yield "locked out", f"{some_logins(answer.snapshot, list(locked), 3)} then (--show lockouts)"
    if answer.rehearsal.used:
        times = plural(answer.rehearsal.used, "time")
        yield "break-glass", f"such an account was used {times} (--show break-glass)"


def _days(days: Sequence[DayCounts]) -> Iterator[Section]:
    """Yield the picture of what would become of the sign-ins day by day."""
    if len(days) > 1:
        title = f"Day by day, {date(days[0].day)} to {date(days[-1].day)}"
        columns = (Column("", WORD), Column("each day", WHOLE), Column(""))
        yield Section(title, columns, tuple(_pictures(days, _WIDEST_PICTURE)), word="days")
