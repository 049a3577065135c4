"""Where one person's value or verdict comes from, as JSON (form why/1)."""

from __future__ import annotations

from typing import Any, TextIO

from ...core.settings.walk import StepSetting
from ...core.verdicts.codes import VERDICTS
from ...core.verdicts.explain import ExplainedValue, Said
from ..json_text import leaf_object, text, write_form
from ..look import Look
from .answer import Explanation


def _setting_object(setting: StepSetting, explanation: Explanation) -> dict[str, Any]:
    return {
        "scope": setting.scope,
        "value": setting.value,
        "pinned": setting.pinned,
        "rank": setting.rank,
        "changed_at": None if setting.changed is None else explanation.time_of(setting.changed),
        "young": setting.young,
        "at": explanation.line_of(setting.row) or None,
        "state": setting.state,
    }


def _said_object(said: Said) -> dict[str, Any]:
    tail = said.tail
    return {
        "rule": said.rule.id,
        "severity": said.rule.severity,
        "title": said.rule.title,
        "service": said.service,
        "verdict": VERDICTS[said.verdict],
        "reason": tail.reason if tail else said.exempt,
        "leaves": [leaf_object(leaf, outcome) for leaf, outcome in tail.leaves] if tail else [],
        "exception": tail.exception if tail else None,
        "would_be": VERDICTS[tail.would_be] if tail and tail.would_be is not None else None,
    }


def _walk_object(explained: ExplainedValue, explanation: Explanation) -> dict[str, Any]:
    walk = explained.walk
    return {
        "service": walk.service.id,
        "control": walk.control,
        "supported": walk.supported,
        "account": walk.account,
        "value": walk.value,
        "scope": walk.scope,
        "pinned": walk.pinned,
        "changeable": walk.changeable,
        "young": walk.young,
        "licence": walk.licence or None,
        "contested": [{"scope": scope, "value": value} for scope, value in walk.contested],
        "seen": list(walk.seen),
        "steps": [
            {
                "step": step.name,
                "gap": step.gap or None,
                "ends_the_walk": step.ends,
                "settings": [_setting_object(setting, explanation) for setting in step.settings],
            }
            for step in walk.steps
        ],
        "rules": [_said_object(said) for said in explained.rules],
        "contradictions": [
            {"control": clash.control, "value": clash.value, "scope": clash.scope} for clash in walk.contradictions
        ],
    }


def write_why_json(explanation: Explanation, stream: TextIO, _look: Look) -> None:
    """Writes the explanation as JSON (form why/1)."""
    person = explanation.person
    subject = {
        "id": person.id,
        "login": person.login,
        "name": person.name or None,
        "kind": person.kind,
        "unit": person.unit,
    }
    lists = (
        ("verdicts", [text(_said_object(said)) for said in explanation.said]),
        ("walks", [text(_walk_object(explained, explanation)) for explained in explanation.walks]),
    )
    write_form(stream, "why/1", explanation.snapshot, [{}, {"person": subject, "asked": explanation.asked}], lists)
