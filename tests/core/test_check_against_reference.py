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
from tests.reference import Org, Reference, check, state


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
    assert found == expected.findings
    assert {
        rule["id"]: {key: count for key, count in rule["verdicts"].items() if count} for rule in result["rules"]
    } == {rule: dict(counts) for rule, counts in expected.counts.items()}
    shares = {
        ("group", each["id"], each["rule"]): (each["judged"], each["drifting"], each["as_a_whole"])
        for each in result["groups"]
    }
    shares |= {
        ("unit", each["path"], each["rule"]): (each["judged"], each["drifting"], each["as_a_whole"])
        for each in result["units"]
    }
    assert shares == expected.shares
    roots = {
        (each["service"], each["control"], each["scope"], each["value"]): {
            "rules": set(each["rules"]),
            "people": each["people"],
            "verdicts": each["verdicts"],
            "freed": each["freed"],
        }
        for each in result["roots"]
    }
    assert roots == {root: {**sums, "people": len(sums["people"])} for root, sums in expected.roots.items()}
    reference = Reference(org)
    assert {each["id"]: (each["state"], each["covers"]) for each in result["exceptions"]} == {
        each["id"]: (state(reference, each, expected.covers[each["id"]]), expected.covers[each["id"]])
        for each in org.exceptions
    }
    verdicts = [word for counts in expected.counts.values() for word, count in counts.items() if count]
    assert done.status == (1 if "drifts" in verdicts else 3 if {"unknown", "unavailable"} & set(verdicts) else 0)
    return sum(sum(counts.values()) for counts in expected.counts.values())


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
