"""Explaining one person's value or verdict: what every rule that looks at it says."""

from __future__ import annotations

import numpy as np

from ..organisation.services import Service
from ..settings.walk import Walk, walk
from ..words.record import record
from .checker import Checker
from .codes import EXEMPT
from .outcome import Tail
from .rules import Rule
from .scope import services_of


@record
class Said:
    """What one rule says of a person on a service. `exempt` gives the reason where the rule does not apply."""

    rule: Rule
    service: str | None
    verdict: int
    tail: Tail | None
    exempt: str = ""


@record
class ExplainedValue:
    """How a value comes about, and what the rules that look at it say."""

    walk: Walk
    rules: tuple[Said, ...]


def explain_value(checker: Checker, service: Service, control: str, person: int) -> ExplainedValue:
    """One active person's value of a control on a service."""
    return ExplainedValue(
        walk(checker.resolver, service, control, person), tuple(_rules(checker, service, control, person))
    )


def _rules(checker: Checker, service: Service, control: str, person: int) -> list[Said]:
    return [
        say(checker, rule, service, person)
        for rule in checker.baseline.rules
        if rule.subject == "people"
        and control in rule.controls & service.controls
        and service in services_of(rule, checker.snapshot.services)
    ]


def say(checker: Checker, rule: Rule, service: Service | None, person: int) -> Said:
    """What a rule says of one active person."""
    verdicts = checker.judge(rule, service)
    verdict = int(verdicts.verdict[person])
    name = service.id if service is not None else None
    if verdict == EXEMPT:
        return Said(rule, name, verdict, None, _why_exempt(checker, rule, service, person))
    tails, _ = checker.tails(service, verdicts, np.array([person], np.int64))
    return Said(rule, name, verdict, tails[0])


def _why_exempt(checker: Checker, rule: Rule, service: Service | None, person: int) -> str:
    if service is not None and not checker.resolver.accounts(service)[person]:
        return f"has no account on {service.id}"
    exempted = checker.scopes.exempted(rule)[0]
    if rule.exempted is not None and exempted is not None and exempted[person]:
        return f"is excepted by the rule itself ({rule.exempted.text})"
    return f"is not in the rule's audience ({rule.audience.text})"


def verdicts_of(checker: Checker, rule: Rule, person: int) -> list[Said]:
    """What a rule says of one active person, on each service that it is judged on."""
    return [say(checker, rule, service, person) for service in services_of(rule, checker.snapshot.services)]
