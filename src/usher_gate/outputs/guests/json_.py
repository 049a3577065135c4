"""Guests and who has to be asked, as JSON (form guests/1)."""

from __future__ import annotations

from typing import Any, TextIO

from ...core.guests.policy import DAYS
from ...core.guests.states import STATES, in_state
from ...core.organisation.columns import MISSING
from ..json_text import text, write_form
from ..render_options import RenderOptions
from .answer import GuestsAnswer


def _policy(answer: GuestsAnswer) -> dict[str, Any]:
    days = {key: getattr(answer.policy, key.replace("-", "_")) for key in DAYS}
    return {**days, "on-silence": answer.policy.on_silence, "fallback": answer.ids(list(answer.policy.fallback))}


def write_guests_json(answer: GuestsAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes every guest and every reviewer."""
    people = [guest.person for guest in answer.guests]
    named = dict(zip(people, zip(answer.ids(people), answer.logins(people), strict=True), strict=True))
    sponsors = [answer.sponsor(person) for person in people]
    sponsor_ids = dict(zip(sorted({*sponsors} - {MISSING}), answer.ids(sorted({*sponsors} - {MISSING})), strict=True))
    guests = [
        {
            "id": named[guest.person][0],
            "login": named[guest.person][1],
            "home_domain": answer.domain(guest.person) or None,
            "sponsor": sponsor_ids.get(sponsor),
            "states": list(guest.states),
            "recommendation": guest.advice,
            "reason": guest.reason,
            "missing": list(guest.missing),
        }
        for guest, sponsor in zip(answer.guests, sponsors, strict=True)
    ]
    every = answer.asked()
    reviewers = [one for one in every if one != MISSING]
    asked = [
        {
            "id": one,
            "login": login,
            "guests": len({question.guest for question in every[number]}),
            "rows": len(every[number]),
        }
        for number, one, login in zip(reviewers, answer.ids(reviewers), answer.logins(reviewers), strict=True)
    ]
    sent = answer.sent
    fields: list[dict[str, Any]] = [
        {"policy": _policy(answer)},
        {"states": {state: in_state(answer.guests, state) for state in STATES}},
        {
            "review": None
            if sent is None
            else {"id": sent.id, "due": sent.due.isoformat(), "worksheets": [name for name, _, _ in sent.sheets]}
        },
        {"nobody_to_ask": answer.ids(answer.nobody)},
    ]
    lists = (
        ("guests", [text(guest) for guest in guests]),
        ("reviewers", [text(one) for one in asked]),
        ("notes", [text(note) for note in answer.notes]),
    )
    write_form(stream, "guests/1", answer.snapshot, fields, lists)
