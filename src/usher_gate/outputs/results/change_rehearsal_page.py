"""What a file of changes would do, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...core.changes.access import GETS_IN, NOW_CHALLENGED, NOW_DENIED, NOW_STUCK, NOW_UNKNOWN
from ...core.changes.baselines import WHAT_HAPPENED
from ...core.changes.compare import WORDS, ChangeComparison, NewlyMet, OpenDoors, VerdictMoved
from ...core.verdicts.codes import UNAVAILABLE, UNKNOWN
from ...core.words.plural import plural
from ...core.words.times import show_time
from ..page import Page, about_snapshot
from ..section import COUNT, WHOLE, WORD, Cell, Column, Section, joined, listed, some
from ..titles import change_text
from .change_rehearsal import ChangedAnswer, logins_of
from .sign_in_rehearsal_page import rehearsal_page
from .values_section import values_section


def changed_page(answer: ChangedAnswer, most: int) -> Page:
    """Return first whether anyone is hurt, then what gets better."""
    sections = [*_sections(answer, most)]
    labelled = [*_labelled(answer)]
    if answer.sign_ins is not None:
        sign_ins = rehearsal_page(answer.sign_ins, most)
        labelled += [("sign-ins", f"{sign_ins.first.removesuffix('.')} (--show sign-ins)"), *sign_ins.labelled]
        sections += sign_ins.sections
    return Page(
        _first(answer),
        tuple(_details(answer)),
        tuple(sections),
        about_snapshot(answer.comparison.before),
        labelled=tuple(labelled),
    )


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
    newly, no_longer = len(made.newly), len(made.no_longer)
    which = f": {newly:,} newly, {no_longer:,} no longer" if newly or no_longer else ", the same ones"
    now = plural(made.drifting[0], "person drifts", "people drift")
    how = " (--show people)" if any(made.drifting) else ""
    yield f"{now} now, {made.drifting[1]:,} would afterwards{which}{how}."


def _labelled(answer: ChangedAnswer) -> Iterator[tuple[str, str]]:
    """Yield who would be hurt, and what else would be other."""
    made = answer.comparison
    if made.locked_begun:
        locked = len({each.person for each in made.locked_begun})
        yield "locked out", f"{plural(locked, 'person', 'people')} (--show lockouts)"
    stranded = len({person for _, people in made.stranded for person in people})
    if stranded:
        people = plural(stranded, "person", "people")
        yield "stuck", f"{people} until they register something (--show stranded)"
    worse = len({each.subject for each in made.worse})
    if worse:
        yield "worse", f"for {plural(worse, 'person or other subject', 'people or other subjects')} (--show worse)"
    turned = invitations([(each, each.turned_away) for each in made.meetings])
    if turned:
        yield "turned away", f"{turned} (--show meetings)"
    waiting = invitations([(each, each.waiting) for each in made.meetings])
    if waiting:
        yield "waiting", f"{waiting} (--show meetings)"
    for word, what, values in (
        ("protected", " that a rule leaves out", made.protected),
        ("weaker", "", made.weaker),
        ("values", " with nothing to mend there", made.affected),
    ):
        if values:
            people = plural(len({each.person for each in values}), "person", "people")
            yield word, f"{plural(len(values), 'value')} of {people}{what} (--show {word})"
    now, then = (counts[UNKNOWN] + counts[UNAVAILABLE] for counts in made.counts)
    if now or then:
        yield "not known", f"{plural(now, 'verdict')} cannot be judged now, {then:,} could not be judged afterwards"
    if made.open_doors is not None:
        before, after = map(_doors_text, made.open_doors)
        changed = f"now {before}; afterwards {after}" if before != after else f"{before}, before and after"
        yield "doors", f"of hosts (webinars and broadcasts among them), to a stranger: {changed}"
    if answer.notices is not None:
        drafted = plural(answer.notices[0], "message")
        yield "drafted", f"{drafted}, for {plural(answer.notices[1], 'person', 'people')}"


def _doors_text(doors: OpenDoors) -> str:
    """Return how many doors are open; one that is not known is never counted as shut."""
    return f"{doors.open:,} open" + (f", {doors.unknown:,} cannot be judged" if doors.unknown else "")


def _sections(answer: ChangedAnswer, most: int) -> Iterator[Section]:
    """Yield the tables: reach of each change, findings by rule, what gets worse, meetings, values, access."""
    made = answer.comparison
    reach = [
        (each.change, change_text(change), each.people or None, each.without_need or None)
        for each, change in zip(made.reach, made.changes.changes, strict=True)
    ]
    columns = (
        Column("change", COUNT),
        Column("what"),
        Column("people changed", COUNT),
        Column("fine before", COUNT),
    )
    yield listed("changes", "How far each change reaches", columns, reach, most)
    if made.rules:
        made_rules = [
            (rule, ended or None, begun or None)
            for rule, (begun, ended) in sorted(made.rules.items(), key=_most_begun_key)
        ]
        of_rules = (Column("rule", WHOLE), Column("end", COUNT), Column("begin", COUNT))
        yield listed("rules", "Findings by rule", of_rules, made_rules, most)
    if made.baseline is not None:
        yield from _baseline_sections(made, most)
    begun = {(each.rule, each.service, each.subject) for each in made.begun}
    others = [each for each in made.worse if (each.rule, each.service, each.subject) not in begun]
    worse = [_moved(each) for each in (*made.begun, *others)]
    if worse:
        names = (
            Column("who", WHOLE),
            Column("rule", WHOLE),
            Column("service", spare=1),
            Column("now", WORD),
            Column("then", WORD),
        )
        yield listed("worse", "What gets worse", names, worse, most)
    if made.meetings:
        yield _meetings_section(made, most)
    for word, title, values in (
        ("protected", "Values that change although a rule leaves the person out (except)", made.protected),
        ("weaker", "Values that get weaker", made.weaker),
        ("values", "Values that change for people with nothing to mend there", made.affected),
    ):
        if values:
            yield values_section(word, title, values, most)
    yield from _access_section(answer, most)
    drifting = ((made.newly, "newly"), (made.no_longer, "no longer"), (made.still, "still"))
    people = [(login, name, word) for every, word in drifting for name, login in every]
    of_people = (Column("login", WHOLE), Column("id", WHOLE), Column("drifts", WORD))
    yield listed("people", "Who drifts, now or afterwards", of_people, people, most)
    yield from _locked_sections(answer, most)


def _meetings_section(made: ChangeComparison, most: int) -> Section:
    """Return the table of planned meetings where something is new; the occurrences of one series in one row."""
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
    columns = (Column("id", WHOLE), Column("meeting"), Column("what is new"))
    return listed("meetings", "Planned meetings", columns, meetings, most)


def _baseline_sections(made: ChangeComparison, most: int) -> Iterator[Section]:
    """Yield what is other in the baseline, and what comes of it."""
    assert made.baseline is not None
    rules = []
    for each in made.baseline.rules:
        begun, ended = made.rules.get(each.id, (0, 0))
        changed_fields = [f"{field}: {was or 'nothing'}, then {then or 'nothing'}" for field, was, then in each.fields]
        what = f"{each.what}{', ' + each.direction if each.direction else ''}"
        rules.append((each.id, each.severity, what, "; ".join(changed_fields), ended or None, begun or None))
    columns = (
        Column("rule", WHOLE),
        Column("severity", WORD),
        Column("what"),
        Column("in what"),
        Column("end", COUNT),
        Column("begin", COUNT),
    )
    yield listed("baseline", "Rules that are other", columns, rules, most)
    if made.baseline.idle:
        idle = tuple((name,) for name in made.baseline.idle)
        yield Section(
            "Exceptions that would cover nothing any more", (Column("exception", WHOLE),), idle, word="baseline"
        )


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
        columns = (
            Column("resource", WHOLE),
            Column("what is new", WHOLE),
            Column("people", COUNT),
            Column("by every way", COUNT),
            Column("who"),
        )
        yield listed("access", "Sign-ins that would meet something else", columns, made, most)


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
            rows = [(login, each.of, each.resource) for login, each in zip(logins, locked, strict=True)]
            columns = (Column("who", WHOLE), Column("one of", WHOLE), Column("resource", WHOLE))
            yield listed("lockouts", title, columns, rows, most)
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
        yield listed(
            "stranded",
            "Who has to register something first",
            (Column("who", WHOLE), Column("stuck at"), Column("what would help")),
            made_rows,
            most,
        )
