"""Replay against the plain reference.

Every event of small random logs decided straight from the text, the missing parts tried out.
"""

from __future__ import annotations

import json
import tempfile
from collections import Counter
from copy import deepcopy
from datetime import timedelta
from itertools import product
from pathlib import Path
from random import Random
from typing import Any

from hypothesis import HealthCheck, given, settings

from tests.access_reference import CLIENTS, DEVICES, PLATFORMS, RISKS, TYPES, Gate, Gatekeeper
from tests.compared import compare_many, many
from tests.core.test_access_against_reference import _rule, expected_decision, random_gate, write_gate
from tests.organisations import TAKEN, _table, _yaml, organisations
from tests.program import call
from tests.reference import Org, Row

WORDS = {"client": CLIENTS, "platform": PLATFORMS, "device": DEVICES, "risk": RISKS}
COLUMNS = {"time", "person", "resource", "address", "network", *WORDS, "shown", "result"}
RESULTS = ("allowed", "challenged", "stuck", "denied", "failed")


def random_event(evaluator: Gatekeeper, rnd: Random) -> Row:
    gate = evaluator.gate
    event: Row = {
        "time": TAKEN - timedelta(hours=rnd.randrange(100)),
        "person": rnd.choice([person["id"] for person in evaluator.org.people]),
        "resource": rnd.choice([*gate.resources, *gate.resources, "r-gone"]),
        **{name: rnd.choice(words) for name, words in WORDS.items() if rnd.random() < 0.85},
    }
    if rnd.random() < 0.6:
        event["address"] = rnd.choice(sorted(evaluator.places.values()))
    elif rnd.random() < 0.7:
        event["network"] = rnd.choice([*gate.networks, "elsewhere"])
    if rnd.random() < 0.6:
        event["shown"] = ";".join(rnd.sample(TYPES, rnd.choice((1, 2))))
    if rnd.random() < 0.8:
        event["result"] = rnd.choice((*RESULTS, "allowed", "allowed"))
    return event


def networks(evaluator: Gatekeeper, event: Row) -> list[frozenset[str]]:
    """The sets of networks that an event may come from; a name lies in all that wholly contain it."""
    if "address" in event:
        return [names for names, address in evaluator.places.items() if address == event["address"]]
    if event.get("network") == "elsewhere":
        return [frozenset()]
    if "network" in event:
        return [frozenset.intersection(*(names for names in evaluator.places if event["network"] in names))]
    return list(evaluator.places)


def decision(evaluator: Gatekeeper, event: Row, person: Row, modes: tuple[str, ...]) -> str:
    places = product(
        networks(evaluator, event), *([event[name]] if name in event else words for name, words in WORDS.items())
    )
    shown = {word for word in event.get("shown", "").split(";") if word}
    found = {expected_decision(evaluator, person, (event["resource"], *place), shown, modes) for place in places}
    return found.pop() if len(found) == 1 else "unknown"


def with_rules(gate: Gate, rules: list[Row]) -> Gate:
    return Gate(gate.networks, gate.resources, gate.default, rules, gate.authenticators, gate.passes, gate.partners)


def test_every_replayed_event_is_decided_as_the_reference_does() -> None:
    compare_many(compare, 40, 80, 0.4)


