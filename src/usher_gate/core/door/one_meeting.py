"""One planned meeting: what each kind of visitor meets there, and what each invited address does."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..settings.effective import Cause
from ..words.record import record
from ..words.vocabulary import MEETING_KINDS
from .address_book import STANDINGS_OF
from .agenda import NOT_KNOWN, PlannedOn
from .gates import ROOM
from .matrix import Told, tell
from .visitors import APP, INVITATION, OUTCOMES, REFUSED, THERE, UNKNOWN, Visit, visits, ways_of


@record
class InvitedTold:
    """One invited address: what it stands as, what it meets and by which gate, and whether it needs an account for that."""

    address: str
    told: Told
    need_account: bool


def visits_to(planned: PlannedOn, number: int) -> list[Told]:
    """What every kind of visitor meets at one meeting, in the order in which all is told."""
    kind = MEETING_KINDS[int(planned.kinds[number])]
    return [_tell(planned, number, visit) for visit in visits((kind,), ways_of(planned.service))]


def invited_to(planned: PlannedOn, number: int) -> Iterator[InvitedTold]:
    """What each invited address meets, by address."""
    invited, (outcome, needs) = planned.invited, planned.met
    kind = MEETING_KINDS[int(planned.kinds[number])]
    rows = np.flatnonzero(invited.meeting == number).tolist()
    for row in rows:
        address = int(invited.address[row])
        domain = planned.book.domains[int(planned.book.domain[address])]
        met = UNKNOWN if outcome[row] == NOT_KNOWN else OUTCOMES[int(outcome[row])]
        every = [
            _tell(planned, number, Visit(kind, standing, INVITATION, APP, THERE), domain)
            for standing in STANDINGS_OF[int(invited.standing[row])]
        ]
        told = next((each for each in every if each.outcome == met), every[-1])
        if told.outcome != met:  # as a partner they would meet one thing, as an outsider another
            told = Told(
                told.service, told.visit, met, told.gate, told.control, told.value, told.cause, told.gates, told.inside
            )
        yield InvitedTold(planned.book.addresses[address], told, bool(needs[row]))


def _tell(planned: PlannedOn, number: int, visit: Visit, domain: str = "") -> Told:
    def asked(control: str) -> tuple[str | None, Cause | None]:
        return planned.value(control, number)

    row = planned.panel.take(planned.at[number : number + 1])
    told = tell(row, planned.service.id, visit, asked, planned.service.controls, domain)
    if told is None:
        value, cause = asked(ROOM)
        return Told(planned.service.id, visit, REFUSED, "room", ROOM, value, cause, 1, ())
    return told
