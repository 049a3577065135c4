"""What door says to people: a first line, lines of detail and sections; the table and Markdown are both made of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...core.door.agenda import Planned
from ...core.door.doors import Door, DoorRoot
from ...core.door.fold import FoldedRow, folded
from ...core.door.matrix import Told
from ...core.door.one_meeting import InvitedTold
from ...core.door.visitors import ENTERS, HOLDINGS, INVITATION, REFUSED, SHOWS, STANDINGS, THERE, UNKNOWN, WAYS
from ...core.words.compare import shown
from ...core.words.times import show_time
from ...core.words.vocabulary import MEETING_KINDS
from ..page import Page
from ..section import COUNT, DATE, WHOLE, WORD, Cell, Column, Section, count, cut, joined, place_text, some
from .answer import DoorAnswer, HostAnswer, MeetingAnswer, login_of, reads

_WORST = ("enters", "unknown", "waits", "refused")
_MOMENT = {"before": "before the host", "there": "with the host there"}
_SHOW_ALL = "--rows 0, or --format json"
_OPEN = {True: "open", False: "shut", None: "unknown"}


def door_page(answer: DoorAnswer, rows: int) -> Page:
    """The whole organisation: first whether a stranger gets in anywhere."""
    details = list(door_details(answer))
    sections = [doors_section(answer.doors)] if answer.doors else []
    roots, more = cut([_root(root) for root in answer.roots], rows, _SHOW_ALL)
    if roots:
        columns = (
            Column("hosts", COUNT),
            Column("service", WHOLE),
            Column("what opens them"),
            Column("where"),
            Column("what would help"),
        )
        sections.append(Section("What opens doors", columns, roots, more))
    if answer.meetings:
        sections.append(meetings_section("Planned meetings to look at", answer, rows))
    return Page(first_of_all(answer.doors), tuple(details), tuple(sections))


def first_of_all(doors: Sequence[Door]) -> str:
    """How many doors are open, in one sentence."""
    rooms = [door for door in doors if door.kind not in SHOWS]
    opened, every = sum(door.open for door in rooms), sum(door.hosts for door in rooms)
    if not rooms:
        return "No service here has meetings to get into."
    if not opened:
        return f"No door of {every:,} is known to be open to a stranger with a link or a number."
    unwatched = sum(door.unwatched for door in rooms)
    before = f", {unwatched:,} before any host is there" if unwatched else ""
    verb = "is" if opened == 1 else "are"
    return f"{opened:,} of {count(every, 'door')} {verb} open to a stranger with a link or a number{before}."


def door_details(answer: DoorAnswer) -> Iterator[str]:
    """What else is worth saying of all doors."""
    unknown = sum(door.unknown for door in answer.doors)
    if unknown:
        why = "a value that decides is missing, contradicts another, or needs a licence that is not there"
        yield f"Of {unknown:,} of them it is not known: {why}."
    shows = [door for door in answer.doors if door.kind in SHOWS and door.open]
    for door in shows:
        yield f"Anybody can watch the {door.kind}s of {door.open:,} of {count(door.hosts, 'host')} on {door.service}."
    if answer.planned:
        yield from _planned_details(answer)


def _planned_details(answer: DoorAnswer) -> Iterator[str]:
    turning = [meeting for meeting in answer.meetings if meeting.turned_away]
    wide = sum(meeting.open is True for meeting in answer.meetings)
    verb = "is" if wide == 1 else "are"
    yield f"{wide:,} of {count(answer.planned, 'planned meeting')} {verb} open to a stranger."
    if turning:
        invited = sum(len(meeting.turned_away) for meeting in turning)
        yield f"{count(invited, 'invitation')} would be turned away, at {count(len(turning), 'planned meeting')}."


def doors_section(doors: Sequence[Door]) -> Section:
    """Doors by service and kind."""
    rows = tuple(
        (
            door.service,
            door.kind,
            door.hosts,
            door.open or None,
            None if door.kind in SHOWS else door.unwatched or None,
            door.unknown or None,
            *(number or None for number in door.gates),
        )
        for door in doors
    )
    columns = (
        Column("service", WHOLE),
        Column("kind", WHOLE),
        Column("hosts", COUNT),
        Column("open", COUNT),
        Column("and unwatched", COUNT),
        Column("not known", COUNT),
        *(Column(name, COUNT) for name in ("no gate", "1 gate", "2", "3+")),
    )
    return Section(
        "Doors: at how many hosts a stranger gets in, and how many gates stand in the easiest way", columns, rows
    )


def _root(root: DoorRoot) -> tuple[Cell, ...]:
    if root.mended is None:
        return root.hosts, root.service, "no one control shuts them", "", ""
    value = shown(root.value) if root.value is not None else "unknown"
    where = place_text(root.scope) if root.scope else ""
    return (
        root.hosts,
        root.service,
        f"{root.control} = {value}",
        where,
        f"{shown(root.mended)}: shuts them at {root.freed:,}",
    )


def meetings_page(answer: DoorAnswer, rows: int) -> Page:
    """Planned meetings alone."""
    first, *details = _planned_details(answer) if answer.planned else ("No meeting is planned.",)
    sections = (meetings_section("Planned meetings", answer, rows),) if answer.meetings else ()
    return Page(first, tuple(details), sections)


def meetings_section(title: str, answer: DoorAnswer, most: int) -> Section:
    """Planned meetings, those that are open first."""
    rank = {True: 0, None: 2, False: 2}
    ordered = sorted(
        answer.meetings, key=lambda each: 1 if each.turned_away and each.open is not True else rank[each.open]
    )
    rows, more = cut([_meeting(meeting, answer, most) for meeting in ordered], most, _SHOW_ALL)
    columns = (
        Column("id", WHOLE),
        Column("meeting"),
        Column("kind", spare=2),
        Column("starts (UTC)", DATE, spare=1),
        Column("organiser", WHOLE, spare=3),
        Column("a stranger", WORD),
        Column("what meets the invited"),
    )
    return Section(title, columns, rows, more)


def _meeting(meeting: Planned, answer: DoorAnswer, most: int) -> tuple[Cell, ...]:
    again = ", recurring" if meeting.recurring else ""
    return (
        meeting.id,
        meeting.label or meeting.id,
        f"{meeting.kind}, {meeting.service}{again}",
        show_time(meeting.starts_at).removesuffix(" UTC"),
        login_of(answer.snapshot, meeting.organiser),
        {True: "enters", False: "kept out", None: "unknown"}[meeting.open],
        "; ".join(_invited(meeting, 2 if most else 10**6)) or "all walk in",
    )


def _invited(meeting: Planned, few: int) -> Iterator[str]:
    if meeting.turned_away:
        yield f"turned away: {some(meeting.turned_away, few)}"
    if meeting.unknown:
        yield f"not known: {some(meeting.unknown, few)}"
    if meeting.need_account:
        yield f"only with an account: {some(meeting.need_account, few)}"
    if meeting.waiting:
        yield f"waiting: {some(meeting.waiting, few)}"
    if not (meeting.turned_away or meeting.unknown or meeting.waiting or meeting.walking_in or meeting.need_account):
        yield "nobody is invited"


def meeting_page(answer: MeetingAnswer, rows: int) -> Page:
    """One planned meeting: whether a stranger gets in, each invited address, and each kind of visitor."""
    meeting = answer.meeting
    name = f"{meeting.label or meeting.id} ({meeting.id})"
    opened = {True: "A stranger gets into", False: "No stranger gets into", None: "Whether a stranger gets into"}[
        meeting.open
    ]
    tail = {True: ".", False: " unless somebody lets them in.", None: " is not known."}[meeting.open]
    starts, again = show_time(meeting.starts_at), ", and again" if meeting.recurring else ""
    about = f"A {meeting.kind} meeting of {login_of(answer.snapshot, meeting.organiser)} on {meeting.service}, {starts}{again}."
    told, more = cut([_invited_row(each, answer) for each in answer.invited], rows, _SHOW_ALL)
    columns = (
        Column("invited", WHOLE),
        Column("comes as", WORD),
        Column("outcome", WORD),
        Column("by which"),
        Column("where"),
        Column("what they read", spare=1),
    )
    sections = [Section("Each of the invited, by app, once a host is there", columns, told, more)] if told else []
    sections += _sections("", answer.visits, answer)
    needs = tuple(_needs(meeting))
    return Page(f"{opened} {name}{tail}", (about, *needs), tuple(sections))


def _needs(meeting: Planned) -> Iterator[str]:
    if meeting.need_account:
        whom = count(len(meeting.need_account), "of the invited has", "of the invited have")
        yield f"{whom} to sign in somewhere: without an account they are refused."


def _invited_row(each: InvitedTold, answer: MeetingAnswer) -> tuple[Cell, ...]:
    told = each.told
    account = " Without an account: refused." if each.need_account else ""
    fate = {ENTERS: "walks in", REFUSED: "turned away", UNKNOWN: "unknown"}.get(told.outcome, told.outcome)
    return each.address, told.visit.standing, fate, *_by(told), reads(told, answer.snapshot) + account


def _by(told: Told) -> tuple[str, str]:
    """The control that decides with its value, and where that is set."""
    value = (
        f"{told.control} = {shown(told.value)}"
        if told.value is not None
        else f"{told.control} is not known"
        if told.control
        else ""
    )
    return value, place_text(told.cause.scope or "") if told.cause is not None else ""


def host_page(answer: HostAnswer, _rows: int) -> Page:
    """One host: strangers first, worst first, in the fewest rows that tell the difference."""
    sections: list[Section] = []
    for service in answer.hosting:
        mine = [told for told in answer.visits if told.service == service]
        sections += _sections(f"{service}: ", mine, answer)
    return Page(_first_of_host(answer), (*_shown_to_all(answer), *answer.guesses), tuple(sections))


def _sections(of: str, mine: Sequence[Told], answer: HostAnswer | MeetingAnswer) -> Iterator[Section]:
    """Strangers first, then everybody else, then who can watch what is shown; and what whoever is let in may do."""
    rooms = [told for told in mine if told.visit.kind not in SHOWS]
    shows = [told for told in mine if told.visit.kind in SHOWS and told.visit.moment == THERE]
    strangers = [told for told in rooms if told.visit.stranger]
    others = [told for told in rooms if not told.visit.stranger]
    for part, name in (
        (strangers, "strangers, who have a link or the number"),
        (others, "everybody else" if strangers else "who comes how, and what meets them"),
        (shows, "who can watch"),
    ):
        if part:
            yield _matrix(of + name if of else name.capitalize(), part, answer, part is not others)
    if any(told.outcome != REFUSED for told in rooms):
        yield _inside(of, rooms)


def _shown_to_all(answer: HostAnswer) -> Iterator[str]:
    for service in answer.hosting:
        shows = dict.fromkeys(
            f"{told.visit.kind}s"
            for told in answer.visits
            if told.service == service and told.visit.kind in SHOWS and told.visit.stranger and told.outcome == ENTERS
        )
        if shows:
            yield f"Anybody can watch the {joined(list(shows))} on {service}."


def _first_of_host(answer: HostAnswer) -> str:
    strangers = [told for told in answer.visits if told.visit.stranger and told.visit.kind not in SHOWS]
    entering = [told for told in strangers if told.outcome == ENTERS]
    if not answer.hosting:
        return f"{answer.login} may start no meeting anywhere."
    if not strangers:
        return f"What meets whoever comes to a meeting of {answer.login}:"
    if entering:
        kinds = list(dict.fromkeys(told.visit.kind for told in entering))
        ways = list(dict.fromkeys(told.visit.way for told in entering))
        where = joined(list(dict.fromkeys(told.service for told in entering)))
        return f"A stranger gets into {joined(kinds)} meetings of {answer.login} on {where}, by {joined(ways)}."
    if any(told.outcome == UNKNOWN for told in strangers):
        return f"Whether a stranger gets into a meeting of {answer.login} is not known."
    return f"No stranger gets into a meeting of {answer.login} unless somebody lets them in."


def _matrix(title: str, mine: Sequence[Told], answer: HostAnswer | MeetingAnswer, alarming: bool) -> Section:
    rows = sorted(
        folded(mine, lambda told: (told.outcome, told.gate, told.control, told.value)),
        key=lambda row: (_WORST.index(row.told.outcome), row.told.gates),
    )
    columns = (
        Column("who comes how"),
        Column("to what"),
        Column("outcome", WORD if alarming else WHOLE),  # that a colleague enters is no alarm
        Column("gates", WHOLE),
        Column("decided by"),
        Column("", WHOLE, spare=2),
        Column("what they read", spare=1),
    )
    single = len({told.visit.kind for told in mine}) == 1
    return Section(title, columns, tuple(_folded_row(row, answer, single) for row in rows))


def _folded_row(row: FoldedRow, answer: HostAnswer | MeetingAnswer, single: bool) -> tuple[Cell, ...]:
    kind, standing, holding, way, moment = row.values
    told, fewest, most = row.told, min(each.gates for each in row.covers), max(each.gates for each in row.covers)
    held = row.all("holding")
    if holding is None and held == {INVITATION}:
        holding = (INVITATION,)
    parts = [
        _words(standing, STANDINGS, "anybody" if len(row.all("standing")) > 1 else told.visit.standing),
        f"with {_words(holding, HOLDINGS, '')}" if holding else "",
        f"by {_words(way, WAYS, '')}" if way else "",
        _MOMENT[moment[0]] if moment else "",
    ]
    line = answer.line_of(told.cause.row) if told.cause is not None else ""
    bars = "none" if not most else "▮" * fewest + (f" {fewest}" if fewest == most else f" {fewest} to {most}")
    room = "" if single else _words(kind, MEETING_KINDS, "any")
    who = " ".join(part for part in parts if part)
    return (
        who,
        room,
        told.outcome,
        bars.strip(),
        ", ".join(part for part in _by(told) if part),
        line,
        reads(told, answer.snapshot),
    )


def _inside(of: str, mine: Sequence[Told]) -> Section:
    """What whoever gets in may do there, by who they are."""
    said: dict[tuple[str, ...], list[str]] = {}
    for told in mine:
        names = said.setdefault(told.inside, [])
        if told.outcome != "refused" and told.visit.standing not in names:
            names.append(told.visit.standing)
    rows = tuple(
        (" or ".join(names), ", ".join(inside) or "nothing but look and listen")
        for inside, names in said.items()
        if names
    )
    return Section(
        f"{of}whoever is let in may" if of else "Whoever is let in may", (Column("who"), Column("do what")), rows
    )


def _words(values: tuple[str, ...] | None, every: Sequence[str], anything: str) -> str:
    return anything if values is None else " or ".join(value for value in every if value in values)
