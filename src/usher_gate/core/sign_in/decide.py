"""What one sign-in would meet with the rules that say so. Spec: sign-in 2."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from itertools import product

from ..organisation.access_rules import SECOND_FACTOR, AccessRule, Requirement
from ..organisation.partners import OURS, Home
from ..organisation.proofs import MEMORIZED, MFA, TYPES, device_proofs, proofs_of
from ..organisation.sign_ins import SignIn
from ..words.record import record
from .evaluator import AccessPolicyEvaluator

OUTCOMES = ALLOWED, CHALLENGED, STUCK, DENIED, UNCERTAIN = "allowed", "challenged", "stuck", "denied", "unknown"
OWN = "own second factor"


@record
class Demand:
    """One requirement and who asks for it: a rule's id, or OWN."""

    by: str
    require: Requirement


@record
class Decision:
    """`outcome`; the rules that deny or ask, what is missing, and the session's limits.

    `gaps` says what is not known.
    """

    outcome: str
    denied_by: tuple[str, ...] = ()
    asked: tuple[Demand, ...] = ()
    missing: tuple[Demand, ...] = ()
    uncarried: tuple[Demand, ...] = ()
    partner_shut: bool = False
    longest_hours: float | None = None
    no_downloads: bool = False
    gaps: tuple[str, ...] = ()

    @property
    def key(self) -> tuple[object, ...]:
        """Return what distinguishes two decisions."""
        return (
            self.outcome,
            self.denied_by,
            tuple(source.by for source in self.missing),
            tuple(demand.by for demand in self.uncarried),
            self.partner_shut,
            self.longest_hours,
            self.no_downloads,
        )


@record
class Assumption:
    """Describes what a person brings, under one assumption about what is not known.

    `matching` are the rules (as bits) whose people are not known and that are taken to include this one.
    """

    home: Home
    types: frozenset[str]
    live_pass: bool
    matching: int


