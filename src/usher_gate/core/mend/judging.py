"""What a plan would do to everyone, judged again from the leaves up.

What is left, what gets worse, whose values change.

Spec: mending 3 and 4.1.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ..door.agenda import TURNED_AWAY, PlannedOn
from ..organisation.columns import Bools, Ints, Longs, distinct
from ..organisation.services import Service
from ..organisation.settings import MEETING
from ..settings.clashes import having
from ..settings.effective import Effective, members_at
from ..verdicts.checker import Checker
from ..verdicts.codes import DRIFTS, EXCEPTED, LOOSE, MEETS, SETTLING, UNAVAILABLE, UNKNOWN, VerdictCodes
from ..verdicts.others import judge_organisation
from ..verdicts.outcome import VerdictDetail
from ..verdicts.planned import judge_meetings
from ..verdicts.rules import DOOR_CONTROLS_AND_LISTS, Rule
from ..verdicts.trial import Remembered, Trial
from ..words.record import record
from .constraints import MendingConstraints, Plan

WORSE, WEAKER, EXCEPTION, CONTRADICTION, INVITEE = "worse", "weaker", "exception", "contradiction", "invitee"
_SEEN = ("observed", "not-applied")


@record
class RuleVerdicts:
    """Describes what a rule says of its subjects on a service: verdicts with and without exceptions.

    Which drift by a setting or a service default (`rooted`), and which because of what was seen.
    """

    verdict: VerdictCodes
    would_be: VerdictCodes
    rooted: Bools
    seen: Bools


@record
class Objection:
    """Describes what speaks against a plan.

    Of which kind, whose (`people`, or `meetings` by number), and by which rule, control or pair.
    """

    kind: str
    people: Longs
    meetings: Longs
    what: str
    rule: str = ""


@dataclass
class PlanScore:
    """A plan weighed.

    `left` verdicts are not mended, `touched` (person, service, control) get another value, `without` of them had
    nothing to mend there; `reach` is how many people its places reach. A plan with anything `against` it is none.
    """

    plan: Plan
    left: int
    touched: int
    without: int
    reach: int
    against: list[Objection]
    open_people: dict[str, Bools] = field(default_factory=dict)  # whose verdict of a rule is left
    open_meetings: dict[str, Bools] = field(default_factory=dict)
    open_organisation: dict[str, bool] = field(default_factory=dict)
    touched_people: Mapping[str, Bools] = field(default_factory=dict)
    trial: Trial | None = None

    @property
    def order(self) -> tuple[int, int, int, int, int]:
        """Return how good the plan is: the smaller, the better."""
        return self.left, len(self.plan), self.without, self.touched, self.reach


class Judging:
    """Weighs plans about some controls of one service. `rules` are those that look at them."""

    def __init__(
        self,
        base: Remembered,
        service: Service,
        controls: Sequence[str],
        rules: Sequence[Rule],
        terms: MendingConstraints,
    ) -> None:
        self.base, self.service, self.controls, self.rules, self.terms = base, service, tuple(controls), rules, terms
        self.size = len(base.snapshot.people)
        self._codes: dict[str, dict[str | None, int]] = {control: {None: -1} for control in controls}
        self.weighings = 0

    # as things are

    @cached_property
    def planned(self) -> PlannedOn | None:
        """Return the planned meetings on the service."""
        return self.base.agenda.services.get(self.service.id) if self.base.snapshot.meetings is not None else None

    @cached_property
    def now(self) -> Mapping[str, RuleVerdicts]:
        """Return what each rule says as things are, by rule."""
        return {rule.id: self.said(rule, self.base) for rule in self.rules}

    def said(self, rule: Rule, checker: Checker) -> RuleVerdicts:
        """Return what a rule says of its subjects: people, the organisation (one), or planned meetings."""
        if rule.subject == "people":
            verdicts = checker.judge(rule, self.service)
            rooted, seen = np.zeros(self.size, bool), np.zeros(self.size, bool)
            drifting = np.flatnonzero(verdicts.verdict == DRIFTS)
            if len(drifting):
                details, which = checker.details(self.service, verdicts, drifting)
                rooted[drifting] = np.array([mendable(detail) for detail in details])[which]
                seen[drifting] = np.array([detail.reason in _SEEN for detail in details])[which]
            return RuleVerdicts(verdicts.verdict, verdicts.would_be, rooted, seen)
        if rule.subject == "organisation":
            other_tails = [detail for _, detail in judge_organisation(rule, self.service, checker.resolver).found]
        else:
            other_tails = [detail for _, detail in judge_meetings(rule, self.service, checker).found]
        return RuleVerdicts(
            np.array([detail.verdict for detail in other_tails], np.uint8),
            np.array(
                [detail.verdict if detail.would_be is None else detail.would_be for detail in other_tails], np.uint8
            ),
            np.array([detail.verdict == DRIFTS and mendable(detail) for detail in other_tails], bool),
            np.array([detail.reason in _SEEN for detail in other_tails], bool),
        )

    def asked(self, rule: Rule) -> Bools:
        """Return mask of the subjects of a rule whose verdict is to be mended, if it drifts by a setting."""
        size = len(self.now[rule.id].verdict)
        if not self.terms.keeps(rule, self.service.id):
            return np.zeros(size, bool)
        if rule.subject == "people":
            return self.terms.chosen
        if rule.subject == "meetings":
            assert self.planned is not None or not size
            return self.terms.chosen[self.planned.organiser] if self.planned is not None else np.zeros(0, bool)
        return np.full(size, bool(np.all(self.terms.chosen)))

    def to_mend(self, rule: Rule) -> Bools:
        """Return the subjects of a rule whose verdict is to be mended, as things are."""
        said = self.now[rule.id]
        wanted = said.rooted | (said.verdict == LOOSE) if self.terms.hold else said.rooted
        found: Bools = wanted & self.asked(rule)
        return found

    def controls_of(self, rule: Rule) -> frozenset[str]:
        """Return the controls that a rule looks at here."""
        return frozenset(control for control in self.controls if rule.looks_at(control, self.service))

    @cached_property
    def need(self) -> Mapping[str, Bools]:
        """By control, the people who have something to mend there; what is to mend at a meeting is its organiser's."""
        found = {control: np.zeros(self.size, bool) for control in self.controls}
        for rule in self.rules:
            if rule.subject == "organisation":
                continue
            mask = self.to_mend(rule)
            if rule.subject == "meetings":
                if self.planned is None:
                    continue
                mine = np.zeros(self.size, bool)
                mine[self.planned.organiser[mask]] = True
                mask = mine
            for control in self.controls_of(rule):
                found[control] |= mask
        return found

    @cached_property
    def frozen(self) -> Mapping[str, Bools]:
        """By control, the people whose value is to stay.

        An exception depends on it, or a rule about it leaves them out.
        """
        return self._kept("people", self.size)

    @cached_property
    def frozen_meetings(self) -> Mapping[str, Bools]:
        """By control, the meetings whose value is to stay.

        An exception depends on it, or a rule about it leaves their organiser out.
        """
        return self._kept("meetings", 0 if self.planned is None else len(self.planned))

    def _kept(self, subject: str, size: int) -> dict[str, Bools]:
        found = {control: np.zeros(size, bool) for control in self.controls}
        if not self.terms.through_exceptions and size:
            for rule in self.rules:
                if rule.subject == subject:
                    kept = (self.now[rule.id].verdict == EXCEPTED) | self.left_out(rule)
                    for control in self.controls_of(rule):
                        found[control] |= kept
        return found

    def left_out(self, rule: Rule) -> Bools:
        """Return which subjects of a rule, people or meetings, its `except` leaves out."""
        people = self.base.scopes.of(rule, self.service).left_out
        if people is None:
            return np.zeros(len(self.now[rule.id].verdict), bool)
        return people[self.planned.organiser] if rule.subject == "meetings" and self.planned is not None else people

    @cached_property
    def there(self) -> Mapping[str, Bools]:
        """By control, the people who have a value: with an account, and the licence that is needed."""
        found = {}
        for control in self.controls:
            effective = self.base.resolver.effective(self.service, control)
            mask = self.base.resolver.accounts(self.service).copy()
            if effective.licence_unknown:
                mask[:] = False
            elif effective.unlicensed and effective.lacking is not None:
                mask &= ~effective.lacking
            found[control] = mask
        return found

    # values

    def code(self, control: str, value: str | None) -> int:
        """Return a number for each value of a control."""
        return self._codes[control].setdefault(value, len(self._codes[control]) - 1)

    def values(self, control: str, effective: Effective) -> Longs:
        """Return the value of everyone, by number; -1 where it is not known."""
        table = np.array([self.code(control, value) for value in effective.values], np.int64)
        found: Longs = table[effective.places]
        return found

    @cached_property
    def values_now(self) -> Mapping[str, Longs]:
        """Return the value of everyone as things are, by control."""
        return {
            control: self.values(control, self.base.resolver.effective(self.service, control))
            for control in self.controls
        }

    def strictness(self, control: str) -> Longs:
        """Return the strictness of each numbered value (int64).

        Its index in their order, all equal for a kind without an order.

        The last entry is that of an unknown value, weaker than all.
        """
        kind = self.base.snapshot.catalogue.index[control].kind
        known = {number: value for value, number in self._codes[control].items() if value is not None}
        degrees = [kind.strictness(known[number]) for number in range(len(known))]
        order = {degree: place for place, degree in enumerate(sorted(set(degrees)))}
        return np.array([*(order[degree] for degree in degrees), -1], np.int64)

    def meeting_values(self, control: str, planned: PlannedOn, numbers: Sequence[int]) -> Longs:
        """Return the value of some meetings, by number."""
        return np.array([self.code(control, planned.value(control, number)[0]) for number in numbers], np.int64)

    # weighing

    def weigh(self, plan: Plan) -> PlanScore:
        """Return what a plan would do."""
        found = self.weigh_if(plan, None)
        assert found is not None
        return found

    def weigh_if(self, plan: Plan, most_left: int | None) -> PlanScore | None:
        """Return what a plan would do.

        With `most_left` given, None as soon as something is against it or more verdicts than so many are left.
        """
        trial = Trial(self.base, plan)
        weighed = PlanScore(plan=plan, left=0, touched=0, without=0, reach=self.reach(plan), against=[], trial=trial)
        for _ in self._steps(plan, trial, weighed, self._quick_first if most_left is None else self._to_mend_first):
            if most_left is not None and (weighed.against or weighed.left > most_left):
                return None
        return weighed

    def _steps(self, plan: Plan, trial: Trial, weighed: PlanScore, rules: Sequence[Rule]) -> Iterator[None]:
        """Weighs a plan in steps, by the rules in their order."""
        self.weighings += 1
        edited = sorted({edit_target.control for edit_target in plan})
        changed = {control: self._changed(control, trial, weighed) for control in edited}
        yield
        for rule in rules:
            self._verdicts(rule, trial, weighed)
            yield
        self._contradictions(trial, edited, weighed)
        self._at_meetings(plan, trial, weighed, changed)
        yield
        weighed.touched_people = changed
        for control, mask in changed.items():
            weighed.touched += int(np.count_nonzero(mask))
            weighed.without += int(np.count_nonzero(mask & ~self.need[control]))
        if not self.terms.turn_away:
            self._invitees(trial, edited, weighed)
        yield

    @cached_property
    def _quick_first(self) -> list[Rule]:
        """Return the rules, those first that are judged quickly."""

        def slow(rule: Rule) -> tuple[bool, bool]:
            return any(leaf.about == "door" for leaf in rule.leaves), rule.subject == "meetings"

        return sorted(self.rules, key=slow)

    @cached_property
    def _to_mend_first(self) -> list[Rule]:
        """Return the rules, those first of which a plan that mends too little leaves something."""
        return sorted(self._quick_first, key=lambda rule: not np.any(self.to_mend(rule)))

    def _verdicts(self, rule: Rule, trial: Trial, weighed: PlanScore) -> None:
        before, after = self.now[rule.id], self.said(rule, trial)
        left = self.left_of(rule, after)
        weighed.left += int(np.count_nonzero(left))
        worse = np.flatnonzero(np.minimum(after.would_be, MEETS) < np.minimum(before.would_be, MEETS))
        none = np.empty(0, np.int64)
        if rule.subject == "people":
            weighed.open_people[rule.id] = left
        elif rule.subject == "meetings":
            weighed.open_meetings[rule.id] = left
        else:
            weighed.open_organisation[rule.id] = bool(np.any(left))
        if len(worse):
            people, meetings = (worse, none) if rule.subject == "people" else (none, worse)
            weighed.against.append(Objection(kind=WORSE, people=people, meetings=meetings, what="", rule=rule.id))

    def left_of(self, rule: Rule, after: RuleVerdicts) -> Bools:
        """Return which of a rule's subjects have a verdict that is not mended, by what the rule says afterwards."""
        before = self.now[rule.id]
        stuck = (after.verdict == UNKNOWN) | (after.verdict == UNAVAILABLE) | after.seen
        left = after.rooted | (before.rooted & stuck)
        if self.terms.hold:
            held = before.rooted | (before.verdict == LOOSE)
            left = left | (after.verdict == LOOSE) | (held & ((after.verdict == SETTLING) | stuck))
        found: Bools = left & self.asked(rule)
        return found

    def apart(self, one: PlanScore, other: PlanScore, control: str) -> Bools:
        """Return whose value of a control is another under the one plan than under the other."""
        assert one.trial is not None and other.trial is not None
        values = [
            self.values(control, weighed.trial.resolver.effective(self.service, control))
            for weighed in (one, other)
            if weighed.trial is not None
        ]
        found: Bools = (values[0] != values[1]) & self.there[control]
        return found

    def _changed(self, control: str, trial: Trial, weighed: PlanScore) -> Bools:
        """Return whose value of a control is another; and what speaks against that."""
        before = self.values_now[control]
        after = self.values(control, trial.resolver.effective(self.service, control))
        changed: Bools = (before != after) & self.there[control]
        none = np.empty(0, np.int64)
        frozen = np.flatnonzero(changed & self.frozen[control])
        if len(frozen):
            weighed.against.append(Objection(EXCEPTION, frozen, none, control))
        if not self.terms.weaken:
            strict = self.strictness(control)
            weaker = np.flatnonzero(changed & (strict[after] < strict[before]) & ~self.need[control])
            if len(weaker):
                weighed.against.append(Objection(WEAKER, weaker, none, control))
        return changed

    def _at_meetings(self, plan: Plan, trial: Trial, weighed: PlanScore, changed: Mapping[str, Bools]) -> None:
        """Meetings whose value is another: counted as their organiser's where an edit is at a meeting."""
        planned, after = self.planned, trial.agenda.services.get(self.service.id) if self.planned is not None else None
        if planned is None or after is None:
            return
        none = np.empty(0, np.int64)
        for control in changed:
            own = {
                edit_target.scope
                for edit_target in plan
                if edit_target.control == control and edit_target.kind == MEETING
            }
            numbers = np.arange(len(planned)).tolist() if own or np.any(self.frozen_meetings[control]) else []
            if not self.terms.weaken:
                numbers = np.arange(len(planned)).tolist()
            was, then = (self.meeting_values(control, each, numbers) for each in (planned, after))
            other = np.flatnonzero(was != then)
            if own:
                changed[control][planned.organiser[other]] = True
            frozen = other[self.frozen_meetings[control][other]] if len(other) else other
            if len(frozen):
                weighed.against.append(Objection(EXCEPTION, none, frozen, control))
            if not self.terms.weaken and len(other):
                strict = self.strictness(control)
                weaker = other[(strict[then] < strict[was])[other] & ~self.need[control][planned.organiser[other]]]
                if len(weaker):
                    weighed.against.append(Objection(WEAKER, none, weaker, control))

    def _contradictions(self, trial: Trial, edited: Sequence[str], weighed: PlanScore) -> None:
        """Add an objection for each pair of values that contradict each other only after the edits."""
        accounts = self.base.resolver.accounts(self.service)
        for number, contradiction in enumerate(self.base.snapshot.catalogue.contradictions):
            first, second = contradiction.first[0], contradiction.second[0]
            if not {first, second} <= self.service.controls or not {first, second} & set(edited):
                continue
            masks = []
            for checker in (self.base, trial):
                both = [
                    np.logical_or.reduce(
                        [having(checker.resolver.effective(self.service, control), value) for value in values]
                    )
                    for control, values in (contradiction.first, contradiction.second)
                ]
                masks.append(both[0] & both[1] & accounts)
            new = np.flatnonzero(masks[1] & ~masks[0])
            if len(new):
                weighed.against.append(Objection(CONTRADICTION, new, np.empty(0, np.int64), str(number)))

    def _invitees(self, trial: Trial, edited: Sequence[str], weighed: PlanScore) -> None:
        if self.planned is None or DOOR_CONTROLS_AND_LISTS.isdisjoint(edited):
            return
        before, _ = self.planned.met
        after, _ = trial.agenda.services[self.service.id].met
        turned = np.flatnonzero((after == TURNED_AWAY) & (before != TURNED_AWAY))
        if len(turned):
            meetings = distinct(self.planned.invited.meeting[turned]).astype(np.int64)
            weighed.against.append(Objection(INVITEE, np.empty(0, np.int64), meetings, "invited"))

    def reach(self, plan: Plan) -> int:
        """Return how many active people the places of a plan's edits have, summed."""
        return sum(
            len(self.members(edit_target.kind, edit_target.target)) if edit_target.kind != MEETING else 1
            for edit_target in plan
        )

    def members(self, kind: int, target: int) -> Ints:
        """Return the active people at a place."""
        return members_at(self.base.snapshot, kind, target)

    def to_mend_in_all(self) -> int:
        """Return how many verdicts are to be mended."""
        return sum(int(np.count_nonzero(self.to_mend(rule))) for rule in self.rules)

    def people_to_mend(self) -> Bools:
        """Return who has something to mend: by their own verdict."""
        found = np.zeros(self.size, bool)
        for rule in self.rules:
            if rule.subject == "people":
                found |= self.to_mend(rule)
        return found

    def subjects(self) -> Iterator[tuple[Rule, Bools]]:
        """Yield each rule with which of its subjects are to be mended."""
        for rule in self.rules:
            mask = self.to_mend(rule)
            if np.any(mask):
                yield rule, mask


def mendable(detail: VerdictDetail) -> bool:
    """Return whether a finding comes from a setting or a service default, by its value and not by what was seen."""
    root = detail.root
    return (
        detail.reason in ("fails", "open-door")
        and root is not None
        and root.service is not None
        and root.scope is not None
        and root.scope != "licence"
    )
