"""What people have to do for themselves: drifts by a fact, which no setting mends."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..organisation.columns import MISSING
from ..verdicts.checker import Checker
from ..verdicts.codes import DRIFTS
from ..verdicts.scope import services_of
from ..words.record import record
from .constraints import MendingConstraints


@record
class Task:
    """Describes what some people have to do.

    The rule, what mends in its own words, and who (ids), by unit ("" for who is in none).
    """

    rule: str
    title: str
    mend: str
    units: tuple[tuple[str, tuple[str, ...]], ...]

    @property
    def people(self) -> int:
        """Return how many people have to do it."""
        return sum(len(people) for _, people in self.units)


def tasks(after: Checker, terms: MendingConstraints) -> Iterator[Task]:
    """Yield the tasks that are there once the plan is made, by rule."""
    snapshot = after.snapshot
    for rule in after.baseline.rules:
        if rule.subject != "people":
            continue
        found: set[int] = set()
        for service in services_of(rule, snapshot.services):
            if not terms.keeps(rule, service.id if service else None):
                continue
            verdicts = after.judge(rule, service)
            drifting = np.flatnonzero((verdicts.verdict == DRIFTS) & terms.chosen)
            if len(drifting):
                details, which = after.details(service, verdicts, drifting)
                by_fact = np.array([detail.root is not None and detail.root.scope == "person" for detail in details])
                found |= set(drifting[by_fact[which]].tolist())
        if found:
            people = np.array(sorted(found), np.int64)
            by_unit: dict[str, list[str]] = {}
            for person, name in zip(people.tolist(), snapshot.people.ids.take(people), strict=True):
                code = MISSING if snapshot.units is None else int(snapshot.units.codes[person])
                path = "" if code == MISSING or snapshot.units is None else snapshot.units.paths[code]
                by_unit.setdefault(path, []).append(name)
            units = tuple((path, tuple(sorted(by_unit[path]))) for path in sorted(by_unit))
            yield Task(rule.id, rule.title, rule.mend, units)
