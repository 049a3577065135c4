"""Explaining one person's value or verdict: the whole walk, and what every rule that looks at it says."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .check import Checker
from .condition import EXEMPT
from .leaf import observed
from .model import LEVELS, NO_RANK, NO_TIME, ORGANISATION, PERSON, UNIT, Service, Snapshot
from .record import record
from .resolve import EVERYBODY, LICENCE, Effective
from .result import Tail
from .rules import Rule

OVERRIDDEN, BEATEN, STANDS, AFTER_PIN = "overridden", "beaten", "stands", "after-pin"


@record
class StepSetting:
    """One setting on the walk. `state`: `stands` (it causes the value), `overridden` (by a narrower step), `beaten` (at its
    own step), `after-pin` (never reached). `rank` is None where it is blank."""

    scope: str
    value: str
    pinned: bool
    rank: int | None
    changed: int | None
    row: int
    young: bool
    state: str


@record
class Step:
    """One step of the walk: its name (`factory`, `organisation`, `unit:/Fleet`, `group`, `person`, `licence`) and its settings,
    the winner first. `gap` says which data the snapshot lacks for it."""

    name: str
    settings: tuple[StepSetting, ...]
    gap: str = ""
    ends: bool = False


@record
class Said:
    """What one rule says of a person on a service. `exempt` gives the reason where the rule does not apply."""

    rule: Rule
    service: str | None
    verdict: int
    tail: Tail | None
    exempt: str = ""


@record
class ContradictionSeen:
    """Another control of the person whose value cannot work with this one, and where that is set."""

    control: str
    value: str
    scope: str
    because: str


@record
class Walk:
    """How one person's value for a control on a service comes about."""

    service: Service
    control: str
    supported: bool
    account: bool
    value: str | None
    scope: str | None
    pinned: bool
    changeable: bool
    young: bool
    contested: tuple[tuple[str, str], ...]
    licence: str
    steps: tuple[Step, ...]
    seen: tuple[str, ...]
    rules: tuple[Said, ...] = ()
    contradictions: tuple[ContradictionSeen, ...] = ()


def walk(checker: Checker, service: Service, control: str, person: int, rules: bool = True) -> Walk:
    """The walk of one active person's value, from factory to person."""
    effective = checker.effective(service, control)
    place = int(effective.places[person])
    cause = effective.cause(place)
    licence = _licence(effective, person)
    known = licence not in ("unavailable", "unknown")
    rivals = effective.rivals(person, place)
    values = {effective.value(each) for each in rivals}
    seen = observed(checker.snapshot, service.id, control)
    mine = np.flatnonzero(seen.people == person) if seen is not None else np.empty(0, np.int64)
    said = (
        tuple(
            sorted(
                {seen.words[value] for value in seen.values[seen.starts[mine[0]] : seen.starts[mine[0] + 1]].tolist()}
            )
        )
        if seen is not None and len(mine)
        else ()
    )
    return Walk(
        service,
        control,
        control in service.controls,
        bool(checker.scopes.accounts(service)[person]),
        cause.value if known else None,
        cause.scope if known else None,
        cause.pinned,
        not cause.pinned and (service.self_service is None or control in service.self_service),
        bool(effective.young[place]),
        tuple((effective.cause(each).scope or "", effective.value(each) or "") for each in rivals)
        if len(values) > 1
        else (),
        licence,
        _steps(effective, checker.snapshot, person, place),
        said,
        tuple(_rules(checker, service, control, person)) if rules else (),
        tuple(_contradictions(checker, service, control, cause.value, person)) if known else (),
    )


def _licence(effective: Effective, person: int) -> str:
    """What the licence says: "" (none needed), `held`, `without`, `unavailable` or `unknown`."""
    need = effective.service.needs.get(effective.control)
    if need is None:
        return ""
    if effective.lacking is None:
        return "unknown"
    if not effective.lacking[person]:
        return "held"
    return "unavailable" if need.without is None else "without"


