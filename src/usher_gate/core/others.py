"""Rules whose subject is not a person: the organisation as a whole, and its partners."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from .condition import (
    DRIFTS,
    EXCEPTED,
    EXEMPT,
    LOOSE,
    MEETS,
    SETTLING,
    UNKNOWN,
    Leaf,
    Tree,
    deciding,
    leaves,
    restrict,
    too_few,
)
from .leaf import ControlJudge, Outcome, Root
from .model import PARTNER_COLUMNS, Partner, Service
from .result import Tail
from .rules import Rule
from .scope import in_force
from .select import Unanswerable, select

if TYPE_CHECKING:
    from .check import Checker

Subject = tuple[str, str]


def _tail(tree: Tree, service: str | None, outcome: Callable[[Leaf], Outcome]) -> Tail:
    """Judges one subject by its leaves."""
    outcomes = {leaf.number: (leaf, outcome(leaf)) for leaf in leaves(tree)}
    verdict, chosen = deciding(
        tree, {number: np.array([each.verdict], np.uint8) for number, (_, each) in outcomes.items()}, 1
    )
    number = int(chosen[0])
    few = {each.number: each.control for each in too_few(tree)}
    if number in few:
        return Tail(DRIFTS, "not-supported", tuple(outcomes.values()), Root(service, few[number], None, None))
    decided = outcomes[number][1]
    return Tail(int(verdict[0]), decided.reason, tuple(outcomes.values()), decided.root, decided=number)


def judge_organisation(rule: Rule, service: Service | None, checker: Checker) -> list[tuple[Subject, Tail]]:
    """The organisation's one verdict for a service (or for none)."""
    subject = ("organisation", checker.snapshot.name)
    if rule.controls and service is None:
        return [(subject, _tail(rule.expect, None, lambda _: Outcome(UNKNOWN, "no-value")))]
    tree = rule.expect if service is None else restrict(rule.expect, service.controls)
    if tree is None:
        return [(subject, Tail(EXEMPT, "", (), None))]

    def outcome(leaf: Leaf) -> Outcome:
        if leaf.about == "count":
            return _count(leaf, checker)
        assert service is not None
        return ControlJudge(leaf, rule.pinned, service, checker.effective(service, leaf.name), None).organisation()

    return [(subject, _tail(tree, service.id if service else None, outcome))]


def _count(leaf: Leaf, checker: Checker) -> Outcome:
    assert leaf.selector is not None and leaf.comparison is not None
    try:
        counted = str(int(np.count_nonzero(select(leaf.selector, checker.snapshot))))
    except Unanswerable as gap:
        checker.scopes.notes.add(f"a count asks for {gap}, which the snapshot does not have: it is unknown")
        return Outcome(UNKNOWN, "no-fact")
    if not checker.snapshot.people_whole:
        checker.scopes.notes.add("not everybody is in the snapshot, so nobody can be counted: a count is unknown")
        return Outcome(UNKNOWN, "no-fact")
    if leaf.comparison.passes(counted):
        return Outcome(MEETS, "", counted)
    return Outcome(DRIFTS, "fails", counted, None, Root(None, "count", "organisation", None))


def judge_partners(rule: Rule, checker: Checker) -> list[tuple[Subject, Tail]]:
    """One verdict for each partner; a row `*` is judged even where the table has none."""
    partners = checker.snapshot.partners
    if partners is None:
        tail = _tail(rule.expect, None, lambda _: Outcome(UNKNOWN, "no-fact"))
        return [_excepted(rule, ("partner", "*"), tail, checker)]
    if all(partner.domain != "*" for partner in partners):
        known = partners[0].flags if partners else dict.fromkeys(PARTNER_COLUMNS, "")
        partners = (
            *partners,
            Partner("*", {name: PARTNER_COLUMNS[name] if flag is not None else None for name, flag in known.items()}),
        )
    return [
        _excepted(rule, ("partner", partner.domain), _tail(rule.expect, None, _partner_outcome(partner)), checker)
        for partner in sorted(partners, key=lambda each: each.domain)
    ]


def _partner_outcome(partner: Partner) -> Callable[[Leaf], Outcome]:
    def outcome(leaf: Leaf) -> Outcome:
        assert leaf.comparison is not None
        actual = partner.flags.get(leaf.name)
        if actual is None:
            return Outcome(UNKNOWN, "no-fact")
        if leaf.comparison.passes(actual):
            return Outcome(MEETS, "", actual)
        return Outcome(DRIFTS, "fails", actual, None, Root(None, leaf.name, "partners", None))

    return outcome


def _excepted(rule: Rule, subject: Subject, tail: Tail, checker: Checker) -> tuple[Subject, Tail]:
    """Applies the exceptions in force that name the partner."""
    if tail.verdict > LOOSE or tail.verdict == SETTLING:
        return subject, tail
    covering = [
        each.id
        for each in checker.exceptions
        if rule.id in each.rules
        and each.services is None
        and in_force(each, checker.snapshot)
        and subject[1].casefold() in {domain.casefold() for domain in each.partners}
    ]
    for each in covering:
        checker.covers[each] += 1
    if not covering:
        return subject, tail
    return subject, Tail(EXCEPTED, tail.reason, tail.leaves, tail.root, covering[0], tail.verdict, tail.decided)
