"""Who could get into a meeting, as CSV."""

from __future__ import annotations

import csv
from typing import TextIO

from ...core.door.matrix import Encounter
from ...core.words.compare import shown
from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from .answer import DoorAnswer, HostAnswer, MeetingAnswer, login_of, reads

_DOOR = ("service", "kind", "standing", "holding", "way", "moment", "enters", "waits", "refused", "unknown", "hosts")
_VISIT = (
    "service",
    "kind",
    "standing",
    "holding",
    "way",
    "moment",
    "outcome",
    "gate",
    "control",
    "value",
    "scope",
    "where",
    "gates",
    "reads",
    "inside",
)
_MEETING = ("meeting", "label", "service", "kind", "organiser", "open", "address", "outcome")


def write_door_csv(answer: DoorAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes a row for each visitor type of each service and kind, with the number of hosts for each outcome."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(_DOOR)
    for door in answer.doors:
        for each in door.visitors:
            visit = each.visit
            writer.writerow(
                (
                    door.service,
                    door.kind,
                    visit.standing,
                    visit.holding,
                    visit.way,
                    visit.moment,
                    *each.counts,
                    door.hosts,
                )
            )


def write_meetings_csv(answer: DoorAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes a row for each invitee of each planned meeting."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(_MEETING)
    opened = {True: "true", False: "false", None: ""}
    for meeting in answer.meetings:
        head = [
            meeting.id,
            meeting.label,
            meeting.service,
            meeting.kind,
            login_of(answer.snapshot, meeting.organiser),
            opened[meeting.open],
        ]
        outcomes = (
            ("turned-away", meeting.turned_away),
            ("waiting", meeting.waiting),
            ("unknown", meeting.unknown),
            ("walking-in", meeting.walking_in),
        )
        for outcome, addresses in outcomes:
            for address in addresses:
                writer.writerow([for_spreadsheet(cell) for cell in (*head, address, outcome)])


def write_meeting_csv(answer: MeetingAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes what each invited address meets at one meeting, then each kind of visitor (who has no address)."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(("address", *_VISIT, "need_account"))
    for each in answer.invited:
        cells = (each.address, *_cells(each.encounter, answer), "true" if each.need_account else "false")
        writer.writerow([for_spreadsheet(cell) for cell in cells])
    for encounter in answer.visits:
        writer.writerow([for_spreadsheet(cell) for cell in ("", *_cells(encounter, answer), "")])


def write_host_csv(answer: HostAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes one host's whole matrix, a visit a row."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(_VISIT)
    for encounter in answer.visits:
        writer.writerow([for_spreadsheet(cell) for cell in _cells(encounter, answer)])


def _cells(encounter: Encounter, answer: HostAnswer | MeetingAnswer) -> tuple[str, ...]:
    """Return the cells of one visit, in the order of the columns."""
    visit, cause = encounter.visit, encounter.cause
    return (
        encounter.service,
        visit.kind,
        visit.standing,
        visit.holding,
        visit.way,
        visit.moment,
        encounter.outcome,
        encounter.gate,
        encounter.control,
        "" if encounter.value is None else shown(encounter.value),
        cause.scope or "" if cause else "",
        answer.line_of(cause.row) if cause else "",
        str(encounter.gates),
        reads(encounter, answer.snapshot),
        "; ".join(encounter.inside),
    )
