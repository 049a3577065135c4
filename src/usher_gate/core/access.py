"""Access rules: what they ask of a sign-in, whom they leave a way in, and whom they lock out.

Source: domain, "Sign-in decisions". The answers about everybody are exact: people fall into classes by the rules that include
them, conditions into classes by the rules that they satisfy, and only classes are decided.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import cached_property
from itertools import product
from typing import TypeVar

import numpy as np

from .accessrules import CLIENTS, DEVICES, PLATFORMS, RISKS, SECOND_FACTOR, AccessRule, Conditions, Requirement
from .bits import Bits, least, none_of, packed
from .model import MISSING, PARTNER_COLUMNS, Bools, Ints, Longs, Partner, Snapshot
from .networks import NetworkClass, Networks
from .proofs import DEVICE_PROOFS, LEVELS, MFA, PROOFS, device_proofs, proofs_of, without
from .record import record
from .result import Lockout
from .select import Selector, Unanswerable, select


@record
class SignIn:
    """One possible sign-in."""

    resource: str
    network: NetworkClass
    client: str
    platform: str
    device: str
    risk: str


@record
class Context:
    """A class of sign-ins: the rules (as bits) whose resource and conditions it satisfies, and one sign-in of it."""

    rules: int
    sign_in: SignIn


@record
class Hole:
    """What a proof leaf found for a class of people: a sign-in without the proof, and whether enforcing what is observed closes all."""

    sign_in: SignIn
    observed_closes: bool


@record
class Door:
    """The rules, and the networks between which they tell."""

    rules: tuple[AccessRule, ...]
    networks: Networks


_Value = TypeVar("_Value")


def _folded(
    rules: Sequence[AccessRule], values: Iterable[_Value], satisfies: Callable[[AccessRule, _Value], bool]
) -> dict[int, _Value]:
    """The values by the rules (as bits) that each satisfies; of those that satisfy the same, the first."""
    found: dict[int, _Value] = {}
    for value in values:
        found.setdefault(sum(1 << number for number, rule in enumerate(rules) if satisfies(rule, value)), value)
    return found


def contexts(door: Door, resources: Iterable[str], when: Conditions, devices: Sequence[str] = DEVICES) -> list[Context]:
    """Every class of possible sign-ins to these resources under these conditions, each once for each client and device."""
    rules = door.rules
    by_resource = _folded(rules, resources, lambda rule, name: name in rule.resources)
    by_network = _folded(
        rules,
        [each for each in door.networks.classes if when.network(each.names)],
        lambda rule, each: rule.when.network(each.names),
    )
    by_platform = _folded(rules, _allowed(PLATFORMS, when.platform), lambda rule, each: _in(each, rule.when.platform))
    by_risk = _folded(rules, _allowed(RISKS, when.risk), lambda rule, each: _in(each, rule.when.risk))
    found: dict[tuple[int, str, str], Context] = {}
    for client, device in product(_allowed(CLIENTS, when.client), [each for each in devices if when.on_device(each)]):
        here = next(iter(_folded(rules, [client], lambda rule, each: _in(each, rule.when.client))))
        here &= next(iter(_folded(rules, [device], lambda rule, each: rule.when.on_device(each))))
        for place in product(by_resource.items(), by_network.items(), by_platform.items(), by_risk.items()):
            (m1, resource), (m2, network), (m3, platform), (m4, risk) = place
            mask = here & m1 & m2 & m3 & m4
            if (mask, client, device) not in found:
                found[mask, client, device] = Context(mask, SignIn(resource, network, client, platform, device, risk))
    return list(found.values())


def _allowed(values: Sequence[str], wanted: frozenset[str] | None) -> list[str]:
    return [value for value in values if _in(value, wanted)]


def _in(value: str, wanted: frozenset[str] | None) -> bool:
    return wanted is None or value in wanted


class Gatekeeper:
    """The access rules of a snapshot, with whom each includes."""

    def __init__(self, snapshot: Snapshot) -> None:
        self.snapshot, self.door = snapshot, Door(snapshot.access_rules or (), snapshot.networks)
        self.notes: set[str] = set()
        self._included: list[Bools] = []
        self._ways: dict[tuple[str, tuple[str, ...]], list[Context]] = {}
        self.unanswerable = 0  # rules, as bits, whose people cannot be told
        for number, rule in enumerate(self.door.rules):
            try:
                mask = select(rule.include, snapshot)
                self._included.append(mask & ~select(rule.exclude, snapshot) if rule.exclude is not None else mask)
            except Unanswerable as gap:
                self.notes.add(
                    f"access rule {rule.id} asks for {gap}, which the snapshot does not have: it closes nothing"
                )
                self._included.append(np.zeros(len(snapshot.people), bool))
                self.unanswerable |= 1 << number

    def rules(self, *modes: str) -> int:
        """The rules in these modes, as bits."""
        return sum(1 << number for number, rule in enumerate(self.door.rules) if rule.mode in modes)

    def included(self, person: int) -> int:
        """The rules that include a person, as bits."""
        return sum(1 << number for number, mask in enumerate(self._included) if mask[person])

    def reach(self, number: int) -> tuple[int, int]:
        """How many people a rule reaches, and how many it would but for its exclusion."""
        rule, reached = self.door.rules[number], int(np.count_nonzero(self._included[number]))
        if rule.exclude is None or self.unanswerable >> number & 1:
            return reached, 0
        return reached, int(np.count_nonzero(select(rule.include, self.snapshot))) - reached

    def whom(self, number: int) -> Bools:
        """Whom a rule includes."""
        return self._included[number]

    def includes_anybody(self, number: int) -> bool:
        """Whether a rule includes anybody."""
        return bool(np.any(self._included[number]))

    def excludes(self, rule: AccessRule, person: int) -> bool:
        """Whether a rule excludes a person whom it would otherwise include."""
        assert rule.exclude is not None
        try:
            both = select(rule.include, self.snapshot) & select(rule.exclude, self.snapshot)
        except Unanswerable:
            return False
        return bool(both[person])

    def unseen_device(self, person: int) -> bool | None:
        """Whether a person's device counts as unknown (a guest whose partner's word does not count); None for somebody who is
        kept out by their partner, or of whom that is not known."""
        if not self.guests[person]:
            return False
        partner = self.partner(person)
        if partner is None or partner.flags["guests_in"] == "false":
            return None
        return partner.flags["home_device_counts"] != "true"

    def every_context(self) -> list[Context]:
        """Every class of sign-ins to any resource."""
        if ("", ()) not in self._ways:
            self._ways["", ()] = contexts(self.door, sorted(self.snapshot.resources), Conditions())
        return self._ways["", ()]

    @cached_property
    def guests(self) -> Bools:
        """Who is a guest."""
        kind = self.snapshot.people.kind
        return kind.where([word == "guest" for word in kind.words])

    @cached_property
    def must_show(self) -> Bools:
        """Who has the further requirement of a second factor."""
        mfa = self.snapshot.people.mfa
        if self.snapshot.second_factor_default:
            return np.ones(len(self.snapshot.people), bool)
        if mfa is None:
            return np.zeros(len(self.snapshot.people), bool)
        return mfa.where([word == "required" for word in mfa.words])

    @cached_property
    def partner_rows(self) -> Ints:
        """For each guest the number of the partner that counts (own row, else `*`), MISSING for others."""
        partners = {partner.domain.casefold(): number for number, partner in enumerate(self.snapshot.partners or ())}
        domains = self.snapshot.guest_domains
        star = partners.get("*", MISSING)
        row = np.array([*(partners.get(word.casefold(), star) for word in domains.words), star], np.int32)
        return row[domains.codes]

    def partner(self, person: int) -> Partner | None:
        """A guest's partner as it counts; None where there is no partners table."""
        if self.snapshot.partners is None:
            return None
        number = int(self.partner_rows[person])
        return self.snapshot.partners[number] if number != MISSING else DEFAULT_PARTNER

    @cached_property
    def classes(self) -> tuple[Ints, list[int]]:
        """For each person the number of their class (same rules, same standing), and of each class its first person."""
        columns: list[np.ndarray] = [np.array(mask, np.int64) for mask in self._included]
        columns += [
            np.array(self.must_show, np.int64),
            np.where(self.guests, 2 + self.partner_rows, 0).astype(np.int64),
        ]
        key = np.zeros(len(self.guests), np.int64)
        for place in range(0, len(columns), 20):  # twenty bits at a time, then made dense again
            for column in columns[place : place + 20]:
                width = int(column.max(initial=0)) - int(column.min(initial=0)) + 1
                key = key * width + (column - int(column.min(initial=0)))
                if int(key.max(initial=0)) > 1 << 40:
                    key = np.unique(key, return_inverse=True)[1].reshape(-1)
            key = np.unique(key, return_inverse=True)[1].reshape(-1)
        _, first, which = np.unique(key, return_index=True, return_inverse=True)
        return which.reshape(-1).astype(np.int32), first.tolist()

    @cached_property
    def bits(self) -> Bits:
        """The rules that include each person, as words of bits."""
        truths = np.zeros((len(self.snapshot.people), max(1, -(-len(self._included) // 64)) * 64), bool)
        for number, mask in enumerate(self._included):
            truths[:, number] = mask
        return packed(truths)

    @cached_property
    def kits(self) -> tuple[Ints, list[int]]:
        """People by what they could show: for each person the number of their kit, and of each kit its first person."""
        snapshot, size = self.snapshot, len(self.snapshot.people)
        key = snapshot.people.kind.codes.astype(np.int64) * (len(snapshot.partners or ()) + 2) + self.partner_rows + 1
        if snapshot.passes is not None:
            key = key * 2 + (snapshot.passes.live > 0)
        if snapshot.authenticators is not None:
            types = np.zeros(size, np.int64)
            np.bitwise_or.at(types, snapshot.authenticators.person, np.int64(1) << snapshot.authenticators.kind)
            key = (key << len(snapshot.authenticators.kinds)) + types
        _, first, which = np.unique(key, return_index=True, return_inverse=True)
        return which.reshape(-1).astype(np.int32), first.tolist()

    @cached_property
    def _levels(self) -> Ints:
        """Of each kit the most that could be shown, as a number of LEVELS."""
        return np.array([LEVELS.index(self._could_show(person) - DEVICE_PROOFS) for person in self.kits[1]], np.int32)

    def with_rules(self, rules: tuple[AccessRule, ...]) -> Gatekeeper:
        """The same people before other rules."""
        other = Gatekeeper(replace(self.snapshot, access_rules=rules))
        for name in ("guests", "must_show", "partner_rows", "kits", "_levels"):  # these do not depend on rules
            other.__dict__[name] = getattr(self, name)
        return other

    # Coverage

    def covering(self, proof: str, client: str, device: str) -> tuple[int, bool]:
        """The rules (as bits) that cover a sign-in by themselves, and whether the own requirement of who has it does."""
        most = (
            device_proofs(device) if client == "legacy" else frozenset(PROOFS) - DEVICE_PROOFS | device_proofs(device)
        )
        rest = without(most, proof)
        if proof in DEVICE_PROOFS and proof in device_proofs(device):
            return -1, True  # the device in hand is itself the proof, whatever the rules

        def covers(require: Requirement) -> bool:
            return not require.met_by(rest) or (client == "legacy" and not require.carried_by_legacy)

        by_itself = (rule.deny or (rule.require is not None and covers(rule.require)) for rule in self.door.rules)
        bits = sum(1 << number for number, covered in enumerate(by_itself) if covered)
        return bits, covers(SECOND_FACTOR)

    def _leaks(self, proof: str, must_show: bool, modes: int, signs: list[Context]) -> list[tuple[int, SignIn]]:
        """What decides who has a hole: each entry is one, for everybody whom none of its rules (as bits) includes.

        An entry whose rules hold another's is left out: whoever it lets through, the other lets through.
        """
        cover: dict[tuple[str, str], tuple[int, bool]] = {}
        found: dict[int, tuple[int, SignIn]] = {}
        for number, context in enumerate(signs):
            key = context.sign_in.client, context.sign_in.device
            if key not in cover:
                cover[key] = self.covering(proof, *key)
            bits, own = cover[key]
            if bits != -1 and not (own and must_show):
                found.setdefault(context.rules & bits & modes, (number, context.sign_in))
        kept = least(found)
        kept.sort(key=lambda mask: found[mask][0])  # in the order of the sign-ins, whatever the rules are called
        return [(mask, found[mask][1]) for mask in kept]

    def lockouts(self) -> list[Lockout]:
        """Which privileged people and which break-glass accounts are locked out of each resource for administrators."""
        if self.snapshot.access_rules is None:
            return []
        kinds = []
        for kind, selector in (
            ("privileged", Selector("role", ("privileged",))),
            ("break-glass", Selector("break-glass", ("true",))),
        ):
            try:
                kinds.append((kind, np.flatnonzero(select(selector, self.snapshot))))
            except Unanswerable as gap:
                self.notes.add(f"whether {kind} people are locked out cannot be told without {gap}")
        found = []
        for resource in sorted(name for name, tags in self.snapshot.resources.items() if "admin" in tags):
            for kind, people in kinds:
                out = people[self._locked_out(people, resource)]
                if len(out):
                    found.append(
                        Lockout(resource, tuple(self.snapshot.people.ids.take(out)), kind, len(out) == len(people))
                    )
        return found

    def coverage(self, proof: str, on: tuple[str, ...], when: Conditions) -> tuple[Ints, list[Hole | str | None]]:
        """For each person, which of the answers: the hole that a proof leaf has, None for none, or the reason why it is unknown."""
        resources = sorted(self.snapshot.resources) if not on else list(on)
        # The device of a guest whose partner's word does not count is unknown.
        signs = {
            True: contexts(self.door, resources, when),
            False: contexts(self.door, resources, when, ("unknown",)),
        }
        answers: list[Hole | str | None] = [None, "no-fact"]

        def judge(people: Longs, must_show: bool, seen: bool) -> Ints:
            if not signs[seen]:
                return np.ones(len(people), np.int32)
            found, rest = np.zeros(len(people), np.int32), np.arange(len(people))
            for closes, modes in ((False, ("enforce", "observe")), (True, ("enforce",))):
                for mask, sign_in in self._leaks(proof, must_show, self.rules(*modes), signs[seen]):
                    slips = none_of(mask, self.bits, people[rest])
                    if slips.any():
                        answers.append(Hole(sign_in, closes))
                        found[rest[slips]] = len(answers) - 1
                        rest = rest[~slips]
            return found

        codes = np.zeros(len(self.guests), np.int32)
        for must_show in (True, False):
            mine = self.must_show == must_show
            for kind, people in self._by_device(mine):
                if kind is None:
                    codes[people] = (judge(people, must_show, True) | judge(people, must_show, False)) != 0
                elif not kind.guests_in:
                    codes[people] = 0 if signs[kind.home_device] else 1
                else:
                    codes[people] = judge(people, must_show, kind.home_device)
        return codes, answers

    def _by_device(self, whom: Bools) -> Iterator[tuple[_Home | None, Longs]]:
        """People by what their home means for a sign-in: guests by partner; None for guests of whom nothing is known."""
        yield _Home(True, True), np.flatnonzero(whom & ~self.guests)
        guests = np.flatnonzero(whom & self.guests)
        if self.snapshot.partners is None:
            yield None, guests
            return
        rows = self.partner_rows[guests]
        for row in sorted(set(rows.tolist())):
            people = guests[rows == row]
            flags = DEFAULT_PARTNER.flags if row == MISSING else self.snapshot.partners[row].flags
            yield _Home(flags["guests_in"] != "false", flags["home_device_counts"] == "true"), people

    # Lock-out

    def _could_show(self, person: int) -> frozenset[str]:
        """The most that a person could ever show, whatever missing data might hold; devices apart."""
        if self.guests[person]:
            partner = self.partner(person)
            if partner is None or partner.flags["home_mfa_counts"] in ("true", None):
                return frozenset(PROOFS) - DEVICE_PROOFS
            registered = self.snapshot.authenticators
            return frozenset((MFA,)) & (
                frozenset(PROOFS) if registered is None else proofs_of(self.snapshot.registered(person))
            )
        if self.snapshot.authenticators is None:
            return frozenset(PROOFS) - DEVICE_PROOFS
        found = proofs_of(self.snapshot.registered(person))
        passes = self.snapshot.passes
        member = self.snapshot.people.kind.words[int(self.snapshot.people.kind.codes[person])] == "member"
        return found | {MFA} if member and (passes is None or passes.live[person]) else found

    def _locked_out(self, people: Longs, resource: str) -> Bools:
        """For whom of these every possible sign-in to a resource is denied or stuck, whatever missing data might hold."""
        whom, out = np.zeros(len(self.guests), bool), np.zeros(len(self.guests), bool)
        whom[people] = True
        for home, some in self._by_device(whom):
            if home is not None and not home.guests_in:
                out[some] = True
                continue
            devices: tuple[tuple[str, ...], ...] = (DEVICES, ("unknown",)) if home is None else (DEVICES,)
            if home is not None and not home.home_device:
                devices = (("unknown",),)
            level, must_show = self._levels[self.kits[0][some]], self.must_show[some]
            for key in sorted(set(zip(level.tolist(), must_show.tolist(), strict=True))):
                mine = some[(level == key[0]) & (must_show == key[1])]
                open_to = np.zeros(len(mine), bool)
                for mask in self._bars(resource, devices, LEVELS[key[0]], key[1]):
                    open_to |= none_of(mask, self.bits, mine)
                out[mine] = ~open_to
        return out[people]

    def _bars(
        self, resource: str, devices: Sequence[Sequence[str]], best: frozenset[str], must_show: bool
    ) -> list[int]:
        """For each way in, the rules (as bits) that would deny it or ask for more than can be shown; whoever none of them includes
        gets in."""
        enforced = self.rules("enforce")
        blocking: dict[tuple[str, str], int | None] = {}
        found = []
        for context in self._ways_in(resource, devices):
            client, device = key = context.sign_in.client, context.sign_in.device
            if key not in blocking:
                shown = device_proofs(device) | (frozenset() if client == "legacy" else best)
                barred = (
                    rule.deny or (rule.require is not None and not rule.require.met_by(shown))
                    for rule in self.door.rules
                )
                bits = sum(1 << number for number, bar in enumerate(barred) if bar)
                blocking[key] = None if must_show and not SECOND_FACTOR.met_by(shown) else bits
            bits_here = blocking[key]
            if bits_here is not None:
                found.append(context.rules & bits_here & enforced)
        return least(found)

    def _ways_in(self, resource: str, devices: Sequence[Sequence[str]]) -> Iterator[Context]:
        for each in devices:
            key = resource, tuple(each)
            if key not in self._ways:
                self._ways[key] = contexts(self.door, (resource,), Conditions(), each)
            yield from self._ways[key]


@record
class _Home:
    """Whether somebody's home lets them in here, and whether its word on their device counts."""

    guests_in: bool
    home_device: bool


DEFAULT_PARTNER = Partner("*", PARTNER_COLUMNS)
