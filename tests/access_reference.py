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


def network_text(names: frozenset[str]) -> str:
    return "+".join(sorted(names)) or "elsewhere"


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
        """None if it is not known."""
        inside = self.reference.chosen(rule["people"]["include"], person, False)
        outside = self.reference.chosen(rule["people"].get("exclude"), person, False)
        if outside is True or inside is False:
            return False
        return None if "unanswerable" in (inside, outside) else True

    def must_show(self, person: Row) -> bool:
        return self.gate.default or ("mfa" in self.org.columns and person.get("mfa") == "required")

    def partner(self, person: Row) -> dict[str, Any] | None:
        """The partner that counts for a guest; None where that is not known."""
        if self.gate.partners is None:
            return None
        home = (person.get("home_domain") if "home_domain" in self.org.columns else None) or person["login"].rpartition(
            "@"
        )[2]
        rows = {row["domain"].lower(): row for row in self.gate.partners}
        row = rows.get(home.lower(), rows.get("*", {}))
        return {"in": row.get("guests_in", "true") == "true", "mfa": row.get("home_mfa_counts", "false") == "true",
                "device": row.get("home_device_counts", "false") == "true", "factor": row.get("home_factor")}  # fmt: skip

    def hypotheses(self, person: Row) -> list[dict[str, Any]]:
        """All that a person's home may mean, what lets them show most first."""
        if person["kind"] != "guest":
            return [{"in": True, "mfa": True, "device": True, "factor": None}]
        known = self.partner(person)
        homes: list[dict[str, Any]] = (
            [known]
            if known
            else [
                {**dict(zip(("in", "mfa", "device"), each, strict=True)), "factor": None}
                for each in product((True, False), repeat=3)
            ]
        )
        return [
            {**home, "factor": factor}
            for home in homes
            for factor in ((home["factor"],) if home["factor"] or not home["mfa"] else ("hardware-key", "mfa"))
        ]

    def at_home(self, partner: dict[str, Any]) -> frozenset[str]:
        """What someone shows at home, where that counts."""
        found, proof = set(), partner["factor"]
        while proof:
            found.add(proof)
            proof = IMPLIES.get(proof)
        return frozenset(found)

    def can_show(self, person: Row) -> str | None:
        """The fact can-show; None where it is not known."""
        if self.gate.authenticators is None:
            return None
        if person["kind"] == "guest":
            home = self.partner(person)
            if home is None or (home["mfa"] and not home["factor"]):
                return None
            if home["mfa"]:
                return str(home["factor"])
        types = {row["type"] for row in self.gate.authenticators if row["person"] == person["id"]}
        if person["kind"] == "guest" or (person["kind"] == "member" and not self.lists_memorized()):
            types.add("memorized-secret")
        proofs = self.proofs_of(types)
        strong = [proof for proof in ("hardware-key", "phishing-resistant") if proof in proofs]
        if strong and person["kind"] != "guest":
            return strong[0]
        free = self.proofs_of(types - {"out-of-band-sms", "out-of-band-voice"})
        return "mfa" if "mfa" in free else "restricted-mfa" if "mfa" in proofs else "nothing"

    def registered(self, person: Row, kind: str) -> int | None:
        """How many authenticators of a type a person has.

        One of the same id is one, and so is one without an id of the same moment.
        """
        if self.gate.authenticators is None:
            return None
        rows = [row for row in self.gate.authenticators if (row["person"], row["type"]) == (person["id"], kind)]
        ids = {row["id"] for row in rows if row.get("id")}
        moments = {row.get("registered_at") for row in rows if row.get("id")}
        return len(ids) + len({row.get("registered_at") for row in rows if not row.get("id")} - moments)

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
        self, person: Row, proof: str, partner: dict[str, Any], modes: tuple[str, ...], place: tuple[Any, ...]
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

    def possible(self, leaf: Row, partner: dict[str, Any]) -> list[tuple[Any, ...]]:
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

    def best(self, person: Row, partner: dict[str, Any]) -> frozenset[str]:
        """The most that a person could show, whatever missing data might hold; devices apart."""
        table = self.gate.authenticators
        types = set(TYPES) if table is None else {row["type"] for row in table if row["person"] == person["id"]}
        listed = self.lists_memorized()
        if person["kind"] == "guest":
            return self.at_home(partner) if partner["mfa"] else self.proofs_of(types | {"memorized-secret"}) & {"mfa"}
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

    def ways_in(self, person: Row, resource: str) -> set[tuple[Any, ...]]:
        """The sign-ins to a resource that may let someone in, legacy clients apart."""
        found = set()
        for partner in self.hypotheses(person):
            for place in self.possible({"on": [resource]}, partner) if partner["in"] else ():
                needs = self.requirements(person, ("enforce",), *place)
                shown = device_set(place[4]) | self.best(person, partner)
                if place[2] != "legacy" and needs is not None and all(satisfied(need, shown) for need in needs):
                    found.add(place[1:])
        return found

    def conditional(self) -> list[tuple[str, str, dict[str, list[str]], bool]]:
        """The break-glass accounts that get in only under conditions, with these."""
        found = []
        for resource, _, people in self.watched("break-glass"):
            for person in people:
                ways = self.ways_in(person, resource)
                devices = DEVICES if self.hypotheses(person)[0]["device"] else ("unknown",)
                networks = [network_text(names) for names in self.places]
                every = (networks, CLIENTS[:2], PLATFORMS, devices, RISKS)
                if not ways:
                    continue
                some = [{network_text(way[0]) for way in ways}] + [
                    {way[place] for way in ways} for place in range(1, 5)
                ]
                names = ("network", "client", "platform", "device", "risk")
                received = {
                    name: sorted(mine)
                    for name, mine, whole in zip(names, some, every, strict=True)
                    if mine != set(whole)
                }
                size = 1
                for mine in some:
                    size *= len(mine)
                if received or len(ways) < size:
                    found.append((resource, person["id"], received, len(ways) < size))
        return sorted(found, key=lambda each: each[:2])

    def locked_out(self, person: Row, resource: str) -> bool:
        return not self.ways_in(person, resource)

    def against(self, people: list[Row], resource: str) -> list[str]:
        """The enforced rules that deny one of these people a sign-in, or ask for what they cannot show.

        Legacy clients left out.
        """
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
        if (person["kind"] == "guest" and self.gate.partners is None) or not hypotheses[0]["in"]:
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
            if any("deny" in rule["outcome"] for rule in matching):
                continue
            if place[2] == "legacy":
                continue
            return True
        return False

    def stranded(self) -> list[tuple[str, int]]:
        """How many members and guests have no way in to a resource although not all is denied.

        The locked out of it apart.
        """
        if self.gate.rules is None:
            return []
        received = {(resource, person) for resource, people, _, _ in self.lockouts() for person in people}
        found = []
        for resource in sorted(self.gate.resources):
            lost = [
                person
                for person in self.reference.active
                if person["kind"] in ("member", "guest")
                and (resource, person["id"]) not in received
                and self.locked_out(person, resource)
                and self.stuck_somewhere(person, resource)
            ]
            found += [(resource, len(lost))] if lost else []
        return found

    def lockouts(self) -> list[tuple[str, tuple[str, ...], str, bool]]:
        if self.gate.rules is None:
            return []
        found = []
        for resource, kind, people in self.watched("privileged", "break-glass"):
            out = sorted(person["id"] for person in people if self.locked_out(person, resource))
            if out:
                found.append((resource, tuple(out), kind, len(out) == len(people)))
        return found

    def watched(self, *kinds: str) -> list[tuple[str, str, list[Row]]]:
        """The resources where lock-outs are looked for, each with the kinds of people.

        Those for administrators, all where none is tagged.
        """
        if self.gate.rules is None:
            return []
        tagged = [name for name, tags in self.gate.resources.items() if "admin" in tags]
        selectors: dict[str, Row] = {"privileged": {"role": "privileged"}, "break-glass": {"break-glass": True}}
        found = []
        for resource in sorted(tagged or self.gate.resources):
            for kind in kinds:
                try:
                    chosen = [each for each in self.reference.active if self.reference.select(selectors[kind], each)]
                except Unanswerable:
                    continue
                found.append((resource, kind, chosen))
        return found
