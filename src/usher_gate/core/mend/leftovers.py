"""What no plan mends, and which two things disagree there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ..verdicts.exceptions import applying
from ..verdicts.others import judge_organisation
from ..verdicts.outcome import Root, Tail
from ..verdicts.planned import judge_meetings
from ..verdicts.rules import Rule
from ..words.record import record
from .deadline import Deadline
from .greedy import edits_for
from .judging import CONTRADICTION, EXCEPTION, INVITEE, WEAKER, WORSE, Against, Judging, Weighed
from .offers import Offers
from .optimum import Found

SEEN = "what was seen is not what is set", "an observation"


@record
class LeftOver:
    """A verdict that is left: rule, service, subject (type, id), why, and what stands against mending it."""

    rule: str
    service: str
    subject: tuple[str, str]
    because: str
    against: str


def leftovers(found: Sequence[Found], deadline: Deadline) -> Iterator[LeftOver]:
    """Every verdict that is left, by rule, service, type and id."""
    made = [each for one in found if one.weighed.left for each in _of(one, deadline)]
    yield from sorted(made, key=lambda each: (each.rule, each.service, each.subject))


def _of(found: Found, deadline: Deadline) -> Iterator[LeftOver]:
    judging, plan = found.judging, found.weighed
    offers, known = Offers(judging), dict[tuple[str, Root | None], tuple[str, str]]()
    trial = plan.trial
    assert trial is not None
    for rule in judging.rules:
        told: list[tuple[tuple[str, str], Tail, int]] = []
        if rule.subject == "people":
            people = np.flatnonzero(plan.open_people[rule.id])
            if len(people):
                tails, which = trial.tails(judging.service, trial.judge(rule, judging.service), people)
                ids = judging.base.snapshot.people.ids.take(people)
                told = [
                    (("person", name), tails[at], person)
                    for name, at, person in zip(ids, which.tolist(), people.tolist(), strict=True)
                ]
        elif rule.subject == "meetings":
            said = judge_meetings(rule, judging.service, trial).found
            told = [(*said[number], number) for number in np.flatnonzero(plan.open_meetings[rule.id]).tolist()]
        elif plan.open_organisation[rule.id]:
            told = [(*one, 0) for one in judge_organisation(rule, judging.service, trial.resolver).found]
        for subject, tail, number in told:
            key = rule.id, tail.root
            if key not in known:
                known[key] = _why(judging, offers, found, tail, (rule, number), deadline)
            because, against = known[key]
            yield LeftOver(rule.id, judging.service.id, subject, because, against)


def _why(
    judging: Judging,
    offers: Offers,
    found: Found,
    tail: Tail,
    whose: tuple[Rule, int],
    deadline: Deadline,
) -> tuple[str, str]:
    """What stands against the edits that would mend it, by trying them: of the one that least speaks against, what does."""
    if tail.reason in ("observed", "not-applied"):
        return SEEN
    if tail.root is None:
        return "no single setting mends it", ""
    best: tuple[int, list[Against]] | None = None
    for spot, given in edits_for(judging, offers, tail.root, found.weighed.plan):
        if deadline.has_passed:
            return "the time was up before the reason was found", ""
        weighed = judging.weigh({**found.weighed.plan, spot: given})
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


def _is_open(weighed: Weighed, rule: Rule, number: int) -> bool:
    """Whether the verdict of one subject of a rule is left."""
    if rule.subject == "people":
        return bool(weighed.open_people[rule.id][number])
    if rule.subject == "meetings":
        return bool(weighed.open_meetings[rule.id][number])
    return weighed.open_organisation[rule.id]


def _leaving_out(judging: Judging, against: Against) -> str:
    """The first rule that leaves some of them out by its `except`; "" where none does."""
    for rule in judging.rules:
        if rule.subject == "organisation" or against.what not in judging.controls_of(rule):
            continue
        subjects = against.meetings if rule.subject == "meetings" else against.people
        if len(subjects) and np.any(judging.left_out(rule)[subjects]):
            return f"rule {rule.id}"
    return ""


def _in_words(judging: Judging, against: Against) -> tuple[str, str]:
    many = len(against.people) + len(against.meetings)
    whom = f"{many} {'person' if many == 1 else 'people'}" if len(against.people) else f"{many} planned meetings"
    if against.kind == WORSE:
        return f"what mends it makes rule {against.rule} worse for {whom}", f"rule {against.rule}"
    if against.kind == EXCEPTION:
        leaving = _leaving_out(judging, against)
        if leaving:
            return f"what mends it changes {against.what} for {whom} whom {leaving} leaves out", leaving
        names = sorted(
            exception.id
            for one in judging.rules
            if against.what in judging.controls_of(one)
            for exception in applying(judging.base.exceptions, one, judging.service.id, judging.base.snapshot)
        )
        return f"what mends it changes {against.what} behind an exception", f"exception {' '.join(names)}".strip()
    if against.kind == WEAKER:
        return f"what mends it makes {against.what} weaker for {whom} with nothing to mend", against.what
    if against.kind == CONTRADICTION:
        pair = judging.base.snapshot.catalogue.contradictions[int(against.what)]
        return (
            f"what mends it makes two values of {whom} contradict each other",
            f"{pair.first[0]} and {pair.second[0]}",
        )
    assert against.kind == INVITEE and judging.planned is not None
    names = [judging.planned.ids[number] for number in against.meetings.tolist()]
    return f"what mends it turns away who is invited to {' '.join(names[:5])}", f"meeting {names[0]}"
