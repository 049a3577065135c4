"""What one sign-in would meet (domain, "Sign-in decisions"), with the rules that say so."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from itertools import permutations, product

from .access import Gatekeeper, SignIn
from .accessrules import CLIENTS, DEVICES, PLATFORMS, RISKS, SECOND_FACTOR, AccessRule, Requirement
from .networks import NetworkClass
from .proofs import DEVICE_PROOFS, MEMORIZED, MFA, PROOFS, TYPES, device_proofs, proofs_of
from .record import record

ALLOWED, CHALLENGED, STUCK, DENIED, UNCERTAIN = "allowed", "challenged", "stuck", "denied", "unknown"
_STRONG = frozenset(PROOFS) - DEVICE_PROOFS
OWN = "own second factor"


@record
class Asked:
    """One requirement and who asks for it: a rule's id, or OWN."""

    by: str
    require: Requirement


@record
class Decision:
    """`outcome`; the rules that deny or ask, what is missing, and the session's limits. `gaps` says what is not known."""

    outcome: str
    denied_by: tuple[str, ...] = ()
    asked: tuple[Asked, ...] = ()
    missing: tuple[Asked, ...] = ()
    uncarried: tuple[Asked, ...] = ()
    partner_shut: bool = False
    longest_hours: float | None = None
    no_downloads: bool = False
    gaps: tuple[str, ...] = ()

    @property
    def key(self) -> tuple[object, ...]:
        """What tells two decisions apart."""
        return (
            self.outcome,
            self.denied_by,
            tuple(each.by for each in self.missing),
            tuple(each.by for each in self.uncarried),
            self.partner_shut,
            self.longest_hours,
            self.no_downloads,
        )


@record
class Standing:
    """What a person brings, under one assumption about what is not known."""

    guests_in: bool
    home_mfa: bool
    home_device: bool
    types: frozenset[str]
    live_pass: bool
    extra: int  # rules, as bits, whose people cannot be told and that are taken to match


class Decider:
    """Decides sign-ins of one person."""

    def __init__(self, gatekeeper: Gatekeeper, person: int) -> None:
        self.gatekeeper, self.person = gatekeeper, person
        snapshot = gatekeeper.snapshot
        self.guest = bool(gatekeeper.guests[person])
        self.member = snapshot.people.kind.words[int(snapshot.people.kind.codes[person])] == "member"
        self._mine = gatekeeper.included(person)
        self._must_show = bool(gatekeeper.must_show[person])
        self.gaps = tuple(self._gaps())

    def _gaps(self) -> Iterator[str]:
        snapshot = self.gatekeeper.snapshot
        if self.guest and snapshot.partners is None:
            yield "the table partners"
        if snapshot.authenticators is None:
            yield "the table authenticators"
        if snapshot.passes is None and self.member:
            yield "the table passes"
        if self.gatekeeper.unanswerable:
            yield "whom some access rules include"

    def standings(self) -> Iterator[Standing]:
        """Every assumption that what is known allows. Of what only ever helps, nothing and everything are enough."""
        snapshot, person = self.gatekeeper.snapshot, self.person
        partner = self.gatekeeper.partner(person) if self.guest else None
        homes: Iterable[tuple[bool, ...]] = [(True, True, True)]
        if self.guest and partner is None:
            homes = product((True, False), repeat=3)
        elif partner is not None:
            homes = [
                (
                    partner.flags["guests_in"] != "false",
                    partner.flags["home_mfa_counts"] == "true",
                    partner.flags["home_device_counts"] == "true",
                )
            ]
        if snapshot.authenticators is None:
            types = [frozenset(TYPES), frozenset((MEMORIZED,)) if self.guest else frozenset[str]()]
        else:
            types = [snapshot.registered(person)]
        passes = (
            [self.member, False] if snapshot.passes is None else [self.member and bool(snapshot.passes.live[person])]
        )
        extras = (0, self.gatekeeper.unanswerable) if self.gatekeeper.unanswerable else (0,)
        for home, has, live, extra in product(homes, types, passes, extras):
            yield Standing(home[0], home[1], home[2], has, live, extra)

    def matching(self, sign_in: SignIn, modes: int, standing: Standing) -> list[AccessRule]:
        """The rules that match."""
        device = sign_in.device if not self.guest or standing.home_device else "unknown"
        mine = (self._mine | standing.extra) & modes
        return [
            rule
            for number, rule in enumerate(self.gatekeeper.door.rules)
            if mine >> number & 1 and not failing(rule, sign_in, device)
        ]

    def decide(self, sign_in: SignIn, shown: frozenset[str] = frozenset(), observed_too: bool = False) -> Decision:
        """The decision; `unknown` where it differs with what is not known. `shown` are authenticator types."""
        modes = self.gatekeeper.rules("enforce", "observe") if observed_too else self.gatekeeper.rules("enforce")
        found = [self._under(standing, sign_in, shown, modes) for standing in self.standings()]
        if len({each.outcome for each in found}) == 1:
            return found[0]
        return Decision(UNCERTAIN, gaps=self.gaps)

    def _under(self, standing: Standing, sign_in: SignIn, shown: frozenset[str], modes: int) -> Decision:
        if not standing.guests_in:
            return Decision(DENIED, partner_shut=True)
        rules = self.matching(sign_in, modes, standing)
        denying = tuple(rule.id for rule in rules if rule.deny)
        if denying:
            return Decision(DENIED, denying)
        asked = [Asked(rule.id, rule.require) for rule in rules if rule.require is not None]
        asked += [Asked(OWN, SECOND_FACTOR)] if self._must_show else []
        if sign_in.client == "legacy":
            uncarried = tuple(each for each in asked if not each.require.carried_by_legacy)
            if uncarried:
                return Decision(DENIED, (), tuple(asked), (), uncarried)
        in_hand = device_proofs(sign_in.device) if not self.guest or standing.home_device else frozenset[str]()
        given, could = self.proofs_given(standing, shown)
        if sign_in.client == "legacy":
            given = could = frozenset()
        wanting = tuple(each for each in asked if not each.require.met_by(given | in_hand))
        if not wanting:
            return _limited(Decision(ALLOWED, asked=tuple(asked)), rules)
        stuck = tuple(each for each in wanting if not each.require.met_by(given | could | in_hand))
        return _limited(Decision(STUCK if stuck else CHALLENGED, asked=tuple(asked), missing=stuck or wanting), rules)

    def proofs_given(self, standing: Standing, shown: frozenset[str]) -> tuple[frozenset[str], frozenset[str]]:
        """What is proved already, and what could be; devices apart."""
        secret = standing.types & {MEMORIZED}
        if not self.guest:
            could = proofs_of(standing.types | shown) | ({MFA} if standing.live_pass else frozenset())
            return proofs_of(shown | secret) if shown else frozenset(), could
        if standing.home_mfa:
            return proofs_of(shown | {MEMORIZED}), _STRONG
        return proofs_of((shown & standing.types) | {MEMORIZED}) & {MFA}, proofs_of(standing.types | {MEMORIZED}) & {
            MFA
        }


