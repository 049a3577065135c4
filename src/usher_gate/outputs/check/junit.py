"""A check as JUnit XML: a suite for each service, a case for each rule.

A case fails where somebody drifts, is an error where nothing drifts and something is unknown or unavailable, and is skipped where the
rule judges nobody.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TextIO
from xml.etree.ElementTree import Element, ElementTree, SubElement, indent

import numpy as np

from ...core.verdicts.codes import DRIFTS, UNAVAILABLE, UNKNOWN
from ...core.verdicts.result import Block, CheckResult
from ...core.verdicts.rules import Rule
from ...core.verdicts.scope import services_of
from ..look import Look
from ..section import count

_WITHOUT = "without a service"
_MOST = 20  # people named in a failure


def _cases(result: CheckResult) -> dict[str, dict[str, tuple[Rule, list[str], int]]]:
    """By service, then rule: the rule, who drifts (as far as named), and how many verdicts are unknown or unavailable."""
    found: dict[str, dict[str, tuple[Rule, list[str], int]]] = {}
    for rule in result.rules:
        for service in services_of(rule, result.snapshot.services):
            found.setdefault(service.id if service else _WITHOUT, {})[rule.id] = rule, [], 0
    for finding in result.findings():
        suite = found.setdefault(finding.service or _WITHOUT, {})
        rule, drifting, gaps = suite.get(finding.rule.id, (finding.rule, list[str](), 0))
        if isinstance(finding, Block):
            verdicts = np.array([tail.verdict for tail in finding.tails])[finding.tail]
            drifting += result.snapshot.people.logins.take(finding.people[verdicts == DRIFTS])
            gaps += int(np.count_nonzero((verdicts == UNKNOWN) | (verdicts == UNAVAILABLE)))
        elif finding.tail.verdict == DRIFTS:
            drifting.append(f"{finding.subject[0]} {finding.subject[1]}")
        else:
            gaps += finding.tail.verdict in (UNKNOWN, UNAVAILABLE)
        suite[finding.rule.id] = rule, drifting, gaps
    return found


def _xml(text: str) -> str:
    """The text without characters that XML 1.0 does not have."""
    return "".join(
        letter
        if letter in "\t\n\r" or " " <= letter <= "\ud7ff" or "\ue000" <= letter <= "\ufffd" or letter >= "\U00010000"
        else "?"
        for letter in text
    )


def _suites(result: CheckResult) -> Iterator[Element]:
    for name, cases in sorted(_cases(result).items()):
        suite = Element("testsuite", {"name": _xml(name), "timestamp": result.snapshot.taken_text[:19]})
        failures = errors = skipped = 0
        for rule, drifting, gaps in (cases[rule] for rule in sorted(cases)):
            case = SubElement(
                suite, "testcase", {"classname": _xml(name), "name": _xml(f"{rule.id} {rule.title}"), "time": "0"}
            )
            if rule.id in result.judging_nobody:
                SubElement(case, "skipped", {"message": "the rule judges nobody"})
                skipped += 1
            elif drifting:
                who = count(len(drifting), "verdict drifts", "verdicts drift")
                failure = SubElement(
                    case, "failure", {"message": _xml(f"{who} ({rule.severity})"), "type": rule.severity}
                )
                more = f"\nand {len(drifting) - _MOST:,} more" if len(drifting) > _MOST else ""
                failure.text = _xml("\n".join(drifting[:_MOST]) + more + (f"\n{rule.mend}" if rule.mend else ""))
                failures += 1
            elif gaps:
                message = count(gaps, "verdict is unknown or unavailable", "verdicts are unknown or unavailable")
                SubElement(case, "error", {"message": message, "type": "unknown"})
                errors += 1
        suite.attrib |= {
            "tests": str(len(cases)),
            "failures": str(failures),
            "errors": str(errors),
            "skipped": str(skipped),
        }
        yield suite


def write_junit(result: CheckResult, stream: TextIO, _look: Look) -> None:
    """Writes all suites."""
    root = Element(
        "testsuites", {"name": _xml(f"{result.snapshot.name} against {result.baseline.name} {result.baseline.version}")}
    )
    root.extend(_suites(result))
    for key in ("tests", "failures", "errors"):
        root.set(key, str(sum(int(suite.get(key, "0")) for suite in root)))
    indent(root)
    stream.write('<?xml version="1.0" encoding="UTF-8"?>\n')
    ElementTree(root).write(stream, encoding="unicode", xml_declaration=False)
    stream.write("\n")
