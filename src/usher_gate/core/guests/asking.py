"""Who is asked about which guest at which place.

Spec: guests 3.1.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Sequence

import numpy as np

from ..organisation.columns import MISSING, NO_TIME, Ragged
from ..organisation.snapshot import Snapshot
from ..words.record import record
from ..words.times import rfc3339
from .policy import Policy
from .states import Guest

ACCOUNT = "account"
ASKED = (
    "review",
    "guest",
    "login",
    "name",
    "home_domain",
    "place",
    "place_name",
    "last_sign_in",
    "reviewed",
    "ends",
    "recommendation",
    "reason",
)  # what is asked, in order
ANSWERED = ("decision", "until", "note", "sponsor")  # what the reviewer fills in


@record
class ReviewRow:
    """One row.

    A guest at a place (`account`, or `group:ID`), and who is asked (a number of an active person, MISSING for no one
    who can be). `through` is the group that gives a membership that is not direct ("" for one that is). `cells` are
    those of ASKED after the first.
    """

    guest: int
    place: str
    through: str
    reviewer: int
    cells: tuple[str, ...]


class Asking:
    """Finds who is asked, and notes about who cannot be."""

    def __init__(self, snapshot: Snapshot, policy: Policy) -> None:
        self._snapshot, self._policy = snapshot, policy
        self.notes: list[str] = []
        people, every = snapshot.people, np.arange(len(snapshot.people))
        self._ids, self._logins = people.ids.take(every), people.logins.take(every)
        self._names = [""] * len(every) if people.names is None else people.names.take(every)
        self._numbers = {login.casefold(): number for number, login in enumerate(self._logins)}
        self._numbers |= {one: number for number, one in enumerate(self._ids)}
        self._guests = people.guests
        self._fallback = next((one for one in policy.fallback if not self._guests[one]), MISSING)
        self._owners = self._owner_numbers()
        self._members: dict[int, frozenset[int]] = {}
        self._outer: dict[int, frozenset[int]] = {}  # by group those that it lies in
        self._inner: Ragged | None = None  # by group those that hold it as a member
        self._with_cells = True
        self._days: dict[str, list[str]] = {}

    def _owner_numbers(self) -> list[int]:
        """Return for each group who owns it; MISSING for no one who is active, or for a guest."""
        groups = self._snapshot.groups
        if groups is None or groups.owners is None:
            return []
        found = []
        for group, owner in zip(groups.ids, groups.owners, strict=True):
            number = MISSING if not owner else self._numbers.get(owner, self._numbers.get(owner.casefold(), MISSING))
            if owner and number == MISSING:
                self.notes.append(f"the owner of the group {group} is not an active person: someone else is asked")
            elif number != MISSING and self._guests[number]:
                self.notes.append(f"the owner of the group {group} is a guest, and not asked: someone else is")
                number = MISSING
            found.append(number)
        return found

    def _sponsor(self, guest: int) -> int:
        sponsors = self._snapshot.people.sponsors
        number = MISSING if sponsors is None else int(sponsors[guest])
        if number != MISSING and number != guest and self._guests[number]:
            self.notes.append(f"the sponsor of {self._ids[guest]} is a guest, and not asked: someone else is")
            return MISSING
        return MISSING if number == guest else number

    def questions(self, guests: Sequence[Guest], cells: bool = True) -> list[ReviewRow]:
        """Return every row, by reviewer (no one last), guest and place: the account first.

        Without `cells` only the guest and the place.
        """
        self._with_cells = cells
        mine = self._memberships(guests)
        found = [question for place, guest in enumerate(guests) for question in self._of(guest, mine[place])]
        last = len(self._ids)
        return sorted(
            found,
            key=lambda one: (
                last if one.reviewer == MISSING else one.reviewer,
                one.guest,
                one.place != ACCOUNT,
                one.place,
            ),
        )

    def _memberships(self, guests: Sequence[Guest]) -> list[list[int]]:
        """Return the groups of each guest."""
        found: list[list[int]] = [[] for _ in guests]
        if self._snapshot.groups is not None:
            people = np.array([guest.person for guest in guests], np.int64)
            whose, groups = self._snapshot.groups.of_many(people)
            for place, group in zip(whose.tolist(), groups.tolist(), strict=True):
                found[place].append(group)
        return found

    def _of(self, guest: Guest, mine: list[int]) -> Iterator[ReviewRow]:
        """Yield the questions about one guest: the account first, then each group that gives access."""
        person = guest.person
        sponsor = self._sponsor(person)
        asked = sponsor if sponsor != MISSING else self._fallback
        yield ReviewRow(
            guest=person, place=ACCOUNT, through="", reviewer=asked, cells=self._cells(guest, ACCOUNT, "the account")
        )
        groups = self._snapshot.groups
        if groups is None:
            return
        direct = {group for group in mine if person in self._direct(group)}
        giving = self._giving(direct)
        for group in mine:
            owner = self._owners[group] if self._owners else MISSING
            owner = MISSING if owner == person else owner
            reviewer = owner if owner != MISSING else asked
            name = groups.names[group] or groups.ids[group]
            through = "" if group in direct else " and ".join(groups.ids[one] for one in giving[group])
            shown = f"{name} (through {through})" if through else name
            place = f"group:{groups.ids[group]}"
            yield ReviewRow(
                guest=person, place=place, through=through, reviewer=reviewer, cells=self._cells(guest, place, shown)
            )

    def _direct(self, group: int) -> frozenset[int]:
        """Return who is in a group directly."""
        if group not in self._members:
            assert self._snapshot.groups is not None
            self._members[group] = frozenset(self._snapshot.groups.direct.of(group).tolist())
        return self._members[group]

    def _giving(self, direct: set[int]) -> dict[int, list[int]]:
        """Return for each group, which of those that someone is in directly lie in it and give the membership,
        ascending.
        """
        found: dict[int, list[int]] = {}
        for group in sorted(direct):
            for outer in self._above(group):
                found.setdefault(outer, []).append(group)
        return found

    def _above(self, group: int) -> frozenset[int]:
        """Return the groups that a group lies in, at whatever depth."""
        if group not in self._outer:
            groups = self._snapshot.groups
            assert groups is not None
            if self._inner is None:
                outer, inner = groups.nested
                order = np.argsort(inner, kind="stable")
                starts = np.searchsorted(inner[order], np.arange(len(groups.ids) + 1))
                self._inner = Ragged(starts, outer[order].astype(np.int32))
            above, waiting = set[int](), [group]
            while waiting:
                for one in self._inner.of(waiting.pop()).tolist():
                    if one not in above:
                        above.add(one)
                        waiting.append(one)
            self._outer[group] = frozenset(above)
        return self._outer[group]

    def _cells(self, guest: Guest, place: str, name: str) -> tuple[str, ...]:
        """Return the cells of one row of a worksheet, in the order of its columns."""
        person = guest.person
        if not self._with_cells:
            return (self._ids[person],)
        domains = self._snapshot.guest_domains
        code = int(domains.codes[person])
        return (
            self._ids[person],
            self._logins[person],
            self._names[person],
            "" if code == MISSING else domains.words[code],
            place,
            name,
            *(self._day(time, person) for time in ("last_sign_in_at", "reviewed_at", "expires_at")),
            guest.advice,
            guest.reason,
        )

    def _day(self, name: str, person: int) -> str:
        """Return the day of one of a person's times; "" where there is none."""
        if name not in self._days:
            column = self._snapshot.people.times.get(name)
            times = [NO_TIME] * len(self._ids) if column is None else column.tolist()
            known = {time: "" if time == NO_TIME else rfc3339(time)[:10] for time in set(times)}
            self._days[name] = [known[time] for time in times]
        return self._days[name][person]


def digest(cells: Sequence[str]) -> str:
    """Return the SHA-256 of the cells asked in a row: as a JSON array on a line (Spec: guests 3.1)."""
    return hashlib.sha256((json.dumps(list(cells), ensure_ascii=False) + "\n").encode()).hexdigest()


def review_id(snapshot: Snapshot, due: str, questions: Sequence[ReviewRow]) -> str:
    """Return a name for a review: of what day it is, and a digest of all that is asked."""
    whole = "".join(digest((str(one.reviewer), *one.cells)) for one in questions)
    name = hashlib.sha256(f"{snapshot.name}\n{snapshot.taken_text}\n{due}\n{whole}".encode()).hexdigest()
    return f"{snapshot.taken_text[:10]}-{name[:10]}"
