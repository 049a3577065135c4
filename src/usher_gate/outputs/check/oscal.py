"""A check as OSCAL 1.1 assessment results.

An observation for each cause, a finding for each control of a framework that a rule maps to.

A control of NIST SP 800-53 is named as its catalogue names it; one of another framework, whose catalogue is not known
here, has the framework and the number as properties; a rule that maps to none has a finding of its own. Source: NIST
OSCAL 1.1.2, assessment-results; identifiers are UUIDs of version 5 (RFC 9562) that stay the same from day to day.
"""

from __future__ import annotations

import json
import re
import uuid
from typing import Any, TextIO

from ...core.verdicts.codes import DRIFTS, UNAVAILABLE, UNKNOWN
from ...core.verdicts.result import CheckResult, RootRow
from ...core.verdicts.rules import Rule
from ...core.words.plural import plural
from ...core.words.record import record
from ...core.words.times import rfc3339
from ..render_options import RenderOptions
from .headline import headline
from .sarif import what_of

VERSION = "1.1.2"
_NAMESPACE = "urn:usher-gate:oscal"  # of the properties that OSCAL has no names for
_SPACE = uuid.uuid5(uuid.NAMESPACE_URL, "urn:usher-gate:assessment-results")
_CONTROL = re.compile(r"([A-Za-z]{2})-(\d+)(?:\s*\((\d+)\))?")


def _uuid(*parts: str) -> str:
    return str(uuid.uuid5(_SPACE, "\t".join(parts)))


def _control(text: str) -> str | None:
    """Return a control of NIST SP 800-53 as OSCAL writes it: `AC-2(1)` is `ac-2.1`."""
    found = _CONTROL.fullmatch(text.strip())
    if found is None:
        return None
    family, number, enhancement = found.groups()
    return f"{family.lower()}-{int(number)}" + (f".{int(enhancement)}" if enhancement else "")


@record
class _Target:
    """Describes what a finding is about: a control of a framework, or a rule that maps to none (framework "").

    `id` names it for OSCAL.
    """

    id: str
    framework: str
    control: str

    @property
    def of_catalogue(self) -> bool:
        """Return whether it is a control of NIST SP 800-53."""
        return "800-53" in self.framework and _control(self.control) is not None


def _targets(rule: Rule) -> list[_Target]:
    found = []
    for framework, names in rule.maps.items():
        for name in names:
            known = _control(name) if "800-53" in framework else None
            found.append(_Target(known or _token(framework, name), framework, name))
    return found or [_Target(_token("rule", rule.id), "", rule.id)]


def _token(*parts: str) -> str:
    """Return a name that OSCAL takes: letters, digits, points, hyphens and underscores, with a letter first."""
    return "x-" + "-".join(re.sub(r"[^A-Za-z0-9._]+", "-", part).strip("-") for part in parts).lower()


def _observation(result: CheckResult, row: RootRow, taken: str) -> dict[str, Any]:
    root = row.root
    what = what_of(root)
    verdicts, people = plural(row.verdicts, "verdict"), plural(row.people, "person", "people")
    made: dict[str, Any] = {
        "uuid": _uuid(result.snapshot.name, "root", root.service or "", root.control, root.scope or ""),
        "title": what,
        "description": f"{what} makes {verdicts} of {people} drift from {', '.join(row.rules)}.",
        "methods": ["TEST"],
        "collected": taken,
    }
    where = result.where(root)
    return {**made, "remarks": f"Set in {where}."} if where else made


def _finding(result: CheckResult, target: _Target, rules: list[Rule], by_rule: dict[str, list[str]]) -> dict[str, Any]:
    """Return the finding of one target: satisfied only if every rule that maps to it holds."""
    drifting = [rule for rule in rules if result.rule_counts[rule.id][DRIFTS]]
    gaps = [rule for rule in rules if any(result.rule_counts[rule.id][code] for code in (UNKNOWN, UNAVAILABLE))]
    nobody = [rule for rule in rules if rule.id in result.judging_nobody]
    state = "not-satisfied" if drifting or gaps or nobody else "satisfied"
    why = [f"{rule.id} {rule.title}: {result.rule_counts[rule.id][DRIFTS]:,} drift" for rule in drifting]
    why += [f"{rule.id}: not everything that it asks for is known" for rule in gaps if rule not in drifting]
    why += [f"{rule.id} judges no one" for rule in nobody]
    related = sorted({one for rule in drifting for one in by_rule.get(rule.id, ())})
    made: dict[str, Any] = {
        "uuid": _uuid(result.snapshot.name, "finding", target.id),
        "title": f"{target.control} by {', '.join(rule.id for rule in rules)}"
        if target.framework
        else f"{target.control}, which maps to no framework",
        "description": "; ".join(why) + "." if why else "Every rule that maps to it holds for everyone that it judges.",
        "target": {"type": "objective-id", "target-id": target.id, "status": {"state": state}},
    }
    if not target.of_catalogue:
        names = (
            (("framework", target.framework), ("control", target.control))
            if target.framework
            else (("rule", target.control),)
        )
        made["props"] = [{"name": name, "ns": _NAMESPACE, "value": value} for name, value in names]
    return {**made, "related-observations": [{"observation-uuid": one} for one in related]} if related else made


def write_oscal(result: CheckResult, stream: TextIO, _look: RenderOptions) -> None:
    """Writes one result."""
    snapshot, baseline = result.snapshot, result.baseline
    taken = rfc3339(snapshot.taken_at)
    observations = [_observation(result, row, taken) for row in result.roots]
    by_rule: dict[str, list[str]] = {}
    for row, made in zip(result.roots, observations, strict=True):
        for name in row.rules:
            by_rule.setdefault(name, []).append(made["uuid"])
    by_target: dict[str, tuple[_Target, list[Rule]]] = {}
    for rule in result.rules:
        for target in _targets(rule):
            by_target.setdefault(target.id, (target, []))[1].append(rule)
    findings = [_finding(result, target, rules, by_rule) for _, (target, rules) in sorted(by_target.items())]
    controls = [name for name, (target, _) in sorted(by_target.items()) if target.of_catalogue]
    chosen: dict[str, Any] = (
        {"include-controls": [{"control-id": control} for control in controls]} if controls else {"include-all": {}}
    )
    one: dict[str, Any] = {
        "uuid": _uuid(snapshot.name, "result", taken, baseline.name, baseline.version),
        "title": f"{snapshot.name} against {baseline.name} {baseline.version}",
        "description": " ".join(headline(result)),
        "start": taken,
        "end": taken,
        "reviewed-controls": {"control-selections": [chosen]},
    }
    unmapped = [rule.id for rule in result.rules if not rule.maps]
    if unmapped:
        verb = "maps" if len(unmapped) == 1 else "map"
        one["remarks"] = f"{plural(len(unmapped), 'rule')} {verb} to no framework: {', '.join(unmapped)}."
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
