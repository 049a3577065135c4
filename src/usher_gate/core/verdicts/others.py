"""Rules whose subject is not a person: the organisation as a whole, and its partners."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import field

import numpy as np

from ..organisation.columns import Ints
from ..organisation.partners import Partner, star_row
from ..organisation.select import Unanswerable, select
from ..organisation.services import Service
from ..organisation.snapshot import Snapshot
from ..settings.resolver import Resolver
from ..words.record import record
from .codes import DRIFTS, EXCEPTED, EXEMPT, MEETS, UNKNOWN
from .condition import Leaf, Tree, deciding, too_few
from .control_leaf import ControlJudge
from .exceptions import applying, may_be_covered
from .outcome import NO_SERVICES, Outcome, Root, VerdictDetail, narrowness
from .rules import AgreedException, Rule

Subject = tuple[str, str]


def _detail(
    tree: Tree, judged: Iterable[Leaf], service: str | None, outcome: Callable[[Leaf], Outcome]
) -> VerdictDetail:
    """Judges one subject by its leaves."""
    outcomes = {leaf.number: (leaf, outcome(leaf)) for leaf in judged}
    verdicts = {number: np.array([said.verdict], np.uint8) for number, (_, said) in outcomes.items()}
    narrow = {number: np.array([narrowness(leaf, said)], np.int64) for number, (leaf, said) in outcomes.items()}
    decision = deciding(tree, verdicts, narrow, 1)
    verdict, number = decision.verdict, int(decision.leaf[0])
    few = {one_few.number: one_few.control for one_few in too_few(tree)}
    if number in few:
        return VerdictDetail(DRIFTS, "not-supported", tuple(outcomes.values()), Root(service, few[number], None, None))
    decided = outcomes[number][1]
    return VerdictDetail(int(verdict[0]), decided.reason, tuple(outcomes.values()), decided.root, decided=number)


@record
class OtherVerdicts:
    """One rule judged about subjects that are no people: each (type, id) with what is said of it.

    What exceptions cover, by id; notes; of meetings the organiser of each.
    """

    found: tuple[tuple[Subject, VerdictDetail], ...]
    covers: Mapping[str, int] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    organisers: Ints | None = None


def judge_organisation(rule: Rule, service: Service | None, resolver: Resolver) -> OtherVerdicts:
    """Return the organisation's one verdict for a service (or for none)."""
    subject, notes = ("organisation", resolver.snapshot.name), list[str]()
    if rule.needs_services(service):
        return OtherVerdicts(((subject, _detail(rule.expect, rule.leaves, None, lambda _: NO_SERVICES)),))
    tree = rule.tree_on(service)
    if tree is None:
        return OtherVerdicts(((subject, VerdictDetail(EXEMPT, "", (), None)),))

    def outcome(leaf: Leaf) -> Outcome:
        if leaf.about == "count":
            counted, note = _count(leaf, resolver.snapshot)
            notes.extend([note] if note else [])
            return counted
        assert service is not None
        return ControlJudge(leaf, rule.pinned, service, resolver.effective(service, leaf.name), None).organisation()

    return OtherVerdicts(
        ((subject, _detail(tree, rule.judged_on(service), service.id if service else None, outcome)),), {}, tuple(notes)
    )


def _count(leaf: Leaf, snapshot: Snapshot) -> tuple[Outcome, str]:
    """Return what counting says, and a note where no one can be counted."""
    assert leaf.selector is not None and leaf.comparison is not None
    try:
        counted = str(int(np.count_nonzero(select(leaf.selector, snapshot))))
    except Unanswerable as gap:
        note = f"a count asks for {gap}, which the snapshot does not have: it is unknown"
        return Outcome(UNKNOWN, "no-fact"), note
    if not snapshot.people_whole:
        note = "not everyone is in the snapshot, so no one can be counted: a count is unknown"
        return Outcome(UNKNOWN, "no-fact"), note
    if leaf.comparison.passes(counted):
        return Outcome(MEETS, "", counted), ""
    return Outcome(
        verdict=DRIFTS, reason="fails", actual=counted, cause=None, root=Root(None, "count", "organisation", None)
    ), ""


def judge_partners(rule: Rule, snapshot: Snapshot, exceptions: Sequence[AgreedException]) -> OtherVerdicts:
    """Return one verdict for each partner; a row `*` is judged even where the table has none."""
    partners = snapshot.partners
    if partners is None:
        found = [("*", _detail(rule.expect, rule.leaves, None, lambda _: Outcome(UNKNOWN, "no-fact")))]
    else:
        if all(partner.domain != "*" for partner in partners):
            partners = (*partners, star_row(snapshot.partner_columns))
        found = [
            (partner.domain, _detail(rule.expect, rule.leaves, None, _partner_outcome(partner)))
            for partner in sorted(partners, key=lambda partner: partner.domain)
        ]
    covers: dict[str, int] = {}
    applied = applying(exceptions, rule, None, snapshot)
    made = tuple((("partner", domain), _excepted(domain, detail, applied, covers)) for domain, detail in found)
    return OtherVerdicts(made, covers)


def _partner_outcome(partner: Partner) -> Callable[[Leaf], Outcome]:
    def outcome(leaf: Leaf) -> Outcome:
        assert leaf.comparison is not None
        actual = partner.flags.get(leaf.name)
        if actual is None:
            return Outcome(UNKNOWN, "no-fact")
        if leaf.comparison.passes(actual):
            return Outcome(MEETS, "", actual)
        return Outcome(
            verdict=DRIFTS, reason="fails", actual=actual, cause=None, root=Root(None, leaf.name, "partners", None)
        )

    return outcome


def _excepted(
    domain: str, detail: VerdictDetail, applied: Sequence[AgreedException], covers: dict[str, int]
) -> VerdictDetail:
    """Applies the exceptions that name the partner, and counts in `covers` what each covers."""
    if not may_be_covered(detail.verdict):
        return detail
    covering = [
        exception.id for exception in applied if domain.casefold() in {name.casefold() for name in exception.partners}
    ]
    for name in covering:
        covers[name] = covers.get(name, 0) + 1
    if not covering:
        return detail
    return VerdictDetail(
        verdict=EXCEPTED,
        reason=detail.reason,
        leaves=detail.leaves,
        root=detail.root,
        exception=covering[0],
        would_be=detail.verdict,
        decided=detail.decided,
    )
