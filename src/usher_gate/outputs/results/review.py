"""What the answers of a review of guests decide, and what follows from them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from datetime import date
from operator import attrgetter

import numpy as np

from ...core.guests.deciding import FATES, Decided, ReviewOutcome
from ...core.guests.policy import END, KEEP
from ...core.organisation.snapshot import Snapshot
from ...core.words.record import record
from ...files.written.worksheets import ReadReview
from ..fields import (
    COUNT,
    DATE,
    NOTES,
    TEXT,
    TEXTS,
    WORD,
    Field,
    Type,
    enum,
    list_of,
    maybe,
    nullable,
    numbers_by,
    object_of,
)
from ..writers import Result, Rows


@record
class ReviewAnswer:
    """A review read back on a day.

    Each row decided, what follows, where the changes were written ("" for nowhere), and notes.
    """

    snapshot: Snapshot
    read: ReadReview
    on: date
    decided: tuple[Decided, ...]
    outcome: ReviewOutcome
    written: str
    notes: tuple[str, ...]

    def login(self, name: str) -> str:
        """Return the login of someone by id; the id of someone who has gone."""
        found = self.snapshot.people.ids.find(name)
        return self.snapshot.people.logins.take(np.array(found[:1]))[0] if found else name

    @property
    def fates(self) -> Mapping[str, int]:
        """Return how many rows there are of each fate."""
        return Counter(one.fate for one in self.decided)

    @property
    def reviewers(self) -> Mapping[str, tuple[int, int]]:
        """Return for each reviewer (by id) how many rows are answered, and how many there are."""
        asked = Counter(one.row.reviewer for one in self.decided)
        silent = Counter(
            one.row.reviewer for one in self.decided if one.fate in ("pending", "silence-ends", "silence-keeps")
        )
        return {name: (many - silent[name], many) for name, many in sorted(asked.items())}


def _pairs(name: str, named: str, says: str, type_: Type = TEXT) -> Type:
    """Return the type of a list of (something, ids of guests)."""
    return list_of(object_of((Field(name, type_, says, "0"), Field("guests", TEXTS, named, "1"))))


_GUEST_IDS = "The guests (ids)."
_KEPT = _pairs("until", _GUEST_IDS, "The day until which they are kept.", DATE)
_SPONSORS = _pairs("sponsor", _GUEST_IDS, "The new sponsor (id).")
_REMOVED = _pairs("group", _GUEST_IDS, "The group that they leave (id).")
_NESTED = (
    Field("guest", TEXT, "The guest (id).", "0"),
    Field("group", TEXT, "The group (id) in which the guest is only through another.", "1"),
    Field("through", TEXT, "The groups through which.", "2"),
)
_REVIEWER = (
    Field("id", TEXT, "The reviewer's id.", "0"),
    Field("answered", COUNT, "How many of their rows are answered.", "1.0"),
    Field("rows", COUNT, "How many rows they were asked.", "1.1"),
)
_SPONSOR = Field("sponsor", maybe(TEXT), "The new sponsor that the answer names (id).")
_ROW = (
    Field("guest", TEXT, "The guest (id).", "row.guest"),
    Field("place", TEXT, "What was asked about: `account`, or a group.", "row.place"),
    Field("reviewer", TEXT, "Who was asked (id).", "row.reviewer"),
    Field("decision", enum(FATES), "What becomes of it.", "fate"),
    Field("until", nullable(DATE), "The last day, if the account is kept until one."),
    Field("note", WORD, "What the reviewer wrote."),
    _SPONSOR,
    Field("where", TEXT, "The file and line of the answer."),
    Field("others", TEXTS, "Where the row is answered otherwise."),
)
REVIEW = Result(
    schema="review/1",
    says="What the answers of a review of guests decide.",
    lines=(
        (
            Field("review", TEXT, "The name of the review.", "read.id"),
            Field("asked_at", TEXT, "When the snapshot was taken about which was asked.", "read.taken_at"),
            Field("asked_on", DATE, "The day on which was asked.", "read.asked_on"),
        ),
        (
            Field("due", DATE, "The last day for answers.", "read.due"),
            Field("on", DATE, "The day of the reading."),
            Field("on_silence", enum((END, KEEP)), "What follows where no one answers.", "read.on_silence"),
        ),
        (
            Field(
                "decisions",
                numbers_by(FATES),
                "How many rows are decided how.",
                lambda answer: {fate: answer.fates.get(fate, 0) for fate in FATES},
            ),
        ),
        (
            Field("ended", TEXTS, "The accounts that end (ids).", "outcome.ended"),
            Field(
                "kept",
                _KEPT,
                "The accounts that are kept, by their last day.",
                lambda answer: answer.outcome.kept.items(),
            ),
        ),
        (Field("sponsors", _SPONSORS, "New sponsors.", lambda answer: answer.outcome.sponsors.items()),),
        (Field("removed", _REMOVED, "Memberships that end, by group.", lambda answer: answer.outcome.removed.items()),),
        (
            Field(
                "nested",
                list_of(object_of(_NESTED)),
                "Memberships through another group, which stay.",
                "outcome.nested",
            ),
            Field("gone", TEXTS, "Guests who have gone since (ids).", "outcome.gone"),
            Field("nobody_to_ask", TEXTS, "Guests for which nobody could be asked (ids).", "read.nobody"),
        ),
    ),
    lists=(
        Field("reviewers", list_of(object_of(_REVIEWER)), "Who was asked.", lambda answer: answer.reviewers.items()),
        Field("rows", list_of(object_of(_ROW)), "Each row that was asked.", "decided"),
        NOTES,
    ),
    csv=(
        Rows(
            "`guests --read`: a row for each that was asked",
            tuple(field for field in _ROW if field is not _SPONSOR),
            attrgetter("decided"),
        ),
    ),
)
