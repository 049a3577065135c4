"""The plain reference of section 7: one sign-in at a time, every possible one tried, every set of proofs tried."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass, field
from itertools import combinations, product
from typing import Any

from .reference import Org, Reference, Row, Unanswerable

CLIENTS = ("browser", "app", "legacy")
PLATFORMS = ("windows", "macos", "linux", "ios", "android", "other")
DEVICES = ("unknown", "registered", "managed", "healthy")
RISKS = ("none", "low", "medium", "high")
PROOFS = ("mfa", "phishing-resistant", "hardware-key", "managed-device", "healthy-device")
IMPLIES = {"hardware-key": "phishing-resistant", "phishing-resistant": "mfa", "healthy-device": "managed-device"}
ALONE = {
    "multi-factor-otp": "mfa",
    "multi-factor-crypto-software": "phishing-resistant",
    "multi-factor-crypto-device": "hardware-key",
}
BESIDE = {**dict.fromkeys(("look-up-secret", "single-factor-otp", "out-of-band-app", "out-of-band-sms", "out-of-band-voice"), "mfa"),
          "single-factor-crypto-software": "phishing-resistant", "single-factor-crypto-device": "hardware-key"}  # fmt: skip
TYPES = ("memorized-secret", *ALONE, *BESIDE)
SETS = [frozenset(some) for size in range(6) for some in combinations(PROOFS, size)
        if all(IMPLIES.get(proof, proof) in some for proof in some)]  # fmt: skip


@dataclass
class Gate:
    """The sign-in side of an organisation as raw rows."""

    networks: dict[str, list[str]]
    resources: dict[str, list[str]]
    default: bool
    rules: list[Row] | None
    authenticators: list[Row] | None
    passes: list[Row] | None
    partners: list[Row] | None
    leaves: list[Row] = field(default_factory=list)


def addresses(gate: Gate) -> list[str]:
    """Addresses at and beside every border."""
    found = {"203.0.113.77", "2001:db8:ffff::7"}
    for text in (text for ranges in gate.networks.values() for text in ranges):
        network = ipaddress.ip_network(text)
        for number in (int(network.network_address), int(network.broadcast_address)):
            for near in (number - 1, number, number + 1):
                if (
                    0
                    <= near
                    <= int(ipaddress.ip_network("::/0" if network.version == 6 else "0.0.0.0/0").broadcast_address)
                ):
                    found.add(str((ipaddress.IPv6Address if network.version == 6 else ipaddress.IPv4Address)(near)))
    return sorted(found)


def networks_of(gate: Gate, address: str) -> frozenset[str]:
    place = ipaddress.ip_address(address)
    return frozenset(
        name for name, ranges in gate.networks.items() if any(place in ipaddress.ip_network(text) for text in ranges)
    )


def network_holds(condition: Row | None, names: frozenset[str]) -> bool:
    if condition is None:
        return True

    def among(wanted: Any) -> bool:
        wanted = wanted if isinstance(wanted, list) else [wanted]
        return "any" in wanted or any(name in names or (name == "elsewhere" and not names) for name in wanted)

    return among(condition.get("include", "any")) and not ("exclude" in condition and among(condition["exclude"]))


def holds(when: Row, names: frozenset[str], client: str, platform: str, device: str, risk: str) -> bool:
    devices = when.get("device")
    return (network_holds(when.get("network"), names) and ("client" not in when or client in when["client"])
            and ("platform" not in when or platform in when["platform"]) and ("risk" not in when or risk in when["risk"])
            and (devices is None or device in devices or (device == "healthy" and "managed" in devices)))  # fmt: skip


def on_resource(rule: Row, resource: str) -> bool:
    include, exclude = rule["resources"]["include"], rule["resources"].get("exclude", [])
    return (include == "any" or resource in include) and resource not in exclude


def satisfied(require: Row, proofs: frozenset[str]) -> bool:
    return (
        all(proof in proofs for proof in require["all-of"])
        if "all-of" in require
        else any(proof in proofs for proof in require["any-of"])
    )


def device_set(device: str) -> frozenset[str]:
    return frozenset({"managed": ("managed-device",), "healthy": ("managed-device", "healthy-device")}.get(device, ()))


class Gatekeeper:
    """Answers about one organisation's sign-ins."""

    def __init__(self, org: Org, gate: Gate) -> None:
        self.org, self.gate, self.reference = org, gate, Reference(org)
        self.places = {networks_of(gate, address): address for address in addresses(gate)}

    def includes(self, rule: Row, person: Row) -> bool | None:
        """None where it cannot be told."""
        inside = self.reference.chosen(rule["people"]["include"], person, False)
        outside = self.reference.chosen(rule["people"].get("exclude"), person, False)
        if outside is True or inside is False:
            return False
        return None if "unanswerable" in (inside, outside) else True

    def must_show(self, person: Row) -> bool:
        return self.gate.default or ("mfa" in self.org.columns and person.get("mfa") == "required")

    def partner(self, person: Row) -> dict[str, bool] | None:
        """The partner that counts for a guest; None where that is not known."""
        if self.gate.partners is None:
            return None
        home = (person.get("home_domain") if "home_domain" in self.org.columns else None) or person["login"].rpartition(
            "@"
        )[2]
        rows = {row["domain"].lower(): row for row in self.gate.partners}
        row = rows.get(home.lower(), rows.get("*", {}))
        return {"in": row.get("guests_in", "true") == "true", "mfa": row.get("home_mfa_counts", "false") == "true",
                "device": row.get("home_device_counts", "false") == "true"}  # fmt: skip

    def hypotheses(self, person: Row) -> list[dict[str, bool]]:
        if person["kind"] != "guest":
            return [{"in": True, "mfa": True, "device": True}]
        known = self.partner(person)
        return (
            [known]
            if known
            else [dict(zip(("in", "mfa", "device"), each, strict=True)) for each in product((True, False), repeat=3)]
        )

    def requirements(self, person: Row, modes: tuple[str, ...], resource: str, names: frozenset[str], client: str, platform: str, device: str,
                     risk: str) -> list[Row] | None:  # fmt: skip
        """All that is required; None where a rule denies."""
        matching = [
            rule
            for rule in self.gate.rules or ()
            if rule["mode"] in modes
            and self.includes(rule, person)
            and on_resource(rule, resource)
            and holds(rule.get("when", {}), names, client, platform, device, risk)
        ]
        if any("deny" in rule["outcome"] for rule in matching):
            return None
        return [rule["outcome"]["require"] for rule in matching if "require" in rule["outcome"]] + (
            [{"all-of": ["mfa"]}] if self.must_show(person) else []
        )

    def covered(
        self, person: Row, proof: str, partner: dict[str, bool], modes: tuple[str, ...], place: tuple[Any, ...]
    ) -> bool:
        resource, names, client, platform, device, risk = place
        if not partner["in"]:
            return True
        needs = self.requirements(person, modes, resource, names, client, platform, device, risk)
        if needs is None:
            return True
        carried = frozenset(("managed-device", "healthy-device"))
        if client == "legacy" and not all(satisfied(need, carried) for need in needs):
            return True
        for proofs in SETS:
            if proofs & carried != device_set(device) or (client == "legacy" and not proofs <= carried):
                continue
            if proof not in proofs and all(satisfied(need, proofs) for need in needs):
                return False
        return True

    def possible(self, leaf: Row, partner: dict[str, bool]) -> list[tuple[Any, ...]]:
        on = sorted(self.gate.resources) if leaf["on"] == "any" else leaf["on"]
        found = set()
        for resource, names, client, platform, device, risk in product(
            on, self.places, CLIENTS, PLATFORMS, DEVICES, RISKS
        ):
            seen = device if partner["device"] else "unknown"
            if holds(leaf.get("when", {}), names, client, platform, seen, risk):
                found.add((resource, names, client, platform, seen, risk))
        return sorted(found, key=lambda place: (place[0], sorted(place[1]), place[2:]))

    def coverage(self, person: Row, leaf: Row) -> tuple[str, str]:
        """Verdict and reason of a proof leaf."""
        if self.gate.rules is None:
            return "unknown", "no-access-rules"
        found = set()
        for partner in self.hypotheses(person):
            places = self.possible(leaf, partner)
            if not places:
                found.add(("unknown", "no-fact"))
                continue
            if all(self.covered(person, leaf["proof"], partner, ("enforce",), place) for place in places):
                found.add(("meets", ""))
            elif all(self.covered(person, leaf["proof"], partner, ("enforce", "observe"), place) for place in places):
                found.add(("drifts", "observed-only"))
            else:
                found.add(("drifts", "hole"))
        verdicts = {verdict for verdict, _ in found}
        if len(verdicts) > 1 or verdicts == {"unknown"}:
            return "unknown", "no-fact"
        return ("drifts", "hole") if ("drifts", "hole") in found else found.pop()

    def is_hole(self, person: Row, leaf: Row, hole: Row, modes: tuple[str, ...]) -> bool:
        """Whether a sign-in that is said to slip through does, and is possible."""
        place = (
            hole["resource"],
            frozenset(hole["network"]),
            hole["client"],
            hole["platform"],
            hole["device"],
            hole["risk"],
        )
        assert networks_of(self.gate, hole["address"]) == place[1]
        return any(
            place in self.possible(leaf, partner) and not self.covered(person, leaf["proof"], partner, modes, place)
            for partner in self.hypotheses(person)
        )

    def proofs_of(self, types: set[str]) -> frozenset[str]:
        found = {ALONE[each] for each in types if each in ALONE} | {
            BESIDE[each] for each in types if each in BESIDE and "memorized-secret" in types
        }
        for _ in range(2):
            found |= {IMPLIES[each] for each in found if each in IMPLIES}
        return frozenset(found)

    def lists_memorized(self) -> bool:
        """Whether a memorized secret is listed for some member."""
        members = {each["id"] for each in self.org.people if each["kind"] == "member"}
        table = self.gate.authenticators or []
        return any(row["type"] == "memorized-secret" and row["person"] in members for row in table)

    def best(self, person: Row, partner: dict[str, bool]) -> frozenset[str]:
        """The most that a person could show, whatever missing data might hold; devices apart."""
        everything = frozenset(("mfa", "phishing-resistant", "hardware-key"))
        table = self.gate.authenticators
        types = set(TYPES) if table is None else {row["type"] for row in table if row["person"] == person["id"]}
        listed = self.lists_memorized()
        if person["kind"] == "guest":
            return everything if partner["mfa"] else self.proofs_of(types | {"memorized-secret"}) & {"mfa"}
        if person["kind"] == "member" and not listed:
            types.add("memorized-secret")
        live = self.gate.passes is None or any(
            row["person"] == person["id"] and self.live(row) for row in self.gate.passes
        )
        return self.proofs_of(types) | ({"mfa"} if live and person["kind"] == "member" else set())

    def live(self, row: Row) -> bool:
        start: Any = row.get("starts_at", row["issued_at"])
        spent: Any = row.get("used_at")
        used = row.get("single_use") == "true" and spent is not None and spent <= self.org.taken_at
        issued: Any = row["issued_at"]
        return (
            bool(max(issued, start) <= self.org.taken_at < row["expires_at"]) and not used and row["expires_at"] > start
        )

    def locked_out(self, person: Row, resource: str) -> bool:
        for partner in self.hypotheses(person):
            if not partner["in"]:
                continue
            for place in self.possible({"on": [resource]}, partner):
                needs = self.requirements(person, ("enforce",), *place)
                shown = device_set(place[4]) | (frozenset() if place[2] == "legacy" else self.best(person, partner))
                if needs is not None and all(satisfied(need, shown) for need in needs):
                    return False
        return True

    def against(self, people: list[Row], resource: str) -> list[str]:
        """The enforced rules that deny one of these people a sign-in, or ask for what they cannot show; legacy clients left out."""
        found = set()
        for person in people:
            most = self.best(person, self.hypotheses(person)[0])  # of what is not known, what lets them show most
            for partner in self.hypotheses(person):
                for place in self.possible({"on": [resource]}, partner) if partner["in"] else ():
                    shown = device_set(place[4]) | most
                    for rule in self.gate.rules or ():
                        matches = (
                            rule["mode"] == "enforce"
                            and self.includes(rule, person)
                            and on_resource(rule, resource)
                            and holds(rule.get("when", {}), *place[1:])
                        )
                        need = rule["outcome"].get("require")
                        if (
                            matches
                            and place[2] != "legacy"
                            and ("deny" in rule["outcome"] or (need and not satisfied(need, shown)))
                        ):
                            found.add(rule["id"])
        return sorted(found)

    def stuck_somewhere(self, person: Row, resource: str) -> bool:
        """Whether one sign-in is stuck and not denied, whatever missing data might hold."""
        hypotheses = self.hypotheses(person)
        if len(hypotheses) > 1 or not hypotheses[0]["in"]:
            return False
        for place in self.possible({"on": [resource]}, hypotheses[0]):
            matching = [
                rule
                for rule in self.gate.rules or ()
                if rule["mode"] == "enforce"
                and self.includes(rule, person) is not False
                and on_resource(rule, resource)
                and holds(rule.get("when", {}), *place[1:])
            ]
            needs = [rule["outcome"]["require"] for rule in matching if "require" in rule["outcome"]]
            needs += [{"all-of": ["mfa"]}] if self.must_show(person) else []
            devices = frozenset(("managed-device", "healthy-device"))
            if any("deny" in rule["outcome"] for rule in matching):
                continue
            if place[2] == "legacy" and not all(satisfied(need, devices) for need in needs):
                continue
            return True
        return False

    def stranded(self) -> list[tuple[str, int]]:
        """How many members and guests have no way in to a resource although not all is denied; the locked out of it apart."""
        if self.gate.rules is None:
            return []
        told = {(resource, person) for resource, people, _, _ in self.lockouts() for person in people}
        found = []
        for resource in sorted(self.gate.resources):
            lost = [
                person
                for person in self.reference.active
                if person["kind"] in ("member", "guest")
                and (resource, person["id"]) not in told
                and self.locked_out(person, resource)
                and self.stuck_somewhere(person, resource)
            ]
            found += [(resource, len(lost))] if lost else []
        return found

    def lockouts(self) -> list[tuple[str, tuple[str, ...], str, bool]]:
        if self.gate.rules is None:
            return []
        found = []
        for resource, tags in sorted(self.gate.resources.items()):
            for kind, selector in (("privileged", {"role": "privileged"}), ("break-glass", {"break-glass": True})):
                if "admin" not in tags:
                    continue
                try:
                    people = [person for person in self.reference.active if self.reference.select(selector, person)]
                except Unanswerable:
                    continue
                out = sorted(person["id"] for person in people if self.locked_out(person, resource))
                if out:
                    found.append((resource, tuple(out), kind, len(out) == len(people)))
        return found
