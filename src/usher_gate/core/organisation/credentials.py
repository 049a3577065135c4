"""What people can sign in with: registered authenticators, and bootstrap passes."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..words.record import record
from .columns import Ints, Longs


@dataclass(frozen=True)
class Authenticators:
    """What people have registered, one a row; `kind` points into `kinds`, the types of NIST SP 800-63B."""

    person: Ints
    kind: Ints
    kinds: tuple[str, ...]
    lists_memorized: bool  # whether memorized secrets are listed for anybody at all

    @cached_property
    def _ordered(self) -> tuple[Ints, Ints]:
        order = np.argsort(self.person, kind="stable")
        return self.person[order], self.kind[order]

    def of(self, person: int) -> frozenset[str]:
        """The types that a person has registered."""
        people, kinds = self._ordered
        first, after = np.searchsorted(people, (person, person + 1)).tolist()
        return frozenset(self.kinds[kind] for kind in kinds[first:after].tolist())


@record
class Passes:
    """Bootstrap passes of active people: how many of each person's are live, the longest life of those in microseconds, how many of
    them work more than once, and how many the person issued for themself (MISSING where not all say who did).

    The last two are None where the table has no such column.
    """

    live: Ints
    longest: Longs
    reusable: Ints | None = None
    self_issued: Ints | None = None
