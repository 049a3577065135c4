"""What one source would give: what is shown."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ...core.words.record import record


@record
class AttemptAnswer:
    """The rows of each table and the files that a source gives as they are.

    How often columns and values (by column) stood there of which its mapping does not speak; in `refused` are the
    columns whose values are then refused.

    `mapped` has table, column, attribute and number of rows that have it; `roles` has role, number of people, and what
    is known of it.
    """

    source: str
    kind: str
    tables: Mapping[str, Sequence[Mapping[str, str]]]
    files: Mapping[str, str]
    left_columns: Mapping[str, int]
    left_values: Mapping[str, Mapping[str, int]]
    refused: frozenset[str]
    notes: Sequence[str]
    mapped: Sequence[tuple[str, str, str, int]]
    roles: Sequence[tuple[str, int, str]]
