"""Proof coverage and lock-out against the plain reference, which tries every sign-in of small random universes."""

from __future__ import annotations

import json
import tempfile
from datetime import timedelta
from pathlib import Path
from random import Random
from typing import Any

import yaml

from tests.access_reference import CLIENTS, DEVICES, PLATFORMS, PROOFS, RISKS, TYPES, Gate, Gatekeeper
from tests.compared import compare_many
from tests.organisations import TAKEN, _table, _yaml, selector, write_org
from tests.program import call
from tests.reference import Org, Row

RANGES = (
    "192.0.2.0/24",
    "192.0.2.0/25",
    "192.0.2.64/26",
    "198.51.100.0/24",
    "2001:db8::/32",
    "2001:db8:10::/48",
    "192.0.2.128/25",
)


def _some(rnd: Random, words: tuple[str, ...]) -> list[str]:
    return sorted(rnd.sample(words, rnd.randint(1, len(words) - 1)))


def _when(rnd: Random, networks: dict[str, list[str]]) -> Row:
    when: Row = {}
    if rnd.random() < 0.5:
        names = [*networks, "elsewhere"]
        when["network"] = rnd.choice(({"include": rnd.choice(("any", [rnd.choice(names)], rnd.choice(names)))},
                                      {"include": "any", "exclude": [rnd.choice(names)]}))  # fmt: skip
    for name, words in (("client", CLIENTS), ("platform", PLATFORMS), ("device", DEVICES), ("risk", RISKS)):
        if rnd.random() < 0.35:
            when[name] = _some(rnd, words)
    return when


def _rule(
    number: int, rnd: Random, networks: dict[str, list[str]], resources: dict[str, list[str]], columns: set[str]
) -> Row:
    people = {"include": rnd.choice(({"any": True}, {"any": True}, {"any": True}, selector(rnd, columns)))}
    if rnd.random() < 0.25:
        people["exclude"] = selector(rnd, columns)
    proofs = rnd.sample(PROOFS, rnd.choice((1, 1, 2)))
    rule: Row = {"id": f"A{number}", "mode": rnd.choice(("enforce", "enforce", "observe", "off")), "people": people,
                 "resources": {"include": rnd.choice(("any", [rnd.choice(sorted(resources))]))},
                 "outcome": rnd.choice(({"deny": True}, {"require": {"all-of": proofs}}, {"require": {"any-of": proofs}}))}  # fmt: skip
    if rnd.random() < 0.2 and len(resources) > 1 and rule["resources"]["include"] == "any":
        rule["resources"]["exclude"] = [rnd.choice(sorted(resources))]
    when = _when(rnd, networks)
    return {**rule, "when": when} if when and rnd.random() < 0.7 else rule


def random_gate(org: Org, rnd: Random) -> Gate:
    networks = {f"n{number}": rnd.sample(RANGES, rnd.choice((1, 2))) for number in range(rnd.randrange(4))}
    resources = {f"r{number}": rnd.choice(([], ["admin"])) for number in range(rnd.choice((1, 2)))}
    ids = [person["id"] for person in org.people]
    rules = (
        [_rule(number, rnd, networks, resources, org.columns) for number in range(rnd.randrange(7))]
        if rnd.random() < 0.95
        else None
    )
    kinds = TYPES if rnd.random() < 0.3 else TYPES[1:]
    moments = rnd.choice(((None,), (None, TAKEN), (TAKEN, TAKEN - timedelta(days=9))))
    names = rnd.choice(((None,), (None, "K-1"), ("K-1", "K-2", None)))

    def authenticator() -> Row:
        row = {"person": rnd.choice(ids), "type": rnd.choice(kinds)}
        cells = {"registered_at": rnd.choice(moments), "id": rnd.choice(names)}
        return row | {name: cell for name, cell in cells.items() if cell is not None}

    authenticators = [authenticator() for _ in range(rnd.randrange(8))] if rnd.random() < 0.8 else None
    if authenticators:  # listed twice
        authenticators += rnd.choices(authenticators, k=rnd.randrange(4))
    passes = None
    if rnd.random() < 0.8:
        passes = [
            {
                "person": rnd.choice(ids),
                "issued_at": TAKEN - timedelta(hours=2),
                "expires_at": TAKEN + timedelta(hours=rnd.choice((-1, 0, 1))),
                "single_use": rnd.choice(("true", "false")),
                **rnd.choice(({}, {"used_at": TAKEN})),
            }
            for _ in range(rnd.randrange(4))
        ]
    flags = ("true", "false")
    partners = (
        [
            {
                "domain": domain,
                **{
                    name: rnd.choice(flags)
                    for name in ("guests_in", "home_mfa_counts", "home_device_counts")
                    if rnd.random() < 0.6
                },
                **({"home_factor": rnd.choice(PROOFS[:3])} if rnd.random() < 0.5 else {}),
            }
            for domain in rnd.sample(("home.example", "PARTNER.example", "*"), rnd.randint(0, 3))
        ]
        if rnd.random() < 0.8
        else None
    )
    leaves = [
        {
            "proof": rnd.choice(PROOFS),
            "on": rnd.choice(("any", [rnd.choice(sorted(resources))])),
            **rnd.choice(({}, {"when": _when(rnd, networks)})),
        }
        for _ in range(3)
    ]
    return Gate(networks, resources, rnd.random() < 0.15, rules, authenticators, passes, partners, leaves)


