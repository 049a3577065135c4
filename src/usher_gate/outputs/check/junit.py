"""A check as JUnit XML: a suite for each service, a case for each rule, and a suite for what no rule asks about.

A case fails exactly if it makes the exit status 1 (see --fail-on and --fail-at); it is an error where it does not fail,
but something is unknown or unavailable that makes the exit status 3; it is skipped where the rule judges no one.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TextIO
from xml.etree.ElementTree import Element, ElementTree, SubElement, indent

import numpy as np

from ...core.verdicts.codes import UNAVAILABLE, UNKNOWN, VERDICTS
from ...core.verdicts.result import CheckResult, FindingBlock
from ...core.verdicts.rules import Rule
from ...core.verdicts.scope import services_of
from ...core.words.plural import plural
from ..render_options import RenderOptions
from ..section import joined
from .headline import locked_out

_WITHOUT = "without a service"
_WHOLE = "the whole organisation"
_MOST = 20  # people named in a failure
_NOT_OF_RULES = {
    "contested": "contested values",
    "contradictions": "values that cannot work together",
    "stranded": "people who have no way in",
    "lockout": "lock-outs of break-glass accounts or privileged people",
    "ignored-settings": "settings that apply to nothing",
}


def _failing_subjects(result: CheckResult) -> dict[tuple[str, str | None], list[str]]:
    """By rule and service the people and others whose verdicts make the exit status 1, as far as they are listed."""
    found: dict[tuple[str, str | None], list[str]] = {}
    codes = result.threshold.codes
    for finding in result.findings():
        subjects = found.setdefault((finding.rule.id, finding.service), [])
        if isinstance(finding, FindingBlock):
            verdicts = np.array([detail.verdict for detail in finding.details])[finding.detail]
            subjects += result.snapshot.people.logins.take(finding.people[np.isin(verdicts, codes)])
        elif finding.detail.verdict in codes:
            subjects.append(f"{finding.subject[0]} {finding.subject[1]}")
    return found


def _cases(result: CheckResult) -> dict[str, list[tuple[Rule, str | None]]]:
    """By suite its rules, each with the service on which it is judged."""
    found: dict[str, dict[str, tuple[Rule, str | None]]] = {}
    for rule in result.rules:
        for service in services_of(rule, result.snapshot.services):
            name = service.id if service else None
            found.setdefault(name or _WITHOUT, {})[rule.id] = rule, name
    return {suite: [cases[rule] for rule in sorted(cases)] for suite, cases in sorted(found.items())}


def _xml(text: str) -> str:
    """Return the text without characters that XML 1.0 does not have."""
    return "".join(
        letter
        if letter in "\t\n\r" or " " <= letter <= "\ud7ff" or "\ue000" <= letter <= "\ufffd" or letter >= "\U00010000"
        else "?"
        for letter in text
    )


def _verdicts_text(counts: Sequence[int], codes: Sequence[int]) -> str:
    """Return how many verdicts there are of some codes: `2 verdicts are drifts`, in words."""
    parts = [f"{counts[code]:,} {VERDICTS[code]}" for code in codes if counts[code]]
    return f"verdicts: {joined(parts)}"


def _case(suite: Element, result: CheckResult, rule: Rule, counts: Sequence[int], subjects: Sequence[str]) -> str:
    """Adds the case of a rule to a suite; returns how it ends."""
    name = suite.get("name", "")
    case = SubElement(suite, "testcase", {"classname": name, "name": _xml(f"{rule.id} {rule.title}"), "time": "0"})
    codes, reaches = result.threshold.codes, result.threshold.reaches(rule)
    if rule.id in result.judging_nobody:
        SubElement(case, "skipped", {"message": "the rule judges no one"})
        return "skipped"
    if result.threshold.fails(rule, counts):
        message = f"{_verdicts_text(counts, codes)} ({rule.severity})"
        failure = SubElement(case, "failure", {"message": _xml(message), "type": rule.severity})
        more = f"\nand {len(subjects) - _MOST:,} more" if len(subjects) > _MOST else ""
        failure.text = _xml("\n".join(subjects[:_MOST]) + more + (f"\n{rule.mend}" if rule.mend else ""))
        return "failures"
    gaps = counts[UNKNOWN] + counts[UNAVAILABLE]
    if gaps and reaches:
        message = plural(gaps, "verdict is unknown or unavailable", "verdicts are unknown or unavailable")
        SubElement(case, "error", {"message": message, "type": "unknown"})
        return "errors"
    bad = [code for code in range(len(VERDICTS)) if VERDICTS[code] not in ("meets", "excepted", "exempt")]
    if any(counts[code] for code in bad):
        SubElement(case, "system-out").text = f"below what fails: {_verdicts_text(counts, bad)}"
    return ""


def _whole_case(suite: Element, result: CheckResult, word: str, number: int) -> str:
    """Adds the case of something that no rule asks about; returns how it ends."""
    name = _NOT_OF_RULES[word]
    case = SubElement(suite, "testcase", {"classname": _WHOLE, "name": name, "time": "0"})
    if not number:
        return ""
    failure = SubElement(case, "failure", {"message": f"{name}: {number:,}", "type": word})
    failure.text = _xml("\n".join(locked_out(result, result.lockouts))) if word == "lockout" else ""
    return "failures"


def _suites(result: CheckResult) -> Iterator[Element]:
    """Yield a test suite for each service, and one for what belongs to no service."""
    subjects = _failing_subjects(result)
    none = (0,) * len(VERDICTS)
    failing = result.failing()
    words = [word for word in _NOT_OF_RULES if word in failing or word in result.threshold.words]
    if words:
        suite = _suite(result, _WHOLE)
        yield _closed(suite, [_whole_case(suite, result, word, failing.get(word, 0)) for word in words])
    for name, cases in _cases(result).items():
        suite = _suite(result, name)
        ends = [
            _case(
                suite,
                result,
                rule,
                result.pair_counts.get((rule.id, service), none),
                subjects.get((rule.id, service), ()),
            )
            for rule, service in cases
        ]
        yield _closed(suite, ends)


def _suite(result: CheckResult, name: str) -> Element:
    return Element("testsuite", {"name": _xml(name), "timestamp": result.snapshot.taken_text[:19]})


def _closed(suite: Element, ends: Sequence[str]) -> Element:
    """Return a suite with the numbers of its cases."""
    suite.set("tests", str(len(ends)))
    for kind in ("failures", "errors", "skipped"):
        suite.set(kind, str(ends.count(kind)))
    return suite


def write_junit(result: CheckResult, stream: TextIO, _look: RenderOptions) -> None:
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
