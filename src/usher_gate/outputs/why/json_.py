"""Where one person's value or verdict comes from, as JSON (form why/1)."""

from __future__ import annotations

from typing import Any, TextIO

import numpy as np

from ...core.settings.effective import Cause
from ...core.settings.walk import StepSetting
from ...core.verdicts.codes import VERDICTS
from ...core.verdicts.explain import ExplainedValue, RuleExplanation
from ...core.words.compare import shown
from ..json_text import leaf_object, shown_or_none, text, write_form
from ..render_options import RenderOptions
from .answer import Explanation, WaysAnswer


def _setting_object(setting: StepSetting, explanation: Explanation) -> dict[str, Any]:
    return {
        "scope": setting.scope,
        "value": shown(setting.value),
        "pinned": setting.pinned,
        "rank": setting.rank,
        "changed_at": None if setting.changed is None else explanation.time_of(setting.changed),
        "young": setting.young,
        "at": explanation.line_of(setting.row) or None,
        "note": explanation.note_of(setting.row) or None,
        "state": setting.state,
    }


def _said_object(said: RuleExplanation, explanation: Explanation) -> dict[str, Any]:
    """Return one verdict with its reasons as JSON."""
    detail = said.detail
    return {
        "rule": said.rule.id,
        "severity": said.rule.severity,
        "title": said.rule.title,
        "service": said.service,
        "verdict": VERDICTS[said.verdict],
        "reason": detail.reason if detail else said.exempt,
        "leaves": [leaf_object(leaf, outcome) for leaf, outcome in detail.leaves] if detail else [],
        "exception": detail.exception if detail else None,
        "would_be": VERDICTS[detail.would_be] if detail and detail.would_be is not None else None,
        "values": [
            {"service": got.service, "control": got.control, **_cause_object(got.cause, explanation)}
            for got in said.values
        ],
        "facts": [{"fact": name, "value": value} for name, value in said.facts],
    }


def _walk_object(explained: ExplainedValue, explanation: Explanation) -> dict[str, Any]:
    """Return how one value comes about as JSON."""
    walk = explained.walk
    return {
        "service": walk.service.id,
        "control": walk.control,
        "supported": walk.supported,
        "account": walk.account,
        "value": shown_or_none(walk.value),
        "scope": walk.scope,
        "pinned": walk.pinned,
        "changeable": walk.changeable,
        "young": walk.young,
        "licence": walk.licence or None,
        "contested": [{"scope": scope, "value": shown(value)} for scope, value in walk.contested],
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
        "arrives_at": None if walk.arrives is None else explanation.time_of(walk.arrives),
        "chains": [list(chain) for chain in walk.chains],
        "rules": [_said_object(said, explanation) for said in explained.rules],
        "contradictions": [
            {"control": clash.control, "value": clash.value, "scope": clash.scope} for clash in walk.contradictions
        ],
    }


def _glance(explanation: Explanation) -> list[tuple[str, list[str]]]:
    """Return the lists of the overview; empty where a control or a rule was asked for."""
    glance = explanation.glance
    values = [
        {"service": each.service, "control": each.control, **_cause_object(each.cause, explanation)}
        for each in (glance.values if glance is not None else ())
    ]
    facts = [{"fact": name, "value": value} for name, value in (glance.facts if glance is not None else ())]
    return [
        ("values", [text(each) for each in values]),
        ("facts", [text(each) for each in facts]),
        ("locked_out", [text(name) for name in (glance.locked_out if glance is not None else ())]),
        ("stranded", [text(name) for name in (glance.stranded if glance is not None else ())]),
    ]


def _cause_object(cause: Cause | None, explanation: Explanation) -> dict[str, Any]:
    if cause is None:
        return {"value": None, "scope": None, "pinned": False, "at": None}
    line = explanation.line_of(cause.row) or None
    return {"value": shown_or_none(cause.value), "scope": cause.scope, "pinned": cause.pinned, "at": line}


def write_ways_json(answer: WaysAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes who has a value as JSON (form ways/1)."""
    people = answer.snapshot.people

    def way(cause: Cause) -> dict[str, Any]:
        return {"scope": cause.scope, "pinned": cause.pinned, "at": answer.line_of(cause.row) or None}

    rows = np.array([ways.person for _, ways in answer.found], np.int64)
    entries = [
        text(
            {
                "id": name,
                "login": login,
                "service": service,
                "has": ways.has,
                "ways": [way(cause) for cause in ways.ways],
                "counts": None
                if ways.counts is None
                else {"scope": ways.counts.scope, "value": shown_or_none(ways.counts.value)},
            }
        )
        for (service, ways), name, login in zip(
            answer.found, people.ids.take(rows), people.logins.take(rows), strict=True
        )
    ]
    head = {"control": answer.control, "value": shown(answer.value)}
    write_form(stream, "ways/1", answer.snapshot, [{}, head], [("people", entries)])


def write_why_json(explanation: Explanation, stream: TextIO, _look: RenderOptions) -> None:
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
        ("verdicts", [text(_said_object(said, explanation)) for said in (explanation.glance or explanation).said]),
        *_glance(explanation),
        ("walks", [text(_walk_object(explained, explanation)) for explained in explanation.walks]),
    )
    head = {"person": subject, "asked": explanation.asked}
    if explanation.meeting is not None:
        head["meeting"] = explanation.meeting.id
    write_form(stream, "why/1", explanation.snapshot, [{}, head], lists)