def write_gate(org: Org, gate: Gate, folder: Path, rnd: Random) -> None:
    write_org(org, folder, rnd, ("csv",))
    snapshot = folder / "snapshot"
    organisation = yaml.safe_load((snapshot / "organisation.yaml").read_text())
    _yaml(snapshot / "organisation.yaml", {**organisation, "networks": gate.networks, "resources": gate.resources,
                                           "second_factor_default": "on" if gate.default else "off"})  # fmt: skip
    if gate.rules is not None:
        _yaml(
            snapshot / "access-rules.yaml",
            {"usher-gate": "access-rules/1", "rules": rnd.sample(gate.rules, len(gate.rules))},
        )
    for name, rows, columns in (("authenticators", gate.authenticators, {"person", "type", "registered_at", "id"}),
                                ("passes", gate.passes, {"person", "issued_at", "expires_at", "single_use", "used_at"}),
                                ("partners", gate.partners, {"domain", "guests_in", "home_mfa_counts", "home_device_counts", "home_factor"})):  # fmt: skip
        if rows is not None:
            _table(snapshot, name, rows, columns, rnd, ("csv", "parquet"))
    rules = [{"id": f"R{number}", "title": "t", "expect": leaf} for number, leaf in enumerate(gate.leaves)]
    rules += [
        {"id": f"C-{kind}", "title": "t", "expect": {"person": f"authenticators.{kind}", "is": 99}} for kind in TYPES
    ]
    rules.append({"id": "S", "title": "t", "expect": {"person": "can-show", "one-of": list(CAN_SHOW)}})
    rules.append({"id": "T", "title": "t", "expect": {"person": "can-show", "is": "nothing"}})
    _yaml(folder / "baseline.yaml", {"usher-gate": "baseline/1", "name": "Random", "version": "v1", "rules": rules})


def compare(org: Org, rnd: Random) -> int:
    """Compares every proof verdict and every lock-out; returns how many verdicts were compared."""
    org.people = org.people[:4]
    org.exceptions, org.settings, org.observations = [], None, None
    gate = random_gate(org, rnd)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_gate(org, gate, folder, rnd)
        done = call(
            "check", "--snapshot", folder / "snapshot", "--baseline", folder / "baseline.yaml", "--format", "json"
        )
    assert done.status in (0, 1, 3), done.err
    result = json.loads(done.out)
    evaluator = Gatekeeper(org, gate)
    found = {(each["rule"], each["subject"]["id"]): each for each in result["findings"]}
    for number, leaf in enumerate(gate.leaves):
        for person in evaluator.reference.active:
            check_one(evaluator, leaf, person, found.get((f"R{number}", person["id"])))
    for person in evaluator.reference.active:
        check_facts(evaluator, person, found)
    assert [
        (each["resource"], tuple(each["people"]), each["of"], each["all"]) for each in result["lockouts"]
    ] == evaluator.lockouts()
    assert [
        (
            each["resource"],
            each["id"],
            {name: sorted(values) for name, values in each["conditions"].items()},
            each["combined"],
        )
        for each in sorted(result["conditional"], key=lambda each: (each["resource"], each["id"]))
    ] == evaluator.conditional()
    for each in result["lockouts"]:
        people = [person for person in evaluator.reference.active if person["id"] in each["people"]]
        assert [rule["id"] for rule in each["rules"]] == evaluator.against(people, each["resource"])
    assert [(each["resource"], each["people"]) for each in result["stranded"]] == evaluator.stranded()
    if any(each["all"] for each in result["lockouts"]):
        assert done.status == 1
    return len(gate.leaves) * len(evaluator.reference.active)


CAN_SHOW = ("restricted-mfa", "mfa", "phishing-resistant", "hardware-key")


def check_facts(evaluator: Gatekeeper, person: Row, found: dict[tuple[str, str], Any]) -> None:
    """How many authenticators of each type someone has, and what they can show."""
    for kind in TYPES:
        leaf = found[f"C-{kind}", person["id"]]["leaves"][0]
        many = evaluator.registered(person, kind)
        assert leaf["actual"] == (None if many is None else str(many)), (person, kind)
    # One of the two rules finds whatever can be shown, and both where that is not known.
    said = [found.get((rule, person["id"])) for rule in ("S", "T")]
    actual = {each["leaves"][0]["actual"] for each in said if each is not None}
    assert actual == {evaluator.can_show(person)}, person


