"""In which states each guest is, what is recommended and why.

Spec: guests 2.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ..organisation.columns import DAY, MISSING, NO_TIME, Bools, Longs
from ..organisation.partners import DEFAULT_PARTNER
from ..organisation.snapshot import Snapshot
from ..words.plural import plural
from ..words.record import record
from .policy import Policy

# In the order of Spec: guests 2.1; `unknown` comes last before `fine`.
STATES = ("ended", "refused", "unsponsored", "never", "silent", "due", "endless", "ends-soon", "unknown", "fine")
FINE = STATES[-1]
ADVICE = {
    **dict.fromkeys(("ended", "refused", "never", "silent"), "end"),
    **dict.fromkeys(("unsponsored", "due", "endless", "ends-soon", "unknown"), "ask"),
    FINE: "keep",
}
RECOMMENDATIONS = ("end", "ask", "keep")


@record
class Guest:
    """One guest.

    Their number among the active people, all states in order, why the first recommends what it does, and what would
    have to be known.
    """

    person: int
    states: tuple[str, ...]
    reason: str
    missing: tuple[str, ...] = ()

    @property
    def advice(self) -> str:
        """Return what is recommended: by the first state."""
        return ADVICE[self.states[0]]

    @property
    def worst(self) -> int:
        """Return how bad it is: the place of the first state."""
        return STATES.index(self.states[0])


def guests(snapshot: Snapshot, policy: Policy) -> list[Guest]:
    """Return every active guest, the worst first, then by id."""
    states = _States(snapshot, policy)
    found = [states.of(person) for person in np.flatnonzero(snapshot.people.guests).tolist()]
    return sorted(found, key=lambda guest: (guest.worst, guest.person))


class _States:
    """The states of one snapshot's guests."""

    def __init__(self, snapshot: Snapshot, policy: Policy) -> None:
        self._snapshot, self._policy = snapshot, policy
        self._times: dict[str, Sequence[int] | None] = {
            name: None if (column := snapshot.people.times.get(name)) is None else column.tolist()
            for name in ("created_at", "last_sign_in_at", "expires_at", "reviewed_at")
        }
        sponsors = snapshot.people.sponsors
        self._sponsors = None if sponsors is None else sponsors.tolist()
        domains = snapshot.guest_domains
        self._domains = [*domains.words, ""], domains.codes.tolist()
        self._refuses = self._refusing()

    def _refusing(self) -> dict[str, bool | None] | None:
        """By domain (in small letters), whether its guests are not let in; None where there is no partners table."""
        partners = self._snapshot.partners
        if partners is None:
            return None
        is_known = "guests_in" in self._snapshot.partner_columns
        found: dict[str, bool | None] = {
            partner.domain.casefold(): (not partner.home.guests_in) if is_known else None for partner in partners
        }
        return {"*": (not DEFAULT_PARTNER.home.guests_in) if is_known else None, **found}

    def _time(self, name: str, person: int) -> int | None:
        column = self._times[name]
        return None if column is None or column[person] == NO_TIME else column[person]

    def _days(self, time: int) -> int:
        return int((self._snapshot.taken_at - time) // DAY)

    def of(self, person: int) -> Guest:
        """Return a guest with all states that apply, the reason of the first, and what is missing."""
        reasons = dict(self._reasons(person))
        missing = tuple(self._missing(person))
        if missing:
            reasons["unknown"] = f"not known: {', '.join(missing)}"
        found = tuple(sorted(reasons, key=STATES.index)) or (FINE,)
        return Guest(person, found, reasons.get(found[0], "reviewed, sponsored, in use, and with an end"), missing)

    def _reasons(self, person: int) -> Iterator[tuple[str, str]]:
        """Yield each state that a guest is in, as a word with the sentence that explains it."""
        policy, taken = self._policy, self._snapshot.taken_at
        expires = self._time("expires_at", person)
        if expires is not None and expires <= taken:
            yield "ended", f"ended {_ago(self._days(expires))}, and is still active"
        domains, codes = self._domains
        domain = domains[codes[person]]
        if self._refuses is not None and self._refuses.get(domain.casefold(), self._refuses["*"]):
            yield "refused", f"guests from {domain or 'nowhere known'} are not let in"
        if self._sponsors is not None and self._sponsors[person] in (MISSING, person):
            yield "unsponsored", "no active member is responsible for the account"
        created, last = self._time("created_at", person), self._time("last_sign_in_at", person)
        if self._times["last_sign_in_at"] is not None:
            if last is not None and self._days(last) > policy.silent_days:
                yield "silent", f"last signed in {_ago(self._days(last))}"
            if last is None and created is not None and self._days(created) > policy.silent_days:
                yield "never", f"never signed in since the account was made {_ago(self._days(created))}"
        reviewed = self._time("reviewed_at", person)
        since = created if reviewed is None else reviewed
        if since is not None and self._days(since) > policy.review_every_days:
            what = "made and never reviewed" if reviewed is None else "reviewed"
            yield "due", f"{what} {_ago(self._days(since))}"
        if self._times["expires_at"] is not None:
            if expires is None:
                yield "endless", "has no end"
            elif expires > taken and (expires - taken) // DAY <= policy.ends_soon_days:
                days = int((expires - taken) // DAY)
                yield "ends-soon", "ends today" if not days else f"ends in {plural(days, 'day')}"

    def _missing(self, person: int) -> Iterator[str]:
        """Yield what would have to be known."""
        for name in ("expires_at", "last_sign_in_at"):
            if self._times[name] is None:
                yield name
        if self._sponsors is None:
            yield "sponsor"
        if self._refuses is None:
            yield "partners"
        elif self._refuses["*"] is None:
            yield "partners.guests_in"
        created = self._time("created_at", person)
        never = self._times["last_sign_in_at"] is not None and self._time("last_sign_in_at", person) is None
        if created is None and never:
            yield "created_at"
        if created is None and self._time("reviewed_at", person) is None:
            yield "reviewed_at"


def _ago(days: int) -> str:
    return "today" if not days else f"{plural(days, 'day')} ago"


def in_state(every: Sequence[Guest], state: str) -> int:
    """Return how many guests are in a state."""
    return sum(state in guest.states for guest in every)


def chosen(every: Sequence[Guest], people: Bools | None) -> list[Guest]:
    """Return those who are among some people (None: everyone)."""
    return [guest for guest in every if people is None or people[guest.person]]


def numbers(every: Sequence[Guest]) -> Longs:
    """Their numbers among the active people."""
    return np.array([guest.person for guest in every], np.int64)