def _steps(effective: Effective, snapshot: Snapshot, person: int, place: int) -> tuple[Step, ...]:
    covering = effective.covering(person)
    steps = [_factory(effective, place)]
    ended = False
    for kind_name in effective.service.precedence:
        kind = LEVELS.index(kind_name)
        here = [each for each in covering if effective.kinds[each] == kind]
        if any(effective.targets[each] == EVERYBODY for each in here):
            gap = {UNIT: "the people table has no column unit"}.get(kind, "there is no members table")
            pinned = any(effective.pinned[each] for each in here)
            steps.append(Step(kind_name, (), gap, pinned and not ended))
            ended |= pinned
            continue
        for name, places in _named_steps(kind, here, effective, snapshot, person):
            best_first = places[::-1]
            ends = not ended and bool(best_first) and bool(effective.pinned[best_first[0]])
            steps.append(
                Step(
                    name,
                    tuple(_setting(effective, each, _state(each, best_first, place, ended)) for each in best_first),
                    "",
                    ends,
                )
            )
            ended |= ends
    if effective.kinds[place] == LICENCE:
        steps.append(Step("licence", (_setting(effective, place, STANDS),)))
    return tuple(steps)


def _factory(effective: Effective, place: int) -> Step:
    if effective.value(0) is None:
        return Step("factory", (), "no factory value is known")
    return Step("factory", (_setting(effective, 0, STANDS if place == 0 else OVERRIDDEN),))


def _named_steps(
    kind: int, here: list[int], effective: Effective, snapshot: Snapshot, person: int
) -> list[tuple[str, list[int]]]:
    if kind == UNIT and snapshot.units is not None:
        paths = snapshot.units.path_of(person)
        index = snapshot.units.index
        return [(f"unit:{path}", [each for each in here if effective.targets[each] == index[path]]) for path in paths]
    return [({ORGANISATION: "organisation", PERSON: "person"}.get(kind, "group"), here)]


def _state(each: int, best_first: Sequence[int], place: int, ended: bool) -> str:
    if each == place:
        return STANDS
    if ended:
        return AFTER_PIN
    return OVERRIDDEN if each == best_first[0] else BEATEN


def _setting(effective: Effective, place: int, state: str) -> StepSetting:
    cause = effective.cause(place)
    rank = int(effective.ranks[place])
    return StepSetting(
        cause.scope or "",
        cause.value or "",
        cause.pinned,
        None if rank == NO_RANK else rank,
        None if cause.changed == NO_TIME else cause.changed,
        cause.row,
        bool(effective.young[place]),
        state,
    )


def _rules(checker: Checker, service: Service, control: str, person: int) -> list[Said]:
    return [
        said
        for rule in checker.baseline.rules
        if rule.subject == "people"
        and control in rule.controls
        and control in service.controls
        and (rule.services is None or service.id in rule.services)
        for said in [say(checker, rule, service, person)]
    ]


def say(checker: Checker, rule: Rule, service: Service | None, person: int) -> Said:
    """What a rule says of one active person."""
    verdicts = checker.judge(rule, service)
    verdict = int(verdicts.verdict[person])
    name = service.id if service is not None else None
    if verdict == EXEMPT:
        return Said(rule, name, verdict, None, _why_exempt(checker, rule, service, person))
    tails, _ = checker.tails(rule, service, verdicts, np.array([person], np.int64))
    return Said(rule, name, verdict, tails[0])


def _why_exempt(checker: Checker, rule: Rule, service: Service | None, person: int) -> str:
    if service is not None and not checker.scopes.accounts(service)[person]:
        return f"has no account on {service.id}"
    if rule.exempted is not None:
        mask = checker.scopes.mask(rule.exempted, f"the key except of rule {rule.id}", "it covers nobody")
        if mask is not None and mask[person]:
            return f"is excepted by the rule itself ({rule.exempted.text})"
    return f"is not in the rule's audience ({rule.audience.text})"


def verdicts_of(checker: Checker, rule: Rule, person: int) -> list[Said]:
    """What a rule says of one active person, on each service that it is judged on."""
    services = checker.snapshot.services
    if not rule.controls or services is None:
        return [say(checker, rule, None, person)]
    return [
        say(checker, rule, service, person)
        for service in services
        if (rule.services is None or service.id in rule.services) and rule.controls & service.controls
    ]


def _contradictions(
    checker: Checker, service: Service, control: str, value: str | None, person: int
) -> list[ContradictionSeen]:
    found = []
    for each in checker.snapshot.catalogue.contradictions:
        for (mine, mine_values), (other, other_values) in ((each.first, each.second), (each.second, each.first)):
            if mine != control or value not in mine_values or other not in service.controls:
                continue
            effective = checker.effective(service, other)
            cause = effective.cause(int(effective.places[person]))
            if cause.value in other_values and _licence(effective, person) not in ("unavailable", "unknown"):
                found.append(ContradictionSeen(other, cause.value or "", cause.scope or "", each.because))
    return found
