"""What no plan mends, and which two things disagree there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ..verdicts.exceptions import applying
from ..verdicts.others import judge_organisation
from ..verdicts.outcome import Root, VerdictDetail
from ..verdicts.planned import judge_meetings
from ..verdicts.rules import Rule
from ..words.plural import plural
from ..words.record import record
from .candidates import CandidateEdits
from .deadline import Deadline
from .greedy import edits_for
from .judging import CONTRADICTION, EXCEPTION, INVITEE, WEAKER, WORSE, Judging, Objection, PlanScore
from .optimum import ComponentPlan

SEEN = "what was seen is not what is set", "an observation"


@record
class LeftOver:
    """A verdict that is left: rule, service, subject (type, id), why, and what prevents mending it."""

    rule: str
    service: str
    subject: tuple[str, str]
    because: str
    against: str


def leftovers(found: Sequence[ComponentPlan], deadline: Deadline) -> Iterator[LeftOver]:
    """Yield every verdict that is left, by rule, service, type and id."""
    made = [each for one in found if one.weighed.left for each in _of(one, deadline)]
    yield from sorted(made, key=lambda each: (each.rule, each.service, each.subject))


def _of(found: ComponentPlan, deadline: Deadline) -> Iterator[LeftOver]:
    """Yield each finding that the plan leaves, with the reason why no edit ends it."""
    judging, plan = found.judging, found.weighed
    offers, known = CandidateEdits(judging), dict[tuple[str, Root | None], tuple[str, str]]()
    trial = plan.trial
    assert trial is not None
    for rule in judging.rules:
        open_verdicts: list[tuple[tuple[str, str], VerdictDetail, int]] = []
        if rule.subject == "people":
            people = np.flatnonzero(plan.open_people[rule.id])
            if len(people):
                details, which = trial.details(judging.service, trial.judge(rule, judging.service), people)
                ids = judging.base.snapshot.people.ids.take(people)
                open_verdicts = [
                    (("person", name), details[at], person)
                    for name, at, person in zip(ids, which.tolist(), people.tolist(), strict=True)
                ]
        elif rule.subject == "meetings":
            said = judge_meetings(rule, judging.service, trial).found
            open_verdicts = [(*said[number], number) for number in np.flatnonzero(plan.open_meetings[rule.id]).tolist()]
        elif plan.open_organisation[rule.id]:
            open_verdicts = [(*one, 0) for one in judge_organisation(rule, judging.service, trial.resolver).found]
        for subject, detail, number in open_verdicts:
            key = rule.id, detail.root
            if key not in known:
                known[key] = _why(judging, offers, found, detail, (rule, number), deadline)
            because, against = known[key]
            yield LeftOver(rule=rule.id, service=judging.service.id, subject=subject, because=because, against=against)


def _why(
    judging: Judging,
    offers: CandidateEdits,
    found: ComponentPlan,
    detail: VerdictDetail,
    whose: tuple[Rule, int],
    deadline: Deadline,
) -> tuple[str, str]:
    """Return what prevents the edits that would mend it, found by trying them.

    The objection to the edit with the fewest.
    """
    if detail.reason in ("observed", "not-applied"):
        return SEEN
    if detail.root is None:
        return "no single setting mends it", ""
    best: tuple[int, list[Objection]] | None = None
    for edit_target, given in edits_for(judging, offers, detail.root, found.weighed.plan):
        if deadline.has_passed:
            return "the time was up before the reason was found", ""
        weighed = judging.weigh({**found.weighed.plan, edit_target: given})
        if _is_open(weighed, *whose):
            continue
        if not weighed.against and weighed.left < found.weighed.left:
            return "an edit would mend it, and there was no edit left to make", ""
        if not weighed.against:
            continue
        size = sum(len(each.people) + len(each.meetings) for each in weighed.against)
        if best is None or (len(weighed.against), size) < (len(best[1]), best[0]):
            best = size, weighed.against
    if best is None:
        return "no value that may be set where it is read ends it", ""
    return _in_words(judging, best[1][0])


def _is_open(weighed: PlanScore, rule: Rule, number: int) -> bool:
    """Return whether the verdict of one subject of a rule is left."""
    if rule.subject == "people":
        return bool(weighed.open_people[rule.id][number])
    if rule.subject == "meetings":
        return bool(weighed.open_meetings[rule.id][number])
    return weighed.open_organisation[rule.id]


def _leaving_out(judging: Judging, against: Objection) -> str:
    """Return the first rule that leaves some of them out by its `except`; "" where none does."""
    for rule in judging.rules:
        if rule.subject == "organisation" or against.what not in judging.controls_of(rule):
            continue
        subjects = against.meetings if rule.subject == "meetings" else against.people
        if len(subjects) and np.any(judging.left_out(rule)[subjects]):
            return f"rule {rule.id}"
    return ""


def _in_words(judging: Judging, against: Objection) -> tuple[str, str]:
    """Return why an objection forbids an edit, as a sentence, and the name of what prevents it."""
    many = len(against.people) + len(against.meetings)
    affected = plural(many, "person", "people") if len(against.people) else f"{many} planned meetings"
    if against.kind == WORSE:
        return f"what mends it makes rule {against.rule} worse for {affected}", f"rule {against.rule}"
    if against.kind == EXCEPTION:
        leaving = _leaving_out(judging, against)
        if leaving:
            return f"what mends it changes {against.what} for {affected} left out by {leaving}", leaving
        names = sorted(
            exception.id
            for one in judging.rules
            if against.what in judging.controls_of(one)
            for exception in applying(judging.base.exceptions, one, judging.service.id, judging.base.snapshot)
        )
        return f"what mends it changes {against.what} behind an exception", f"exception {' '.join(names)}".strip()
    if against.kind == WEAKER:
        return f"what mends it makes {against.what} weaker for {affected} with nothing to mend", against.what
    if against.kind == CONTRADICTION:
        pair = judging.base.snapshot.catalogue.contradictions[int(against.what)]
        return (
            f"what mends it makes two values of {affected} contradict each other",
            f"{pair.first[0]} and {pair.second[0]}",
        )
    assert against.kind == INVITEE and judging.planned is not None
    names = [judging.planned.ids[number] for number in against.meetings.tolist()]
    return f"what mends it turns away who is invited to {' '.join(names[:5])}", f"meeting {names[0]}"
