"""A check as it would be after some edits of settings, judged by the same code; what no edit touches is not judged again.

Source: changes, section 3; reading 28 (what was seen of people whose setting moved no longer counts).
"""

from __future__ import annotations

from functools import cached_property

from ..door.agenda import Agenda
from ..door.hosts import Hosts
from ..organisation.services import Service
from ..settings.edited import EditedResolver, Edits
from ..settings.observations import Seen, seen_later
from ..sign_in.gatekeeper import Gatekeeper
from .checker import Checker, PairVerdicts
from .condition import Leaf
from .outcome import Judged
from .rules import DOOR_CONTROLS, Rule


class Trial(Checker):
    """Judges as after some edits. `base` judges as things are, and remembers what it said."""

    resolver: EditedResolver

    def __init__(self, base: Remembered, edits: Edits) -> None:
        self.base = base
        self.snapshot, self.baseline, self.exceptions = base.snapshot, base.baseline, base.exceptions
        self.resolver, self.scopes = EditedResolver(base.resolver, edits), base.scopes
        self._hosts, self._starting = {}, {}

    @cached_property
    def gatekeeper(self) -> Gatekeeper:
        """The access rules, which no edit of settings changes."""
        return self.base.gatekeeper

    @cached_property
    def agenda(self) -> Agenda:
        """The planned meetings, with the same addresses."""
        agenda = Agenda(self.resolver)
        agenda.__dict__["book"] = self.base.agenda.book
        return agenda

    def hosts(self, service: Service) -> Hosts:
        """Everybody as a host, as edited; what is known of other controls is kept."""
        if service.id not in self._hosts:
            touched = [control for name, control in sorted(self.resolver.touched) if name == service.id]
            after = {control: self.resolver.effective(service, control) for control in touched}
            self._hosts[service.id] = self.base.hosts(service).edit(after)
        return self._hosts[service.id]

    def seen(self, service: Service, control: str) -> Seen | None:
        """What was seen, without the people whose setting moved since."""
        found = super().seen(service, control)
        if found is None or (service.id, control) not in self.resolver.touched:
            return found
        return seen_later(found, self.resolver.moved(service, control), self.snapshot.taken_at)

    def _leaf(self, leaf: Leaf, rule: Rule, service: Service | None) -> Judged:
        touched = {control for name, control in self.resolver.touched if service is not None and name == service.id}
        same = leaf.about in ("person", "proof") or (leaf.about == "control" and leaf.name not in touched)
        if same or (leaf.about == "door" and DOOR_CONTROLS.isdisjoint(touched)):
            known = {one.leaf.number: one for one in self.base.judge(rule, service).judged}
            return known[leaf.number]
        return super()._leaf(leaf, rule, service)


class Remembered(Checker):
    """A checker that remembers what it said of each pair of rule and service."""

    @cached_property
    def _said(self) -> dict[tuple[str, str | None], PairVerdicts]:
        return {}

    def judge(self, rule: Rule, service: Service | None) -> PairVerdicts:
        """One rule about people on one service, judged once."""
        key = rule.id, service.id if service else None
        if key not in self._said:
            self._said[key] = super().judge(rule, service)
        return self._said[key]
