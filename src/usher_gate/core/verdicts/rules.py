"""What an organisation wants: the baseline with its rules, and the exceptions agreed from them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import field
from datetime import date

from ..door.gates import looked_at
from ..door.hosts import ASKED, LISTED, MAY_START, START
from ..door.visitors import WAYS, kinds_of
from ..organisation.selector import Selector
from ..organisation.services import Service
from ..words.record import record
from ..words.vocabulary import MEETING_KINDS
from .condition import Leaf, TooFew, Tree, leaves, restrict

DOOR_CONTROLS = frozenset((*ASKED, MAY_START, START))
DOOR_CONTROLS_AND_LISTS = DOOR_CONTROLS | {LISTED}


def fitting(service: Service, subject: str) -> Callable[[Leaf], bool]:
    """Return which leaves of a rule about a subject are judged on a service.

    A planned meeting has the door of its kind, whichever kinds the service names.
    """
    kinds = MEETING_KINDS if subject == "meetings" else kinds_of(service)

    def fits(leaf: Leaf) -> bool:
        if leaf.about == "control":
            return leaf.name in service.controls
        return leaf.visitor_selection is None or any(kind in kinds for kind in leaf.visitor_selection.kinds)

    return fits


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
    may_judge_nobody: bool = False
    must_support: bool = False  # a service that supports none of the controls drifts

    @property
    def controls(self) -> frozenset[str]:
        """Return the controls that the rule speaks of."""
        return frozenset(leaf.name for leaf in leaves(self.expect) if leaf.about == "control")

    @property
    def of_services(self) -> bool:
        """Return whether the rule asks about what only a service has: a control, or a door."""
        return any(leaf.about in ("control", "door") for leaf in self.leaves)

    def needs_services(self, service: Service | None) -> bool:
        """Return whether the rule, judged on no service, asks about what only a service has."""
        return self.of_services and service is None

    def applies_to(self, service: Service) -> bool:
        """Return whether a service supports one of the rule's controls, or has meetings of a kind that one of its doors
        asks about.
        """
        asked = [leaf for leaf in self.leaves if leaf.about in ("control", "door")]
        return any(fitting(service, self.subject)(leaf) for leaf in asked)

    def looks_at(self, control: str, service: Service) -> bool:
        """Return whether a control of a service has to do with what the rule says there."""
        here = [leaf for leaf in self.judged_on(service) if leaf.about in ("control", "door")]
        return any(leaf.name == control if leaf.about == "control" else control in DOOR_CONTROLS for leaf in here)

    def judged_on(self, service: Service | None) -> tuple[Leaf, ...]:
        """Return the leaves that are judged on a service.

        All but those about a control or a door that it does not have.
        """
        if service is None:
            return self.leaves
        fits = fitting(service, self.subject)
        return tuple(leaf for leaf in self.leaves if fits(leaf))

    def tree_on(self, service: Service | None) -> Tree | None:
        """Return what is judged on a service; None where nothing is left, unless the service must support the rule."""
        if service is None:
            return self.expect
        if self.must_support and self.of_services and not self.applies_to(service):
            first = next(leaf for leaf in self.leaves if leaf.about in ("control", "door"))
            return TooFew(first.name, first.number)
        return restrict(self.expect, fitting(service, self.subject))

    @property
    def leaves(self) -> tuple[Leaf, ...]:
        """Return all leaves in the order written."""
        return tuple(leaves(self.expect))


def hangs_on(leaf: Leaf, controls: Collection[str]) -> bool:
    """Return whether what a leaf says can hang on some of these controls of its service.

    One about a meeting does, by who comes from outside.
    """
    if leaf.about == "meeting":
        return LISTED in controls
    if leaf.visitor_selection is None:
        return leaf.about == "control" and leaf.name in controls
    if MAY_START in controls or START in controls:
        return True
    return not looked_at(leaf.visitor_selection.visits(MEETING_KINDS, WAYS)).isdisjoint(controls)


@record
class Baseline:
    """The organisation's list of rules, sorted by id."""

    name: str
    version: str
    rules: tuple[Rule, ...]
    audiences: Mapping[str, Selector] = field(default_factory=dict)


@record
class AgreedException:
    """An agreed departure: from which rules, for which people (or partners by domain), until which day (UTC)."""

    id: str
    rules: tuple[str, ...]
    who: Selector | None
    partners: tuple[str, ...]
    services: tuple[str, ...] | None
    reason: str
    approved_by: str
    until: date
