"""The rows of each CSV against the JSON of the same call, and the snapshot's own tables."""

from __future__ import annotations

import csv
import io
import json
import shutil
from collections.abc import Callable, Iterator
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


def _doors(said: Json, _: Path) -> Rows:
    for door in said["doors"]:
        for visitor in door["visitors"]:
            yield {"service": door["service"], "kind": door["kind"], "hosts": door["hosts"], **visitor}


def _visits(said: Json, demo: Path) -> Rows:
    del demo
    for each in said["visits"]:
        row = {
            **each,
            "scope": (each["cause"] or {}).get("scope"),
            "inside": "; ".join(each["inside"]),
            "where": ANYTHING,
        }
        yield {key: value for key, value in row.items() if key != "cause"}


def _meetings(said: Json, demo: Path) -> Rows:
    people = _people(demo)
    for each in said["meetings"]:
        row = {key: each[key] for key in ("label", "service", "kind", "open")}
        invited = {address: word for word in ("turned_away", "waiting", "unknown") for address in each[word]}
        yield {**row, "meeting": each["id"], "organiser": people[each["organiser"]]["login"], "invited": invited}


def _guests(said: Json, _: Path) -> Rows:
    for each in said["guests"]:
        row = {key: each[key] for key in ("login", "home_domain", "sponsor", "recommendation", "reason")}
        yield {**row, "guest": each["id"], "states": ";".join(each["states"])}


def _exceptions(said: Json, _: Path) -> Rows:
    for each in said["exceptions"]:
        some = {key: value for key, value in each.items() if key != "ends_soon"}
        yield {**some, "rules": ";".join(each["rules"]), "services": ";".join(each["services"] or ())}


def _verdicts(said: Json, _: Path) -> Rows:
    for what in ("begun", "ended", "worse"):
        for each in said["verdicts"][what]:
            row = {"what": what, "rule": each["rule"], "service": each["service"], "subject": each["subject"]["id"]}
            row |= {"subject_type": each["subject"]["type"], "login": each["subject"].get("login")}
            yield row | {"from": each.get("from", ANYTHING), "to": each.get("to", ANYTHING)}
    for each in said["meetings"]:
        for what in ("turned_away", "waiting"):
            for address in each[what]:
                row = {"what": what.replace("_", "-"), "rule": None, "service": ANYTHING, "subject_type": "meeting"}
                yield row | {"subject": each["id"], "login": address, "from": None, "to": None}
    for what in ("affected", "weaker"):
        for each in said[what]:
            row = {"what": what, "rule": None, "service": each["service"], "subject_type": "person"}
            row |= {"subject": each["person"], "login": each["login"]}
            yield row | {"from": f"{each['control']} {each['before']}", "to": f"{each['control']} {each['after']}"}


def _stopped(said: Json, _: Path) -> Rows:
    for each in said["people"]:
        yield {"person": each["id"], **{key: value for key, value in each.items() if key != "id"}}


def _checks(said: Json, _: Path) -> Rows:
    for number, each in enumerate(said["checks"]):
        changes = ("new", "back", "new-rule", "not-known-now", "excepted", "gone", "left", "no-rule")
        row = {key: each[key] for key in ("check", "taken_at", "people", "drifting_people", "drifts", "link")}
        yield row | {key: each[key] if number else None for key in changes}


def _changed(said: Json, _: Path) -> Rows:
    for each in said["changed"]:
        row = {key: each[key] for key in ("what", "rule", "service", "since", "age_days")}
        yield row | {"subject_type": each["subject"]["type"], "subject": each["subject"]["id"]}


def _holes(said: Json, demo: Path) -> Rows:
    people = _people(demo)
    for each in said["holes"]:
        example = {key: value for key, value in each["example"].items() if key != "network"}
        for one in each["ids"]:
            yield {
                **example, "rule": each["rule"], "proof": each["proof"], "person": one, "login": people[one]["login"],
                "way": each["way"], "because": "; ".join(each["because"]), "observed_closes": each["observed_closes"],
                "network": "+".join(each["example"]["network"]) or "elsewhere",
                "sign_ins": each["used"]["sign_ins"] if len(each["ids"]) == 1 else ANYTHING,
            }  # fmt: skip


ANYTHING = object()
CALLS: dict[str, Callable[[Json, Path], Rows]] = {
    "check": _check,
    "check --verdict excepted --verdict drifts": _check,
    "door": _doors,
    "door asta.brandt@northmere.example": _visits,
    "guests --on 2026-11-20": _guests,
    "exceptions": _exceptions,
    "rehearse": _stopped,
    "rehearse --changes changes/waiting-rooms.yaml": _verdicts,
    "history": _checks,
    "history --since 4": _changed,
    "holes": _holes,
}


def _text(value: object) -> str:
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else "" if value is None else str(value)


@pytest.mark.parametrize("line", CALLS)
def test_the_rows_are_the_same(demo: Path, demo_history: Path, line: str) -> None:
    if line.startswith("history"):
        shutil.copy(demo_history, demo)
    said = json.loads(call(*line.split(), "--format", "json").out)
    rows = list(csv.DictReader(io.StringIO(call(*line.split(), "--format", "csv").out)))
    expected = list(CALLS[line](said, demo))
    assert len(rows) == len(expected) > 0
    for row, one in zip(rows, expected, strict=True):
        assert row.keys() == one.keys()
        assert row == {key: row[key] if value is ANYTHING else _text(value) for key, value in one.items()}


def test_the_invited_are_the_same(demo: Path) -> None:
    said = json.loads(call("door", "--meetings", "--format", "json").out)
    found: dict[str, tuple[list[str], dict[str, str]]] = {}
    for row in csv.DictReader(io.StringIO(call("door", "--meetings", "--format", "csv").out)):
        whole = found.setdefault(
            row["meeting"], ([row[key] for key in ("label", "service", "kind", "organiser", "open")], {})
        )
        if row["address"]:
            whole[1][row["address"]] = row["outcome"].replace("-", "_")
    for each in _meetings(said, demo):
        if each["meeting"] not in found:
            assert not each["invited"]
            continue
        head, invited = found.pop(str(each["meeting"]))
        assert head == [_text(each[key]) for key in ("label", "service", "kind", "organiser", "open")]
        assert {address: word for address, word in invited.items() if word != "walking_in"} == each["invited"]
    assert not found
