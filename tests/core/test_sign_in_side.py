"""What ends lock-outs and closes holes against trying every set of up to three edits of small sets of access rules."""

from __future__ import annotations

import copy
import json
import tempfile
from collections.abc import Iterator
from itertools import combinations, product
from pathlib import Path
from random import Random
from typing import Any

import numpy as np

from tests.access_reference import CLIENTS, DEVICES, PLATFORMS, PROOFS, RISKS, Gate, Gatekeeper, holds, on_resource
from tests.compared import compare_many
from tests.core.test_access_against_reference import random_gate, write_gate
from tests.organisations import AS_REFERENCES, selector, with_keys
from tests.reference import Org, Row
from usher_gate.core.mend.constraints import MendingConstraints
from usher_gate.core.mend.deadline import NEVER_PASSES
from usher_gate.core.mend.sign_in_side import HOLE, LOCK_OUT, Repair, sign_in_side
from usher_gate.core.verdicts.checker import Checker
from usher_gate.core.words.vocabulary import DIMENSIONS
from usher_gate.files.faults import BadInput
from usher_gate.files.snapshot.folder import read_snapshot
from usher_gate.files.written.baseline import read_baseline
from usher_gate.files.written.snapshot_out import rule_object

MOST = 3
WORDS = {"client": CLIENTS, "platform": PLATFORMS, "device": DEVICES, "risk": RISKS}


def small_gate(org: Org, rnd: Random) -> Gate:
    """Four rules, three resources, two networks; many exclusions, and holes that overlap."""
    gate = random_gate(org, rnd)
    gate.networks = {"n0": ["192.0.2.0/24"], "n1": ["192.0.2.128/25", "198.51.100.0/24"]}
    gate.resources = {"r0": ["admin"], "r1": rnd.choice(([], ["old"])), "r2": ["old"]}
    ids = [person["id"] for person in org.people]

    def excluding() -> Row:
        one: Row = {"id": rnd.sample(ids, min(len(ids), rnd.choice((1, 2))))}
        two = rnd.choice((one, selector(rnd, org.columns)))
        return rnd.choice((one, two, {"any-of": [one, two]}, {"any-of": [two, {"any-of": [one, {"kind": "guest"}]}]}))

    def rule(number: int) -> Row:
        people: Row = {"include": rnd.choice(({"any": True}, {"any": True}, {"kind": ["member", "guest"]}))}
        if rnd.random() < 0.6:
            people["exclude"] = excluding()
        resources: Row = {"include": rnd.choice(("any", "any", ["r0", "r1"], {"tag": ["admin", "old"]}))}
        if rnd.random() < 0.4:
            resources["exclude"] = rnd.choice((["r2"], ["r0", "r2"], {"tag": ["old"]}))
        when: Row = {}
        if rnd.random() < 0.4:
            when["network"] = rnd.choice(({"include": ["n0"]}, {"include": ["elsewhere"]}, {"include": "any", "exclude": ["n1"]},
                                          {"include": ["n0"], "exclude": ["n1"]}))  # fmt: skip
        for name, words in WORDS.items():
            if rnd.random() < 0.25:
                when[name] = sorted(rnd.sample(words, rnd.randint(len(words) - 2, len(words) - 1)))
        proofs = rnd.sample(PROOFS, rnd.choice((1, 1, 2)))
        outcome = rnd.choice(
            (
                {"require": {"all-of": proofs}},
                {"require": {"any-of": proofs}},
                {"require": {"all-of": ["mfa"]}},
                {"deny": True},
            )
        )
        mode = rnd.choice(("enforce", "enforce", "enforce", "observe", "off"))
        return {
            "id": f"A{number}",
            "mode": mode,
            "people": people,
            "resources": resources,
            "when": when,
            "outcome": outcome,
        }

    gate.rules = [json.loads(json.dumps(rule(number))) for number in range(4)]  # a list of its own for each
    gate.leaves = [
        {"proof": rnd.choice(("mfa", "mfa", *PROOFS)), "on": rnd.choice(("any", ["r0"])),
         "when": {"platform": ["windows", "ios"], "risk": rnd.choice((["none"], ["none", "high"]))}}
        for _ in range(2)
    ]  # fmt: skip
    return gate


