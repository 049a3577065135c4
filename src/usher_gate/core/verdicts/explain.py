"""Explaining one person's value or verdict: what every rule that looks at it says."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from ..door.agenda import PlannedOn, own_settings
from ..organisation.columns import NO_TIME
from ..organisation.credentials import PassDetails
from ..organisation.facts import FACTS, fact_of
from ..organisation.services import Service
from ..settings.effective import Cause
from ..settings.walk import AFTER_PIN, OVERRIDDEN, STANDS, Step, StepSetting, Walk, walk
from ..sign_in.lockout import lockouts
from ..words.record import record
from ..words.vocabulary import SEVERITIES
from .checker import Checker
from .codes import EXEMPT, MEETS
from .outcome import VerdictDetail
from .planned import judge_meetings
from .rules import Rule
from .scope import services_of


@record
class ResolvedValue:
    """Describes what a person gets for one control on a service, where some rule asks for it.

    `cause` is None where the value is not known.
    """

    service: str
    control: str
    cause: Cause | None


@record
class RuleExplanation:
    """Describes what one rule says of a person on a service.

    `exempt` gives the reason where the rule does not apply; `values` and `facts` are what it would look at all the
    same.
    """

    rule: Rule
    service: str | None
    verdict: int
    detail: VerdictDetail | None
    exempt: str = ""
    values: tuple[ResolvedValue, ...] = ()
    facts: tuple[tuple[str, str | None], ...] = ()


@record
class ExplainedValue:
    """Describes how a value comes about, and what the rules that look at it say."""

    walk: Walk
    rules: tuple[RuleExplanation, ...]


def explain_value(checker: Checker, service: Service, control: str, person: int) -> ExplainedValue:
    """Explain one active person's value of a control on a service."""
    return ExplainedValue(
        walk(checker.resolver, service, control, person), tuple(_rules(checker, service, control, person))
    )


def _rules(checker: Checker, service: Service, control: str, person: int) -> list[RuleExplanation]:
    one = checker.alone(person)
    return [
        say(one, rule, service, 0)
        for rule in checker.baseline.rules
        if rule.subject == "people"
        and rule.looks_at(control, service)
        and service in services_of(rule, checker.snapshot.services)
    ]


def explain_meeting(checker: Checker, planned: PlannedOn, number: int, control: str) -> ExplainedValue:
    """Return what a planned meeting is set to: the organiser's walk with the meeting's own setting as its last step.

    And what rules say of it.
    """
    service, organiser = planned.service, int(planned.organiser[number])
    found = walk(checker.resolver, service, control, organiser)
    mine = [
        own
        for name, about, own in own_settings(checker.snapshot, service)
        if name == planned.ids[number] and about == control
    ]
    steps = list(found.steps)
    counts = control in planned.own.get(number, {})
    if counts:
        steps = [replace(step, settings=tuple(map(_overridden, step.settings))) for step in steps]
        found = replace(
            found, value=mine[0].value, scope=f"meeting:{planned.ids[number]}", pinned=mine[0].pinned, contested=()
        )
        found = replace(found, young=False, changeable=not mine[0].pinned and service.changeable(control))
    for own in mine:
        changed = None if own.changed == NO_TIME else own.changed
        state = STANDS if counts else AFTER_PIN
        scope = f"meeting:{planned.ids[number]}"
        steps.append(
            Step(
                "meeting",
                (
                    StepSetting(
                        scope=scope,
                        value=own.value,
                        pinned=own.pinned,
                        rank=None,
                        changed=changed,
                        row=own.row,
                        young=False,
                        state=state,
                    ),
                ),
            )
        )
    said = []
    for rule in checker.baseline.rules:
        if rule.subject != "meetings" or not rule.looks_at(control, service):
            continue
        if service in services_of(rule, checker.snapshot.services):
            detail = judge_meetings(rule, service, checker).found[number][1]
            exempt = "is not in the rule's audience, or has no account here" if detail.verdict == EXEMPT else ""
            said.append(
                RuleExplanation(
                    rule=rule,
                    service=service.id,
                    verdict=detail.verdict,
                    detail=None if exempt else detail,
                    exempt=exempt,
                )
            )
    return ExplainedValue(replace(found, steps=tuple(steps)), tuple(said))


