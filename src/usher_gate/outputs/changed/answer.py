"""What a file of changes would do: what is told."""

from __future__ import annotations

from collections.abc import Mapping

from ...core.changes.compare import Comparison
from ...core.words.record import record
from ..rehearsal.answer import RehearsalAnswer


@record
class ChangedAnswer:
    """The comparison, each change in words, the sign-ins of the log (None where they are not asked), and what would help whoever newly gets
    in nowhere, by id. `notices` says how many messages were drafted, and for how many people (None: none were asked for)."""

    comparison: Comparison
    told: tuple[str, ...]
    sign_ins: RehearsalAnswer | None
    helps: Mapping[str, str]
    notices: tuple[int, int] | None
    notes: tuple[str, ...]
