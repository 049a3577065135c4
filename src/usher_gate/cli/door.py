"""Shows who could get into a meeting: each kind of visitor, each gate, before and while a host is there.

For the whole organisation, for one host (PERSON), for one planned meeting (--meeting) or for all (--meetings).
Reads the snapshot."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..core.words.vocabulary import DOOR_WAYS, MEETING_KINDS
from ..files.faults import UsherError
from .common import (
    add_output,
    add_places,
    add_rows,
    chosen_people,
    find_person,
    known_name,
    planned_meeting,
    read_folder,
    say_notes,
    write,
)

if TYPE_CHECKING:
    from ..core.door.agenda import Planned
    from ..core.organisation.columns import Bools, Longs
    from ..core.organisation.services import Service
    from ..core.settings.resolver import Resolver
    from ..files.snapshot.folder import ReadSnapshot
    from ..outputs.results.door import DoorAnswer

TAKES = "[PERSON]"
EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate door
  usher-gate door asta.brandt@northmere.example --kind scheduled --standing nobody
  usher-gate door N1171 --from coastguard.example.org
  usher-gate door --meeting dock-plans
  usher-gate door --meetings --format csv"""
_WORDS = {
    "kind": MEETING_KINDS,
    "standing": ("nobody", "outsider", "partner", "guest", "member"),
    "holding": ("number", "link", "invitation"),
    "way": DOOR_WAYS,
    "moment": ("before", "there"),
}
_ONE_HOST = ("standing", "holding", "way", "moment")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "person", metavar="PERSON", nargs="?", help="one host: a login, an id, or a name that only one has"
    )
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--meeting", metavar="ID", help="one planned meeting, and each of its invitees")
    which.add_argument("--meetings", action="store_true", help="all planned meetings")
    group = parser.add_argument_group("narrowing (repeatable)")
    for name, words in _WORDS.items():
        group.add_argument(f"--{name}", action="append", choices=words, metavar="WORD", help=", ".join(words))
    for name, metavar, wanted in (
        ("service", "ID", "only these services"),
        ("group", "ID", "only hosts in these groups"),
        ("unit", "PATH", "only hosts in these units and below"),
    ):
        group.add_argument(f"--{name}", action="append", metavar=metavar, help=wanted)
    parser.add_argument(
        "--from", dest="from_domain", metavar="DOMAIN", help="with PERSON: a visitor whose account is of this domain"
    )
    add_rows(parser, "door")
    add_places(parser, baseline=False)
    add_output(parser, "door")


def run(arguments: argparse.Namespace) -> int:
    """Finds and writes; raises UsherError for a name that nothing has."""
    from ..core.settings.resolver import Resolver

    _fits(arguments)
    arguments.baseline = arguments.exceptions = None
    read = read_folder(arguments)
    resolver = Resolver(read.snapshot)
    known = [service.id for service in read.snapshot.services or ()]
    if not known:
        raise UsherError("without services.yaml nothing is known about meetings; write one")
    names = {known_name(name, known, "service") for name in arguments.service} if arguments.service else set(known)
    services = [service for service in read.snapshot.services or () if service.id in names]
    if arguments.person is not None:
        return _host(arguments, read, resolver, services)
    if arguments.meeting is not None:
        return _meeting(arguments, read, resolver)
    return _organisation(arguments, resolver, services)


def _fits(arguments: argparse.Namespace) -> None:
    """Refuses options that do not go together."""
    planned = arguments.meeting is not None or arguments.meetings
    if arguments.person is not None:
        if planned:
            raise UsherError("name a person, or planned meetings, not both")
        if arguments.group or arguments.unit:
            raise UsherError("--group and --unit choose among many hosts; leave PERSON out, or them")
        return
    if arguments.from_domain is not None:
        raise UsherError("--from asks about one host; name a person")
    given = [f"--{name}" for name in _ONE_HOST if getattr(arguments, name)]
    if given and arguments.meeting is None:
        raise UsherError(f"{', '.join(given)} narrow what one host's visitors meet; name a person, or --meeting ID")
    if arguments.meeting is not None and (arguments.kind or arguments.group or arguments.unit or arguments.service):
        raise UsherError("--meeting names one meeting; --kind, --service, --group and --unit do not go with it")


def _organisation(arguments: argparse.Namespace, resolver: Resolver, services: list[Service]) -> int:
    if arguments.meetings and resolver.snapshot.meetings is None:
        raise UsherError("the snapshot has no table meetings, so nothing is known about what is planned")
    chosen = chosen_people(arguments, resolver.snapshot)
    answer = doors_of(resolver, services, tuple(arguments.kind or ()), chosen, arguments.meetings)
    write(arguments, "meetings" if arguments.meetings else "door", answer, arguments.rows)
    say_notes(answer.notes)
    return 0