class Decider:
    """Decides sign-ins of one person."""

    def __init__(self, gatekeeper: AccessPolicyEvaluator, person: int) -> None:
        self.gatekeeper, self.person = gatekeeper, person
        snapshot = gatekeeper.snapshot
        self.guest = bool(gatekeeper.guests[person])
        self.member = snapshot.people.kind.words[int(snapshot.people.kind.codes[person])] == "member"
        self._mine = gatekeeper.including(person)
        self._perhaps = gatekeeper.perhaps_including(person)
        self._must_show = bool(gatekeeper.must_show[person])
        self.gaps = tuple(self._gaps())

    def _gaps(self) -> Iterator[str]:
        snapshot = self.gatekeeper.snapshot
        if self.guest and snapshot.partners is None:
            yield "the table partners"
        elif self.guest and (partner := self.gatekeeper.partner(self.person)) and partner.home.decides_strength:
            yield "what is shown at home, which is decided there (the column home_factor of partners)"
        if snapshot.authenticators is None:
            yield "the table authenticators"
        if snapshot.passes is None and self.member:
            yield "the table passes"
        if self._perhaps:
            yield "which people some access rules include"

    def assumptions(self) -> Iterator[Assumption]:
        """Yield every assumption that what is known allows.

        For what can only help, none and all are enough.
        """
        snapshot, person = self.gatekeeper.snapshot, self.person
        partner = self.gatekeeper.partner(person) if self.guest else None
        homes: Iterable[Home] = [OURS]
        if self.guest and partner is None:
            homes = [
                home
                for guests_in, home_mfa, home_device in product((True, False), repeat=3)
                for home in Home(guests_in, home_mfa, home_device).possible
            ]
        elif partner is not None:
            homes = partner.home.possible
        if snapshot.authenticators is None:
            types = [frozenset(TYPES), frozenset((MEMORIZED,)) if self.guest else frozenset[str]()]
        else:
            types = [snapshot.registered(person)]
        passes = (
            [self.member, False] if snapshot.passes is None else [self.member and bool(snapshot.passes.live[person])]
        )
        extras = (0, self._perhaps) if self._perhaps else (0,)
        for home, has, live, extra in product(homes, types, passes, extras):
            yield Assumption(home, has, live, extra)

    def matching(self, sign_in: SignIn, modes: int, assumption: Assumption) -> list[AccessRule]:
        """Return the rules that match."""
        device = sign_in.device if not self.guest or assumption.home.home_device else "unknown"
        mine = (self._mine | assumption.matching) & modes
        return [
            rule
            for number, rule in enumerate(self.gatekeeper.rules)
            if mine >> number & 1 and not rule.failing(sign_in, device)
        ]

    def decide(
        self,
        sign_in: SignIn,
        shown: frozenset[str] = frozenset(),
        observed_too: bool = False,
        given: Callable[[Assumption], Assumption] | None = None,
    ) -> Decision:
        """Return the decision; `unknown` where it differs with what is not known.

        `shown` are authenticator types; `given` changes assumptions.

        A home whose word counts only by `given` may show any proof that a home may.
        """
        modes = self.gatekeeper.in_modes("enforce", "observe") if observed_too else self.gatekeeper.in_modes("enforce")
        assumptions: Iterable[Assumption] = self.assumptions()
        if given is not None:
            changed = map(given, assumptions)
            assumptions = (replace(one, home=home) for one in changed for home in one.home.possible)
        found = [self._under(assumption, sign_in, shown, modes) for assumption in assumptions]
        if len({decision.outcome for decision in found}) == 1:
            return found[0]
        return Decision(UNCERTAIN, gaps=self.gaps)

    def _under(self, assumption: Assumption, sign_in: SignIn, shown: frozenset[str], modes: int) -> Decision:
        """Decide a sign-in under one assumption about what the snapshot does not say."""
        if not assumption.home.guests_in:
            return Decision(DENIED, partner_shut=True)
        rules = self.matching(sign_in, modes, assumption)
        denying = tuple(rule.id for rule in rules if rule.deny)
        if denying:
            return Decision(DENIED, denying)
        asked = [Demand(rule.id, rule.require) for rule in rules if rule.require is not None]
        asked += [Demand(OWN, SECOND_FACTOR)] if self._must_show else []
        if sign_in.client == "legacy":
            uncarried = tuple(demand for demand in asked if not demand.require.carried_by_legacy)
            if uncarried:
                return Decision(outcome=DENIED, denied_by=(), asked=tuple(asked), missing=(), uncarried=uncarried)
        in_hand = device_proofs(sign_in.device) if not self.guest or assumption.home.home_device else frozenset[str]()
        given, could = self.proofs_given(assumption, shown)
        if sign_in.client == "legacy":
            given = could = frozenset()
        wanting = tuple(demand for demand in asked if not demand.require.met_by(given | in_hand))
        if not wanting:
            return _limited(Decision(ALLOWED, asked=tuple(asked)), rules)
        stuck = tuple(demand for demand in wanting if not demand.require.met_by(given | could | in_hand))
        return _limited(Decision(STUCK if stuck else CHALLENGED, asked=tuple(asked), missing=stuck or wanting), rules)

    def proofs_given(self, assumption: Assumption, shown: frozenset[str]) -> tuple[frozenset[str], frozenset[str]]:
        """Return what is proved already, and what could be; devices apart."""
        secret = assumption.types & {MEMORIZED}
        if not self.guest:
            could = proofs_of(assumption.types | shown) | ({MFA} if assumption.live_pass else frozenset())
            return proofs_of(shown | secret) if shown else frozenset(), could
        if assumption.home.home_mfa:
            return proofs_of(shown | {MEMORIZED}), assumption.home.proofs
        return proofs_of((shown & assumption.types) | {MEMORIZED}) & {MFA}, proofs_of(
            assumption.types | {MEMORIZED}
        ) & {MFA}


def _limited(decision: Decision, rules: list[AccessRule]) -> Decision:
    """Return the decision with the tightest session limits of all matching rules."""
    hours = min((rule.longest_hours for rule in rules if rule.longest_hours is not None), default=None)
    return replace(decision, longest_hours=hours, no_downloads=any(rule.no_downloads for rule in rules))
