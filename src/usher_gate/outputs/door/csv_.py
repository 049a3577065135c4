"""Who could get into a meeting, as CSV."""

from __future__ import annotations

import csv
from typing import TextIO

from ...core.door.matrix import Told
from ...core.words.compare import shown
from ..look import Look
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


def write_door_csv(answer: DoorAnswer, stream: TextIO, _look: Look) -> None:
    """Writes a row for each kind of visitor of each service and kind, with at how many hosts each outcome meets them."""
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


def write_meetings_csv(answer: DoorAnswer, stream: TextIO, _look: Look) -> None:
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


def write_meeting_csv(answer: MeetingAnswer, stream: TextIO, _look: Look) -> None:
    """Writes what each invited address meets at one meeting, then each kind of visitor (who has no address)."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(("address", *_VISIT, "need_account"))
    for each in answer.invited:
        cells = (each.address, *_cells(each.told, answer), "true" if each.need_account else "false")
        writer.writerow([for_spreadsheet(cell) for cell in cells])
    for told in answer.visits:
        writer.writerow([for_spreadsheet(cell) for cell in ("", *_cells(told, answer), "")])


def write_host_csv(answer: HostAnswer, stream: TextIO, _look: Look) -> None:
    """Writes one host's whole matrix, a visit a row."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(_VISIT)
    for told in answer.visits:
        writer.writerow([for_spreadsheet(cell) for cell in _cells(told, answer)])


def _cells(told: Told, answer: HostAnswer | MeetingAnswer) -> tuple[str, ...]:
    visit, cause = told.visit, told.cause
    return (
        told.service,
        visit.kind,
        visit.standing,
        visit.holding,
        visit.way,
        visit.moment,
        told.outcome,
        told.gate,
        told.control,
        "" if told.value is None else shown(told.value),
        cause.scope or "" if cause else "",
        answer.line_of(cause.row) if cause else "",
        str(told.gates),
        reads(told, answer.snapshot),
        "; ".join(told.inside),
    )
