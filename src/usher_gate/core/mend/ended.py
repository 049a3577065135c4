"""How many drifts there are, and how many a plan ends: found by judging everything that is asked about again."""

from __future__ import annotations

import numpy as np

from ..organisation.columns import Longs
from ..verdicts.checker import Checker
from ..verdicts.codes import DRIFTS
from ..verdicts.others import judge_organisation, judge_partners
from ..verdicts.planned import judge_meetings
from ..verdicts.scope import services_of
from ..words.record import record
from .constraints import MendingConstraints


@record
class FindingCounts:
    """How many findings there are, how many a plan ends, and who (numbers) then drifts from nothing any more."""

    drifting: int
    ended: int
    freed: Longs


def count_findings(base: Checker, after: Checker, terms: MendingConstraints) -> FindingCounts:
    """Count the findings that are asked about now, those that are gone afterwards, and the people then cleared."""
    size = len(base.snapshot.people)
    before_of, after_of = np.zeros(size, np.int64), np.zeros(size, np.int64)
    drifting = ended = 0
    for rule in base.baseline.rules:
        for service in services_of(rule, base.snapshot.services):
            if not terms.keeps(rule, service.id if service else None):
                continue
            if rule.subject == "people":
                now = (base.judge(rule, service).verdict == DRIFTS) & terms.chosen
                then = (after.judge(rule, service).verdict == DRIFTS) & terms.chosen
                before_of += now
                after_of += then
            elif rule.subject == "partners":
                said = judge_partners(rule, base.snapshot, base.exceptions).found
                drifting += sum(detail.verdict == DRIFTS for _, detail in said) if np.all(terms.chosen) else 0
                continue
            else:
                judged = [
                    judge_meetings(rule, service, checker)
                    if rule.subject == "meetings"
                    else judge_organisation(rule, service, checker.resolver)
                    for checker in (base, after)
                ]
                now, then = (np.array([detail.verdict == DRIFTS for _, detail in one.found], bool) for one in judged)
                mine = terms.chosen[judged[0].organisers] if judged[0].organisers is not None else np.all(terms.chosen)
                now, then = now & mine, then & mine
            drifting += int(np.count_nonzero(now))
            ended += int(np.count_nonzero(now & ~then))
    freed = np.flatnonzero((before_of > 0) & (after_of == 0))
    return FindingCounts(drifting, ended, freed)
