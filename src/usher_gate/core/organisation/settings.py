"""The tables of what is set and of what was really seen."""

from __future__ import annotations

from dataclasses import replace

from ..words.record import record
from .columns import Bools, Coded, Ints, Longs

# The scopes that a setting can have.
ORGANISATION, UNIT, GROUP, PERSON, MEETING = range(5)


@record
class Settings:
    """The active settings, one a row, in any order.

    `service` and `control` number the services and `controls`; `target` is the unit's, group's or person's number,
    MISSING where there is none such; `value` points into `values` (canonical texts), each of which belongs to the
    control of that place in `value_controls`. `rank` is NO_RANK where it is blank. `timed` says whether the snapshot
    has the column changed_at; `row` is the row in the file.
    """

    service: Ints
    control: Ints
    kind: Ints
    target: Ints
    scope: Coded
    value: Ints
    pinned: Bools
    rank: Longs
    changed: Longs
    row: Ints
    controls: tuple[str, ...]
    values: tuple[str, ...]
    value_controls: tuple[int, ...]
    timed: bool

    def __len__(self) -> int:
        return len(self.service)

    def at(self, rows: Longs) -> Settings:
        """Return only those at some rows."""
        return replace(
            self,
            service=self.service[rows],
            control=self.control[rows],
            kind=self.kind[rows],
            target=self.target[rows],
            scope=Coded(self.scope.codes[rows], self.scope.words),
            value=self.value[rows],
            pinned=self.pinned[rows],
            rank=self.rank[rows],
            changed=self.changed[rows],
            row=self.row[rows],
        )


@record
class IgnoredSettings:
    """The active settings that apply to nothing, because their group, person or unit does not exist.

    `row` is the row in the file, `scope` where each is set; `nearest` names for each word of `scope` the nearest scope
    that exists, "" for none.
    """

    row: Ints
    scope: Coded
    nearest: tuple[str, ...]


@record
class Observations:
    """Describes what was really seen, one a row; `value` into `values` (canonical texts)."""

    person: Ints
    service: Ints
    control: Ints
    value: Ints
    seen: Longs
    controls: tuple[str, ...]
    values: tuple[str, ...]
