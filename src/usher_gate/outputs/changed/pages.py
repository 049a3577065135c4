"""What a file of changes would do, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections.abc import Iterator

from ...core.changes.access import GETS_IN, NOW_CHALLENGED, NOW_DENIED, NOW_STUCK, NOW_UNKNOWN
from ...core.changes.compare import WORDS, Comparison, Moved, NewlyMet, OpenDoors
from ...core.verdicts.codes import UNAVAILABLE, UNKNOWN
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
    said = f"{count(ended, 'finding')} would end, {begun:,} would begin"
    gaps = sum(number for (before, after), number in made.moves.items() if _becomes_unclear(before, after))
    said += f", {gaps:,} more could not be judged" if gaps else ""
    turned = sum(len(each.turned_away) for each in made.meetings)
    hurts = [f"{turned:,} invited {'address' if turned == 1 else 'addresses'} turned away"] if turned else []
    locked = len({each.person for each in made.locked_begun})
    hurts += [f"{count(locked, 'person', 'people')} locked out"] if locked else []
    registering = len({person for _, people in made.stranded for person in people})
    hurts += [f"{count(registering, 'person', 'people')} stuck until they register something"] if registering else []
    return f"{said}{'; ' + joined(hurts) if hurts else ''}."


def _becomes_unclear(before: int, after: int) -> bool:
    """Whether a verdict that was known becomes unknown or unavailable."""
    return after in (UNKNOWN, UNAVAILABLE) and before not in (UNKNOWN, UNAVAILABLE)


def _details(answer: ChangedAnswer) -> Iterator[str]:
    made = answer.comparison
    start = f", to be made {show_time(made.changes.start)}" if made.changes.start is not None else ""
    yield f"Tried: {made.changes.title} ({count(len(made.changes.changes), 'change')}{start})."
    yield f"{made.drifting[0]:,} people drift now, {made.drifting[1]:,} would afterwards."
    worse = len({each.subject for each in made.worse})
    if worse:
        yield f"Something gets worse for {count(worse, 'person or other subject', 'people or other subjects')}."
    now, then = (counts[UNKNOWN] + counts[UNAVAILABLE] for counts in made.counts)
    if now or then:
        yield f"{count(now, 'verdict')} cannot be judged now, {then:,} could not be judged afterwards."
    if made.open_doors is not None:
        before, after = map(_doors_text, made.open_doors)
        yield f"Doors (webinars and broadcasts among them) to a stranger: now {before}; afterwards {after}."
    if answer.notices is not None:
        yield f"{count(answer.notices[0], 'message')} drafted, for {count(answer.notices[1], 'person', 'people')}."


def _doors_text(doors: OpenDoors) -> str:
    """How many doors are open; one that is not known is never counted as shut."""
    return f"{doors.open:,} open" + (f", {doors.unknown:,} cannot be judged" if doors.unknown else "")


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
    yield from _access_section(answer, most)
    yield from _locked_sections(answer, most)


_ACCESS = {
    GETS_IN: "gets in",
    NOW_CHALLENGED: "is asked for more",
    NOW_STUCK: "gets stuck",
    NOW_DENIED: "is denied",
    NOW_UNKNOWN: "is not known to get in",
}


def _access_section(answer: ChangedAnswer, most: int) -> Iterator[Section]:
    """Whose possible sign-ins meet something else, by resource."""
    made = []
    for each in answer.comparison.access:
        few = each.people if not most else each.people[:3]
        more = f" +{len(each.people) - len(few):,}" if len(each.people) > len(few) else ""
        who = ", ".join(logins_of(answer, few)) + more
        made.append((each.resource, _ACCESS[each.what], len(each.people), len(each.always) or None, who))
    if made:
        rows, more_rows = cut(made, most, _SHOW_ALL)
        columns = (
            Column("resource", WHOLE),
            Column("what is new", WHOLE),
            Column("people", COUNT),
            Column("by every way", COUNT),
            Column("who"),
        )
        yield Section("Sign-ins that would meet something else", columns, rows, more_rows)


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
