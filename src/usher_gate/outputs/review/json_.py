"""The answers of a review, as JSON (form review/1)."""

from __future__ import annotations

from typing import Any, TextIO

from ...core.guests.deciding import FATES, Decided
from ..json_text import text, write_form
from ..render_options import RenderOptions
from .answer import ReviewAnswer


def _row(one: Decided) -> dict[str, Any]:
    return {
        "guest": one.row.guest,
        "place": one.row.place,
        "reviewer": one.row.reviewer,
        "decision": one.fate,
        "until": None if one.until is None else one.until.isoformat(),
        "note": one.note,
        "sponsor": one.sponsor or None,
        "where": one.where,
        "others": list(one.others),
    }


def write_review_json(answer: ReviewAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes every decision, and what follows."""
    read, follows = answer.read, answer.outcome
    fields: list[dict[str, Any]] = [
        {"review": read.id, "asked_at": read.taken_at, "asked_on": read.asked_on},
        {"due": read.due.isoformat(), "on": answer.on.isoformat(), "on_silence": read.on_silence},
        {"decisions": {fate: answer.fates.get(fate, 0) for fate in FATES}},
        {
            "ended": list(follows.ended),
            "kept": [{"until": day.isoformat(), "guests": list(some)} for day, some in follows.kept.items()],
        },
        {"sponsors": [{"sponsor": name, "guests": list(some)} for name, some in follows.sponsors.items()]},
        {"removed": [{"group": group, "guests": list(some)} for group, some in follows.removed.items()]},
        {
            "nested": [
                {"guest": guest, "group": group, "through": through} for guest, group, through in follows.nested
            ],
            "gone": list(follows.gone),
            "nobody_to_ask": list(read.nobody),
        },
    ]
    lists = (
        (
            "reviewers",
            [text({"id": name, "answered": done, "rows": many}) for name, (done, many) in answer.reviewers.items()],
        ),
        ("rows", [text(_row(one)) for one in answer.decided]),
        ("notes", [text(note) for note in answer.notes]),
    )
    write_form(stream, "review/1", answer.snapshot, fields, lists)
