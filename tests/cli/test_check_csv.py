"""The rows of a check's CSV, which are made apart, against its JSON and the snapshot's own tables."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.program import call

Json = dict[str, Any]
Rows = Iterator[dict[str, object]]


def _people(demo: Path) -> dict[str, dict[str, str]]:
    with (demo / "snapshot" / "people.csv").open(newline="") as stream:
        return {row["id"]: row for row in csv.DictReader(stream)}


def _check(said: Json, demo: Path) -> Rows:
    people, rules = _people(demo), {rule["id"]: rule for rule in said["rules"]}
    for each in said["findings"]:
        subject, rule = each["subject"], rules[each["rule"]]
        person = people.get(subject["id"], {})
        maps = "; ".join(f"{name}: {', '.join(ids)}" for name, ids in rule["maps"].items())
        row = {key: each[key] for key in ("rule", "severity", "service", "verdict", "reason", "exception", "would_be")}
        row |= {"subject_type": subject["type"], "subject": subject["id"], "title": rule["title"], "mend": rule["mend"]}
        row |= {
            "login": subject.get("login", ANYTHING),
            "name": person.get("name") if person else ANYTHING,
            "unit": person.get("unit") if person else ANYTHING,
        }
        yield row | {"maps": maps, "taken_at": said["taken_at"]} | _leaf(each, said, demo)


def _leaf(finding: Json, said: Json, demo: Path) -> dict[str, object]:
    """What is said of the condition that decides; where several could, only how their columns are called."""
    columns = ("about", "actual", "expected", "scope", "value", "pinned", "where", "mended_value")
    wanted = finding["would_be"] or finding["verdict"]
    deciding = [leaf for leaf in finding["leaves"] if leaf["verdict"] == wanted]
    if len(deciding) != 1:
        return dict.fromkeys(columns, ANYTHING)
    leaf, cause = deciding[0], deciding[0].get("cause") or {}
    about = next(leaf[name] for name in ("control", "person", "proof", "door", "meeting", "partner") if name in leaf)
    row = {
        "about": "door" if isinstance(about, dict) else about,
        "actual": leaf["actual"],
        "expected": leaf["expected"],
    }
    row |= {key: cause.get(key) for key in ("scope", "value", "pinned")} | {"where": ANYTHING, "mended_value": ANYTHING}
    if "control" in leaf and cause:
        place = f"{finding['service']},{leaf['control']},{cause['scope']},"
        lines = (demo / "snapshot" / "settings.csv").read_text().splitlines()
        row["where"] = next((f"settings.csv:{at}" for at, text in enumerate(lines, 1) if text.startswith(place)), None)
        keys = {
            "service": finding["service"],
            "control": leaf["control"],
            "scope": cause["scope"],
            "value": cause["value"],
        }
        roots = [root for root in said["roots"] if keys.items() <= root.items()]
        if finding["verdict"] == "drifts" and roots:
            row["mended_value"] = roots[0]["mended_value"]
    return row


ANYTHING = object()


def _text(value: object) -> str:
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else "" if value is None else str(value)


@pytest.mark.parametrize("options", [(), ("--verdict", "excepted", "--verdict", "drifts")])
def test_the_rows_of_a_check_are_the_same(demo: Path, options: tuple[str, ...]) -> None:
    said = json.loads(call("check", *options, "--format", "json").out)
    rows = list(csv.DictReader(io.StringIO(call("check", *options, "--format", "csv").out)))
    expected = list(_check(said, demo))
    assert len(rows) == len(expected) > 0
    for row, one in zip(rows, expected, strict=True):
        assert row.keys() == one.keys()
        assert row == {key: row[key] if value is ANYTHING else _text(value) for key, value in one.items()}
