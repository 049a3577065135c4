"""What a file of changes would do, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...core.changes.access import GETS_IN, NOW_CHALLENGED, NOW_DENIED, NOW_STUCK, NOW_UNKNOWN
from ...core.changes.baselines import WHAT_HAPPENED
from ...core.changes.compare import WORDS, ChangeComparison, NewlyMet, OpenDoors, VerdictMoved
from ...core.verdicts.codes import UNAVAILABLE, UNKNOWN
from ...core.words.plural import plural
from ...core.words.times import show_time
from ..page import Page
from ..section import COUNT, WHOLE, WORD, Cell, Column, Section, cut, joined, some
from .answer import ChangedAnswer
from .json_ import logins_of
from .values import values_section

_SHOW_ALL = "--rows 0, or --format json"


def changed_page(answer: ChangedAnswer, most: int) -> Page:
    """Return first whether anyone is hurt, then what gets better."""
    return Page(_first(answer), tuple(_details(answer)), tuple(_sections(answer, most)))


def _first(answer: ChangedAnswer) -> str:
    """Return the first line: findings that end and begin, and who would be hurt."""
    made = answer.comparison
    ended, begun = len(made.ended), len(made.begun)
    said = f"{plural(ended, 'finding')} would end, {begun:,} would begin"
    gaps = sum(number for (before, after), number in made.moves.items() if _becomes_unclear(before, after))
    said += f", {gaps:,} more could not be judged" if gaps else ""
    turned = invitations([(each, each.turned_away) for each in made.meetings])
    hurts = [f"{turned} turned away"] if turned else []
    locked = len({each.person for each in made.locked_begun})
    hurts += [f"{plural(locked, 'person', 'people')} locked out"] if locked else []
    registering = len({person for _, people in made.stranded for person in people})
    kept = len({each.person for each in made.protected})
    hurts += [f"{plural(kept, 'person', 'people')} left out by a rule, with another value"] if kept else []
    hurts += [f"{plural(registering, 'person', 'people')} stuck until they register something"] if registering else []
    stopped = sum(answer.sign_ins.rehearsal.hurt[1:3]) if answer.sign_ins is not None else 0
    hurts += [f"{plural(stopped, 'past sign-in')} stopped"] if stopped else []
    return f"{said}{'; ' + joined(hurts) if hurts else ''}."


def _becomes_unclear(before: int, after: int) -> bool:
    """Return whether a verdict that was known becomes unknown or unavailable."""
    return after in (UNKNOWN, UNAVAILABLE) and before not in (UNKNOWN, UNAVAILABLE)


def _details(answer: ChangedAnswer) -> Iterator[str]:
    """Yield the sentences below the first line."""
    made = answer.comparison
    start = f", to be made {show_time(made.changes.start)}" if made.changes.start is not None else ""
    tried = (
        f"{made.changes.title} ({plural(len(made.changes.changes), 'change')}{start})" if made.changes.changes else ""
    )
    if made.baseline is not None:
        rules = [sum(each.what == what for each in made.baseline.rules) for what in WHAT_HAPPENED]
        what = f"rules: {rules[0]:,} new, {rules[1]:,} dropped, {rules[2]:,} changed"
        named = f"the baseline {' '.join(made.baseline.after)}" if tried else made.changes.title
        tried = f"{tried + '; then ' if tried else ''}{named} ({what}) in place of {' '.join(made.baseline.before)}"
    yield f"Tried: {tried or made.changes.title}."
    yield f"{plural(made.drifting[0], 'person drifts', 'people drift')} now, {made.drifting[1]:,} would afterwards."
    worse = len({each.subject for each in made.worse})
    if worse:
        yield f"Something gets worse for {plural(worse, 'person or other subject', 'people or other subjects')}."
    now, then = (counts[UNKNOWN] + counts[UNAVAILABLE] for counts in made.counts)
    if now or then:
        yield f"{plural(now, 'verdict')} cannot be judged now, {then:,} could not be judged afterwards."
    if made.open_doors is not None:
        before, after = map(_doors_text, made.open_doors)
        said = f"now {before}; afterwards {after}" if before != after else f"{before}, before and after"
        yield f"Doors of hosts (webinars and broadcasts among them) to a stranger: {said}."
    if answer.notices is not None:
        yield f"{plural(answer.notices[0], 'message')} drafted, for {plural(answer.notices[1], 'person', 'people')}."


def _doors_text(doors: OpenDoors) -> str:
    """Return how many doors are open; one that is not known is never counted as shut."""
    return f"{doors.open:,} open" + (f", {doors.unknown:,} cannot be judged" if doors.unknown else "")


def _sections(answer: ChangedAnswer, most: int) -> Iterator[Section]:
    """Yield the tables: reach of each change, findings by rule, what gets worse, meetings, values, access."""
    made = answer.comparison
    reach = [
        (each.change, text, each.people or None, each.without_need or None)
        for each, text in zip(made.reach, answer.descriptions, strict=True)
    ]
    rows, more = cut(reach, most, _SHOW_ALL)
    columns = (
        Column("change", COUNT),
        Column("what"),
        Column("people changed", COUNT),
        Column("fine before", COUNT),
    )
    if rows:
        yield Section("How far each change reaches", columns, rows, more)
    if made.rules:
        made_rules = [
            (rule, ended or None, begun or None)
            for rule, (begun, ended) in sorted(made.rules.items(), key=_most_begun_key)
        ]
        rows, more = cut(made_rules, most, _SHOW_ALL)
        yield Section(
            "Findings by rule", (Column("rule", WHOLE), Column("end", COUNT), Column("begin", COUNT)), rows, more
        )
    if made.baseline is not None:
        yield from _baseline_sections(made, most)
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
        series: dict[tuple[object, ...], list[NewlyMet]] = {}
        for each in made.meetings:
            series.setdefault(each.series, []).append(each)
        meetings = [
            (
                each.meeting.id if len(alike) == 1 else each.meeting.id.rpartition("/")[0],
                each.meeting.label + (f" ({len(alike):,} occurrences)" if len(alike) > 1 else ""),
                "; ".join(_met(each, most)),
            )
            for alike in series.values()
            for each in alike[:1]
        ]
        rows, more = cut(meetings, most, _SHOW_ALL)
        yield Section(
            "Planned meetings",
            (Column("id", WHOLE), Column("meeting"), Column("what is new")),
            rows,
            more,
        )
    for title, values in (
        ("Values that change although a rule leaves the person out (except)", made.protected),
        ("Values that get weaker", made.weaker),
        ("Values that change for people with nothing to mend there", made.affected),
    ):
        if values:
            yield values_section(title, values, most)
    yield from _access_section(answer, most)
    yield from _locked_sections(answer, most)


def _baseline_sections(made: ChangeComparison, most: int) -> Iterator[Section]:
    """Yield what is other in the baseline, and what comes of it."""
    assert made.baseline is not None
    rules = []
    for each in made.baseline.rules:
        begun, ended = made.rules.get(each.id, (0, 0))
        changed_fields = [f"{field}: {was or 'nothing'}, then {then or 'nothing'}" for field, was, then in each.fields]
        what = f"{each.what}{', ' + each.direction if each.direction else ''}"
        rules.append((each.id, each.severity, what, "; ".join(changed_fields), ended or None, begun or None))
    rows, more = cut(rules, most, _SHOW_ALL)
    columns = (
        Column("rule", WHOLE),
        Column("severity", WORD),
        Column("what"),
        Column("in what"),
        Column("end", COUNT),
        Column("begin", COUNT),
    )
    yield Section("Rules that are other", columns, rows, more)
    if made.newly:
        people = [(login, name) for name, login in sorted(made.newly, key=lambda one: one[1])]
        rows, more = cut(people, most, _SHOW_ALL)
        yield Section(
            f"People who newly drift: {len(people):,}", (Column("login", WHOLE), Column("id", WHOLE)), rows, more
        )
    if made.baseline.idle:
        idle = tuple((name,) for name in made.baseline.idle)
        yield Section("Exceptions that would cover nothing any more", (Column("exception", WHOLE),), idle)


_ACCESS = {
    GETS_IN: "gets in",
    NOW_CHALLENGED: "is asked for more",
    NOW_STUCK: "gets stuck",
    NOW_DENIED: "is denied",
    NOW_UNKNOWN: "is not known to get in",
}


def _access_section(answer: ChangedAnswer, most: int) -> Iterator[Section]:
    """Yield whose possible sign-ins meet something else, by resource."""
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


def _most_begun_key(entry: tuple[str, tuple[int, int]]) -> tuple[int, int, str]:
    rule, (begun, ended) = entry
    return -begun, -ended, rule


def _moved(moved: VerdictMoved) -> tuple[Cell, ...]:
    kind, name, login = moved.subject
    who = login if kind == "person" else f"{kind} {name}"
    return who, moved.rule, moved.service or "", WORDS[moved.before], WORDS[moved.after]


def invitations(meetings: Sequence[tuple[NewlyMet, Sequence[str]]]) -> str:
    """Return how many invitations there are, of how many addresses; those to a series count once. "" for none."""
    every = {(new.series, address.casefold()) for new, addresses in meetings for address in addresses}
    if not every:
        return ""
    addresses = len({address for _, address in every})
    return f"{plural(len(every), 'invitation')} of {plural(addresses, 'address', 'addresses')}"


_OPEN = {True: "open to a stranger", False: "shut to a stranger", None: "not known to be shut"}


def _met(new: NewlyMet, most: int) -> Iterator[str]:
    if new.was_open != new.meeting.open:
        yield f"{_OPEN[new.was_open]}, then {_OPEN[new.meeting.open]}"
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
    """Yield the tables of people locked out and of people who have to register something first."""
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
