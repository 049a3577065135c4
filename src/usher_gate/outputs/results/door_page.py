"""What door says to people: a first line, lines of detail and sections; the table and Markdown are both made of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...core.door.agenda import Planned
from ...core.door.doors import Door, DoorRoot
from ...core.door.fold import FoldedRow, folded
from ...core.door.matrix import Encounter
from ...core.door.one_meeting import InviteeEncounter
from ...core.door.visitors import ENTERS, HOLDINGS, INVITATION, REFUSED, SHOWS, STANDINGS, THERE, UNKNOWN, WAYS
from ...core.words.plural import plural
from ...core.words.times import show_time
from ...core.words.vocabulary import MEETING_KINDS
from ..page import Page, about_snapshot
from ..section import COUNT, DATE, WHOLE, WORD, Cell, Column, Section, joined, listed, part, place_text, some
from ..titles import quoted_value_of, setting_text, title_of
from .door import DoorAnswer, HostAnswer, MeetingAnswer, login_of, reads

_WORST = ("enters", "unknown", "waits", "refused")
# The tables about what visitors meet, the most important first.
_TABLES = STRANGERS, WATCHERS, VISITORS, INSIDE = "strangers", "watchers", "visitors", "inside"
_MOMENT = {"before": "before the host", "there": "with the host there"}
_OPEN = {True: "open", False: "shut", None: "unknown"}


def door_page(answer: DoorAnswer, rows: int) -> Page:
    """Return the whole organisation: first whether a stranger gets in anywhere."""
    columns = (
        Column("hosts", COUNT),
        Column("service", WHOLE),
        Column("what opens them"),
        Column("where"),
        Column("what would help"),
    )
    sections = (
        doors_section(answer.doors),
        listed("causes", "What opens doors", columns, [_root(root) for root in answer.roots], rows),
        meetings_section("Planned meetings to look at", answer, rows),
        *_hosts_sections(answer, rows),
    )
    labelled = tuple((label, f"{text[:-1]} (--show {word})") for label, text, word in door_lines(answer))
    return Page(first_of_all(answer.doors), (), sections, about_snapshot(answer.snapshot), labelled=labelled)


def _hosts_sections(answer: DoorAnswer, most: int) -> Iterator[Section]:
    """Yield for each service and kind of meeting the hosts whose door is open to a stranger."""
    for (service, kind), people in answer.opened.items():
        first = people[:most] if most else people
        title = f"{service}: hosts whose {kind}s anyone can watch" if kind in SHOWS else ""
        title = title or f"{service}: hosts whose {kind} meetings let a stranger in"
        ids = answer.snapshot.people.ids.take(first)
        rows = [*zip(answer.snapshot.people.logins.take(first), ids, strict=True)]
        yield part("hosts", title, (Column("login", WHOLE), Column("id", WHOLE)), rows, len(people))


def first_of_all(doors: Sequence[Door]) -> str:
    """Return how many doors are open, in one sentence."""
    rooms = [door for door in doors if door.kind not in SHOWS]
    opened, every = sum(door.open for door in rooms), sum(door.hosts for door in rooms)
    if not rooms:
        return "No service here has meetings to get into."
    if not opened:
        return f"No door of {every:,} is known to be open to a stranger with a link or a number."
    unwatched = sum(door.unwatched for door in rooms)
    before = f", {unwatched:,} before any host is there" if unwatched else ""
    verb = "is" if opened == 1 else "are"
    return f"{opened:,} of {plural(every, 'door')} {verb} open to a stranger with a link or a number{before}."


def door_lines(answer: DoorAnswer) -> Iterator[tuple[str, str, str]]:
    """Yield what else is worth saying of all doors: a label, a sentence, and the word of --show that lists them."""
    unknown = sum(door.unknown for door in answer.doors)
    if unknown:
        why = "a deciding value is missing, contradicts another, or needs a licence that is not there"
        yield "not known", f"{unknown:,} more cannot be judged: {why}.", "doors"
    shows = [door for door in answer.doors if door.kind in SHOWS and door.open]
    for door in shows:
        text = f"Anyone can watch the {door.kind}s of {door.open:,} of {plural(door.hosts, 'host')} on {door.service}."
        yield "open", text, "hosts"
    if answer.planned:
        yield from _planned_lines(answer)


def _planned_lines(answer: DoorAnswer) -> Iterator[tuple[str, str, str]]:
    turning = [meeting for meeting in answer.meetings if meeting.turned_away]
    wide = sum(meeting.open is True for meeting in answer.meetings)
    verb = "is" if wide == 1 else "are"
    yield "planned", f"{wide:,} of {plural(answer.planned, 'planned meeting')} {verb} open to a stranger.", "meetings"
    if turning:
        invited = sum(len(meeting.turned_away) for meeting in turning)
        at = plural(len(turning), "planned meeting")
        yield "turned away", f"{plural(invited, 'invitation')} would be turned away, at {at}.", "meetings"


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
        "Doors: at how many hosts a stranger gets in, and how many gates stand in the easiest way",
        columns,
        rows,
        word="doors",
    )


def _root(root: DoorRoot) -> tuple[Cell, ...]:
    if root.mended is None:
        return root.hosts, root.service, "no one control shuts them", "", ""
    value = setting_text(root.control, root.value) if root.value is not None else f"{title_of(root.control)}: unknown"
    where = place_text(root.scope) if root.scope else ""
    return (
        root.hosts,
        root.service,
        value,
        where,
        f"{quoted_value_of(root.control, root.mended)}: shuts them at {root.freed:,}",
    )


def meetings_page(answer: DoorAnswer, rows: int) -> Page:
    """Return planned meetings alone."""
    first, *details = [text for _, text, _ in _planned_lines(answer)] if answer.planned else ("No meeting is planned.",)
    sections = (meetings_section("Planned meetings", answer, rows),)
    return Page(first, tuple(details), sections, about_snapshot(answer.snapshot))


def meetings_section(title: str, answer: DoorAnswer, most: int) -> Section:
    """Return planned meetings, those that are open first."""
    rank = {True: 0, None: 2, False: 2}
    ordered = sorted(
        answer.meetings, key=lambda each: 1 if each.turned_away and each.open is not True else rank[each.open]
    )
    columns = (
        Column("id", WHOLE),
        Column("meeting"),
        Column("kind", spare=2),
        Column("starts (UTC)", DATE, spare=1),
        Column("organiser", WHOLE, spare=3),
        Column("a stranger", WORD),
        Column("what meets the invited"),
    )
    rows = [_meeting(meeting, answer, most) for meeting in (ordered[:most] if most else ordered)]
    return part("meetings", title, columns, rows, len(ordered))


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
        yield "no one is invited"


def meeting_page(answer: MeetingAnswer, rows: int) -> Page:
    """Return one planned meeting: whether a stranger gets in, each invited address, and each kind of visitor."""
    meeting = answer.meeting
    name = f"{meeting.label or meeting.id} ({meeting.id})"
    opened = {True: "A stranger gets into", False: "No stranger gets into", None: "Whether a stranger gets into"}[
        meeting.open
    ]
    detail = {True: ".", False: " unless someone lets them in.", None: " is not known."}[meeting.open]
    starts, again = show_time(meeting.starts_at), ", and again" if meeting.recurring else ""
    about = (
        f"A {meeting.kind} meeting of {login_of(answer.snapshot, meeting.organiser)} on {meeting.service}, "
        f"{starts}{again}."
    )
    invited = [_invited_row(each, answer) for each in answer.invited]
    columns = (
        Column("invited", WHOLE),
        Column("comes as", WORD),
        Column("outcome", WORD),
        Column("by which"),
        Column("where"),
        Column("what they read", spare=1),
    )
    sections = [listed("people", "Each of the invited, by app, once a host is there", columns, invited, rows)]
    sections += _sections("", answer.visits, answer)
    needs = tuple(_needs(meeting))
    return Page(f"{opened} {name}{detail}", (about, *needs), tuple(sections), about_snapshot(answer.snapshot))


def _needs(meeting: Planned) -> Iterator[str]:
    if meeting.need_account:
        invitees = plural(len(meeting.need_account), "of the invited has", "of the invited have")
        yield f"{invitees} to sign in somewhere: without an account they are refused."


def _invited_row(each: InviteeEncounter, answer: MeetingAnswer) -> tuple[Cell, ...]:
    encounter = each.encounter
    account = " Without an account: refused." if each.need_account else ""
    fate = {ENTERS: "walks in", REFUSED: "turned away", UNKNOWN: "unknown"}.get(encounter.outcome, encounter.outcome)
    return each.address, encounter.visit.standing, fate, *_by(encounter), reads(encounter, answer.snapshot) + account


def _by(encounter: Encounter) -> tuple[str, str]:
    """Return the control that decides with its value, and where that is set."""
    value = f"{title_of(encounter.control)} is not known" if encounter.control else ""
    if encounter.value is not None:
        value = setting_text(encounter.control or "", encounter.value)
    return value, place_text(encounter.cause.scope or "") if encounter.cause is not None else ""


def host_page(answer: HostAnswer, _rows: int) -> Page:
    """Return one host: strangers first, worst first, in the fewest rows that show the difference."""
    sections: list[Section] = []
    for service in answer.hosting:
        mine = [encounter for encounter in answer.visits if encounter.service == service]
        sections += _sections(f"{service}: ", mine, answer)
    sections.sort(key=lambda section: _TABLES.index(section.word))
    details = *_shown_to_all(answer), *answer.guesses
    return Page(_first_of_host(answer), details, tuple(sections), about_snapshot(answer.snapshot))


def _sections(of: str, mine: Sequence[Encounter], answer: HostAnswer | MeetingAnswer) -> Iterator[Section]:
    """Strangers first, then everyone else, then who can watch what is shown; and what people inside may do."""
    rooms = [encounter for encounter in mine if encounter.visit.kind not in SHOWS]
    shows = [encounter for encounter in mine if encounter.visit.kind in SHOWS and encounter.visit.moment == THERE]
    strangers = [encounter for encounter in rooms if encounter.visit.stranger]
    others = [encounter for encounter in rooms if not encounter.visit.stranger]
    for word, encounters, name in (
        (STRANGERS, strangers, "strangers, who have a link or the number"),
        (VISITORS, others, "everyone else" if strangers else "who comes how, and what meets them"),
        (WATCHERS, shows, "who can watch"),
    ):
        if encounters:
            yield _matrix(word, of + name if of else name.capitalize(), encounters, answer)
    if any(encounter.outcome != REFUSED for encounter in rooms):
        yield _inside(of, rooms)


def _shown_to_all(answer: HostAnswer) -> Iterator[str]:
    for service in answer.hosting:
        shows = dict.fromkeys(
            f"{encounter.visit.kind}s"
            for encounter in answer.visits
            if encounter.service == service
            and encounter.visit.kind in SHOWS
            and encounter.visit.stranger
            and encounter.outcome == ENTERS
        )
        if shows:
            yield f"Anyone can watch the {joined(list(shows))} on {service}."


def _first_of_host(answer: HostAnswer) -> str:
    """Return the first line of `door --person`: whether a stranger gets into a meeting."""
    strangers = [
        encounter for encounter in answer.visits if encounter.visit.stranger and encounter.visit.kind not in SHOWS
    ]
    entering = [encounter for encounter in strangers if encounter.outcome == ENTERS]
    if not answer.hosting:
        return f"{answer.login} may start no meeting anywhere."
    if not strangers:
        return f"What visitors of a meeting of {answer.login} meet:"
    if entering:
        kinds = list(dict.fromkeys(encounter.visit.kind for encounter in entering))
        ways = list(dict.fromkeys(encounter.visit.way for encounter in entering))
        where = joined(list(dict.fromkeys(encounter.service for encounter in entering)))
        return f"A stranger gets into {joined(kinds)} meetings of {answer.login} on {where}, by {joined(ways)}."
    if any(encounter.outcome == UNKNOWN for encounter in strangers):
        return f"Whether a stranger gets into a meeting of {answer.login} is not known."
    return f"No stranger gets into a meeting of {answer.login} unless someone lets them in."


def _matrix(word: str, title: str, mine: Sequence[Encounter], answer: HostAnswer | MeetingAnswer) -> Section:
    """Return the table of what visitors meet, with equal outcomes in one row, the easiest way in first."""
    rows = sorted(
        folded(mine, lambda encounter: (encounter.outcome, encounter.gate, encounter.control, encounter.value)),
        key=lambda row: (_WORST.index(row.easiest.outcome), row.easiest.gates),
    )
    columns = (
        Column("who comes how"),
        Column("to what"),
        Column("outcome", WORD if word != VISITORS else WHOLE),  # that a colleague enters is no alarm
        Column("gates", WHOLE),
        Column("decided by"),
        Column("set in", WHOLE, spare=2),
        Column("what they read", spare=1),
    )
    single = len({encounter.visit.kind for encounter in mine}) == 1
    return Section(title, columns, tuple(_folded_row(row, answer, single) for row in rows), word=word)


def _folded_row(row: FoldedRow, answer: HostAnswer | MeetingAnswer, single: bool) -> tuple[Cell, ...]:
    """Return the cells of one row that covers several visits with the same outcome."""
    kind, standing, holding, way, moment = row.values
    encounter, fewest, most = (
        row.easiest,
        min(each.gates for each in row.covers),
        max(each.gates for each in row.covers),
    )
    held = row.all("holding")
    if holding is None and held == {INVITATION}:
        holding = (INVITATION,)
    parts = [
        _words(standing, STANDINGS, "anybody" if len(row.all("standing")) > 1 else encounter.visit.standing),
        f"with {_words(holding, HOLDINGS, '')}" if holding else "",
        f"by {_words(way, WAYS, '')}" if way else "",
        _MOMENT[moment[0]] if moment else "",
    ]
    line = answer.line_of(encounter.cause.row) if encounter.cause is not None else ""
    numbers = f" {fewest}" if fewest == most else f" {fewest} to {most}"
    bars = "▮" * fewest + numbers if most else "none"
    room = "" if single else _words(kind, MEETING_KINDS, "any")
    who = " ".join(part for part in parts if part)
    return (
        who,
        room,
        encounter.outcome,
        bars.strip(),
        ", ".join(part for part in _by(encounter) if part),
        line,
        reads(encounter, answer.snapshot),
    )


def _inside(of: str, mine: Sequence[Encounter]) -> Section:
    """Return what visitors who get in may do there, by visitor type."""
    said: dict[tuple[str, ...], list[str]] = {}
    for encounter in mine:
        names = said.setdefault(encounter.inside, [])
        if encounter.outcome != "refused" and encounter.visit.standing not in names:
            names.append(encounter.visit.standing)
    rows = tuple(
        (" or ".join(names), ", ".join(inside) or "nothing but look and listen")
        for inside, names in said.items()
        if names
    )
    title = f"{of}people inside may" if of else "People inside may"
    return Section(title, (Column("who"), Column("do what")), rows, word=INSIDE)


def _words(values: tuple[str, ...] | None, every: Sequence[str], anything: str) -> str:
    return anything if values is None else " or ".join(value for value in every if value in values)
