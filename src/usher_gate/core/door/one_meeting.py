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
from .matrix import Encounter, encounter_at
from .visitors import APP, INVITATION, OUTCOMES, REFUSED, THERE, UNKNOWN, Visit, visits, ways_of


@record
class InviteeEncounter:
    """One invited address.

    Which kind of visitor it is, what it meets and by which gate, and whether it needs an account for that.
    """

    address: str
    encounter: Encounter
    need_account: bool


def visits_to(planned: PlannedOn, number: int) -> list[Encounter]:
    """Return what every kind of visitor meets at one meeting, in the order of Spec: doors 4.3."""
    kind = MEETING_KINDS[int(planned.kinds[number])]
    return [_encounter(planned, number, visit) for visit in visits((kind,), ways_of(planned.service))]


def invited_to(planned: PlannedOn, number: int) -> Iterator[InviteeEncounter]:
    """Yield what each invited address meets, by address."""
    invited, (outcome, needs) = planned.invited, planned.met
    kind = MEETING_KINDS[int(planned.kinds[number])]
    rows = np.flatnonzero(invited.meeting == number).tolist()
    for row in rows:
        address = int(invited.address[row])
        domain = planned.book.domains[int(planned.book.domain[address])]
        met = UNKNOWN if outcome[row] == NOT_KNOWN else OUTCOMES[int(outcome[row])]
        every = [
            _encounter(
                planned, number, Visit(kind=kind, standing=standing, holding=INVITATION, way=APP, moment=THERE), domain
            )
            for standing in STANDINGS_OF[int(invited.standing[row])]
        ]
        encounter = next((each for each in every if each.outcome == met), every[-1])
        if encounter.outcome != met:  # as a partner they would meet one thing, as an outsider another
            encounter = Encounter(
                service=encounter.service,
                visit=encounter.visit,
                outcome=met,
                gate=encounter.gate,
                control=encounter.control,
                value=encounter.value,
                cause=encounter.cause,
                gates=encounter.gates,
                inside=encounter.inside,
            )
        yield InviteeEncounter(planned.book.addresses[address], encounter, bool(needs[row]))


def _encounter(planned: PlannedOn, number: int, visit: Visit, domain: str = "") -> Encounter:
    """Return what one visitor meets at a planned meeting, through the gates that the service has."""

    def asked(control: str) -> tuple[str | None, Cause | None]:
        return planned.value(control, number)

    row = planned.panel.take(planned.at[number : number + 1])
    encounter = encounter_at(row, planned.service.id, visit, asked, planned.service.controls, domain)
    if encounter is None:
        value, cause = asked(ROOM)
        return Encounter(
            service=planned.service.id,
            visit=visit,
            outcome=REFUSED,
            gate="room",
            control=ROOM,
            value=value,
            cause=cause,
            gates=1,
            inside=(),
        )
    return encounter
