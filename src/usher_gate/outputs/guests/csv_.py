"""Guests as CSV: a row a guest."""

from __future__ import annotations

import csv
from typing import TextIO

from ...core.organisation.columns import MISSING
from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from .answer import GuestsAnswer

COLUMNS = ("guest", "login", "home_domain", "sponsor", "states", "recommendation", "reason")


def write_guests_csv(answer: GuestsAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes a row for each guest, the worst first."""
    people = [guest.person for guest in answer.guests]
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(COLUMNS)
    sponsors = [answer.sponsor(person) for person in people]
    known = sorted({*sponsors} - {MISSING})
    names = dict(zip(known, answer.ids(known), strict=True))
    for guest, one, login, sponsor in zip(
        answer.guests, answer.ids(people), answer.logins(people), sponsors, strict=True
    ):
        sponsor_id = names.get(sponsor, "")
        cells = (
            one,
            login,
            answer.domain(guest.person),
            sponsor_id,
            ";".join(guest.states),
            guest.advice,
            guest.reason,
        )
        writer.writerow([for_spreadsheet(cell) for cell in cells])
