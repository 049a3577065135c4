"""What a sign-in would meet, as JSON (form sign-in/1)."""

from __future__ import annotations

from typing import Any, TextIO

from ...core.sign_in.decide import OWN, Decision
from ..json_text import hole_object, text, write_form
from ..render_options import RenderOptions
from .answer import SignInAnswer, SignInsAnswer, condition_words, helped, match_text, outcomes_of, sentence


def _decision_object(decision: Decision, found: str) -> dict[str, Any]:
    return {
        "outcome": decision.outcome,
        "sentence": sentence(decision),
        "denied_by": list(decision.denied_by),
        "missing": [
            {"by": None if demand.by == OWN else demand.by, "require": demand.require.text}
            for demand in (*decision.uncarried, *decision.missing)
        ],
        "partner_shut": decision.partner_shut,
        "longest_hours": decision.longest_hours,
        "no_downloads": decision.no_downloads,
        "helps": found or None,
        "not_known": list(decision.gaps),
    }


def write_sign_ins_json(answer: SignInsAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes what every resource would meet, as JSON (form sign-ins/1)."""
    entries = [
        text({"resource": each.resource, "outcomes": outcomes_of(each), "rows": _rows(each)})
        for each in answer.resources
    ]
    snapshot = answer.decider.gatekeeper.snapshot
    write_form(stream, "sign-ins/1", snapshot, [{}, {"person": answer.who}], [("resources", entries)])


def _rows(answer: SignInAnswer) -> list[dict[str, Any]]:
    """Return each row: when, one such sign-in, and what it meets."""
    return [
        {
            "when": condition_words(row, answer),
            "example": hole_object(row.sign_in),
            "decision": _decision_object(row.now, helped(answer, row)),
            "if_enforced": _decision_object(row.observed, ""),
        }
        for row in answer.rows
    ]


def write_sign_in_json(answer: SignInAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the answer as JSON."""
    entries = []
    for row, made in zip(answer.rows, _rows(answer), strict=True):
        rules = [
            {"rule": rule.id, "mode": rule.mode, "matches": match_text(answer, number, row)}
            for number, rule in enumerate(answer.decider.gatekeeper.rules)
        ]
        entries.append(text({**made, "rules": rules}))
    snapshot = answer.decider.gatekeeper.snapshot
    write_form(
        stream, "sign-in/1", snapshot, [{}, {"person": answer.who, "resource": answer.resource}], [("rows", entries)]
    )
