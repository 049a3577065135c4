"""Holes, lock-outs and what ails the access rules: what is shown."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ...core.organisation.access_rules import AccessRule
from ...core.organisation.snapshot import Snapshot
from ...core.sign_in.evaluator import AccessPolicyEvaluator
from ...core.sign_in.health import Defect
from ...core.sign_in.holes import WayIn
from ...core.sign_in.lockout import ConditionalAccess, Lockout, Stranded
from ...core.sign_in.possible import ProofDemand
from ...core.sign_in.uses import HoleUse
from ...core.words.plural import plural
from ...core.words.record import record
from ...core.words.vocabulary import CONDITION_WORDS, DIMENSIONS


@record
class RuleHoles:
    """One proof that is asked for (rule "": by the call), and the holes in it for the people it is asked from."""

    rule: str
    title: str
    asked: ProofDemand
    holes: tuple[WayIn, ...]
    people: int
    unknown: tuple[int, ...] = ()  # the people (numbers, ascending) with an unknown answer


@record
class HolesAnswer:
    """All that is shown."""

    snapshot: Snapshot
    rules: tuple[RuleHoles, ...]
    lockouts: tuple[Lockout, ...]
    stranded: tuple[Stranded, ...]
    defects: tuple[Defect, ...]
    evaluator: AccessPolicyEvaluator
    notes: tuple[str, ...] = ()
    conditional: tuple[ConditionalAccess, ...] = ()
    uses: Mapping[int, HoleUse] | None = None  # by id() of the hole who used it; None where no log was read
    log: str = ""  # which log that was, in words
    network: str = ""  # only the holes that are open from it; "" for all

    def use_of(self, hole: WayIn) -> HoleUse | None:
        """Return who used a hole, as far as a log says."""
        return None if self.uses is None else self.uses[id(hole)]


def outcome(answer: HolesAnswer) -> str:
    """Return a sentence: how many holes there are, and for how many people the answer is not known."""
    every = [hole for rule in answer.rules for hole in rule.holes]
    unknown = {person for rule in answer.rules for person in rule.unknown}
    for_some = (
        f"for {plural(len(unknown), 'person', 'people')} it is not known whether the proof is required everywhere"
    )
    if every:
        people = plural(len({person for hole in every for person in hole.people}), "person", "people")
        lets = f"{plural(len(every), 'hole')} {'lets' if len(every) == 1 else 'let'} {people} in"
        return f"{lets} without the proof that is asked for{f'; {for_some}' if unknown else ''}."
    if not any(rule.people for rule in answer.rules):
        return "No proof is asked for: no one is in the audience."
    if unknown:
        return f"No hole is known, but {for_some}."
    if answer.network:
        return f"No hole is open from {answer.network}."
    return "No hole: every proof that is asked for is required everywhere."


def _words(name: str, values: tuple[str, ...]) -> str:
    """Return some values of a dimension in the fewest words."""
    others = [word for word in CONDITION_WORDS.get(name, ()) if word not in values]
    if others and len(others) < len(values):
        return f"not {' or '.join(others)}"
    return " or ".join(value.replace("+", " and ") for value in values)


def describe(hole: WayIn) -> str:
    """Return a hole in words: who comes how, from where, to what."""
    values = {name: _words(name, some) if some else "" for name, some in zip(DIMENSIONS, hole.values, strict=True)}
    client = values["client"]
    clients = f"{client} clients" if client else "any client"
    parts = [f"any client but {client[4:]}" if client.startswith("not ") else clients]
    parts.append(f"from {values['network'] or 'anywhere'}")
    parts.append(f"to {values['resource'] or 'any resource'}")
    parts += [f"{name} {values[name]}" for name in ("platform", "device", "risk") if values[name]]
    return ", ".join(parts)


def reach_counts(evaluator: AccessPolicyEvaluator, number: int) -> tuple[int, int]:
    """Return how many people a rule reaches, and how many it excludes."""
    excluded = evaluator.excluded(number)
    return int(np.count_nonzero(evaluator.included(number))), 0 if excluded is None else int(np.count_nonzero(excluded))


def outcome_text(rule: AccessRule) -> str:
    """Return what a rule does, in a few words."""
    if rule.deny:
        return "deny"
    return rule.require.text if rule.require is not None else "limits the session"
