"""A baseline's rules (form rules/1), one rule (rule/1) and the controls (controls/1), as JSON."""

from __future__ import annotations

from typing import TextIO

from ...core.verdicts.uncovered import Values
from ..json_text import text, write_form
from ..render_options import RenderOptions
from .answer import ControlsAnswer, RuleAnswer, RulesAnswer, UncoveredAnswer, control_object, rule_object


def write_rules_json(answer: RulesAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the rules."""
    entries = [text(rule_object(rule)) for rule in answer.baseline.rules]
    write_form(stream, "rules/1", answer.snapshot, [], [("rules", entries)])


def write_rule_json(answer: RuleAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes one rule."""
    reaches = [
        {"service": reach.service, "people": reach.people, "of": reach.of, "why": reach.why} for reach in answer.reaches
    ]
    write_form(stream, "rule/1", answer.snapshot, [{}, {**rule_object(answer.rule), "reaches": reaches}])


def write_uncovered_json(answer: UncoveredAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes what no rule asks about (form uncovered/1)."""
    index, found = answer.snapshot.catalogue.index, answer.uncovered
    controls = [
        {
            "service": each.service,
            "control": each.control,
            "area": index[each.control].area,
            "title": index[each.control].title,
            "settings": each.settings,
            "values": _values(each.values),
        }
        for each in found.controls
    ]
    facts = [{"fact": each.name, "values": _values(each.values)} for each in found.facts]
    lists = (
        ("controls", [text(each) for each in controls]),
        ("facts", [text(each) for each in facts]),
        ("resources", [text(name) for name in found.resources]),
    )
    whole = {"controls_uncovered": len(controls), "controls_of_services": found.of}
    write_form(stream, "uncovered/1", answer.snapshot, [whole], lists)


def _values(values: Values) -> list[dict[str, object]]:
    return [{"value": value, "people": people} for value, people in values]


def write_controls_json(answer: ControlsAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the controls."""
    entries = [text(control_object(control)) for control in answer.controls]
    write_form(stream, "controls/1", answer.snapshot, [], [("controls", entries)])
