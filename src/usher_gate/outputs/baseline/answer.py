"""A baseline's rules and the controls that there are: what is shown."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ...core.organisation.snapshot import Snapshot
from ...core.verdicts.condition import in_words
from ...core.verdicts.rules import Baseline, Rule
from ...core.verdicts.uncovered import Uncovered
from ...core.words.catalogue import Control
from ...core.words.record import record


@record
class RulesAnswer:
    """A baseline that is valid."""

    snapshot: Snapshot | None
    baseline: Baseline


@record
class RuleReach:
    """Describes how many of how many people a rule judges on a service.

    `people` is None if that is not known, and `why` says why.
    """

    service: str | None
    people: int | None
    of: int
    why: str | None


@record
class RuleAnswer:
    """One rule, and the people that it reaches."""

    snapshot: Snapshot | None
    rule: Rule
    reaches: Sequence[RuleReach]


@record
class UncoveredAnswer:
    """Describes what no rule of a baseline asks about."""

    snapshot: Snapshot
    baseline: Baseline
    uncovered: Uncovered


@record
class ControlsAnswer:
    """The controls of the catalogue, the organisation's own among them."""

    snapshot: Snapshot | None
    controls: Sequence[Control]


def rule_object(rule: Rule) -> dict[str, Any]:
    """Return a rule as it is shown."""
    return {
        "id": rule.id,
        "severity": rule.severity,
        "subject": rule.subject,
        "audience": rule.audience.text,
        "except": rule.exempted.text if rule.exempted else None,
        "services": list(rule.services) if rule.services else None,
        "pinned": rule.pinned or None,
        "title": rule.title,
        "expects": in_words(rule.expect),
        "because": rule.because,
        "mend": rule.mend,
        "maps": {name: list(ids) for name, ids in rule.maps.items()},
    }


def control_object(control: Control) -> dict[str, Any]:
    """Return a control as it is shown."""
    kind = control.kind
    strict = kind.words[-1] if kind.words else {True: "higher", False: "lower"}[kind.higher]
    return {
        "id": control.id,
        "title": control.title,
        "kind": kind.name,
        "values": list(kind.words),
        "strict": None if kind.name == "set" else strict,
        "weak": control.weak,
        "own": control.own,
    }