def doors_of(
    resolver: Resolver, services: list[Service], wanted: tuple[str, ...], chosen: Bools | None, planned_only: bool
) -> DoorAnswer:
    """Return the doors of some services, of the kinds that are wanted (none named: all) and the hosts that are chosen
    (None: all); or only what is planned there.
    """
    from ..core.door.agenda import Agenda
    from ..core.door.doors import Doors
    from ..core.door.hosts import hosts_of
    from ..core.door.visitors import AUDIENCES, SHOWS, kinds_of
    from ..outputs.results.door import DoorAnswer

    doors, roots, notes = [], [], set[str]()
    opened: dict[tuple[str, str], Longs] = {}
    for service in services if not planned_only else ():
        hosts = hosts_of(resolver, service)
        kinds = tuple(kind for kind in kinds_of(service) if not wanted or kind in wanted)
        every = Doors(hosts if chosen is None else hosts.only(chosen), kinds)
        doors += list(every.doors())
        roots += every.roots()
        opened |= {(service.id, kind): every.open_hosts(kind) for kind in kinds}
        notes |= {
            f"{service.id} does not support {AUDIENCES[kind]}: its {kind}s are open to all"
            for kind in kinds
            if kind in SHOWS and AUDIENCES[kind] not in service.controls
        }
    roots.sort(key=lambda root: (-root.hosts, root.service, root.control, root.scope or "", root.value or ""))
    agenda = Agenda(resolver)
    named = {service.id for service in services}
    planned = [each for each in agenda.all(not planned_only) if _wanted(each, wanted, named, chosen)]
    counted = len(planned) if planned_only else agenda.count(named, list(wanted) or None, chosen)
    return DoorAnswer(
        snapshot=resolver.snapshot,
        doors=tuple(doors),
        roots=tuple(roots),
        meetings=tuple(planned),
        planned=counted,
        opened=opened,
        notes=tuple(sorted(notes | agenda.notes)),
    )


def _wanted(each: Planned, kinds: tuple[str, ...], services: set[str], chosen: Bools | None) -> bool:
    return (
        each.service in services
        and (not kinds or each.kind in kinds)
        and (chosen is None or bool(chosen[each.organiser]))
    )


def _meeting(arguments: argparse.Namespace, read: ReadSnapshot, resolver: Resolver) -> int:
    """Show what each visitor of one planned meeting meets, and return the exit status."""
    from ..core.door.agenda import Agenda
    from ..core.door.one_meeting import invited_to, visits_to
    from ..outputs.results.door import MeetingAnswer

    snapshot, agenda = read.snapshot, Agenda(resolver)
    planned, number = planned_meeting(arguments.meeting, agenda)
    visits = [encounter for encounter in visits_to(planned, number) if _asked_for(encounter.visit, arguments)]
    notes = tuple(sorted(note for note in agenda.notes if f"the meeting {arguments.meeting} is" in note))
    meeting = next(planned.planned([number]))
    answer = MeetingAnswer(
        snapshot=snapshot,
        meeting=meeting,
        invited=tuple(invited_to(planned, number)),
        visits=tuple(visits),
        notes=notes,
        line_of=read.setting_line,
    )
    write(arguments, "meeting", answer, arguments.rows)
    say_notes(notes)
    return 0


def _asked_for(visit: object, arguments: argparse.Namespace) -> bool:
    return all(not getattr(arguments, name) or getattr(visit, name) in getattr(arguments, name) for name in _WORDS)


def _host(arguments: argparse.Namespace, read: ReadSnapshot, resolver: Resolver, services: list[Service]) -> int:
    """Show what visitors of the meetings that one person may start meet, and return the exit status."""
    import numpy as np

    from ..core.door.hosts import hosts_of
    from ..core.door.matrix import guessable, matrix
    from ..core.door.visitors import kinds_of, ways_of
    from ..outputs.results.door import HostAnswer, guessing, login_of

    snapshot = read.snapshot
    person = find_person(arguments.person, snapshot)
    found, hosting, guesses = [], [], []
    for service in services:
        hosts = hosts_of(resolver, service)
        host = int(np.searchsorted(hosts.people, person))
        if host >= len(hosts.people) or hosts.people[host] != person:
            continue
        hosting.append(service.id)
        mine = [
            encounter
            for encounter in matrix(hosts, host, kinds_of(service), ways_of(service), arguments.from_domain or "")
            if _asked_for(encounter.visit, arguments)
        ]
        guesses += [f"{service.id}: {said}" for said in guessing(guessable(hosts, host, mine))]
        found += mine
    answer = HostAnswer(
        snapshot=snapshot,
        person=person,
        login=login_of(snapshot, person),
        hosting=tuple(hosting),
        visits=tuple(found),
        guesses=tuple(guesses),
        domain=arguments.from_domain or "",
        line_of=read.setting_line,
    )
    write(arguments, "host", answer, arguments.rows)
    return 0
