"""A check as it would be after some edits of settings, judged by the same code.

What no edit touches is not judged again.

Spec: changes 2.3 (what was seen of people whose setting moved no longer counts).
"""

from __future__ import annotations

from functools import cached_property

from ..door.agenda import Agenda
from ..door.hosts import Hosts
from ..organisation.services import Service
from ..settings.edited import EditedResolver, Edits
from ..settings.observations import ObservedValues, seen_later
from ..sign_in.evaluator import AccessPolicyEvaluator
from .checker import Checker, PairVerdicts
from .condition import Leaf
from .outcome import Judged
from .planned import judge_leaf
from .rules import Rule, hangs_on


class Trial(Checker):
    """Judges as after some edits. `base` judges as things are, and remembers what it said."""

    resolver: EditedResolver

    def __init__(self, base: Remembered, edits: Edits) -> None:
        self.base = base
        self.snapshot, self.baseline, self.exceptions = base.snapshot, base.baseline, base.exceptions
        self.resolver, self.scopes = EditedResolver(base.resolver, edits), base.scopes
        self._hosts, self._starting = {}, {}

    @cached_property
    def gatekeeper(self) -> AccessPolicyEvaluator:
        """Return the access rules, which no edit of settings changes."""
        return self.base.gatekeeper

    @cached_property
    def agenda(self) -> Agenda:
        """Return the planned meetings, as edited."""
        return self.base.agenda.edit(self.resolver, self._touched)

    @cached_property
    def _touched(self) -> dict[str, list[str]]:
        """Return the edited controls by service."""
        found: dict[str, list[str]] = {}
        for service, control in sorted(self.resolver.touched):
            found.setdefault(service, []).append(control)
        return found

    def hosts(self, service: Service) -> Hosts:
        """Return everyone as a host, as edited; what is known of other controls is kept."""
        if service.id not in self._hosts:
            after = {
                control: self.resolver.effective(service, control) for control in self._touched.get(service.id, ())
            }
            self._hosts[service.id] = self.base.hosts(service).edit(after)
        return self._hosts[service.id]

    def seen(self, service: Service, control: str) -> ObservedValues | None:
        """Return what was seen, without the people whose setting moved since."""
        found = super().seen(service, control)
        if found is None or (service.id, control) not in self.resolver.touched:
            return found
        return seen_later(found, self.resolver.moved(service, control), self.snapshot.taken_at)

    def _leaf(self, leaf: Leaf, rule: Rule, service: Service | None) -> Judged:
        if service is None or not hangs_on(leaf, self._touched.get(service.id, ())):
            known = {one.leaf.number: one for one in self.base.judge(rule, service).judged}
            return known[leaf.number]
        return super()._leaf(leaf, rule, service)

    def leaf_of_meetings(self, leaf: Leaf, rule: Rule, service: Service) -> Judged | None:
        """As before the edits, where none touches what it hangs on."""
        if hangs_on(leaf, self._touched.get(service.id, ())):
            return None
        return self.base.leaf_of_meetings(leaf, rule, service)


class Remembered(Checker):
    """A checker that remembers what it said of each pair of rule and service."""

    @cached_property
    def _said(self) -> dict[tuple[str, str | None], PairVerdicts]:
        return {}

    def judge(self, rule: Rule, service: Service | None) -> PairVerdicts:
        """Judge one rule about people on one service, once."""
        key = rule.id, service.id if service else None
        if key not in self._said:
            self._said[key] = super().judge(rule, service)
        return self._said[key]

    @cached_property
    def _of_meetings(self) -> dict[tuple[str, str, int], Judged]:
        return {}

    def leaf_of_meetings(self, leaf: Leaf, rule: Rule, service: Service) -> Judged:
        """Judge one leaf about planned meetings on one service, once."""
        key = rule.id, service.id, leaf.number
        if key not in self._of_meetings:
            self._of_meetings[key] = judge_leaf(leaf, rule, service, self)
        return self._of_meetings[key]
