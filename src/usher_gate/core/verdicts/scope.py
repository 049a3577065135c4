"""The people that each rule judges.

Audiences, accounts, pairs of rule and service, and the notes about what cannot be answered.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

import numpy as np

from ..organisation.columns import Bools
from ..organisation.select import Unanswerable, select, strange_values
from ..organisation.selector import Selector
from ..organisation.services import Service
from ..organisation.snapshot import Snapshot
from ..settings.resolver import Resolver
from ..words.record import record
from .condition import Leaf
from .rules import Baseline, Rule

NOT_PAIRED = ", which supports none of its controls"


@record
class Scope:
    """Says who is exempt from a rule on a service, whether the rule's audience could be answered, and what could not.

    `left_out` are those that only the rule's `except` exempts (None where it has none): what the rule is about is meant
    to stay with them as it is. Spec: mending 3.3.
    """

    outside: Bools
    answered: bool
    notes: tuple[str, ...]
    left_out: Bools | None = None


class Scopes:
    """The people that rules and exceptions choose; each selector is answered once."""

    def __init__(self, resolver: Resolver) -> None:
        self.snapshot, self._resolver = resolver.snapshot, resolver
        self._answers: dict[Selector, Bools | str] = {}
        self._strange: dict[Selector, list[str]] = {}

    def mask(self, selector: Selector, whose: str, instead: str) -> tuple[Bools | None, str]:
        """Return the people chosen.

        Or None, with a note: `whose` selector could not be answered, and what that means.
        """
        if selector not in self._answers:
            try:
                self._answers[selector] = select(selector, self.snapshot)
            except Unanswerable as gap:
                self._answers[selector] = str(gap)
        answer = self._answers[selector]
        if isinstance(answer, str):
            return None, f"{whose} asks for {answer}, which the snapshot does not have: {instead}"
        return answer, ""

    def accounts(self, service: Service) -> tuple[Bools, str]:
        """Return who has an account on a service, and a note where that could not be answered."""
        note = ""
        if service.accounts is not None:
            whose = f"the key accounts of service {service.id}"
            note = self.mask(service.accounts, whose, "everyone is taken to have an account")[1]
        return self._resolver.accounts(service), note

    def exempted(self, rule: Rule) -> tuple[Bools | None, str]:
        """Return mask of the people that the rule itself leaves out."""
        if rule.exempted is None:
            return None, ""
        return self.mask(rule.exempted, f"the key except of rule {rule.id}", "it covers no one")

    def strange(self, selector: Selector | None, whose: str) -> list[str]:
        """Notes about values in a selector that no one at all has."""
        if selector is None:
            return []
        if selector not in self._strange:
            self._strange[selector] = strange_values(selector, self.snapshot)
        return [f"{whose} asks for {said}" for said in self._strange[selector]]

    def of(self, rule: Rule, service: Service | None) -> Scope:
        """Return the scope of a rule on a service."""
        notes = []
        inside = np.ones(len(self.snapshot.people), bool)
        if service is not None:
            accounts, note = self.accounts(service)
            inside &= accounts
            notes.append(note)
        exempted, note = self.exempted(rule)
        notes.append(note)
        audience, unanswered = self.mask(
            rule.audience, f"the audience of rule {rule.id}", "the rule is unknown for everyone"
        )
        notes.append(unanswered)
        if audience is not None:
            inside &= audience
        left_out = None
        if exempted is not None:
            left_out, inside = inside & exempted, inside & ~exempted
        return Scope(~inside, audience is not None, tuple(note for note in notes if note), left_out)

    def left_out_of(self, rules: Iterable[Rule], service: Service, control: str) -> Bools | None:
        """Return the people that the `except` of a rule about a control of a service leaves out.

        None where no rule has one.
        """
        masks = [
            scope.left_out
            for rule in rules
            if rule.subject == "people" and rule.exempted is not None and service in services_of(rule, [service])
            if rule.looks_at(control, service)
            for scope in (self.of(rule, service),)
            if scope.left_out is not None
        ]
        return np.logical_or.reduce(masks) if masks else None


def services_of(rule: Rule, services: Sequence[Service] | None) -> list[Service] | list[None]:
    """Return the services that a rule is judged on; none for one that supports nothing of it.

    A rule without controls and doors, and any where no services are known, is judged once, on None; one about meetings
    on every service.
    """
    if services is None or not (rule.of_services or rule.subject == "meetings"):
        return [None]
    return [
        service
        for service in services
        if (rule.services is None or service.id in rule.services)
        and (not rule.of_services or rule.must_support or rule.applies_to(service))
    ]


def unpaired_in(notes: Iterable[str]) -> dict[str, list[str]]:
    """By service, the rules that some notes say do not apply to it."""
    found = dict[str, list[str]]()
    for note in notes:
        if note.endswith(NOT_PAIRED):
            rule, service = note.removeprefix("rule ").removesuffix(NOT_PAIRED).split(" does not apply to service ")
            found.setdefault(service, []).append(rule)
    return dict(sorted(found.items()))


def pairs(
    baseline: Baseline, snapshot: Snapshot, keeps: Callable[[Rule, str | None], bool], notes: set[str]
) -> Iterator[tuple[Rule, Service | None]]:
    """Yield each rule with each service it is judged on.

    A note for each service that supports none of a rule's controls, if the report speaks of both.
    """
    for rule in baseline.rules:
        yield from ((rule, service) for service in services_of(rule, snapshot.services))
    for service in snapshot.services or ():
        notes.update(
            f"rule {rule.id} does not apply to service {service.id}{NOT_PAIRED}"
            for rule in not_applicable(baseline, service, keeps)
        )


def not_applicable(baseline: Baseline, service: Service, keeps: Callable[[Rule, str | None], bool]) -> list[Rule]:
    """Return the rules that the report speaks of, and none of whose controls (and kinds of meetings) a service
    supports.
    """
    return [
        rule
        for rule in baseline.rules
        if rule.of_services
        and not rule.must_support
        and (rule.services is None or service.id in rule.services)
        and keeps(rule, service.id)
        and not rule.applies_to(service)
    ]


def _missing_name(leaf: Leaf) -> str:
    kinds = leaf.visitor_selection.kinds if leaf.visitor_selection is not None else ()
    return leaf.name if leaf.about == "control" else f"{' and '.join(kinds)} meetings"


def unsupported_notes(rule: Rule, service: Service) -> list[str]:
    """Return a note for each rule of which a service supports some controls only."""
    judged = {leaf.number for leaf in rule.judged_on(service)}
    missing = sorted({_missing_name(leaf) for leaf in rule.leaves if leaf.number not in judged})
    return (
        [f"rule {rule.id} is judged on service {service.id} without {', '.join(missing)}, not supported there"]
        if missing
        else []
    )
