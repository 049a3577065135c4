"""What the answers of a review come to: a decision for each row, silence included, and the changes that follow.

Spec: guests 3.2 and 3.3.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import field
from datetime import date, timedelta

from ..organisation.columns import MISSING
from ..organisation.snapshot import Snapshot
from ..words.record import record
from .asking import ACCOUNT
from .policy import END, KEEP

PASS_ON = "pass-on"
DECISIONS = (KEEP, END, PASS_ON)
# What becomes of a row, the strictest first: of two answers for one row that counts which comes first.
SILENCE_ENDS, PENDING, SILENCE_KEEPS = "silence-ends", "pending", "silence-keeps"
FATES = (END, SILENCE_ENDS, PASS_ON, PENDING, KEEP, SILENCE_KEEPS)
OPEN = (PASS_ON, PENDING)


@record
class Row:
    """One row that was asked.

    Guest (id), place, the group that gives the membership ("" for a direct one), and who was asked (id).
    """

    guest: str
    place: str
    through: str
    reviewer: str


@record
class WorksheetAnswer:
    """One answer.

    "" for silence, until which day (None: not said), a note, its file and line, and who is the sponsor from now on (an
    id, "" for the present one).
    """

    decision: str
    until: date | None
    note: str
    where: str
    sponsor: str = ""


@record
class Decided:
    """Describes what becomes of a row (one of FATES), by which answer; `others` are where it is answered otherwise."""

    row: Row
    fate: str
    until: date | None
    note: str
    where: str
    others: tuple[str, ...]
    sponsor: str = ""


def decide(row: Row, answers: Sequence[WorksheetAnswer], on: date, due: date, on_silence: str) -> Decided:
    """Return one row: the strictest of its answers counts.

    Silence is pending up to the due day, and what was agreed after it.

    To pass a row on is no decision: it is pending up to the due day, too, and silence after it.
    """

    def fate(answer: WorksheetAnswer) -> str:
        if answer.decision and (answer.decision != PASS_ON or on <= due):
            return answer.decision
        if on <= due:
            return PENDING
        return SILENCE_ENDS if on_silence == END else SILENCE_KEEPS

    ranked = sorted(answers, key=lambda answer: (FATES.index(fate(answer)), answer.until or date.max, answer.where))
    first = ranked[0]
    counted = fate(first), first.until, first.sponsor
    others = tuple(answer.where for answer in ranked[1:] if (fate(answer), answer.until, answer.sponsor) != counted)
    return Decided(
        row=row,
        fate=fate(first),
        until=first.until,
        note=first.note,
        where=first.where,
        others=others,
        sponsor=first.sponsor,
    )


@record
class ReviewOutcome:
    """Describes what follows from the decisions, for accounts and memberships.

    Whose account ends, who is kept until which day, which direct memberships end, who gets which sponsor (ids); and
    what no change can be made for: memberships through other groups, guests who have gone.
    """

    ended: tuple[str, ...]
    kept: Mapping[date, tuple[str, ...]]
    removed: Mapping[str, tuple[str, ...]]
    nested: tuple[tuple[str, str, str], ...]
    gone: tuple[str, ...]
    sponsors: Mapping[str, tuple[str, ...]] = field(default_factory=dict)


def outcome(decided: Sequence[Decided], snapshot: Snapshot, on: date, keep_for_days: int) -> ReviewOutcome:
    """Return the changes that follow; of an account that ends besides only what a reviewer ended. Spec: guests 3.3."""
    people = snapshot.people
    there = {one.row.guest for one in decided if people.ids.find(one.row.guest)}
    ended = {one.row.guest for one in decided if one.row.place == ACCOUNT and one.fate in (END, SILENCE_ENDS)}
    kept: dict[date, list[str]] = {}
    sponsors: dict[str, list[str]] = {}
    removed: dict[str, list[str]] = {}
    nested: list[tuple[str, str, str]] = []
    for one in decided:
        guest, place = one.row.guest, one.row.place
        if guest not in there:
            continue
        if place == ACCOUNT:
            if one.fate in (KEEP, SILENCE_KEEPS):
                kept.setdefault(one.until or on + timedelta(days=keep_for_days), []).append(guest)
                if one.sponsor:
                    sponsors.setdefault(one.sponsor, []).append(guest)
        elif one.fate == END or (one.fate == SILENCE_ENDS and guest not in ended):
            group = place.partition(":")[2]
            if _is_direct(snapshot, guest, group):
                removed.setdefault(group, []).append(guest)
            nested += [(guest, group, through) for through in _giving(snapshot, guest, group)]
    return ReviewOutcome(
        ended=tuple(sorted(ended & there)),
        kept={day: tuple(sorted(some)) for day, some in sorted(kept.items())},
        removed={group: tuple(sorted(some)) for group, some in sorted(removed.items())},
        nested=tuple(sorted(nested)),
        gone=tuple(sorted({one.row.guest for one in decided} - there)),
        sponsors={sponsor: tuple(sorted(some)) for sponsor, some in sorted(sponsors.items())},
    )


def _is_direct(snapshot: Snapshot, guest: str, group: str) -> bool:
    groups = snapshot.groups
    number = snapshot.group_index.get(group, MISSING)
    found = snapshot.people.ids.find(guest)
    return groups is not None and number != MISSING and bool(found) and found[0] in groups.direct.of(number).tolist()


def _giving(snapshot: Snapshot, guest: str, group: str) -> list[str]:
    """Return the groups that a guest is in directly and that lie in a group, at whatever depth.

    They make the guest a member of it, too.
    """
    groups, number = snapshot.groups, snapshot.group_index.get(group, MISSING)
    found = snapshot.people.ids.find(guest)
    if groups is None or number == MISSING or not found:
        return []
    outer, inner = groups.nested
    inside, waiting = set[int](), [number]
    while waiting:
        here = waiting.pop()
        for each in inner[outer == here].tolist():
            if each not in inside:
                inside.add(each)
                waiting.append(each)
    return [groups.ids[each] for each in sorted(inside - {number}) if found[0] in groups.direct.of(each).tolist()][:1]


def pending(decided: Sequence[Decided]) -> Iterator[Decided]:
    """Return the rows that wait for someone."""
    return (one for one in decided if one.fate in OPEN)