def compare(org: Org, rnd: Random) -> int:
    """Compares counts by both decisions, and by person, of one random log; returns how many events were decided."""
    org.people, org.exceptions, org.settings, org.observations = org.people[:4], [], None, None
    gate = random_gate(org, rnd)
    if gate.rules is None:
        return 0
    if rnd.random() < 0.2:  # more rules than one word of bits holds
        gate.rules += [{**deepcopy(rule), "id": f"{rule['id']}-{copy}"} for rule in gate.rules for copy in range(20)]
    draft = None
    if rnd.random() < 0.4:
        fresh = [_rule(number, rnd, gate.networks, gate.resources, org.columns) for number in range(rnd.randrange(5))]
        draft = with_rules(
            gate, [*rnd.sample(gate.rules, len(gate.rules) // 2), *({**rule, "id": f"D{rule['id']}"} for rule in fresh)]
        )
    evaluator = Gatekeeper(org, gate)
    then, modes = (Gatekeeper(org, draft), ("enforce",)) if draft is not None else (evaluator, ("enforce", "observe"))
    events = [random_event(evaluator, rnd) for _ in range(10)]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_gate(org, gate, folder, rnd)
        (folder / "logs").mkdir()
        _table(folder / "logs", "sign_ins", events, COLUMNS, rnd, ("csv", "jsonl", "parquet"))
        call_for = ["rehearse", "--snapshot", folder / "snapshot", "--sign-ins", folder / "logs", "--format", "json"]
        if draft is not None:
            _yaml(folder / "draft.yaml", {"usher-gate": "access-rules/1", "rules": draft.rules})
            call_for += ["--draft", folder / "draft.yaml"]
        done = call(*call_for)
    assert done.status in (0, 3), done.err
    return check(evaluator, then, modes, events, json.loads(done.out))


def check(
    evaluator: Gatekeeper, then: Gatekeeper, modes: tuple[str, ...], events: list[Row], result: dict[str, Any]
) -> int:
    active = {person["id"]: person for person in evaluator.reference.active}
    changes: Counter[tuple[str, str]] = Counter()
    inside: Counter[tuple[str, str]] = Counter()
    hurt: dict[str, Counter[str]] = {}
    for event in events:
        person = active.get(event["person"])
        if person is None or event["resource"] == "r-gone":
            continue
        before = decision(evaluator, event, person, ("enforce",))
        after = decision(then, event, person, modes)
        changes[before, after] += 1
        if event.get("result", before) != "allowed":
            continue
        inside[before, after] += 1
        if after not in (before, "allowed"):
            hurt.setdefault(person["id"], Counter())[after] += 1
    assert {(each["now"], each["then"]): each["sign_ins"] for each in result["changes"]} == dict(changes)
    assert {(each["now"], each["then"]): each["got_in"] for each in result["changes"] if each["got_in"]} == dict(inside)
    fates = ("challenged", "stuck", "denied", "unknown")
    assert {each["id"]: {fate: each[fate] for fate in fates if each[fate]} for each in result["people"]} == hurt
    counted = result["events"]
    assert counted["read"] == len(events) == counted["decided"] + counted["unused"]
    assert counted["decided"] == sum(changes.values()) == sum(each["sign_ins"] for each in result["days"])
    assert sum(each["events"] for each in result["unused"]) == counted["unused"]
    certain = sum(number for each in hurt.values() for fate, number in each.items() if fate != "unknown")
    assert sum(each[fate] for each in result["rules"] for fate in fates) >= certain
    return counted["decided"]  # type: ignore[no-any-return]


@settings(max_examples=many(20), suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(organisations())
def test_neither_the_order_of_access_rules_nor_their_names_change_a_finding(made: tuple[Org, Random]) -> None:
    org, rnd = made
    org.people, org.exceptions, org.settings, org.observations = org.people[:4], [], None, None
    gate = random_gate(org, rnd)
    answers = []
    for renamed in (False, True):
        if renamed and gate.rules is not None:
            names = rnd.sample(range(100), len(gate.rules))
            gate.rules = [{**rule, "id": f"Z{number}"} for rule, number in zip(gate.rules, names, strict=True)]
        with tempfile.TemporaryDirectory() as name:
            write_gate(org, gate, Path(name), Random(5))
            done = call(
                "check",
                "--snapshot",
                Path(name) / "snapshot",
                "--baseline",
                Path(name) / "baseline.yaml",
                "--format",
                "json",
            )
        if done.status == 2:
            return
        result = json.loads(done.out)
        for each in result["lockouts"]:  # named by rules, which were given other names
            del each["rules"]
        answers.append((done.status, result["findings"], result["lockouts"], result["groups"], result["roots"]))
    assert answers[0] == answers[1]
