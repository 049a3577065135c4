"""What an organisation wants: the baseline with its rules, and the exceptions agreed from them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from datetime import date

from ..organisation.selector import Selector
from ..organisation.services import Service
from ..words.record import record
from .condition import Leaf, Tree, leaves


@record
class Rule:
    """One thing that must hold. `pinned` is "", "true" or "strict"; `services` None means every service."""

    id: str
    title: str
    severity: str
    subject: str
    audience: Selector
    exempted: Selector | None
    services: tuple[str, ...] | None
    expect: Tree
    pinned: str = ""
    because: str = ""
    mend: str = ""
    maps: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def controls(self) -> frozenset[str]:
        """The controls that the rule speaks of."""
        return frozenset(leaf.name for leaf in leaves(self.expect) if leaf.about == "control")

    def needs_services(self, service: Service | None) -> bool:
        """Whether the rule, judged on no service, asks for what only a service could tell."""
        return bool(self.controls) and service is None

    @property
    def leaves(self) -> tuple[Leaf, ...]:
        """All leaves in the order written."""
        return tuple(leaves(self.expect))


@record
class Baseline:
    """The organisation's list of rules, sorted by id."""

    name: str
    version: str
    rules: tuple[Rule, ...]
    audiences: Mapping[str, Selector] = field(default_factory=dict)


@record
class AgreedException:
    """An agreed departure: from which rules, for whom (people, or partners by domain), until which day (UTC)."""

    id: str
    rules: tuple[str, ...]
    who: Selector | None
    partners: tuple[str, ...]
    services: tuple[str, ...] | None
    reason: str
    approved_by: str
    until: date
