"""A check as SARIF 2.1.0.

Rules with their help and the controls that they map to, a result for each cause with its file and line.

A result is of the kind `fail` exactly if it makes the exit status 1 (see --fail-on and --fail-at), else `informational`
or `review`, whose level is `none` (SARIF 2.1.0, 3.27.9). `partialFingerprints` name the cause and the rule alone, so
that they stay the same from day to day.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from typing import Any, TextIO

from ... import __version__
from ...core.verdicts.codes import DRIFTS, VERDICTS
from ...core.verdicts.outcome import Root
from ...core.verdicts.result import CheckResult, RootRow
from ...core.verdicts.rules import Rule
from ...core.verdicts.threshold import LOCKOUT
from ...core.words.compare import shown
from ...core.words.plural import plural
from ...core.words.vocabulary import SEVERITIES
from ..render_options import RenderOptions
from .headline import headline, locked_out, lockout_key

_LEVELS = {"critical": "error", "high": "error", "medium": "warning", "low": "note"}
_SECURITY = {"critical": "9.5", "high": "8.0", "medium": "5.0", "low": "2.0"}
_URI = "https://json.schemastore.org/sarif-2.1.0.json"


def _rule(rule: Rule) -> dict[str, Any]:
    tags = [f"{framework}/{name}" for framework, names in sorted(rule.maps.items()) for name in names]
    text = " ".join(part for part in (rule.because, rule.mend) if part)
    made: dict[str, Any] = {
        "id": rule.id,
        "shortDescription": {"text": rule.title},
        "defaultConfiguration": {"level": _LEVELS[rule.severity]},
        "properties": {
            "tags": ["security", *tags],
            "security-severity": _SECURITY[rule.severity],
            "severity": rule.severity,
        },
    }
    return {**made, "help": {"text": text}} if text else made


def what_of(root: Root) -> str:
    """Return a root in a few words."""
    value = "" if root.value is None else f" = {shown(root.value)}"
    where = "" if root.scope is None else f" at {root.scope}"
    service = f"{root.service}: " if root.service else ""
    return f"{service}{root.control}{value}{where}"


def _results(result: CheckResult) -> Iterator[dict[str, Any]]:
    """Yield the results: lock-outs, causes, other failing verdicts, then failing words."""
    yield from _lockouts(result)
    order = {rule.id: place for place, rule in enumerate(result.rules)}
    rules = {rule.id: rule for rule in result.rules}
    for row in result.roots:
        worst = min(row.rules, key=lambda name: (SEVERITIES.index(rules[name].severity), order[name]))
        yield _result(result, row, rules[worst], order[worst])
    for rule in result.rules:
        for code in result.threshold.codes:
            number = result.rule_counts[rule.id][code]
            if code != DRIFTS and number and result.threshold.reaches(rule):
                text = f"{plural(number, 'verdict')} of {rule.id} {'is' if number == 1 else 'are'} {VERDICTS[code]}."
                yield {
                    "ruleId": rule.id,
                    "ruleIndex": order[rule.id],
                    "kind": "fail",
                    "level": _LEVELS[rule.severity],
                    "message": {"text": text},
                    "partialFingerprints": {"usherGateVerdict/v1": _digest(rule.id, VERDICTS[code])},
                }
    for word, number in result.failing().items():
        if word != LOCKOUT:
            yield {
                "ruleId": word,
                "kind": "fail",
                "level": "error",
                "message": {"text": f"{word.replace('-', ' ')}: {number:,}."},
                "partialFingerprints": {"usherGateVerdict/v1": _digest(word)},
            }


def _digest(*parts: str) -> str:
    return hashlib.sha256("\t".join(parts).encode()).hexdigest()


def _lockouts(result: CheckResult) -> Iterator[dict[str, Any]]:
    """Yield a result for each lock-out, which come before everything else."""
    for lockout in sorted(result.lockouts, key=lockout_key):
        fails = lockout.all or LOCKOUT in result.threshold.words
        yield {
            "ruleId": LOCKOUT,
            "kind": "fail" if fails else "review",
            "level": "error" if fails else "none",
            "message": {"text": " ".join(locked_out(result, [lockout]))},
            "partialFingerprints": {"usherGateLockout/v1": _digest(lockout.of, lockout.resource)},
        }


def _result(result: CheckResult, row: RootRow, rule: Rule, place: int) -> dict[str, Any]:
    """Return one cause as a SARIF result, located at the line of its setting."""
    root = row.root
    also = [name for name in row.rules if name != rule.id]
    text = f"{what_of(root)} makes {plural(row.verdicts, 'verdict')} of {plural(row.people, 'person', 'people')} drift"
    text += f" (also from {', '.join(also)})" if also else ""
    if row.remedy is not None and row.remedy.mended_value is not None:
        text += f"; {shown(row.remedy.mended_value)} would clear {plural(row.remedy.freed, 'person', 'people')}"
    fails = DRIFTS in result.threshold.codes and result.threshold.reaches(rule)
    made: dict[str, Any] = {
        "ruleId": rule.id,
        "ruleIndex": place,
        "kind": "fail" if fails else "informational",
        "level": _LEVELS[rule.severity] if fails else "none",
        "message": {"text": f"{text}."},
        "partialFingerprints": {
            "usherGateRoot/v1": _digest(rule.id, root.service or "", root.control, root.scope or "")
        },
    }
    file, _, line = result.where(root).rpartition(":")
    location: dict[str, Any] = {"logicalLocations": [{"fullyQualifiedName": what_of(root), "kind": "resource"}]}
    if file and line.isascii() and line.isdecimal():
        region = {"startLine": int(line)}
        location["physicalLocation"] = {"artifactLocation": {"uri": file, "uriBaseId": "SNAPSHOT"}, "region": region}
    return {**made, "locations": [location]}


def write_sarif(result: CheckResult, stream: TextIO, _look: RenderOptions) -> None:
    """Writes one run."""
    run = {
        "tool": {
            "driver": {
                "name": "usher-gate",
                "semanticVersion": __version__,
                "rules": [_rule(rule) for rule in result.rules],
            }
        },
        "originalUriBaseIds": {"SNAPSHOT": {"description": {"text": "The snapshot folder."}}},
        "columnKind": "unicodeCodePoints",
        "automationDetails": {"id": f"{result.baseline.name}/{result.baseline.version}"},
        "properties": {
            "organisation": result.snapshot.name,
            "taken_at": result.snapshot.taken_text,
            "headline": list(headline(result)),
        },
        "results": list(_results(result)),
    }
    json.dump({"$schema": _URI, "version": "2.1.0", "runs": [run]}, stream, indent=1, ensure_ascii=False)
    stream.write("\n")
