"""Judging one leaf about a proof: whether every possible sign-in of everyone is covered."""

from __future__ import annotations

from ..sign_in.coverage import Coverage
from .codes import DRIFTS, MEETS, UNKNOWN
from .condition import Leaf
from .outcome import Judged, Outcome, Root, coded


def judge_proof(leaf: Leaf, coverage: Coverage) -> Judged:
    """Judges one leaf about a proof: whether every possible sign-in of everyone is covered."""
    root = Root(None, leaf.name, "access-rules", None)
    outcomes = []
    assert leaf.asked is not None
    found = coverage.of(leaf.asked)
    for answer in found.answers:
        if answer is None:
            outcomes.append(Outcome(MEETS, ""))
        elif isinstance(answer, str):
            outcomes.append(Outcome(UNKNOWN, answer))
        else:
            reason = "observed-only" if answer.observed_closes else "hole"
            outcomes.append(
                Outcome(verdict=DRIFTS, reason=reason, actual=None, cause=None, root=root, hole=answer.sign_in)
            )
    return coded(leaf, found.codes, outcomes)