def _limited(decision: Decision, rules: list[AccessRule]) -> Decision:
    """The decision with the tightest session limits of all matching rules."""
    hours = min((rule.longest_hours for rule in rules if rule.longest_hours is not None), default=None)
    return replace(decision, longest_hours=hours, no_downloads=any(rule.no_downloads for rule in rules))


def failing(rule: AccessRule, sign_in: SignIn, device: str) -> str:
    """Which condition of a rule a sign-in fails (people apart); "" for none."""
    when = rule.when
    if sign_in.resource not in rule.resources:
        return "resource"
    if not when.network(sign_in.network.names):
        return "network"
    for name, value, allowed in (
        ("client", sign_in.client, when.client),
        ("platform", sign_in.platform, when.platform),
        ("risk", sign_in.risk, when.risk),
    ):
        if allowed is not None and value not in allowed:
            return name
    return "" if when.on_device(device) else "device"


@record
class Row:
    """Sign-ins that meet the same decision: for each dimension left out the values (None: any), and one of them."""

    values: tuple[frozenset[str] | None, ...]
    sign_in: SignIn
    now: Decision
    observed: Decision


DIMENSIONS = ("network", "client", "platform", "device", "risk")


def network_name(place: NetworkClass) -> str:
    """A class of addresses in words."""
    return "+".join(sorted(place.names)) or "elsewhere"


def fold(decider: Decider, resource: str, given: dict[str, list[object]], shown: frozenset[str]) -> list[Row]:
    """All sign-ins over the given values of each dimension, in the fewest rows that an order of the dimensions allows."""
    decided: dict[tuple[str, ...], tuple[SignIn, Decision, Decision]] = {}
    known: dict[tuple[object, ...], tuple[Decision, Decision]] = {}
    rules = decider.gatekeeper.door.rules
    for place in product(*(given[name] for name in DIMENSIONS)):
        network, *rest = place
        assert isinstance(network, NetworkClass)
        sign_in = SignIn(resource, network, *(str(each) for each in rest))
        mask = tuple(failing(rule, sign_in, sign_in.device) == "" for rule in rules)
        unseen = tuple(failing(rule, sign_in, "unknown") == "" for rule in rules)
        key = mask, unseen, sign_in.client == "legacy", sign_in.device
        if key not in known:
            known[key] = decider.decide(sign_in, shown), decider.decide(sign_in, shown, observed_too=True)
        decided[network_name(network), *(str(each) for each in rest)] = (sign_in, *known[key])
    best: list[Row] | None = None
    for order in permutations(range(len(DIMENSIONS))):
        rows = list(_rows(decided, order, (None,) * len(DIMENSIONS)))
        if best is None or len(rows) < len(best):
            best = rows
    return best or []


_Table = dict[tuple[str, ...], tuple[SignIn, Decision, Decision]]


def _rows(table: _Table, order: tuple[int, ...], values: tuple[frozenset[str] | None, ...]) -> Iterator[Row]:
    keys = {(now.key, later.key) for _, now, later in table.values()}
    if len(keys) == 1:
        sign_in, now, later = next(iter(table.values()))
        yield Row(values, sign_in, now, later)
        return
    place, *rest = order
    parts: dict[str, _Table] = {}
    for key, entry in table.items():
        parts.setdefault(key[place], {})[key] = entry
    alike: dict[object, list[str]] = {}
    for value, part in parts.items():
        shape = tuple((key[:place] + key[place + 1 :], now.key, later.key) for key, (_, now, later) in part.items())
        alike.setdefault(shape, []).append(value)
    for names in alike.values():
        chosen = None if len(names) == len(parts) else frozenset(names)
        yield from _rows(parts[names[0]], tuple(rest), (*values[:place], chosen, *values[place + 1 :]))


EVERY: dict[str, tuple[str, ...]] = {"client": CLIENTS, "platform": PLATFORMS, "device": DEVICES, "risk": RISKS}
