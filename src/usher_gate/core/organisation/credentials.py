"""What people can sign in with: registered authenticators, and bootstrap passes."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from ..words.record import record
from .columns import MISSING, NO_TIME, Bools, Ints, Longs


@record
class Authenticators:
    """Describes what people have registered, one a row; `kind` points into `kinds`, the types of NIST SP 800-63B."""

    person: Ints
    kind: Ints
    kinds: tuple[str, ...]
    lists_memorized: bool  # whether memorized secrets are listed for some member

    @cached_property
    def _ordered(self) -> tuple[Ints, Ints]:
        order = np.argsort(self.person, kind="stable")
        return self.person[order], self.kind[order]

    def of(self, person: int) -> frozenset[str]:
        """Return the types that a person has registered."""
        people, kinds = self._ordered
        first, after = np.searchsorted(people, (person, person + 1)).tolist()
        return frozenset(self.kinds[kind] for kind in kinds[first:after].tolist())


@record
class PassDetails:
    """One pass.

    When it starts and ends (microseconds), whether it is live, whether it works only once (None: not known), and who
    issued it (a number of an active person, MISSING for no one known; None where that is not said).
    """

    starts: int
    expires: int
    live: bool
    single_use: bool | None
    issuer: int | None


@record
class Passes:
    """Bootstrap passes of active people, one a row, and what they come to at `taken_at`; times in microseconds.

    `person` and `issuer` number the active people, MISSING for no one known; `silent` are the rows that do not say who
    issued them. `single_use` and `issuer` are None where the table has no such column; `used` is NO_TIME where a pass
    was not used. `size` is the number of active people.
    """

    person: Ints
    issued: Longs
    starts: Longs
    expires: Longs
    used: Longs
    single_use: Bools | None
    issuer: Ints | None
    silent: Bools
    taken_at: int
    size: int

    @cached_property
    def _live(self) -> Longs:
        """Return the rows that are issued, started, not used up and not expired."""
        spent = np.zeros(len(self.person), bool)
        if self.single_use is not None:
            spent = self.single_use & (self.used != NO_TIME) & (self.used <= self.taken_at)
        begun = (self.issued <= self.taken_at) & (self.starts <= self.taken_at)
        return np.flatnonzero(begun & (self.taken_at < self.expires) & ~spent)

    @cached_property
    def _coming(self) -> Longs:
        """Return the rows that are issued and start later."""
        return np.flatnonzero((self.issued <= self.taken_at) & (self.starts > self.taken_at))

    @cached_property
    def _usable(self) -> Longs:
        """Return the rows that are live or coming."""
        return np.concatenate((self._live, self._coming))

    def of(self, person: int) -> list[PassDetails]:
        """Return a person's live and coming passes, by start."""
        rows = [*self._live.tolist(), *self._coming.tolist()]
        found = [
            PassDetails(
                starts=int(self.starts[row]),
                expires=int(self.expires[row]),
                live=int(self.starts[row]) <= self.taken_at,
                single_use=None if self.single_use is None else bool(self.single_use[row]),
                issuer=None if self.issuer is None or self.silent[row] else int(self.issuer[row]),
            )
            for row in rows
            if int(self.person[row]) == person
        ]
        return sorted(found, key=lambda each: (each.starts, each.expires))

    def _counted(self, rows: Longs) -> Ints:
        return np.bincount(self.person[rows], minlength=self.size).astype(np.int32)

    @cached_property
    def live(self) -> Ints:
        """Return how many live ones everyone has."""
        return self._counted(self._live)

    @cached_property
    def coming(self) -> Ints:
        """Return how many coming ones everyone has."""
        return self._counted(self._coming)

    @cached_property
    def longest(self) -> Longs:
        """Return the longest life among everyone's live and coming ones, 0 without any."""
        rows, longest = self._usable, np.zeros(self.size, np.int64)
        np.maximum.at(longest, self.person[rows], (self.expires - self.starts)[rows])
        return longest

    @cached_property
    def reusable(self) -> Ints | None:
        """Return how many live and coming ones of everyone work more than once."""
        return None if self.single_use is None else self._counted(self._usable[~self.single_use[self._usable]])

    @cached_property
    def self_issued(self) -> Ints | None:
        """Return how many live and coming ones everyone issued for themself.

        MISSING where not all of theirs say who did.
        """
        if self.issuer is None:
            return None
        rows = self._usable
        own = self._counted(rows[self.issuer[rows] == self.person[rows]])
        own[self.person[rows[self.silent[rows]]]] = MISSING
        return own


def no_passes(taken_at: int, size: int) -> Passes:
    """Return a table of passes without a row."""
    none = np.empty(0, np.int64)
    few = none.astype(np.int32)
    return Passes(
        person=few,
        issued=none,
        starts=none,
        expires=none,
        used=none,
        single_use=none.astype(bool),
        issuer=few,
        silent=none.astype(bool),
        taken_at=taken_at,
        size=size,
    )
