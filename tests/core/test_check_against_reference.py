"""The program's verdicts, leaf by leaf, against the plain reference, on random organisations written to random formats."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from random import Random
from typing import Any

from tests.compared import compare_many
from tests.organisations import write_org
from tests.program import call
from tests.reference import Org, Reference, check, remedy, state

SHARE = ("judged", "drifting", "as_a_whole", "own_setting")
SEVERITIES = ("critical", "high", "medium", "low")


def compare(org: Org, rnd: Random) -> int:
    """Compares everything that is said of people; returns how many verdicts were compared."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd)
        done = call(
            "check",
            "--snapshot",
            folder / "snapshot",
            "--baseline",
            folder / "baseline.yaml",
            "--exceptions",
            folder / "exceptions.yaml",
            "--format",
            "json",
        )
    assert done.status in (0, 1, 3), done.err
    result, expected = json.loads(done.out), check(org)
    found = {(each["rule"], each["service"], each["subject"]["id"]): _finding(each) for each in result["findings"]}
    for each in expected.findings.values():
        each["leaves"] = [
            (name, verdict, _shown(actual), cause and (cause[0], _shown(cause[1]), cause[2]))
            for name, verdict, actual, cause in each["leaves"]
        ]
    assert found == expected.findings
    assert {
        rule["id"]: {key: count for key, count in rule["verdicts"].items() if count} for rule in result["rules"]
    } == {rule: dict(counts) for rule, counts in expected.counts.items()}
    shares = {("group", each["id"], each["rule"]): tuple(each[key] for key in SHARE) for each in result["groups"]}
    shares |= {("unit", each["path"], each["rule"]): tuple(each[key] for key in SHARE) for each in result["units"]}
    assert shares == expected.shares
    roots = {
        _root(each): {
            "rules": set(each["rules"]),
            "people": each["people"],
            "verdicts": each["verdicts"],
            "severity": each["severity"],
        }
        for each in result["roots"]
    }
    severity = {rule["id"]: rule["severity"] for rule in org.rules}
    assert roots == {
        root: {
            **sums,
            "people": len(sums["people"]),
            "severity": min((severity[rule] for rule in sums["rules"]), key=SEVERITIES.index),
        }
        for root, sums in expected.roots.items()
    }
    for each in rnd.sample(result["roots"], min(len(result["roots"]), 4)):
        mending = {key: each[key] for key in ("mended_value", "freed", "if_removed", "harms", "harmed")}
        assert mending == {key: _shown(value) for key, value in remedy(org, _root(each)).items()}, each
    reference = Reference(org)
    assert {each["id"]: (each["state"], each["covers"]) for each in result["exceptions"]} == {
        each["id"]: (state(reference, each, expected.covers[each["id"]]), expected.covers[each["id"]])
        for each in org.exceptions
    }
    verdicts = [word for counts in expected.counts.values() for word, count in counts.items() if count]
    nobody = {rule for rule, counts in expected.counts.items() if set(+counts) <= {"exempt"}}
    assert set(result["summary"]["rules_judging_nobody"]) == nobody
    assert sorted(each["scope"] for each in result["ignored"]) == reference.ignored()
    assert result["summary"]["ignored_settings"] == len(reference.ignored())
    assert result["summary"]["unclear_people"] == len(expected.unclear)
    gaps = {"unknown", "unavailable"} & set(verdicts) or nobody or not reference.active or reference.ignored()
    assert done.status == (1 if "drifts" in verdicts else 3 if gaps else 0)
    contested = {
        (
            each["service"],
            each["control"],
            each["value"],
            frozenset((one["scope"], one["value"]) for one in each["settings"]),
        ): each["people"]
        for each in result["contested"]
    }
    assert contested == {(*key[:2], _shown(key[2]), frozenset((scope, _shown(value)) for scope, value in key[3])): people
                         for key, people in reference.contested().items()}  # fmt: skip
    return sum(sum(counts.values()) for counts in expected.counts.values())


def _root(each: dict[str, Any]) -> tuple[Any, ...]:
    return (each["service"], each["control"], each["scope"], "" if each["value"] == "-" else each["value"])


def _shown(value: Any) -> Any:
    return "-" if value == "" else value


def _finding(each: dict[str, Any]) -> dict[str, Any]:
    def cause(leaf: dict[str, Any]) -> Any:
        return (
            None if leaf["cause"] is None else (leaf["cause"]["scope"], leaf["cause"]["value"], leaf["cause"]["pinned"])
        )

    return {
        **{key: each[key] for key in ("verdict", "reason", "exception", "would_be")},
        "leaves": [
            (leaf.get("control", leaf.get("person")), leaf["verdict"], leaf["actual"], cause(leaf))
            for leaf in each["leaves"]
        ],
    }


def test_every_verdict_is_the_reference_s() -> None:
    compare_many(compare, 250, 1600, 0.4)
