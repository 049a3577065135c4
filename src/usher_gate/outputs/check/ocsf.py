"""A check as OCSF compliance findings (class 2003), JSON Lines: one for each drifting subject, rule and service.

Source: the Open Cybersecurity Schema Framework 1.4, Compliance Finding.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from typing import Any, TextIO

import numpy as np

from ... import __version__
from ...core.verdicts.codes import DRIFTS
from ...core.verdicts.outcome import VerdictDetail
from ...core.verdicts.result import CheckResult, FindingBlock
from ...core.verdicts.rules import Rule
from ...core.words.compare import shown
from ..render_options import RenderOptions

VERSION = "1.4.0"
_SEVERITY = {"low": 2, "medium": 3, "high": 4, "critical": 5}
_NAMES = {2: "Low", 3: "Medium", 4: "High", 5: "Critical"}
_ENCODER = json.JSONEncoder(ensure_ascii=False, separators=(",", ":"))


def _finding(
    result: CheckResult, rule: Rule, service: str | None, detail: VerdictDetail, subject: tuple[str, str, str]
) -> dict[str, Any]:
    """Return one finding as an event of the Open Cybersecurity Schema Framework."""
    kind, name, login = subject
    uid = hashlib.sha256("\t".join((result.snapshot.name, rule.id, service or "", kind, name)).encode()).hexdigest()
    severity, taken = _SEVERITY[rule.severity], result.snapshot.taken_at // 1000
    leaf, outcome = detail.deciding or (None, None)
    said = (
        ""
        if outcome is None or outcome.actual is None or leaf is None
        else f"{leaf.name} is {shown(outcome.actual)}, expected {leaf.expected}"
    )
    frameworks = sorted(rule.maps)
    made: dict[str, Any] = {
        "activity_id": 1,
        "activity_name": "Create",
        "category_uid": 2,
        "category_name": "Findings",
        "class_uid": 2003,
        "class_name": "Compliance Finding",
        "type_uid": 200301,
        "type_name": "Compliance Finding: Create",
        "time": taken,
        "severity_id": severity,
        "severity": _NAMES[severity],
        "status_id": 1,
        "status": "New",
        "message": f"{rule.id} {rule.title}" + (f": {said}" if said else ""),
        "metadata": {
            "version": VERSION,
            "product": {"name": "usher-gate", "vendor_name": "usher-gate", "version": __version__},
        },
        "finding_info": {"uid": uid, "title": rule.title, "created_time": taken, "types": [detail.reason]},
        "compliance": {
            "control": rule.id,
            "standards": frameworks or [result.baseline.name],
            "requirements": [name for framework in frameworks for name in rule.maps[framework]],
            "status_id": 3,
            "status": "Fail",
        },
        "resources": [
            {"uid": name, "name": login or name, "type": kind, "labels": [f"service:{service}"] if service else []}
        ],
    }
    return {**made, "remediation": {"desc": rule.mend}} if rule.mend else made


def _lines(result: CheckResult) -> Iterator[str]:
    people = result.snapshot.people
    for finding in result.findings():
        if not isinstance(finding, FindingBlock):
            if finding.detail.verdict == DRIFTS:
                subject = (*finding.subject, finding.label)
                yield _ENCODER.encode(_finding(result, finding.rule, finding.service, finding.detail, subject)) + "\n"
            continue
        drifting = np.array([detail.verdict == DRIFTS for detail in finding.details])[finding.detail]
        some = finding.people[drifting]
        rows = zip(people.ids.take(some), people.logins.take(some), finding.detail[drifting].tolist(), strict=True)
        for name, login, which in rows:
            made = _finding(result, finding.rule, finding.service, finding.details[which], ("person", name, login))
            yield _ENCODER.encode(made) + "\n"


def write_ocsf(result: CheckResult, stream: TextIO, _look: RenderOptions) -> None:
    """Writes a line for each finding that drifts."""
    stream.writelines(_lines(result))
