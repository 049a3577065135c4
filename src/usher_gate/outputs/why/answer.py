"""Where one person's value or verdict comes from: what is shown."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from ...core.door.agenda import Planned
from ...core.organisation.snapshot import Snapshot
from ...core.settings.sets import SetSetting
from ...core.settings.ways import Ways
from ...core.verdicts.explain import ExplainedValue, Overview, RuleExplanation
from ...core.words.record import record


@record
class ExplainedPerson:
    """The subject of the explanation."""

    id: str
    login: str
    name: str
    kind: str
    unit: str | None

    @property
    def text(self) -> str:
        """Return the person in words."""
        named = f"{self.name} ({self.login})" if self.name else self.login
        return f"{named}, {self.kind}{f', in {self.unit}' if self.unit else ', in no unit'}"


@record
class Explanation:
    """All that is to be explained.

    `line_of` turns a setting's row into FILE:LINE, `time_of` a time into words, `note_of` says what someone wrote
    beside a setting; `closing` are, for each rule that found a hole, the observed rules that would close it.
    """

    snapshot: Snapshot
    person: ExplainedPerson
    asked: str
    walks: tuple[ExplainedValue, ...]
    said: tuple[RuleExplanation, ...]
    line_of: Callable[[int], str]
    time_of: Callable[[int], str]
    note_of: Callable[[int], str]
    closing: Mapping[str, Sequence[str]]
    glance: Overview | None = None
    meeting: Planned | None = None  # the person's, whose own setting is the last step

    @property
    def subject(self) -> str:
        """Return what the explanation is about, in words."""
        if self.meeting is None:
            return self.person.text
        named = f"{self.meeting.label} ({self.meeting.id})" if self.meeting.label else self.meeting.id
        return f"{named}, a {self.meeting.kind} meeting on {self.meeting.service}; organised by {self.person.text}"


@record
class WaysAnswer:
    """Says who has a value of a control, by (service, person); `line_of` turns a setting's row into FILE:LINE."""

    snapshot: Snapshot
    control: str
    value: str
    found: tuple[tuple[str, Ways], ...]
    line_of: Callable[[int], str]


@record
class SetAnswer:
    """A named set of settings.

    How many rows of the table belong to it, and of each that is about people what becomes of it.
    """

    snapshot: Snapshot
    name: str
    rows: int
    settings: tuple[SetSetting, ...]
    line_of: Callable[[int], str]
