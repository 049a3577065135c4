"""The controls: what can be restricted, in this tool's own vocabulary. The list itself is data (controls.json)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import field
from functools import cached_property

from .record import record
from .values import Kind


@record
class Control:
    """One thing that can be restricted, with a short title.

    `about` says in one sentence what it decides, `weak` what goes wrong when it is weak, `meanings` what values that do
    not explain themselves mean.
    """

    id: str
    title: str
    kind: Kind
    weak: str = ""
    own: bool = False  # the organisation's own
    about: str = ""
    meanings: Mapping[str, str] = field(default_factory=dict)

    @property
    def area(self) -> str:
        """Return the part of the id before the first dot."""
        return self.id.partition(".")[0]


@record
class Contradiction:
    """Two values that cannot work together: `first` and `second` are (control, values that clash)."""

    first: tuple[str, tuple[str, ...]]
    second: tuple[str, tuple[str, ...]]
    because: str


@record
class Catalogue:
    """All controls that a snapshot may speak of, and which of their values contradict each other."""

    controls: tuple[Control, ...]
    contradictions: tuple[Contradiction, ...] = ()

    @cached_property
    def index(self) -> Mapping[str, Control]:
        """Return the controls by id."""
        return {control.id: control for control in self.controls}

    def named(self, name: str) -> tuple[Control, ...]:
        """Return the control with an id; else all with a title, in any case: own controls may share one."""
        if name in self.index:
            return (self.index[name],)
        return tuple(control for control in self.controls if control.title.casefold() == name.casefold())

    def matching(self, pattern: str) -> frozenset[str]:
        """Return the ids that a pattern means: an id, or a prefix and a star."""
        if pattern.endswith("*"):
            return frozenset(control.id for control in self.controls if control.id.startswith(pattern[:-1]))
        return frozenset((pattern,)) & self.index.keys()

    def with_own(self, controls: Iterable[Control]) -> Catalogue:
        """This catalogue and an organisation's own controls."""
        return Catalogue((*self.controls, *controls), self.contradictions)
