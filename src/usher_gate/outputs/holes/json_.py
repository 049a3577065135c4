"""Holes, lock-outs and what ails the access rules, as JSON (form holes/1)."""

from __future__ import annotations

from typing import Any, TextIO

import numpy as np

from ...core.sign_in.holes import WayIn
from ...core.words.times import rfc3339
from ...core.words.vocabulary import DIMENSIONS
from ..conditions import conditional_object
from ..json_text import hole_object, lockout_object, text, write_form
from ..render_options import RenderOptions
from .answer import HolesAnswer, describe, outcome_text, reach_counts


def _use(answer: HolesAnswer, hole: WayIn) -> dict[str, Any] | None:
    """Return who used a hole; null where no log was read."""
    use = answer.use_of(hole)
    if use is None:
        return None
    ids = answer.snapshot.people.ids.take(np.array([person for person, _ in use.by], np.int32))
    by = [{"id": name, "sign_ins": number} for name, (_, number) in zip(ids, use.by, strict=True)]
    last = None if use.last is None else rfc3339(use.last)
    return {"sign_ins": use.sign_ins, "by": by, "last": last, "perhaps": use.perhaps}


def write_holes_json(answer: HolesAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the answer as JSON."""
    ids = answer.snapshot.people.ids
    entries = [
        text(
            {
                "rule": rule.rule or None,
                "proof": rule.asked.proof,
                "people": len(hole.people),
                "ids": ids.take(np.array(hole.people)),
                "way": describe(hole),
                "values": {
                    name: None if values is None else list(values)
                    for name, values in zip(DIMENSIONS, hole.values, strict=True)
                },
                "because": list(hole.because),
                "observed_closes": hole.observed_closes,
                "example": hole_object(hole.sign_in),
                "used": _use(answer, hole),
            }
        )
        for rule in answer.rules
        for hole in rule.holes
    ]
    stranded = [text({"resource": each.resource, "ids": ids.take(each.people)}) for each in answer.stranded]
    locked = [text(lockout_object(lockout)) for lockout in answer.lockouts]
    ailing = [text({"rule": defect.rule, "what": defect.what, "text": defect.text}) for defect in answer.defects]
    rules = []
    for number, rule in enumerate(answer.evaluator.rules):
        reached, excluded = reach_counts(answer.evaluator, number)
        known = not answer.evaluator.unanswerable >> number & 1
        counted = {"reaches": reached if known else None, "excludes": excluded if known else None}
        rules.append(
            text({"id": rule.id, "title": rule.title, "mode": rule.mode, **counted, "outcome": outcome_text(rule)})
        )
    conditional = [text(conditional_object(access)) for access in answer.conditional]
    asked = [
        text(
            {"rule": rule.rule or None, "proof": rule.asked.proof, "people": rule.people, "unknown": len(rule.unknown)}
        )
        for rule in answer.rules
    ]
    lists = (
        ("asked", asked),
        ("holes", entries),
        ("lockouts", locked),
        ("conditional", conditional),
        ("stranded", stranded),
        ("ailments", ailing),
        ("rules", rules),
    )
    write_form(stream, "holes/1", answer.snapshot, [], lists)
