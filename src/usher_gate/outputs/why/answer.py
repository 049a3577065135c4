"""Where one person's value or verdict comes from: what is told."""

from __future__ import annotations

from collections.abc import Callable

from ...core.organisation.snapshot import Snapshot
from ...core.verdicts.explain import ExplainedValue, Said
from ...core.words.record import record


@record
class Person:
    """Whom the explanation is about."""

    id: str
    login: str
    name: str
    kind: str
    unit: str | None

    @property
    def text(self) -> str:
        """The person in words."""
        named = f"{self.name} ({self.login})" if self.name else self.login
        return f"{named}, {self.kind}{f', in {self.unit}' if self.unit else ', in no unit'}"


@record
class Explanation:
    """All that is to be explained. `line_of` turns a setting's row into FILE:LINE, `time_of` a time into words."""

    snapshot: Snapshot
    person: Person
    asked: str
    walks: tuple[ExplainedValue, ...]
    said: tuple[Said, ...]
    line_of: Callable[[int], str]
    time_of: Callable[[int], str]
