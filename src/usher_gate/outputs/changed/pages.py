"""What a file of changes would do, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections.abc import Iterator

from ...core.changes.compare import WORDS, Comparison, Moved, NewlyMet
from ...core.words.times import show_time
from ..page import Page
from ..section import COUNT, WHOLE, WORD, Cell, Column, Section, count, cut, joined, some
from .answer import ChangedAnswer
from .json_ import logins_of

_SHOW_ALL = "--rows 0, or --format json"


def changed_page(answer: ChangedAnswer, most: int) -> Page:
    """First whether anybody is hurt, then what gets better."""
    return Page(_first(answer.comparison), tuple(_details(answer)), tuple(_sections(answer, most)))


def _first(made: Comparison) -> str:
    ended, begun = len(made.ended), len(made.begun)
    said = f"{count(ended, 'drift')} would end, {begun:,} would begin"
    turned = sum(len(each.turned_away) for each in made.meetings)
    hurts = [f"{turned:,} invited {'address' if turned == 1 else 'addresses'} turned away"] if turned else []
    locked = len({each.person for each in made.locked_begun})
    hurts += [f"{count(locked, 'person', 'people')} locked out"] if locked else []
    registering = len({person for _, people in made.stranded for person in people})
    hurts += [f"{count(registering, 'person', 'people')} stuck until they register something"] if registering else []
    return f"{said}{'; ' + joined(hurts) if hurts else ''}."


def _details(answer: ChangedAnswer) -> Iterator[str]:
    made = answer.comparison
    start = f", to be made {show_time(made.changes.start)}" if made.changes.start is not None else ""
    yield f"Tried: {made.changes.title} ({count(len(made.changes.changes), 'change')}{start})."
    yield f"{made.drifting[0]:,} people drift now, {made.drifting[1]:,} would afterwards."
    worse = len({each.subject for each in made.worse})
    if worse:
        yield f"Something gets worse for {count(worse, 'person or other subject', 'people or other subjects')}."
    if made.open_doors is not None:
        now, then = made.open_doors
        yield f"{now:,} doors (webinars and broadcasts among them) are open to a stranger now, {then:,} would be."
    if answer.notices is not None:
        yield f"{count(answer.notices[0], 'message')} drafted, for {count(answer.notices[1], 'person', 'people')}."


def _sections(answer: ChangedAnswer, most: int) -> Iterator[Section]:
    made = answer.comparison
    reach = [
        (each.change, told, each.people or None, each.without_need or None)
        for each, told in zip(made.reach, answer.told, strict=True)
    ]
    rows, more = cut(reach, most, _SHOW_ALL)
    columns = (
        Column("change", COUNT),
        Column("what"),
        Column("people reached", COUNT),
        Column("of them without need", COUNT),
    )
    yield Section("How far each change reaches", columns, rows, more)
    if made.rules:
        made_rules = [
            (rule, ended or None, begun or None) for rule, (begun, ended) in sorted(made.rules.items(), key=_most_begun)
        ]
        rows, more = cut(made_rules, most, _SHOW_ALL)
        yield Section(
            "Drifts by rule", (Column("rule", WHOLE), Column("end", COUNT), Column("begin", COUNT)), rows, more
        )
    begun = {(each.rule, each.service, each.subject) for each in made.begun}
    others = [each for each in made.worse if (each.rule, each.service, each.subject) not in begun]
    worse = [_moved(each) for each in (*made.begun, *others)]
    if worse:
        rows, more = cut(worse, most, _SHOW_ALL)
        names = (
            Column("who", WHOLE),
            Column("rule", WHOLE),
            Column("service", spare=1),
            Column("now", WORD),
            Column("then", WORD),
        )
        yield Section("What gets worse", names, rows, more)
    if made.meetings:
        meetings = [(each.meeting.id, each.meeting.label, "; ".join(_met(each, most))) for each in made.meetings]
        rows, more = cut(meetings, most, _SHOW_ALL)
        yield Section(
            "Planned meetings",
            (Column("id", WHOLE), Column("meeting"), Column("what is new for the invited")),
            rows,
            more,
        )
    yield from _locked_sections(answer, most)


def _most_begun(entry: tuple[str, tuple[int, int]]) -> tuple[int, int, str]:
    rule, (begun, ended) = entry
    return -begun, -ended, rule


def _moved(moved: Moved) -> tuple[Cell, ...]:
    kind, name, login = moved.subject
    who = login if kind == "person" else f"{kind} {name}"
    return who, moved.rule, moved.service or "", WORDS[moved.before], WORDS[moved.after]


def _met(new: NewlyMet, most: int) -> Iterator[str]:
    few = 3 if most else 10**6
    lists = (
        ("turned away", new.turned_away),
        ("only with an account", new.need_account),
        ("waiting", new.waiting),
        ("walking in", new.walking_in),
    )
    for what, addresses in lists:
        if addresses:
            yield f"{what}: {some(addresses, few)}"


def _locked_sections(answer: ChangedAnswer, most: int) -> Iterator[Section]:
    made = answer.comparison
    for title, locked in (("Locked out", made.locked_begun), ("Locked out no more", made.locked_ended)):
        if locked:
            logins = logins_of(answer, tuple(each.person for each in locked))
            rows, more = cut(
                [(login, each.of, each.resource) for login, each in zip(logins, locked, strict=True)], most, _SHOW_ALL
            )
            yield Section(title, (Column("who", WHOLE), Column("one of", WHOLE), Column("resource", WHOLE)), rows, more)
    by_person: dict[str, list[str]] = {}
    for resource, people in made.stranded:
        for person in people:
            by_person.setdefault(person, []).append(resource)
    if by_person:
        logins = logins_of(answer, tuple(by_person))
        made_rows = [
            (login, ", ".join(resources), answer.helps.get(person, ""))
            for login, (person, resources) in zip(logins, by_person.items(), strict=True)
        ]
        rows, more = cut(made_rows, most, _SHOW_ALL)
        yield Section(
            "Who has to register something first",
            (Column("who", WHOLE), Column("stuck at"), Column("what would help")),
            rows,
            more,
        )
