"""Who the guests are, and who has to be asked about them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from operator import attrgetter

import numpy as np

from ...core.guests.asking import ReviewRow
from ...core.guests.policy import DAYS, END, KEEP, Policy
from ...core.guests.states import RECOMMENDATIONS, STATES, Guest, in_state
from ...core.organisation.columns import MISSING
from ...core.organisation.snapshot import Snapshot
from ...core.words.record import record
from ...files.written.worksheets import Sent
from ..fields import COUNT, DATE, NOTES, TEXT, TEXTS, Field, enum, list_of, maybe, nullable, numbers_by, object_of
from ..writers import Result, Rows


@record
class GuestsAnswer:
    """The guests that are listed, the worst first; what would be asked about them (or was: `sent`).

    The policy, and notes.
    """

    snapshot: Snapshot
    policy: Policy
    guests: tuple[Guest, ...]
    questions: tuple[ReviewRow, ...]
    sent: Sent | None
    notes: tuple[str, ...]

    def asked(self) -> Mapping[int, list[ReviewRow]]:
        """Return the rows by who is asked, the reviewer with most first; MISSING for no one, last."""
        found: dict[int, list[ReviewRow]] = {}
        for question in self.questions:
            found.setdefault(question.reviewer, []).append(question)
        ranked = sorted(found, key=lambda one: (one == MISSING, -len(found[one]), one))
        return {one: found[one] for one in ranked}

    @property
    def nobody(self) -> list[int]:
        """Return the guests that no one can be asked about, at some place."""
        return sorted({question.guest for question in self.questions if question.reviewer == MISSING})

    def ids(self, people: list[int]) -> list[str]:
        """Return people by id."""
        return self.snapshot.people.ids.take(np.array(people, np.int64)) if people else []

    def logins(self, people: list[int]) -> list[str]:
        """Return people by login."""
        return self.snapshot.people.logins.take(np.array(people, np.int64)) if people else []

    def domain(self, guest: int) -> str:
        """Return where a guest comes from; "" where that is not known."""
        domains = self.snapshot.guest_domains
        code = int(domains.codes[guest])
        return "" if code == MISSING else domains.words[code]

    def sponsor(self, guest: int) -> int:
        """Return who answers for a guest's account; MISSING for no one."""
        sponsors = self.snapshot.people.sponsors
        return MISSING if sponsors is None else int(sponsors[guest])


@record
class _GuestRow:
    """A guest with what the snapshot says of them."""

    guest: Guest
    id: str
    login: str
    domain: str
    sponsor: str


@record
class _ReviewerRow:
    """Someone who is asked, with the rows that they have to answer."""

    id: str
    login: str
    questions: list[ReviewRow]


def _guests(answer: GuestsAnswer) -> Iterator[_GuestRow]:
    people = [guest.person for guest in answer.guests]
    sponsors = [answer.sponsor(person) for person in people]
    known = sorted({*sponsors} - {MISSING})
    names = dict(zip(known, answer.ids(known), strict=True))
    columns = zip(answer.guests, answer.ids(people), answer.logins(people), sponsors, strict=True)
    for guest, name, login, sponsor in columns:
        yield _GuestRow(
            guest=guest, id=name, login=login, domain=answer.domain(guest.person), sponsor=names.get(sponsor, "")
        )


def _reviewers(answer: GuestsAnswer) -> Iterator[_ReviewerRow]:
    every = answer.asked()
    people = [person for person in every if person != MISSING]
    for person, name, login in zip(people, answer.ids(people), answer.logins(people), strict=True):
        yield _ReviewerRow(name, login, every[person])


_DAYS_SAY = {
    "review_every_days": "How many days may pass between two reviews of a guest.",
    "silent_days": "After how many days without a sign-in a guest is silent.",
    "ends_soon_days": "How many days before its end an account ends soon.",
    "answer_within_days": "How many days reviewers have to answer.",
    "keep_for_days": "How many days a guest is kept for by an answer that names no day.",
}
_POLICY = (
    *(Field(name, COUNT, _DAYS_SAY[name], attrgetter(f"policy.{name}")) for name in DAYS),
    Field("on_silence", enum((END, KEEP)), "What follows where no one answers.", "policy.on_silence"),
    Field(
        "fallback",
        TEXTS,
        "Who is asked if no one else can be (ids).",
        lambda answer: answer.ids(list(answer.policy.fallback)),
    ),
)
_SENT = (
    Field("id", TEXT, "The name of the review."),
    Field("due", DATE, "The last day for answers."),
    Field("worksheets", TEXTS, "The files that were written.", lambda sent: [name for name, _, _ in sent.sheets]),
)
_ID = Field("id", TEXT, "The guest's id.")
_GUEST = (
    _ID,
    Field("login", TEXT, "The guest's login."),
    Field("home_domain", maybe(TEXT), "The domain that the guest comes from.", "domain"),
    Field("sponsor", maybe(TEXT), "Who answers for the account (id)."),
    Field("states", list_of(enum(STATES)), "The guest's states, the worst first.", "guest.states"),
    Field("recommendation", enum(RECOMMENDATIONS), "What should be done.", "guest.advice"),
    Field("reason", TEXT, "Why, in a sentence.", "guest.reason"),
)
_REVIEWER = (
    Field("id", TEXT, "The reviewer's id."),
    Field("login", TEXT, "The reviewer's login."),
    Field(
        "guests",
        COUNT,
        "How many guests they are asked about.",
        lambda row: len({question.guest for question in row.questions}),
    ),
    Field("rows", COUNT, "How many rows they have to answer.", lambda row: len(row.questions)),
)
GUESTS = Result(
    schema="guests/1",
    says="The guests of an organisation by state, and who has to be asked about them.",
    lines=(
        (
            Field(
                "policy",
                object_of(_POLICY),
                "What the organisation has agreed about its guests.",
                lambda answer: answer,
            ),
        ),
        (
            Field(
                "states",
                numbers_by(STATES),
                "How many guests are in each state.",
                lambda answer: {state: in_state(answer.guests, state) for state in STATES},
            ),
        ),
        (Field("review", nullable(object_of(_SENT)), "The review that was asked; null without --ask.", "sent"),),
        (
            Field(
                "nobody_to_ask",
                TEXTS,
                "Guests for which nobody can be asked (ids).",
                lambda answer: answer.ids(answer.nobody),
            ),
        ),
    ),
    lists=(
        Field(
            "guests",
            list_of(
                object_of(
                    (
                        *_GUEST,
                        Field("missing", TEXTS, "The columns that would be needed and are not known.", "guest.missing"),
                    )
                )
            ),
            "The guests that are listed, the worst first.",
            _guests,
        ),
        Field("reviewers", list_of(object_of(_REVIEWER)), "Who is asked, the one with most rows first.", _reviewers),
        NOTES,
    ),
    csv=(Rows("`guests`: a row for each guest", (_ID.named("guest"), *_GUEST[1:]), _guests),),
)
