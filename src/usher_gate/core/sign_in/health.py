"""What ails the access rules themselves: those that change nothing, exclude nobody, or are only observed for long."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..organisation.access_rules import SECOND_FACTOR, AccessRule, Conditions
from ..organisation.columns import DAY
from ..organisation.proofs import with_implied
from ..organisation.snapshot import Snapshot
from ..words.record import record
from .bits import least, none_of
from .gatekeeper import Gatekeeper
from .possible import SignInClass, sign_in_classes

OBSERVED_LONG_DAYS = 30


@record
class Ailment:
    """Something about a rule itself: `what` is idle, exclusion-idle or observed-long, with a sentence."""

    rule: str
    what: str
    text: str


@record
class ObservedRule:
    """A rule that is only observed: for how many whole days, None where that is not known, and whether that is long."""

    rule: AccessRule
    days: int | None
    is_old: bool

    @property
    def text(self) -> str:
        """For how long, in words."""
        return (
            "since when is not known" if self.days is None else f"for {self.days:,} day{'' if self.days == 1 else 's'}"
        )


def observed_rules(snapshot: Snapshot, old_after_days: float = OBSERVED_LONG_DAYS) -> list[ObservedRule]:
    """The rules that are only observed, and so stop no one; one whose age is not known counts as old. Source: answers, C 32."""
    found = []
    for rule in snapshot.access_rules or ():
        if rule.mode == "observe":
            days = None if rule.changed is None else (snapshot.taken_at - rule.changed) // DAY
            found.append(ObservedRule(rule, days, days is None or days > old_after_days))
    return found


def ailments(keeper: Gatekeeper, old_after_days: float = OBSERVED_LONG_DAYS) -> list[Ailment]:
    """Rules that change no decision, exclusions that exclude nobody, rules that have been observed for long."""
    observed = {each.rule.id: each for each in observed_rules(keeper.snapshot, old_after_days)}
    found = []
    every = sign_in_classes(keeper.rules, keeper.networks, sorted(keeper.snapshot.resources), Conditions())
    for number, rule in enumerate(keeper.rules):
        excluded = keeper.excluded(number)
        if rule.exclude is not None and excluded is not None and not np.any(excluded):
            found.append(Ailment(rule.id, "exclusion-idle", f"its exclusion ({rule.exclude.text}) excludes nobody"))
        if rule.id in observed and observed[rule.id].is_old:
            days = observed[rule.id].days
            said = "it is only observed, and since when is not known"
            said = said if days is None else f"it has only been observed for {days} days"
            found.append(Ailment(rule.id, "observed-long", said))
        if rule.mode == "enforce" and not _changes_anything(keeper, number, every):
            found.append(
                Ailment(
                    rule.id,
                    "idle",
                    "it changes no decision: it matches nobody, or others ask for as much",
                )
            )
    return found


def _changes_anything(keeper: Gatekeeper, number: int, every: list[SignInClass]) -> bool:
    """Whether anywhere that a rule matches, no single other rule (or own requirement) asks for as much. Session limits count."""
    rule, enforced = keeper.rules[number], keeper.in_modes("enforce")
    if rule.longest_hours is not None or rule.no_downloads:
        return bool(np.any(keeper.whom(number)))
    as_much = [other != number and _asks_as_much(other_rule, rule) for other, other_rule in enumerate(keeper.rules)]
    bits = sum(1 << other for other, enough in enumerate(as_much) if enough) & enforced
    own = rule.require is not None and not rule.deny and _implies(SECOND_FACTOR.proofs, SECOND_FACTOR.operator, rule)
    concerned = keeper.whom(number) & ~keeper.must_show if own else keeper.whom(number)
    people = np.flatnonzero(concerned)
    # Where the rule matches, whoever none of these rules (as bits) includes is asked for as much by it alone.
    masks = least(possible.rules & bits for possible in every if possible.rules >> number & 1)
    return any(bool(none_of(mask, keeper.bits, people).any()) for mask in masks)


def _asks_as_much(other: AccessRule, rule: AccessRule) -> bool:
    if other.deny or rule.deny:
        return other.deny
    return other.require is not None and _implies(other.require.proofs, other.require.operator, rule)


def _implies(proofs: Sequence[str], operator: str, rule: AccessRule) -> bool:
    """Whether every way to satisfy a requirement satisfies the rule's as well."""
    if rule.require is None:
        return True
    if operator == "all-of":
        return rule.require.met_by(with_implied(proofs))
    return all(rule.require.met_by(with_implied((proof,))) for proof in proofs)
