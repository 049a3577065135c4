"""Mending of rules about doors and planned meetings: every plan is judged anew, and none that is drawn is better."""

from __future__ import annotations

import json
import tempfile
import time
from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path
from random import Random
from typing import Any

import numpy as np

from tests.compared import many
from tests.core.test_doors_against_reference import random_doors, write
from tests.core.test_trial import Plain, _spot
from usher_gate.core.door.agenda import TURNED_AWAY
from usher_gate.core.mend.candidates import CandidateEdits
from usher_gate.core.mend.components import components
from usher_gate.core.mend.constraints import MendingConstraints
from usher_gate.core.mend.mending import MendingRequest, mend
from usher_gate.core.organisation.services import Service
from usher_gate.core.organisation.settings import MEETING
from usher_gate.core.settings.clashes import clashes
from usher_gate.core.settings.edited import NewValue, SettingTarget
from usher_gate.core.verdicts.checker import Checker
from usher_gate.core.verdicts.codes import DRIFTS, EXCEPTED, LOOSE, MEETS, SETTLING, UNAVAILABLE, UNKNOWN
from usher_gate.core.verdicts.others import judge_organisation
from usher_gate.core.verdicts.outcome import VerdictDetail
from usher_gate.core.verdicts.planned import judge_meetings
from usher_gate.core.verdicts.rules import AgreedException, Baseline, Rule
from usher_gate.core.verdicts.scope import services_of
from usher_gate.core.verdicts.trial import Remembered
from usher_gate.files.snapshot.folder import ReadSnapshot, read_snapshot
from usher_gate.files.written.baseline import read_baseline
from usher_gate.files.written.exceptions import read_exceptions

Subject = tuple[str, str]
Where = tuple[str, str, Subject]  # service, control, person or meeting
COUNTS = Counter[str]()


class Said:
    """All that a checker says: every verdict, every value, who is turned away, what contradicts."""

    def __init__(self, checker: Checker) -> None:
        self.checker, snapshot = checker, checker.snapshot
        self.ids = snapshot.people.ids.take(np.arange(len(snapshot.people)))
        self.verdicts: dict[tuple[str, str, Subject], tuple[int, int, VerdictDetail]] = {}
        for rule in checker.baseline.rules:
            for service in services_of(rule, snapshot.services):
                if service is not None:
                    self.verdicts |= {(rule.id, service.id, one[0]): one[1:] for one in self._of(rule, service)}
        self.values = dict(self._values())
        self.turned = {
            (name, int(planned.invited.meeting[at]), int(planned.invited.address[at]))
            for name, planned in checker.agenda.services.items()
            for at in np.flatnonzero(planned.met[0] == TURNED_AWAY)
        }
        found, _ = clashes(checker.resolver, np.ones(len(self.ids), bool), None)
        self.clashing = {
            (each.service, each.first[0], each.second[0], one) for each in found for one in each.people.tolist()
        }

    def _of(self, rule: Rule, service: Service) -> Iterator[tuple[Subject, int, int, VerdictDetail]]:
        if rule.subject == "people":
            verdicts, everybody = self.checker.judge(rule, service), np.arange(len(self.ids))
            details, which = self.checker.details(service, verdicts, everybody)
            for name, final, would, at in zip(
                self.ids, verdicts.verdict.tolist(), verdicts.would_be.tolist(), which.tolist(), strict=True
            ):
                yield ("person", name), final, would, details[at]
        elif rule.subject in ("meetings", "organisation"):
            planned = rule.subject == "meetings"
            judged = (
                judge_meetings(rule, service, self.checker)
                if planned
                else judge_organisation(rule, service, self.checker.resolver)
            )
            for subject, detail in judged.found:
                yield subject, detail.verdict, detail.verdict if detail.would_be is None else detail.would_be, detail

    def _values(self) -> Iterator[tuple[Where, str | None]]:
        resolver = self.checker.resolver
        for service in self.checker.snapshot.services or ():
            for control in sorted(service.controls):
                effective, has = resolver.effective(service, control), resolver.accounts(service)
                if effective.licence_unknown:
                    continue
                lacking = effective.lacking if effective.unlicensed and effective.lacking is not None else ~has
                for number in np.flatnonzero(has & ~lacking).tolist():
                    yield (
                        (service.id, control, ("person", self.ids[number])),
                        effective.values[int(effective.places[number])],
                    )
                planned = self.checker.agenda.services.get(service.id)
                for number, name in enumerate(planned.ids if planned is not None else ()):
                    assert planned is not None
                    yield (service.id, control, ("meeting", name)), planned.value(control, number)[0]

    def organiser(self, service: str, meeting: str) -> str:
        planned = self.checker.agenda.services[service]
        return self.ids[int(planned.organiser[list(planned.ids).index(meeting)])]