def check_one(evaluator: Gatekeeper, leaf: Row, person: Row, finding: dict[str, Any] | None) -> None:
    verdict, reason = evaluator.coverage(person, leaf)
    if finding is None:
        assert verdict == "meets", (leaf, person["id"], verdict, reason)
        return
    assert (finding["verdict"], finding["reason"]) == (verdict, reason), (leaf, person["id"])
    hole = finding["leaves"][0]["hole"]
    assert (hole is not None) == (verdict == "drifts")
    if hole is not None:
        assert evaluator.is_hole(person, leaf, hole, ("enforce",))
        if reason == "hole":
            assert evaluator.is_hole(person, leaf, hole, ("enforce", "observe"))


def test_every_proof_verdict_and_lock_out_is_the_reference_s() -> None:
    compare_many(compare, 60, 150, 0.4)


def compare_partners(org: Org, rnd: Random) -> int:
    """A partner's row changed by hand, and by a rehearsal.

    The same verdicts begin and end, and the snapshot that is written is checked like that.
    """
    org.people = org.people[:4]
    org.exceptions, org.settings, org.observations, org.services = [], None, None, None
    gate = random_gate(org, rnd)
    if gate.partners is None or gate.rules is None:
        return 0
    flags = {
        name: rnd.random() < 0.5
        for name in ("guests_in", "home_mfa_counts", "home_device_counts")
        if rnd.random() < 0.5
    }
    if rnd.random() < 0.6:
        flags["home_mfa_counts"] = True
    for person in org.people:
        person["kind"] = rnd.choice((person["kind"], "guest"))
    domains = {person["login"].rpartition("@")[2].lower() for person in org.people} | {
        "home.example",
        "partner.example",
        "*",
    }
    change: Row = {"domain": rnd.choice(sorted(domains)), **flags}
    if rnd.random() < 0.7 or not flags:
        change["home_factor"] = rnd.choice(PROOFS[:3])
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_gate(org, gate, folder, rnd)
        _yaml(folder / "c.yaml", {"usher-gate": "changes/1", "title": "t", "changes": [{"partner": change}]})
        places = ("--snapshot", folder / "snapshot", "--baseline", folder / "baseline.yaml", "--format", "json")
        done = call("rehearse", "--changes", folder / "c.yaml", "--write-snapshot", folder / "after", *places)
        if done.status == 2:
            return 0
        received = json.loads(done.out)
        written = call("check", "--snapshot", folder / "after", *places[2:])
    before = verdicts(Gatekeeper(org, gate))
    row = next((row for row in gate.partners if row["domain"].lower() == change["domain"]), None)
    if row is None:
        gate.partners.append(row := {"domain": change["domain"]})
    row |= {name: str(cell).lower() for name, cell in change.items() if name != "domain"}
    after = verdicts(Gatekeeper(org, gate))
    drifting = [{key for key, verdict in said.items() if verdict == "drifts"} for said in (before, after)]
    for what, expected in (("begun", drifting[1] - drifting[0]), ("ended", drifting[0] - drifting[1])):
        keys = {(each["rule"], each["subject"]["id"]) for each in received["verdicts"][what]}
        assert {key for key in keys if key[0][0] in "RS"} == expected, (what, change)
    found = {(each["rule"], each["subject"]["id"]): each["verdict"] for each in json.loads(written.out)["findings"]}
    assert {key: found.get(key, "meets") for key in after} == after
    return 1


def verdicts(evaluator: Gatekeeper) -> dict[tuple[str, str], str]:
    return {
        (f"R{number}", person["id"]): evaluator.coverage(person, leaf)[0]
        for number, leaf in enumerate(evaluator.gate.leaves)
        for person in evaluator.reference.active
    } | {("S", person["id"]): _shows(evaluator.can_show(person)) for person in evaluator.reference.active}


def _shows(what: str | None) -> str:
    return "unknown" if what is None else "meets" if what in CAN_SHOW else "drifts"


def test_a_partner_s_row_is_rehearsed_as_if_it_were_written_by_hand() -> None:
    compare_many(compare_partners, 80, 30, 0.7)