def less(exclude: Row) -> Iterator[tuple[Any, ...]]:
    """The ways into an exclusion at whose end something may be taken away."""
    yield ()
    if set(exclude) == {"any-of"}:
        for place, part in enumerate(exclude["any-of"]):
            yield from (("any-of", place, *rest) for rest in less(part))
    elif len(exclude) == 1:
        ((key, values),) = exclude.items()
        if isinstance(values, list) and key not in ("all-of", "not") and len(values) > 1:
            yield from ((key, place) for place in range(len(values)))


def edits(rule: Row, gate: Gate) -> list[tuple[Any, ...]]:
    """Every single edit of a rule that makes it reach further."""
    if rule["mode"] == "off":
        return []
    found: list[tuple[Any, ...]] = [("enforce",)] if rule["mode"] == "observe" else []
    found += [("people", *way) for way in less(rule["people"]["exclude"])] if "exclude" in rule["people"] else []
    out = rule["resources"].get("exclude", [])
    found += [("resource", word) for word in (out["tag"] if isinstance(out, dict) else out)]
    network = rule["when"].get("network", {})
    found += [("network-out", word) for word in network.get("exclude", [])]
    if isinstance(network.get("include"), list):
        found += [("network", word) for word in (*gate.networks, "elsewhere") if word not in network["include"]]
    for name, words in WORDS.items():
        found += [(name, word) for word in words if name in rule["when"] and word not in rule["when"][name]]
    return found


def taken(exclude: Any, ways: list[tuple[Any, ...]]) -> Any:
    """An exclusion without what is at the end of some ways; None for nothing left."""
    if () in ways:
        return None
    key, values = next(iter(exclude.items()))  # with more keys nothing but the whole can be taken away
    mine = {way[1]: [other[2:] for other in ways if other[1] == way[1]] for way in ways}
    if not mine:
        return exclude
    if key == "any-of":
        parts = [taken(part, mine.get(place, [])) for place, part in enumerate(values)]
        parts = [part for part in parts if part is not None]
        return {"any-of": parts} if parts else None
    rest = [value for place, value in enumerate(values) if place not in mine]
    return {key: rest} if rest else None


def edited(rule: Row, some: tuple[tuple[Any, ...], ...]) -> Row:
    made = copy.deepcopy(rule)
    ways = [edit[1:] for edit in some if edit[0] == "people"]
    if ways:
        exclude = taken(made["people"].pop("exclude"), ways)
        made["people"] |= {} if exclude is None else {"exclude": exclude}
    for kind, *word in some:
        if kind == "enforce":
            made["mode"] = "enforce"
        elif kind == "resource":
            out = made["resources"]["exclude"]
            (out["tag"] if isinstance(out, dict) else out).remove(word[0])
        elif kind == "network-out":
            made["when"]["network"]["exclude"].remove(word[0])
        elif kind == "network":
            made["when"]["network"]["include"].append(word[0])
        elif kind != "people":
            made["when"][kind].append(word[0])
    return made


def plain(rule: Row, gate: Gate) -> Row:
    """A rule with its resources by name, as the reference reads them."""

    def names(choice: Any) -> Any:
        return [name for name, tags in gate.resources.items() if set(tags) & set(choice["tag"])] if isinstance(choice, dict) else choice  # fmt: skip

    made: Row = {"include": names(rule["resources"]["include"])}
    made["exclude"] = names(rule["resources"].get("exclude", []))
    return {**rule, "resources": made}


class Remembering(Gatekeeper):
    """The reference, which asks once which people a rule includes."""

    def __init__(self, org: Org, gate: Gate, like: Remembering | None = None) -> None:
        if like is None:
            super().__init__(org, gate)
            self.known: dict[tuple[int, str], bool | None] = {}
        else:
            self.org, self.gate, self.reference, self.places, self.known = org, gate, like.reference, like.places, {}

    def includes(self, rule: Row, person: Row) -> bool | None:
        key = id(rule["people"]), person["id"]
        if key not in self.known:
            self.known[key] = super().includes(rule, person)
        return self.known[key]