def rooted(verdict: int, detail: VerdictDetail) -> bool:
    root = detail.root
    return (
        verdict == DRIFTS
        and detail.reason in ("fails", "open-door")
        and root is not None
        and root.service is not None
        and root.scope not in (None, "licence")
    )


class Weighing:
    """Weighs plans, each by judging everything again."""

    def __init__(self, base: Remembered, hold: bool) -> None:
        self.base, self.hold, self.before = base, hold, Said(base)
        self.rules = {rule.id: rule for rule in base.baseline.rules}
        self.services = {service.id: service for service in base.snapshot.services or ()}
        self.need: set[tuple[str, str, str]] = set()  # service, control, person
        self.kept: set[Where] = set()
        for (rule, service, subject), (final, _, detail) in self.before.verdicts.items():
            for control in self._controls(rule, service):
                if rooted(final, detail) or (hold and final == LOOSE):
                    whose = (
                        subject[1]
                        if subject[0] == "person"
                        else self.before.organiser(service, subject[1])
                        if subject[0] == "meeting"
                        else ""
                    )
                    self.need.add((service, control, whose))
                if final == EXCEPTED or self._left_out(rule, service, subject):
                    self.kept.add((service, control, subject))

    def _controls(self, rule: str, service: str) -> list[str]:
        return [
            control
            for control in self.services[service].controls
            if self.rules[rule].looks_at(control, self.services[service])
        ]

    def _left_out(self, rule: str, service: str, subject: Subject) -> bool:
        out = self.base.scopes.of(self.rules[rule], self.services[service]).left_out
        if out is None or subject[0] not in ("person", "meeting"):
            return False
        whose = subject[1] if subject[0] == "person" else self.before.organiser(service, subject[1])
        return bool(out[self.before.ids.index(whose)])

    def weigh(self, plan: Mapping[SettingTarget, NewValue]) -> tuple[str, int, int, int]:
        """What is wrong with a plan, what is left, and how many values it changes: without need, and all."""
        after = Said(Plain(self.base, dict(plan)))
        wrong, left = "", 0
        for key, (final, would, detail) in self.before.verdicts.items():
            then, then_would, then_tail = after.verdicts[key]
            if min(then_would, MEETS) < min(would, MEETS):
                wrong = wrong or f"{key} gets worse"
            stuck = then in (UNKNOWN, UNAVAILABLE) or then_tail.reason in ("observed", "not-applied")
            mine = rooted(final, detail)
            is_left = rooted(then, then_tail) or (mine and stuck)
            if self.hold:
                is_left |= then == LOOSE or ((mine or final == LOOSE) and (then == SETTLING or stuck))
            left += is_left
        touched = set[tuple[str, str, str]]()
        at_meetings = {
            (edit_target.service, edit_target.control) for edit_target in plan if edit_target.kind == MEETING
        }
        for where, was in self.before.values.items():
            (service, control, subject), now = where, after.values[where]
            if was == now:
                continue
            whose = subject[1] if subject[0] == "person" else self.before.organiser(service, subject[1])
            if subject[0] == "person" or (service, control) in at_meetings:
                touched.add((service, control, whose))
            kind = self.base.snapshot.catalogue.index[control].kind
            weaker = was is not None and (now is None or kind.strictness(now) < kind.strictness(was))
            if where in self.kept:
                wrong = wrong or f"{where} is to stay"
            if weaker and (service, control, whose) not in self.need:
                wrong = wrong or f"{where} gets weaker"
        if after.clashing - self.before.clashing:
            wrong = wrong or "contradicts"
        if after.turned - self.before.turned:
            wrong = wrong or "turns away"
        return wrong, left, len(touched - self.need), len(touched)