def _overridden(setting: StepSetting) -> StepSetting:
    return replace(setting, state=OVERRIDDEN) if setting.state == STANDS else setting


@record
class Overview:
    """One person at a glance.

    What the rules that are not met say, what they get, their facts (each as text; None: not known), from which
    resources they are shut out (locked out, or stranded), and their bootstrap passes.
    """

    said: tuple[RuleExplanation, ...]
    met: int
    values: tuple[ResolvedValue, ...]
    facts: tuple[tuple[str, str | None], ...]
    locked_out: tuple[str, ...]
    stranded: tuple[str, ...]
    passes: tuple[PassDetails, ...]


def overview(checker: Checker, person: int) -> Overview:
    """Describe one active person at a glance."""
    said, met, asked = list[RuleExplanation](), 0, set[tuple[str, str]]()
    alone = checker.alone(person)
    for rule in checker.baseline.rules:
        if rule.subject != "people":
            continue
        for one in verdicts_of(alone, rule, 0):
            if one.verdict in (MEETS, EXEMPT):
                met += one.verdict == MEETS
            else:
                said.append(one)
            if one.verdict != EXEMPT and one.service is not None:
                asked.update((one.service, control) for control in rule.controls)
    said.sort(key=lambda each: (each.verdict, SEVERITIES.index(each.rule.severity), each.rule.id, each.service or ""))
    snapshot = checker.snapshot
    locked = lockouts(checker.gatekeeper)
    name = snapshot.people.ids.take(np.array([person]))[0]
    attributes = sorted(snapshot.people.attributes)
    return Overview(
        said=tuple(said),
        met=met,
        values=tuple(_gets(alone, 0, asked)),
        facts=tuple((fact_name, fact_of(fact_name, snapshot, person)) for fact_name in (*FACTS, *attributes)),
        locked_out=tuple(sorted({each.resource for each in locked.found if name in each.people})),
        stranded=tuple(each.resource for each in locked.stranded if person in each.people),
        passes=tuple(snapshot.passes.of(person)) if snapshot.passes is not None else (),
    )


def _gets(checker: Checker, person: int, asked: set[tuple[str, str]]) -> Iterator[ResolvedValue]:
    services = {service.id: service for service in checker.snapshot.services or ()}
    for name, control in sorted(asked):
        if control not in services[name].controls:
            continue
        effective = checker.resolver.effective(services[name], control)
        known = effective.licence_of(person) not in ("unavailable", "unknown")
        cause = effective.cause(int(effective.places[person]))
        yield ResolvedValue(name, control, cause if known and cause.scope is not None else None)


def say(checker: Checker, rule: Rule, service: Service | None, person: int) -> RuleExplanation:
    """Return what a rule says of one active person."""
    verdicts = checker.judge(rule, service)
    verdict = int(verdicts.verdict[person])
    name = service.id if service is not None else None
    if verdict == EXEMPT:
        values = (
            () if service is None else tuple(_gets(checker, person, {(service.id, each) for each in rule.controls}))
        )
        facts = tuple(
            (leaf.name, fact_of(leaf.name, checker.snapshot, person)) for leaf in rule.leaves if leaf.about == "person"
        )
        return RuleExplanation(
            rule=rule,
            service=name,
            verdict=verdict,
            detail=None,
            exempt=_why_exempt(checker, rule, service, person),
            values=values,
            facts=facts,
        )
    details, _ = checker.details(service, verdicts, np.array([person], np.int64))
    return RuleExplanation(rule, name, verdict, details[0])


def _why_exempt(checker: Checker, rule: Rule, service: Service | None, person: int) -> str:
    if service is not None and not checker.resolver.accounts(service)[person]:
        return f"has no account on {service.id}"
    exempted = checker.scopes.exempted(rule)[0]
    if rule.exempted is not None and exempted is not None and exempted[person]:
        return f"is excepted by the rule itself ({rule.exempted.text})"
    return f"is not in the rule's audience ({rule.audience.text})"


def verdicts_of(checker: Checker, rule: Rule, person: int) -> list[RuleExplanation]:
    """Return what a rule says of one active person, on each service that it is judged on."""
    return [say(checker, rule, service, person) for service in services_of(rule, checker.snapshot.services)]