def expected_decision(
    evaluator: Gatekeeper, person: Row, place: tuple[Any, ...], shown: set[str], modes: tuple[str, ...]
) -> str:
    """The outcome of one sign-in, straight from the text; unknown where what is not known could change it."""
    from itertools import product

    tables = [evaluator.gate.authenticators is None, evaluator.gate.passes is None and person["kind"] == "member"]
    outcomes = set()
    for partner, everything, live in product(
        evaluator.hypotheses(person), (True, False) if tables[0] else (None,), (True, False) if tables[1] else (None,)
    ):
        if not partner["in"]:
            outcomes.add("denied")
            continue
        resource, names, client, platform, device, risk = place
        seen = device if partner["device"] else "unknown"
        for certain in (True, False):
            rules = evaluator.gate.rules
            assert rules is not None
            unsure = [rule for rule in rules if evaluator.includes(rule, person) is None]
            evaluator.gate.rules = (
                [rule if rule not in unsure else {**rule, "people": {"include": {"any": True}}} for rule in rules]
                if certain
                else rules
            )
            needs = evaluator.requirements(person, modes, resource, names, client, platform, seen, risk)
            evaluator.gate.rules = rules
            outcomes.add(outcome(evaluator, person, needs, client, seen, partner, shown, everything, live))
    return outcomes.pop() if len(outcomes) == 1 else "unknown"


def outcome(evaluator: Gatekeeper, person: Row, needs: list[Row] | None, client: str, device: str, partner: dict[str, Any], shown: set[str],
            everything: bool | None, live: bool | None) -> str:  # fmt: skip
    from tests.access_reference import device_set, satisfied

    if needs is None or (client == "legacy" and not all(satisfied(need, device_set("healthy")) for need in needs)):
        return "denied"
    table = evaluator.gate.authenticators or []
    has = set(TYPES) if everything else {row["type"] for row in table if row["person"] == person["id"]}
    listed = evaluator.gate.authenticators is None or evaluator.lists_memorized()
    secret = {"memorized-secret"}
    if person["kind"] == "guest":
        given = (
            evaluator.proofs_of(shown | secret)
            if partner["mfa"]
            else evaluator.proofs_of((shown & has) | secret) & {"mfa"}
        )
        could = evaluator.at_home(partner) if partner["mfa"] else evaluator.proofs_of(has | secret) & {"mfa"}
    else:
        if person["kind"] == "member" and not listed:
            has |= secret
        if live is None:
            live = person["kind"] == "member" and any(
                row["person"] == person["id"] and evaluator.live(row) for row in evaluator.gate.passes or ()
            )
        given = evaluator.proofs_of(shown | (has & secret)) if shown else frozenset()
        could = evaluator.proofs_of(has | shown) | ({"mfa"} if live else set())
    if client == "legacy":
        given = could = frozenset()
    if all(satisfied(need, given | device_set(device)) for need in needs):
        return "allowed"
    return "challenged" if all(satisfied(need, given | could | device_set(device)) for need in needs) else "stuck"


def test_every_decision_is_the_reference_s() -> None:
    compare_many(compare_decisions, 40, 900, 0.4)


def compare_decisions(org: Org, rnd: Random) -> int:
    """Compares some decisions of every person, as they are and as if the observed rules were enforced."""
    from usher_gate.core.organisation.networks import NetworkClass
    from usher_gate.core.organisation.sign_ins import SignIn
    from usher_gate.core.sign_in.decide import Decider
    from usher_gate.core.sign_in.evaluator import AccessPolicyEvaluator as Real
    from usher_gate.files.faults import BadInput
    from usher_gate.files.snapshot.folder import read_snapshot

    org.people = org.people[:4]
    org.exceptions, org.settings, org.observations = [], None, None
    gate = random_gate(org, rnd)
    if gate.rules is None:
        return 0
    with tempfile.TemporaryDirectory() as name:
        write_gate(org, gate, Path(name), rnd)
        try:
            snapshot = read_snapshot(Path(name) / "snapshot").snapshot
        except BadInput:
            return 0
    evaluator, real, count = Gatekeeper(org, gate), Real(snapshot), 0
    for number, person in enumerate(sorted(evaluator.reference.active, key=lambda each: each["id"])):
        decider = Decider(real, number)
        for _ in range(12):
            names = rnd.choice(sorted(evaluator.places, key=sorted))
            place = (
                rnd.choice(sorted(gate.resources)),
                names,
                rnd.choice(CLIENTS),
                rnd.choice(PLATFORMS),
                rnd.choice(DEVICES),
                rnd.choice(RISKS),
            )
            shown = set(rnd.sample(TYPES, rnd.choice((0, 0, 1, 2))))
            sign_in = SignIn(place[0], NetworkClass(real.networks.containing(evaluator.places[names]), ""), *place[2:])
            for observed, modes in ((False, ("enforce",)), (True, ("enforce", "observe"))):
                found = decider.decide(sign_in, frozenset(shown), observed).outcome
                assert found == expected_decision(evaluator, person, place, shown, modes), (person, place, shown, modes)
                count += 1
    return count
