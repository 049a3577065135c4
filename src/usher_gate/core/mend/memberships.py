"""Taking people out of groups, as edits of a plan beside settings: each is one edit, and no cheaper than a setting.

Somebody is taken out of a group only where that by itself makes nothing worse, weakens nothing that needed no mending, changes nothing
that an exception or an `except` protects, and leaves it as it was which rules judge them. What is best for the rest is asked anew for
each choice of people and groups, as long as the time suffices. Source: answers, B 19.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from ..changes.apply import Applied, apply_changes
from ..changes.compare import Compared, Comparison, ValueMoved
from ..changes.model import Changes, Members
from ..organisation.build.table import Table
from ..organisation.columns import Bools
from ..organisation.settings import GROUP
from ..organisation.snapshot import Snapshot
from ..verdicts.checker import Checker
from ..verdicts.codes import EXCEPTED, EXEMPT
from ..words.faults import Faults
from ..words.record import record
from .leftovers import SEEN, LeftOver
from .mending import Asked, Membership, Mending, Told, mend

_MOST_TRIED = 400  # choices of people and groups
_SHARE = 0.2  # of the time for the plan without memberships, at most


@record
class _Choice:
    """People taken out of groups: the changes, what they do, and the snapshot then."""

    removed: tuple[Members, ...]
    compared: Compared
    comparison: Comparison
    applied: Applied


def mend_with_memberships(
    snapshot: Snapshot,
    tables: Mapping[str, Table],
    asked: Asked,
    clock: Callable[[], float],
    seconds: float,
    told: Told | None = None,
) -> Mending:
    """The fewest edits of settings and memberships, found in so many seconds; judged again before it is told."""
    until = clock() + seconds
    plain = mend(snapshot, tables, asked, clock, seconds * _SHARE, told)
    search = _Search(snapshot, tables, asked, clock, until)
    best, tried_all = search.best(plain)
    notes = set(best.notes)
    if search.refused:
        many = "1 membership stays" if search.refused == 1 else f"{search.refused:,} memberships stay"
        notes.add(f"{many} although what the group sets drifts: without it something else would get worse or weaker")
    if not tried_all:
        notes.add(
            "not every choice of memberships was tried: there may be plans of fewer edits; --seconds gives it longer"
        )
    return replace(best, notes=tuple(sorted(notes)), tried_all=tried_all)


class _Search:
    """The search among choices of people and groups."""

    def __init__(
        self, snapshot: Snapshot, tables: Mapping[str, Table], asked: Asked, clock: Callable[[], float], until: float
    ) -> None:
        self._snapshot, self._tables, self._asked = snapshot, tables, asked
        self._clock, self._until = clock, until
        self.refused = 0  # memberships that, taken away alone, would hurt

    def best(self, plain: Mending) -> tuple[Mending, bool]:
        """The best plan, and whether every choice was tried."""
        best, key = plain, (plain.left, plain.many, plain.without, plain.touched)
        candidates = list(self._candidates(plain))
        waiting: list[tuple[tuple[Members, ...], int]] = [((), 0)]
        tried = 0
        while waiting:
            more: list[tuple[tuple[Members, ...], int]] = []
            for removed, start in waiting:
                # A choice of as many edits as the best plan cannot be better, unless that leaves something.
                if len(removed) >= key[1] and not key[0]:
                    continue
                for place in range(start, len(candidates)):
                    if self._clock() > self._until or tried >= _MOST_TRIED:
                        return best, False
                    tried += 1
                    choice = self._choice((*removed, candidates[place]))
                    if choice is None:
                        self.refused += not removed
                        continue
                    more.append((choice.removed, place + 1))
                    found = self._mended(choice, plain)
                    if found is not None and (one := (found.left, found.many, found.without, found.touched)) < key:
                        best, key = found, one
            waiting = more
        return best, True

    def _candidates(self, plain: Mending) -> Iterator[Members]:
        """The direct memberships of people with something to mend in a control that the group sets, or one around it.

        First those where the fewest others have to mend the same: who does not belong in a group is alone there.
        """
        groups, settings = self._snapshot.groups, self._snapshot.settings
        if groups is None or settings is None:
            return
        services = {service.id: number for number, service in enumerate(self._snapshot.services or ())}
        counted: dict[tuple[int, int], list[int]] = {}
        for part in plain.parts:
            judging = part.found.judging
            for control, mask in judging.need.items():
                if control not in settings.controls:
                    continue
                rows = (settings.kind == GROUP) & (settings.service == services[judging.service.id])
                rows &= settings.control == settings.controls.index(control)
                for group in sorted(set(settings.target[rows].tolist())):
                    needing = groups.members(group)[mask[groups.members(group)]]
                    for direct in self._within(group):
                        for person in np.intersect1d(needing, groups.direct.of(direct)).tolist():
                            counted.setdefault((direct, person), []).append(len(needing))
        for (group, person), _ in sorted(counted.items(), key=lambda one: (min(one[1]), -len(one[1]), one[0])):
            yield Members(groups.ids[group], (), (self._id(person),))

    def _within(self, group: int) -> list[int]:
        """A group and those that are nested in it."""
        groups = self._snapshot.groups
        assert groups is not None
        found, waiting = {group}, [group]
        while waiting:
            for inner in groups.inside.of(waiting.pop()).tolist():
                if inner not in found:
                    found.add(inner)
                    waiting.append(inner)
        return sorted(found)

    def _id(self, person: int) -> str:
        return self._snapshot.people.ids.take(np.array([person]))[0]

    def _choice(self, removed: tuple[Members, ...]) -> _Choice | None:
        """What a choice does; None where it hurts somebody."""
        compared = self._compared(removed)
        if compared is None:
            return None
        made, terms = compared.comparison(), self._asked.terms
        hurt = bool(made.begun or made.worse or made.locked_begun or made.stranded)
        hurt |= bool(made.protected) and not terms.through_exceptions
        hurt |= not terms.turn_away and any(each.turned_away for each in made.meetings)
        weaker = {(each.service, each.control, each.person) for each in made.weaker}
        if not terms.weaken and any((each.service, each.control, each.person) in weaker for each in made.affected):
            hurt = True
        if hurt or any(EXEMPT in move for move in made.moves):
            return None
        if not terms.through_exceptions and self._behind_exceptions(compared, removed):
            return None
        return _Choice(removed, compared, made, compared.applied)

    def _needed(self, one: ValueMoved, need: Mapping[tuple[str, str], Bools]) -> bool:
        mask = need.get((one.service, one.control))
        return mask is not None and bool(mask[self._snapshot.people.ids.find(one.person)[0]])

    def _compared(self, removed: Sequence[Members], more: Changes | None = None) -> Compared | None:
        changes = (*removed, *(more.changes if more is not None else ()))
        made = Changes("memberships", None, changes, (0,) * len(changes))
        faults = Faults()
        applied = apply_changes(self._snapshot, self._tables, made, "the plan", faults)
        if applied is None or faults.found:
            return None
        return Compared(self._snapshot, applied, made, self._asked.baseline, self._asked.exceptions)

    def _behind_exceptions(self, compared: Compared, removed: Sequence[Members]) -> bool:
        """Whether a value changes on which an agreed exception stands."""
        checker = compared.checkers[0]
        people = {name for change in removed for name in change.remove}
        for service in self._snapshot.services or ():
            moved = [one for one in compared.values_moved() if one.service == service.id and one.person in people]
            for rule in checker.baseline.rules if moved else ():
                if rule.subject != "people" or not rule.applies_to(service):
                    continue
                verdicts = checker.judge(rule, service).verdict
                for one in moved:
                    (person,) = self._snapshot.people.ids.find(one.person)
                    if verdicts[person] == EXCEPTED and rule.looks_at(one.control, service):
                        return True
        return False

    def _mended(self, choice: _Choice, plain: Mending) -> Mending | None:
        """The best plan with a choice; None for one that has too many edits."""
        limit = self._asked.limit
        if limit is not None and limit < len(choice.removed):
            return None
        asked = replace(self._asked, limit=None if limit is None else limit - len(choice.removed))
        left = max(self._until - self._clock(), 0.0)
        rest = mend(choice.applied.snapshot, choice.applied.tables, asked, self._clock, left)
        whole = self._compared(choice.removed, rest.changes)
        if whole is None:
            return None
        total = whole.comparison()
        if total.begun or total.worse:
            return None
        moved = whole.values_moved()
        need = _need(plain)
        affected = tuple(one for one in moved if not self._needed(one, need))
        seen = tuple(self._seen_otherwise(plain, rest, whole.checkers[1]))
        made = tuple(self._made(change, choice, rest.changes, len(total.ended), need) for change in choice.removed)
        changes = self._titled(whole.changes)
        return replace(
            rest,
            snapshot=self._snapshot,
            changes=changes,
            comparison=replace(total, changes=changes),
            memberships=made,
            drifting=plain.drifting,
            mendable=plain.mendable,
            ended=len(total.ended),
            freed=total.drifting[0] - total.drifting[1],
            touched=len(moved),
            without=len(affected),
            affected=affected,
            limit=limit,
            left=rest.left + len(seen),
            left_over=(*rest.left_over, *seen),
        )

    def _seen_otherwise(self, plain: Mending, rest: Mending, after: Checker) -> Iterator[LeftOver]:
        """The verdicts that a setting made drift and that now drift by what was seen: for the plan of the rest there is nothing to mend."""
        told = {(one.rule, one.service, one.subject) for one in rest.left_over}
        for part in plain.parts:
            judging = part.found.judging
            for rule in judging.rules:
                if rule.subject != "people":
                    continue
                left = np.flatnonzero(judging.left_of(rule, judging.said(rule, after)))
                for name in self._snapshot.people.ids.take(left):
                    if (rule.id, judging.service.id, ("person", name)) not in told:
                        yield LeftOver(rule.id, judging.service.id, ("person", name), *SEEN)

    @staticmethod
    def _titled(changes: Changes) -> Changes:
        many = len(changes.changes)
        return replace(changes, title="1 edit that mends" if many == 1 else f"{many} edits that mend")

    def _made(
        self, change: Members, choice: _Choice, rest: Changes, ended: int, need: Mapping[tuple[str, str], Bools]
    ) -> Membership:
        """One membership of the plan: what would be left without it, and what else changes with it alone."""
        less = self._compared([other for other in choice.removed if other is not change], rest)
        alone = self._compared([change])
        assert less is not None and alone is not None
        (name,) = change.remove
        (person,) = self._snapshot.people.ids.find(name)
        keepers = [checker.gatekeeper for checker in alone.checkers]
        rules = tuple(
            rule.id
            for number, rule in enumerate(keepers[0].rules)
            if bool(keepers[0].whom(number)[person]) != bool(keepers[1].whom(number)[person])
        )
        also = tuple(one for one in alone.values_moved() if not self._needed(one, need))
        login = self._snapshot.people.logins.take(np.array([person]))[0]
        return Membership(change.group, name, login, ended - len(less.comparison().ended), also, rules)


def _need(plain: Mending) -> Mapping[tuple[str, str], Bools]:
    """By service and control, the people with something to mend."""
    return {
        (part.found.judging.service.id, control): mask
        for part in plain.parts
        for control, mask in part.found.judging.need.items()
    }
