"""Judging one leaf about a fact of a person."""

from __future__ import annotations

import numpy as np

from ..organisation.columns import MISSING
from ..organisation.facts import fact
from ..organisation.snapshot import Snapshot
from ..words.compare import Comparison
from .codes import DRIFTS, MEETS, UNKNOWN
from .condition import Leaf
from .outcome import Judged, Outcome, Root, coded, constant


def judge_fact(leaf: Leaf, snapshot: Snapshot) -> Judged:
    """Judges one leaf about a fact of a person."""
    assert leaf.comparison is not None
    column, size = fact(leaf.name, snapshot), len(snapshot.people)
    if column is None:
        return constant(leaf, Outcome(UNKNOWN, "no-fact"), size)
    root = Root(None, leaf.name, "person", None)
    outcomes = [_fact_outcome(leaf.comparison, word, root) for word in column.words]
    if leaf.comparison.operator == "present":
        good = leaf.comparison.passes_presence(False)
        outcomes.append(
            Outcome(
                verdict=MEETS if good else DRIFTS,
                reason="" if good else "fails",
                actual="absent",
                cause=None,
                root=None if good else root,
            )
        )
    else:
        outcomes.append(Outcome(UNKNOWN, "no-fact"))
    return coded(leaf, np.where(column.codes == MISSING, len(column.words), column.codes).astype(np.int32), outcomes)


def _fact_outcome(comparison: Comparison, value: str, root: Root) -> Outcome:
    present = comparison.operator == "present"
    good = comparison.passes_presence(True) if present else comparison.passes(value)
    return Outcome(
        verdict=MEETS if good else DRIFTS,
        reason="" if good else "fails",
        actual="present" if present else value,
        cause=None,
        root=None if good else root,
    )
