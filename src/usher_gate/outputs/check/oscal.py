"""A check as OSCAL 1.1 assessment results: an observation for each root, a finding for each NIST SP 800-53 control that a rule maps to.

Source: NIST OSCAL 1.1.2, assessment-results; identifiers are UUIDs of version 5 (RFC 9562) that stay the same from day to day.
"""

from __future__ import annotations

import json
import re
import uuid
from typing import Any, TextIO

from ...core.verdicts.codes import DRIFTS, UNAVAILABLE, UNKNOWN
from ...core.verdicts.result import CheckResult, RootRow
from ...core.verdicts.rules import Rule
from ...core.words.times import rfc3339
from ..look import Look
from ..section import count
from .sarif import what_of

VERSION = "1.1.2"
_SPACE = uuid.uuid5(uuid.NAMESPACE_URL, "urn:usher-gate:assessment-results")
_CONTROL = re.compile(r"([A-Za-z]{2})-(\d+)(?:\s*\((\d+)\))?")


def _uuid(*parts: str) -> str:
    return str(uuid.uuid5(_SPACE, "\t".join(parts)))


def _control(text: str) -> str | None:
    """A control of NIST SP 800-53 as OSCAL writes it: `AC-2(1)` is `ac-2.1`."""
    found = _CONTROL.fullmatch(text.strip())
    if found is None:
        return None
    family, number, enhancement = found.groups()
    return f"{family.lower()}-{int(number)}" + (f".{int(enhancement)}" if enhancement else "")


def _controls(rule: Rule) -> list[str]:
    every = [name for framework, names in rule.maps.items() if "800-53" in framework for name in names]
    return sorted({control for name in every if (control := _control(name)) is not None})


def _observation(result: CheckResult, row: RootRow, taken: str) -> dict[str, Any]:
    root = row.root
    what = what_of(root)
    verdicts, people = count(row.verdicts, "verdict"), count(row.people, "person", "people")
    made: dict[str, Any] = {
        "uuid": _uuid(result.snapshot.name, "root", root.service or "", root.control, root.scope or ""),
        "title": what,
        "description": f"{what} makes {verdicts} of {people} drift from {', '.join(row.rules)}.",
        "methods": ["TEST"],
        "collected": taken,
    }
    where = result.where(root)
    return {**made, "remarks": f"Set in {where}."} if where else made


def _finding(result: CheckResult, control: str, rules: list[Rule], by_rule: dict[str, list[str]]) -> dict[str, Any]:
    drifting = [rule for rule in rules if result.rule_counts[rule.id][DRIFTS]]
    gaps = [rule for rule in rules if any(result.rule_counts[rule.id][code] for code in (UNKNOWN, UNAVAILABLE))]
    nobody = [rule for rule in rules if rule.id in result.judging_nobody]
    state = "not-satisfied" if drifting or gaps or nobody else "satisfied"
    why = [f"{rule.id} {rule.title}: {result.rule_counts[rule.id][DRIFTS]:,} drift" for rule in drifting]
    why += [f"{rule.id}: not everything that it asks for is known" for rule in gaps if rule not in drifting]
    why += [f"{rule.id} judges nobody" for rule in nobody]
    related = sorted({one for rule in drifting for one in by_rule.get(rule.id, ())})
    made: dict[str, Any] = {
        "uuid": _uuid(result.snapshot.name, "finding", control),
        "title": f"{control.upper()} by {', '.join(rule.id for rule in rules)}",
        "description": "; ".join(why) + "."
        if why
        else "Every rule that maps to it holds for everybody whom it judges.",
        "target": {"type": "objective-id", "target-id": control, "status": {"state": state}},
    }
    return {**made, "related-observations": [{"observation-uuid": one} for one in related]} if related else made


def write_oscal(result: CheckResult, stream: TextIO, _look: Look) -> None:
    """Writes one result."""
    snapshot, baseline = result.snapshot, result.baseline
    taken = rfc3339(snapshot.taken_at)
    observations = [_observation(result, row, taken) for row in result.roots]
    by_rule: dict[str, list[str]] = {}
    for row, made in zip(result.roots, observations, strict=True):
        for name in row.rules:
            by_rule.setdefault(name, []).append(made["uuid"])
    by_control: dict[str, list[Rule]] = {}
    for rule in result.rules:
        for control in _controls(rule):
            by_control.setdefault(control, []).append(rule)
    findings = [_finding(result, control, rules, by_rule) for control, rules in sorted(by_control.items())]
    chosen: dict[str, Any] = (
        {"include-controls": [{"control-id": control} for control in sorted(by_control)]}
        if by_control
        else {"include-all": {}}
    )
    one: dict[str, Any] = {
        "uuid": _uuid(snapshot.name, "result", taken, baseline.name, baseline.version),
        "title": f"{snapshot.name} against {baseline.name} {baseline.version}",
        "description": f"{result.drifting_people:,} people drift from {sum(bool(c[DRIFTS]) for c in result.rule_counts.values())} rules.",
        "start": taken,
        "end": taken,
        "reviewed-controls": {"control-selections": [chosen]},
    }
    if observations:
        one["observations"] = observations
    if findings:
        one["findings"] = findings
    whole = {
        "assessment-results": {
            "uuid": _uuid(snapshot.name, "document", taken, baseline.name, baseline.version),
            "metadata": {
                "title": f"Collaboration security of {snapshot.name}",
                "last-modified": taken,
                "version": baseline.version,
                "oscal-version": VERSION,
            },
            "import-ap": {
                "href": "#",
                "remarks": f"The baseline {baseline.name} {baseline.version} is what is assessed.",
            },
            "results": [one],
        }
    }
    json.dump(whole, stream, indent=1, ensure_ascii=False)
    stream.write("\n")