class Trying:
    """What sets of edits do, by trying them."""

    def __init__(self, org: Org, gate: Gate) -> None:
        assert gate.rules is not None
        self.org, self.gate = org, gate
        self.evaluator = Remembering(org, gate)
        self.evaluator = self.with_rules(gate.rules)
        self.locked = locked(self.evaluator)

    def with_rules(self, rules: list[Row]) -> Remembering:
        gate = copy.copy(self.gate)
        gate.rules = [plain(rule, self.gate) for rule in rules]
        return Remembering(self.org, gate, self.evaluator)

    def closing(self, leaf: Row, cells: list[tuple[Row, tuple[Any, ...]]]) -> int | None:
        """The least number of edits with which no sign-in of a hole slips through; None for more than MOST."""
        assert self.gate.rules is not None
        everything = (1 << len(cells)) - 1
        by_rule: list[list[tuple[int, int]]] = []  # of each rule: how many edits, and the sign-ins that it then covers
        own, nothing = 0, self.with_rules([])
        for at, (person, place) in enumerate(cells):
            own |= nothing.covered(person, leaf["proof"], self.home(person), ("enforce",), place) << at
        for rule in self.gate.rules:
            always = {
                **rule,
                "mode": "enforce",
                "people": {"include": {"any": True}},
                "resources": {"include": "any"},
                "when": {},
            }
            by_itself, known = self.with_rules([always]), dict[tuple[Any, ...], bool]()
            covers = 0
            for at, (person, place) in enumerate(cells):
                key = person["id"], place[2], place[4]
                if key not in known:
                    known[key] = by_itself.covered(person, leaf["proof"], self.home(person), ("enforce",), place)
                covers |= known[key] << at
            options: dict[int, int] = {}
            for size in range(MOST + 1):
                for some in combinations(edits(rule, self.gate), size):
                    made = plain(edited(rule, some), self.gate)
                    reached = covers & self.reached(made, cells) if covers and made["mode"] == "enforce" else 0
                    options.setdefault(reached, size)
            by_rule.append([(size, reached) for reached, size in options.items()])
        sizes = [
            sum(size for size, _ in some)
            for some in product(*by_rule)
            if sum(size for size, _ in some) <= MOST
            and own | some[0][1] | some[1][1] | some[2][1] | some[3][1] == everything
        ]
        return min(sizes, default=None)

    def reached(self, rule: Row, cells: list[tuple[Row, tuple[Any, ...]]]) -> int:
        people = {person["id"]: person for person, _ in cells}
        included = {name: Gatekeeper.includes(self.evaluator, rule, person) for name, person in people.items()}
        return sum(
            1 << at
            for at, (person, place) in enumerate(cells)
            if included[person["id"]] and on_resource(rule, place[0]) and holds(rule["when"], *place[1:])
        )

    def home(self, person: Row) -> Any:
        return self.evaluator.hypotheses(person)[0]

    def drifting(self, evaluator: Gatekeeper) -> set[tuple[int, str]]:
        return {
            (number, person["id"])
            for number, leaf in enumerate(self.gate.leaves)
            for person in evaluator.reference.active
            if evaluator.coverage(person, leaf)[0] == "drifts"
        }

    def letting_in(self, person: Row, resources: list[str], break_glass: bool) -> int | None:
        """The least number of rules from which someone has to be excluded to get in everywhere."""
        assert self.gate.rules is not None
        now = self.drifting(self.evaluator)
        for size in range(1, MOST + 1):
            for some in combinations(range(4), size):
                rules = copy.deepcopy(self.gate.rules)
                for number in some:
                    people = rules[number]["people"]
                    one = {"id": [person["id"]]}
                    people["exclude"] = {"any-of": [people["exclude"], one]} if "exclude" in people else one
                after = self.with_rules(rules)
                if any(after.locked_out(person, resource) for resource in resources):
                    continue
                if break_glass or self.drifting(after) <= now:
                    return size
        return None