def _drawn(seed: int) -> tuple[Random, ReadSnapshot, Baseline, tuple[AgreedException, ...]] | None:
    """An organisation, read from its files; half of them cannot pin, and some agreed on an exception."""
    rnd = Random(seed)
    org, meetings = random_doors(rnd)
    if rnd.random() < 0.5:
        org.setting_columns.discard("pinned")
    agreed = []
    if org.rules and rnd.random() < 0.4:
        what = {"id": "X1", "rules": [rnd.choice(org.rules)["id"]], "who": {"kind": rnd.choice(("member", "guest"))}}
        agreed = [what | {"reason": "trial", "approved_by": "captain", "until": "2026-12-24"}]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write(org, meetings, folder, rnd)
        (folder / "exceptions.yaml").write_text(json.dumps({"usher-gate": "exceptions/1", "exceptions": agreed}))
        read = read_snapshot(folder / "snapshot", keep_tables=True)
        baseline, _ = read_baseline(folder / "baseline.yaml", read.snapshot.catalogue, read.snapshot)
        exceptions, _ = read_exceptions(folder / "exceptions.yaml", baseline, read.snapshot)
    if (
        not len(read.snapshot.people)
        or not read.snapshot.services
        or not baseline.rules
        or read.snapshot.settings is None
    ):
        return None
    return rnd, read, baseline, tuple(exceptions)


def _compare(seed: int) -> None:
    drawn = _drawn(seed)
    if drawn is None:
        return
    rnd, read, baseline, exceptions = drawn
    snapshot, hold = read.snapshot, rnd.random() < 0.3
    terms = MendingConstraints(lambda *_: True, np.ones(len(snapshot.people), bool), hold)
    mending = mend(snapshot, read.tables, MendingRequest(baseline, exceptions, terms), time.monotonic, 5)
    base = Remembered(snapshot, baseline, exceptions)
    weighing = Weighing(base, hold)
    plan = {edit_target: given for part in mending.parts for edit_target, given in part.found.weighed.plan.items()}
    mine = weighing.weigh(plan)
    assert mine == ("", mending.left, mending.without, mending.touched)
    COUNTS["edits"] += len(plan)
    if not mending.mendable or mending.gap:
        return
    values: dict[tuple[str, str], Any] = {}
    for judging in components(base, terms):
        offers = CandidateEdits(judging)
        values |= {(judging.service.id, control): offers.values(control) for control in judging.controls}
    planned = [name for each in base.agenda.services.values() for name in each.ids]
    for _ in range(40):
        drawn_edits = (_spot(snapshot, planned, rnd) for _ in range(rnd.choice((1, 1, 2))))
        other = {
            edit_target: NewValue(given.value, given.pinned and snapshot.says_pinned and given.value is not None)
            for edit_target, given in drawn_edits
        }
        known = (values.get((edit_target.service, edit_target.control), ()) for edit_target in other)
        if any(
            given.value is not None and given.value not in some
            for given, some in zip(other.values(), known, strict=True)
        ):
            continue
        wrong, left, without, touched = weighing.weigh(other)
        if wrong:
            continue
        COUNTS["compared"] += 1
        assert (mine[1], len(plan), mine[2], mine[3]) <= (left, len(other), without, touched), (plan, other)


DENSE = (
    0,
    9,
    14,
    19,
    22,
    24,
    25,
    27,
    39,
    48,
    52,
    58,
    59,
    64,
    75,
    96,
    98,
    99,
    102,
    110,
)  # where there is something to mend


def test_no_plan_at_doors_and_meetings_is_better() -> None:
    for seed in (*DENSE, *range(1000, 1000 + many(len(DENSE)) - len(DENSE))):
        _compare(seed)
    assert COUNTS["edits"] >= 20 and COUNTS["compared"] >= 250
