"""What judging a leaf gives: a code for each person, and what each code means."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from ..door.visitors import Visit
from ..organisation.columns import Ints, Longs
from ..organisation.sign_ins import SignIn
from ..organisation.units import depth
from ..settings.effective import DEEPEST, Cause
from ..words.record import record
from .codes import UNKNOWN, VerdictCodes
from .condition import Leaf


class Root(NamedTuple):
    """The one thing that caused a finding, and that would have to change."""

    service: str | None
    control: str
    scope: str | None
    value: str | None


@record
class Outcome:
    """Describes what one leaf says of one person.

    `actual` and `cause` are None where there is none; `hole` is a sign-in without the proof, `visit` how someone comes
    to a door and `met` what meets them.
    """

    verdict: int
    reason: str
    actual: str | None = None
    cause: Cause | None = None
    root: Root | None = None
    hole: SignIn | None = None
    visit: Visit | None = None
    met: str = ""


def narrowness(leaf: Leaf, outcome: Outcome) -> int:
    """Return how narrow the cause of a leaf is, the narrowest first.

    A fact, a meeting, a person, a group, a unit (the deeper the narrower), the organisation, the factory, a licence,
    nothing (a proof, a meeting's field).
    """
    if leaf.about == "person":
        return 0
    scope = outcome.cause.scope if outcome.cause is not None else None
    kind, _, name = (scope or "").partition(":")
    if kind == "unit":
        return 4 + DEEPEST - depth(name)
    known = {
        "meeting": 1,
        "person": 2,
        "group": 3,
        "organisation": 5 + DEEPEST,
        "factory": 6 + DEEPEST,
        "licence": 7 + DEEPEST,
    }
    return known.get(kind, 8 + DEEPEST)


NO_SERVICES = Outcome(UNKNOWN, "no-value")  # of a control, where no services are known


@dataclass(slots=True)
class Judged:
    """One leaf judged: `codes` (int32, one a person) into `verdicts`; `outcome(code)` gives the rest."""

    leaf: Leaf
    codes: Ints
    verdicts: VerdictCodes
    outcome: Callable[[int], Outcome]

    def narrow(self, subjects: Longs) -> Longs:
        """Return how narrow the cause is of what the leaf says of some subjects (int64, one each)."""
        known, which = np.unique(self.codes[subjects], return_inverse=True)
        narrow = [narrowness(self.leaf, self.outcome(code)) for code in known.tolist()]
        return np.array(narrow, np.int64)[which.reshape(-1)]


def constant(leaf: Leaf, outcome: Outcome, size: int) -> Judged:
    """Return a leaf that says the same of everyone."""
    return coded(leaf, np.zeros(size, np.int32), [outcome])


def coded(leaf: Leaf, codes: Ints, outcomes: Sequence[Outcome]) -> Judged:
    """Return a leaf judged by a list of outcomes."""
    return Judged(leaf, codes, np.array([outcome.verdict for outcome in outcomes], np.uint8), outcomes.__getitem__)


@record
class VerdictDetail:
    """All that a finding says beside its subject: many people share one.

    `verdict` and `would_be` are verdict codes; `decided` is the number of the leaf that decides, None where none does.
    """

    verdict: int
    reason: str
    leaves: tuple[tuple[Leaf, Outcome], ...]
    root: Root | None
    exception: str | None = None
    would_be: int | None = None
    decided: int | None = None

    @property
    def deciding(self) -> tuple[Leaf, Outcome] | None:
        """Return the leaf that decides, and its outcome."""
        return next(((leaf, outcome) for leaf, outcome in self.leaves if leaf.number == self.decided), None)
