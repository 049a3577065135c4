"""Who could get into a meeting, as JSON (form door/1)."""

from __future__ import annotations

from typing import Any, TextIO

import numpy as np

from ...core.door.agenda import Planned
from ...core.door.doors import Door, DoorRoot
from ...core.door.matrix import Encounter
from ...core.organisation.snapshot import Snapshot
from ...core.words.times import rfc3339
from ..json_text import shown_or_none, text, write_form
from ..render_options import RenderOptions
from .answer import DoorAnswer, HostAnswer, MeetingAnswer, reads


def _door(door: Door) -> dict[str, Any]:
    """Return the doors of one service and kind of meeting as JSON."""
    return {
        "service": door.service,
        "kind": door.kind,
        "hosts": door.hosts,
        "open": door.open,
        "unwatched": door.unwatched,
        "unknown": door.unknown,
        "gates": dict(zip(("0", "1", "2", "3+"), door.gates, strict=True)),
        "visitors": [
            {
                "standing": each.visit.standing,
                "holding": each.visit.holding,
                "way": each.visit.way,
                "moment": each.visit.moment,
                **dict(zip(("enters", "waits", "refused", "unknown"), each.counts, strict=True)),
            }
            for each in door.visitors
        ],
    }


def _root(root: DoorRoot) -> dict[str, Any]:
    return {
        "service": root.service,
        "control": root.control,
        "scope": root.scope,
        "value": shown_or_none(root.value),
        "hosts": root.hosts,
        "freed": root.freed,
        "mended_value": shown_or_none(root.mended),
    }


def meeting_object(meeting: Planned, snapshot: Snapshot) -> dict[str, Any]:
    """Return one planned meeting as JSON."""
    return {
        "id": meeting.id,
        "label": meeting.label,
        "service": meeting.service,
        "kind": meeting.kind,
        "organiser": snapshot.people.ids.take(np.array([meeting.organiser]))[0],
        "starts_at": rfc3339(meeting.starts_at),
        "recurring": meeting.recurring,
        "open": meeting.open,
        "turned_away": list(meeting.turned_away),
        "waiting": list(meeting.waiting),
        "need_account": list(meeting.need_account),
        "unknown": list(meeting.unknown),
    }


def write_door_json(answer: DoorAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the whole organisation as JSON."""
    lists = (
        ("doors", [text(_door(door)) for door in answer.doors]),
        ("roots", [text(_root(root)) for root in answer.roots]),
        ("meetings", [text(meeting_object(meeting, answer.snapshot)) for meeting in answer.meetings]),
        ("notes", [text(note) for note in answer.notes]),
    )
    write_form(stream, "door/1", answer.snapshot, [], lists)


def _visit(encounter: Encounter, answer: HostAnswer | MeetingAnswer) -> dict[str, Any]:
    """Return one visit as JSON."""
    cause = encounter.cause
    return {
        "service": encounter.service,
        "kind": encounter.visit.kind,
        "standing": encounter.visit.standing,
        "holding": encounter.visit.holding,
        "way": encounter.visit.way,
        "moment": encounter.visit.moment,
        "outcome": encounter.outcome,
        "gate": encounter.gate or None,
        "control": encounter.control or None,
        "value": shown_or_none(encounter.value),
        "cause": None
        if cause is None
        else {"scope": cause.scope, "value": shown_or_none(cause.value), "pinned": cause.pinned},
        "gates": encounter.gates,
        "reads": reads(encounter, answer.snapshot),
        "inside": list(encounter.inside),
    }


def write_host_json(answer: HostAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes one host's whole matrix as JSON."""
    name = answer.snapshot.people.ids.take(np.array([answer.person]))[0]
    host = {"id": name, "login": answer.login, "hosting": list(answer.hosting)}
    lists = (("visits", [text(_visit(encounter, answer)) for encounter in answer.visits]),)
    write_form(stream, "door/1", answer.snapshot, [{}, {"host": host}], lists)


def write_meeting_json(answer: MeetingAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes one planned meeting as JSON.

    As the whole organisation's, with each invited address and each kind of visitor besides.
    """
    invited = [
        text({"address": each.address, **_visit(each.encounter, answer), "need_account": each.need_account})
        for each in answer.invited
    ]
    lists: tuple[tuple[str, list[str]], ...] = (
        ("doors", []),
        ("roots", []),
        ("meetings", [text(meeting_object(answer.meeting, answer.snapshot))]),
        ("invited", invited),
        ("visits", [text(_visit(encounter, answer)) for encounter in answer.visits]),
        ("notes", [text(note) for note in answer.notes]),
    )
    write_form(stream, "door/1", answer.snapshot, [], lists)