def compare(org: Org, rnd: Random) -> int:
    org.people = org.people[:3]
    org.exceptions, org.settings, org.observations, org.services = [], None, None, None
    if rnd.random() < 0.6:  # someone to be locked out
        org.columns |= {"break_glass", "roles"}
        org.privileged = ["admin"]
        for person in org.people:
            person |= {"break_glass": rnd.choice(("true", "false")), "roles": rnd.choice(("admin", ""))}
    gate = small_gate(org, rnd)
    with tempfile.TemporaryDirectory() as name:
        write_gate(org, gate, Path(name), rnd)
        try:
            snapshot = read_snapshot(Path(name) / "snapshot").snapshot
            baseline, _ = read_baseline(Path(name) / "baseline.yaml", snapshot.catalogue, snapshot)
        except BadInput:
            return 0
    checker, trying = Checker(snapshot, baseline), Trying(org, gate)
    asking = MendingConstraints(lambda *_: True, np.ones(len(snapshot.people), bool))
    repairs = list(sign_in_side(checker, asking, NEVER_PASSES))
    active = sorted(trying.evaluator.reference.active, key=lambda each: each["id"])
    with_holes = {(int(each.rule[1:]), active[one]["id"]) for each in repairs if each.hole for one in each.hole.people}
    assert with_holes == trying.drifting(trying.evaluator)
    for each in repairs:
        compare_one(each, trying, active, checker)
    found = {(each.account, resource) for each in repairs if each.problem == LOCK_OUT for resource in each.resources}
    assert found == {(person, resource) for resource, _, person in trying.locked}
    return len(repairs)


def locked(evaluator: Gatekeeper) -> set[tuple[str, str, str]]:
    return {(resource, kind, one) for resource, people, kind, _ in evaluator.lockouts() for one in people}


def compare_one(each: Repair, trying: Trying, active: list[Row], checker: Checker) -> None:
    if each.problem == HOLE:
        assert each.hole is not None
        leaf = trying.gate.leaves[int(each.rule[1:])]
        cells = [
            (active[number], place)
            for number in each.hole.people
            for place in trying.evaluator.possible(leaf, trying.home(active[number]))
            if all(
                some is None or ("+".join(sorted(value)) or "elsewhere" if name == "network" else value) in some
                for name, some, value in zip(DIMENSIONS, each.hole.values, place, strict=True)
            )
        ]
        assert cells
        least = trying.closing(leaf, cells)
    else:
        person = next(person for person in active if person["id"] == each.account)
        least = trying.letting_in(person, list(each.resources), each.kind == "break-glass")
    assert (each.fewest if each.fewest is None or each.fewest <= MOST else None) == least, (
        each.because,
        trying.gate.rules,
    )
    assert bool(each.plans) == (each.fewest is not None) == (not each.because)
    assert [bool(plan.objection) for plan in each.plans] == sorted(bool(plan.objection) for plan in each.plans)
    for plan in each.plans[:3]:
        written = (with_keys(rule_object(rule), AS_REFERENCES) for rule in plan.rules)
        rules = [raw | {"when": raw.get("when", {})} for raw in written]
        after = trying.with_rules(rules)
        if each.problem == HOLE:
            home = trying.home
            assert all(
                after.covered(person, leaf["proof"], home(person), ("enforce",), place) for person, place in cells
            )
            assert not plan.opened
            drifting = trying.drifting(after)
            assert plan.drifting_then == sum(f"R{number}" == each.rule for number, _ in drifting)
        else:
            assert not any(after.locked_out(person, resource) for resource in each.resources)
            opened = {(int(rule[1:]), one) for rule, people in plan.opened for one in people if rule[0] == "R"}
            assert opened == trying.drifting(after) - trying.drifting(trying.evaluator)
        if plan is each.plans[0]:
            assert set(plan.locked_out) == locked(after) - trying.locked


def test_the_fewest_edits_are_what_trying_everything_finds() -> None:
    compare_many(compare, 30, 60, 0.6)
