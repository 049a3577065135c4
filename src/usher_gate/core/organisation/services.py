"""Collaboration services: each with its own way of resolving settings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field

from ..words.record import record
from .selector import Selector


@record
class Need:
    """Describes what a control needs on a service: any one of `licences`.

    Without one it has the value `without`, or none.
    """

    pattern: str
    licences: frozenset[str]
    without: str | None


@record
class DoorKeys:
    """Describes what a service says of its doors.

    Kinds of meeting and ways in (None: not said), and whether identity binds callers.
    """

    kinds: tuple[str, ...] | None = None
    ways: tuple[str, ...] | None = None
    asks_callers: bool = False


@record
class Service:
    """One collaboration service and its way of resolving settings. `self_service` None means: not said.

    `pins` says whether it can pin; `batch` how many people can be assigned to at once (None: any number).
    """

    id: str
    title: str
    accounts: Selector | None
    precedence: tuple[str, ...]
    settle: int  # microseconds
    controls: frozenset[str]
    factory: Mapping[str, str]
    self_service: frozenset[str] | None
    needs: Mapping[str, Need]
    door: DoorKeys | None = None
    pins: bool = True
    batch: int | None = None
    factory_lines: Mapping[str, int] = field(
        default_factory=dict
    )  # by control the line of services.yaml that gives its default

    def changeable(self, control: str) -> bool:
        """Return whether people can change a control for themselves where it is not pinned.

        A service that has not said lets them.
        """
        return self.self_service is None or control in self.self_service
