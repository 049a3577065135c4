"""What ails the access rules themselves: those that change nothing, exclude no one, or are only observed for long."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..organisation.access_rules import SECOND_FACTOR, AccessRule, Conditions
from ..organisation.columns import DAY
from ..organisation.proofs import with_implied
from ..organisation.snapshot import Snapshot
from ..words.plural import plural
from ..words.record import record
from .bits import least, none_of
from .evaluator import AccessPolicyEvaluator
from .possible import SignInClass, sign_in_classes

OBSERVED_LONG_DAYS = 30


DEFECTS = ("idle", "exclusion-idle", "observed-long")


@record
class Defect:
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
        """Return for how long, in words."""
        return "since when is not known" if self.days is None else f"for {plural(self.days, 'day')}"


def observed_rules(snapshot: Snapshot, old_after_days: float = OBSERVED_LONG_DAYS) -> list[ObservedRule]:
    """Return the rules that are only observed, and so stop no one; one whose age is not known counts as old.

    Spec: sign-in 6.
    """
    found = []
    for rule in snapshot.access_rules or ():
        if rule.mode == "observe":
            days = None if rule.changed is None else (snapshot.taken_at - rule.changed) // DAY
            found.append(ObservedRule(rule, days, days is None or days > old_after_days))
    return found


def defects(evaluator: AccessPolicyEvaluator, old_after_days: float = OBSERVED_LONG_DAYS) -> list[Defect]:
    """Rules that change no decision, exclusions that exclude no one, rules that have been observed for long."""
    observed = {each.rule.id: each for each in observed_rules(evaluator.snapshot, old_after_days)}
    found = []
    every = sign_in_classes(evaluator.rules, evaluator.networks, sorted(evaluator.snapshot.resources), Conditions())
    for number, rule in enumerate(evaluator.rules):
        excluded = evaluator.excluded(number)
        if rule.exclude is not None and excluded is not None and not np.any(excluded):
            found.append(Defect(rule.id, "exclusion-idle", f"its exclusion ({rule.exclude.text}) excludes no one"))
        if rule.id in observed and observed[rule.id].is_old:
            days = observed[rule.id].days
            said = "it is only observed, and since when is not known"
            said = said if days is None else f"it has only been observed for {days} days"
            found.append(Defect(rule.id, "observed-long", said))
        if rule.mode == "enforce" and not _changes_anything(evaluator, number, every):
            found.append(
                Defect(
                    rule.id,
                    "idle",
                    "it changes no decision: it matches no one, or others ask for as much",
                )
            )
    return found


def _changes_anything(evaluator: AccessPolicyEvaluator, number: int, every: list[SignInClass]) -> bool:
    """Return whether anywhere that a rule matches, no single other rule (or own requirement) asks for as much.

    Session limits count.
    """
    rule, enforced = evaluator.rules[number], evaluator.in_modes("enforce")
    if rule.longest_hours is not None or rule.no_downloads:
        return bool(np.any(evaluator.included(number)))
    as_much = [other != number and _asks_as_much(other_rule, rule) for other, other_rule in enumerate(evaluator.rules)]
    bits = sum(1 << other for other, enough in enumerate(as_much) if enough) & enforced
    own = rule.require is not None and not rule.deny and _implies(SECOND_FACTOR.proofs, SECOND_FACTOR.operator, rule)
    concerned = evaluator.included(number) & ~evaluator.must_show if own else evaluator.included(number)
    people = np.flatnonzero(concerned)
    # If the rule matches, people that none of these rules (as bits) includes are asked for as much by it alone.
    masks = least(possible.rules & bits for possible in every if possible.rules >> number & 1)
    return any(bool(none_of(mask, evaluator.bits, people).any()) for mask in masks)


def _asks_as_much(other: AccessRule, rule: AccessRule) -> bool:
    if other.deny or rule.deny:
        return other.deny
    return other.require is not None and _implies(other.require.proofs, other.require.operator, rule)


def _implies(proofs: Sequence[str], operator: str, rule: AccessRule) -> bool:
    """Return whether every way to satisfy a requirement satisfies the rule's as well."""
    if rule.require is None:
        return True
    if operator == "all-of":
        return rule.require.met_by(with_implied(proofs))
    return all(rule.require.met_by(with_implied((proof,))) for proof in proofs)
