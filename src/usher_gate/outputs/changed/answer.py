"""What a file of changes would do: what is shown."""

from __future__ import annotations

from collections.abc import Mapping

from ...core.changes.compare import ChangeComparison
from ...core.words.record import record
from ..rehearsal.answer import RehearsalAnswer


@record
class ChangedAnswer:
    """The comparison, each change in words, the sign-ins of the log (None where they are not asked), and what would
    help people who newly get in nowhere, by id.

    `notices` says how many messages were drafted, and for how many people (None: none were asked for).
    """

    comparison: ChangeComparison
    descriptions: tuple[str, ...]
    sign_ins: RehearsalAnswer | None
    helps: Mapping[str, str]
    notices: tuple[int, int] | None
    notes: tuple[str, ...]
