"""Another baseline rehearsed: what begins and ends is the difference of two checks, on random organisations."""

from __future__ import annotations

import json
import tempfile
from copy import deepcopy
from pathlib import Path
from random import Random
from typing import Any

import yaml

from tests.compared import compare_many
from tests.organisations import write_org
from tests.program import call
from tests.reference import Org, Reference, leaves_of


def test_what_begins_and_ends_is_the_difference_of_two_checks() -> None:
    compare_many(compare, 100, 60, 0.8)


def compare(org: Org, rnd: Random) -> int:
    """Drops, adds and changes rules; returns how many findings begin or end."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd)
        today = yaml.safe_load((folder / "baseline.yaml").read_text())
        other, told_changed = _another(today, rnd)
        (folder / "new.yaml").write_text(yaml.safe_dump(other, sort_keys=False))
        (folder / "usher-gate.toml").write_text(
            'snapshot = "snapshot"\nbaseline = "baseline.yaml"\nexceptions = "exceptions.yaml"\n'
        )
        left = {rule["id"] for rule in other["rules"]}
        exceptions = yaml.safe_load((folder / "exceptions.yaml").read_text())
        for each in exceptions["exceptions"] or ():
            each["rules"] = [rule for rule in each["rules"] if rule in left]
        exceptions["exceptions"] = [each for each in exceptions["exceptions"] or () if each["rules"]]
        (folder / "then.yaml").write_text(yaml.safe_dump(exceptions, default_flow_style=False))
        done = call("rehearse", "--baseline", "new.yaml", "--format", "json", cwd=folder)
        assert done.status in (0, 1), done.err
        before = json.loads(call("check", "--format", "json", cwd=folder).out)
        checked = call("check", "--baseline", "new.yaml", "--exceptions", "then.yaml", "--format", "json", cwd=folder)
        after = json.loads(checked.out)
    answer = json.loads(done.out)
    now, then = ({_key(each) for each in one["findings"] if each["verdict"] == "drifts"} for one in (before, after))
    assert {_key(each) for each in answer["verdicts"]["begun"]} == then - now
    assert {_key(each) for each in answer["verdicts"]["ended"]} == now - then
    people = [{key[3] for key in keys if key[2] == "person"} for keys in (now, then)]
    assert {each["id"] for each in answer["newly_drifting"]} == people[1] - people[0]
    assert done.status == int(bool(then - now))
    moved = {each["id"]: (each["what"], each["direction"] or "") for each in answer["baseline"]["rules"]}
    assert moved == told_changed
    covering = [{each["id"] for each in one["exceptions"] if each["covers"]} for one in (before, after)]
    assert set(answer["baseline"]["idle_exceptions"]) == covering[0] - covering[1]
    return len(then ^ now)


def _key(each: dict[str, Any]) -> tuple[str, str | None, str, str]:
    return each["rule"], each["service"], each["subject"]["type"], each["subject"]["id"]


def _another(today: dict[str, Any], rnd: Random) -> tuple[dict[str, Any], dict[str, tuple[str, str]]]:
    """The baseline with some rules dropped, added and changed; and what became of which, in which direction."""
    other, answer = deepcopy(today), {}
    rules = []
    for rule in other["rules"]:
        fate = rnd.random()
        if fate < 0.2:
            answer[rule["id"]] = ("dropped", "")
            continue
        if fate < 0.6:
            which = rnd.choice(("severity", "except", "pinned", "expect"))
            direction = ""
            if which == "severity":
                direction = "weaker" if rule.get("severity", "medium") != "low" else "stricter"
                rule["severity"] = "low" if direction == "weaker" else "critical"
            elif which == "except" and "except" not in rule:
                rule["except"], direction = {"kind": "guest"}, "weaker"
            elif which == "pinned" and "pinned" not in rule:
                rule["pinned"], direction = True, "stricter"
            else:
                rule["expect"] = {"any-of": [rule["expect"], {"person": "mfa", "is": "required"}]}
            answer[rule["id"]] = ("changed", direction)
        rules.append(rule)
    if rules and rnd.random() < 0.5:
        rules.append({**deepcopy(rules[0]), "id": "Z1", "severity": "high"})
        answer["Z1"] = ("new", "")
    if not rules:
        rules, answer = other["rules"], {}
    return {**other, "rules": rules}, answer


def test_what_no_rule_asks_about_is_a_plain_count() -> None:
    compare_many(compare_uncovered, 40, 100, 0.4)


def compare_uncovered(org: Org, rnd: Random) -> int:
    """Counts the controls that no rule asks about, one by one; returns how many there are."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd)
        where = ("--snapshot", folder / "snapshot", "--baseline", folder / "baseline.yaml")
        done = call("baseline", "--uncovered", *where, "--format", "json")
        said = call("check", *where).out
    assert done.status == 0, done.err
    answer, reference = json.loads(done.out), Reference(org)
    expected, of = set(), 0
    for service in org.services or ():
        for control in org.controls:
            if not reference.supported(service, control) and not reference.settings_of(service["id"], control):
                continue
            of += 1
            rules = [rule for rule in org.rules if service in reference.pairs(rule)]
            asked = any(leaf.get("control") == control for rule in rules for leaf in leaves_of(rule["expect"]))
            if not asked or not reference.supported(service, control):  # what is not supported is left out of a rule
                expected.add((service["id"], control))
    found = {(each["service"], each["control"]) for each in answer["controls"] if each["control"] in org.controls}
    shipped = [each for each in answer["controls"] if each["control"] not in org.controls]
    assert found == expected
    assert answer["controls_of_services"] == of + len(shipped)
    assert answer["controls_uncovered"] == len(answer["controls"])
    line = f"{len(answer['controls']):,} of {answer['controls_of_services']:,} control"
    assert (line in said) == bool(answer["controls"])
    for each in answer["controls"]:
        service = next(one for one in org.services or () if one["id"] == each["service"])
        accounts = [one for one in reference.active if reference.chosen(service["accounts"], one, True) is not False]
        assert sum(value["people"] for value in each["values"]) == len(accounts)
    return len(expected)
