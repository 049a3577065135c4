"""A baseline's rules (form rules/1), one rule (rule/1) and the controls (controls/1), as JSON."""

from __future__ import annotations

from typing import TextIO

from ..json_text import text, write_form
from ..look import Look
from .answer import ControlsAnswer, RuleAnswer, RulesAnswer, control_object, rule_object


def write_rules_json(answer: RulesAnswer, stream: TextIO, _look: Look) -> None:
    """Writes the rules."""
    entries = [text(rule_object(rule)) for rule in answer.baseline.rules]
    write_form(stream, "rules/1", answer.snapshot, [], [("rules", entries)])


def write_rule_json(answer: RuleAnswer, stream: TextIO, _look: Look) -> None:
    """Writes one rule."""
    reaches = [
        {"service": reach.service, "people": reach.people, "of": reach.of, "why": reach.why} for reach in answer.reaches
    ]
    write_form(stream, "rule/1", answer.snapshot, [{}, {**rule_object(answer.rule), "reaches": reaches}])


def write_controls_json(answer: ControlsAnswer, stream: TextIO, _look: Look) -> None:
    """Writes the controls."""
    entries = [text(control_object(control)) for control in answer.controls]
    write_form(stream, "controls/1", answer.snapshot, [], [("controls", entries)])
