"""The people that each access rule includes, and what people bring to a sign-in."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property

import numpy as np

from ..organisation.access_rules import AccessRule
from ..organisation.columns import MISSING, Bools, Ints, Longs
from ..organisation.partners import DEFAULT_PARTNER, OURS, Home, Partner
from ..organisation.proofs import DEVICE_PROOFS, MFA, PROOF_LEVELS, proofs_of
from ..organisation.select import Unanswerable, gaps_of, select, select_surely
from ..organisation.selector import Selector
from ..organisation.snapshot import Snapshot
from ..words.vocabulary import PROOFS
from .bits import Bits, packed


class AccessPolicyEvaluator:
    """The access rules of a snapshot, with the people that each includes."""

    def __init__(self, snapshot: Snapshot, like: AccessPolicyEvaluator | None = None) -> None:
        """Evaluate which people each rule includes. Results of `like`, which has the same people, are used again."""
        self.snapshot, self.rules, self.networks = snapshot, snapshot.access_rules or (), snapshot.networks
        self.notes: set[str] = set()
        self._included: list[Bools] = []
        self._perhaps: list[Bools] = []
        self.unanswerable = 0  # rules, as bits, whose people are not all known
        evaluated = dict[tuple[Selector, Selector | None], tuple[Bools, Bools]]()
        if like is not None:
            for number, rule in enumerate(like.rules):
                evaluated[rule.include, rule.exclude] = like._included[number], like._perhaps[number]
        for number, rule in enumerate(self.rules):
            masks = evaluated.get((rule.include, rule.exclude))
            included, perhaps = masks or select_surely(rule.include, rule.exclude, snapshot)
            self._included.append(included)
            self._perhaps.append(perhaps)
            for gap in gaps_of(rule.include, rule.exclude, snapshot):
                self.notes.add(
                    f"access rule {rule.id} asks for {gap}, which the snapshot does not have: it closes nothing"
                )
                self.unanswerable |= 1 << number

    def in_modes(self, *modes: str) -> int:
        """Return the rules in these modes, as bits."""
        return sum(1 << number for number, rule in enumerate(self.rules) if rule.mode in modes)

    def including(self, person: int) -> int:
        """Return the rules that include a person, as bits."""
        return sum(1 << number for number, mask in enumerate(self._included) if mask[person])

    def perhaps(self, number: int) -> Bools:
        """Return mask of the people for mask it is not known whether a rule includes them."""
        return self._perhaps[number]

    def perhaps_including(self, person: int) -> int:
        """Return the rules, as bits, for which it is not known whether they include a person."""
        return sum(1 << number for number, mask in enumerate(self._perhaps) if mask[person])

    def included(self, number: int) -> Bools:
        """Return mask of the people that a rule includes."""
        return self._included[number]

    def excluded(self, number: int) -> Bools | None:
        """Return mask of the people that a rule excludes although it would otherwise include them.

        None if that is not known.
        """
        rule = self.rules[number]
        if rule.exclude is None:
            return np.zeros(len(self.snapshot.people), bool)
        try:
            found: Bools = select(rule.include, self.snapshot) & select(rule.exclude, self.snapshot)
        except Unanswerable:
            return None
        return found

    def unseen_device(self, person: int) -> bool | None:
        """Return whether a person's device counts as unknown (a guest whose partner's word does not count).

        None for someone who is kept out by their partner, or may be.
        """
        if not self.guests[person]:
            return False
        partner = self.partner(person)
        return None if partner is None or not partner.home.guests_in else not partner.home.home_device

    @cached_property
    def unseen_devices(self) -> Bools:
        """Return a mask of the people whose device counts as unknown.

        Guests whose partner's word on devices does not count, or is not known.
        """
        found = np.zeros(len(self.guests), bool)
        for home, people in self.by_home(self.guests):
            found[people] = home is None or not home.home_device
        return found

    @cached_property
    def guests(self) -> Bools:
        """Return a mask (bool, one for each active person) of those whose kind is guest."""
        kind = self.snapshot.people.kind
        return kind.where([word == "guest" for word in kind.words])

    @cached_property
    def must_show(self) -> Bools:
        """Return who has the further requirement of a second factor."""
        mfa = self.snapshot.people.mfa
        if self.snapshot.second_factor_default:
            return np.ones(len(self.snapshot.people), bool)
        if mfa is None:
            return np.zeros(len(self.snapshot.people), bool)
        return mfa.where([word == "required" for word in mfa.words])

    @cached_property
    def partner_rows(self) -> Ints:
        """Return for each guest the number of the partner that counts (own row, else `*`), MISSING for others."""
        return self.snapshot.partner_rows

    def partner(self, person: int) -> Partner | None:
        """Return a guest's partner as it counts; None where there is no partners table."""
        if self.snapshot.partners is None:
            return None
        number = int(self.partner_rows[person])
        return self.snapshot.partners[number] if number != MISSING else DEFAULT_PARTNER

    @cached_property
    def classes(self) -> tuple[Ints, list[int]]:
        """Return for each person the number of their class (same rules, same standing), and of each class its first
        person.
        """
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
        """Return the rules that include each person, as words of bits."""
        truths = np.zeros((len(self.snapshot.people), max(1, -(-len(self._included) // 64)) * 64), bool)
        for number, mask in enumerate(self._included):
            truths[:, number] = mask
        return packed(truths)

    @cached_property
    def authenticator_sets(self) -> tuple[Ints, list[int]]:
        """Return people by what they could show.

        For each person the number of their authenticator set, and of each authenticator set its first person.
        """
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
    def levels(self) -> Ints:
        """Return the most that could be shown with each authenticator set, as a number of PROOF_LEVELS."""
        return np.array(
            [PROOF_LEVELS.index(self._could_show(person) - DEVICE_PROOFS) for person in self.authenticator_sets[1]],
            np.int32,
        )

    def with_rules(self, rules: tuple[AccessRule, ...]) -> AccessPolicyEvaluator:
        """Return the same people before other rules."""
        other = AccessPolicyEvaluator(replace(self.snapshot, access_rules=rules), self)
        # These do not depend on rules.
        for name in ("guests", "must_show", "partner_rows", "authenticator_sets", "levels"):
            other.__dict__[name] = getattr(self, name)
        return other

    def by_home(self, mask: Bools) -> Iterator[tuple[Home | None, Longs]]:
        """Yield people by what their home means for a sign-in: guests by partner.

        None for guests of unknown partners.
        """
        yield OURS, np.flatnonzero(mask & ~self.guests)
        guests = np.flatnonzero(mask & self.guests)
        partners = self.snapshot.partners
        if partners is None:
            yield None, guests
            return
        rows = self.partner_rows[guests]
        for row in sorted(set(rows.tolist())):
            partner = DEFAULT_PARTNER if row == MISSING else partners[row]
            yield partner.home, guests[rows == row]

    def _could_show(self, person: int) -> frozenset[str]:
        """Return the most that a person could ever show, whatever missing data might hold; devices apart."""
        if self.guests[person]:
            partner = self.partner(person)
            if partner is None:
                return frozenset(PROOFS) - DEVICE_PROOFS
            if partner.home.home_mfa:
                return partner.home.proofs
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
