"""Whom each rule judges: audiences, accounts, pairs of rule and service, and the notes about what cannot be answered."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta

import numpy as np

from .model import Bools, Service, Snapshot
from .resolve import Resolver
from .rules import AgreedException, Baseline, Rule
from .select import Selector, Unanswerable, select

NOT_PAIRED = ", which supports none of its controls"


class Scopes:
    """Answers selectors once each, and collects what it could not answer as notes."""

    def __init__(self, snapshot: Snapshot, resolver: Resolver) -> None:
        self.snapshot = snapshot
        self.notes: set[str] = set()
        self._resolver = resolver
        self._answers: dict[Selector, Bools | str] = {}
        self._accounts: dict[str, Bools] = {}

    def _answer(self, selector: Selector) -> Bools | str:
        if selector not in self._answers:
            try:
                self._answers[selector] = select(selector, self.snapshot)
            except Unanswerable as gap:
                self._answers[selector] = str(gap)
        return self._answers[selector]

    def mask(self, selector: Selector, whose: str, instead: str) -> Bools | None:
        """The people chosen, or None with a note: `whose` selector could not be answered, and what that means."""
        answer = self._answer(selector)
        if isinstance(answer, str):
            self.notes.add(f"{whose} asks for {answer}, which the snapshot does not have: {instead}")
            return None
        return answer

    def accounts(self, service: Service) -> Bools:
        """Who has an account on a service."""
        if service.id not in self._accounts:
            if service.accounts is not None:
                self.mask(
                    service.accounts,
                    f"the key accounts of service {service.id}",
                    "everybody is taken to have an account",
                )
            self._accounts[service.id] = self._resolver.accounts(service)
        return self._accounts[service.id]

    def outside(self, rule: Rule, service: Service | None) -> tuple[Bools, bool]:
        """Who is exempt from a rule on a service, and whether the rule's audience could be answered."""
        inside = np.ones(len(self.snapshot.people), bool) if service is None else self.accounts(service).copy()
        if rule.exempted is not None:
            exempted = self.mask(rule.exempted, f"the key except of rule {rule.id}", "it covers nobody")
            if exempted is not None:
                inside &= ~exempted
        audience = self.mask(rule.audience, f"the audience of rule {rule.id}", "the rule is unknown for everybody")
        if audience is not None:
            inside &= audience
        return ~inside, audience is not None


def pairs(baseline: Baseline, snapshot: Snapshot, notes: set[str]) -> Iterator[tuple[Rule, Service | None]]:
    """Each rule with each service it is judged on; a note for each service that supports none of a rule's controls."""
    for rule in baseline.rules:
        if not rule.controls or snapshot.services is None:
            yield rule, None
            continue
        for service in snapshot.services:
            if rule.services is not None and service.id not in rule.services:
                continue
            if rule.controls & service.controls:
                yield rule, service
            else:
                notes.add(f"rule {rule.id} does not apply to service {service.id}{NOT_PAIRED}")


def unsupported_notes(rule: Rule, service: Service) -> list[str]:
    """A note for each rule of which a service supports some controls only."""
    missing = sorted(rule.controls - service.controls)
    return (
        [f"rule {rule.id} is judged on service {service.id} without {', '.join(missing)}, not supported there"]
        if missing
        else []
    )


def taken_day(snapshot: Snapshot) -> date:
    """The day of the snapshot, in UTC."""
    return (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=snapshot.taken_at)).date()


def in_force(exception: AgreedException, snapshot: Snapshot) -> bool:
    """Whether the snapshot was taken on or before the exception's last day."""
    return taken_day(snapshot) <= exception.until
