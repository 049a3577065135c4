"""The directory: who there is, and in which units and groups. Selectors are answered from it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from functools import cached_property

import numpy as np

from ..words.record import record_by_name
from .columns import MISSING, Coded
from .groups import Groups
from .people import People
from .units import Units


@record_by_name
class Directory:
    """People, units and groups.

    None means that the snapshot does not have it.

    `unit_paths` are also those in which only inactive people are; `group_ids` and `group_titles` are there also without
    a members table; `group_names_known` says whether a group that is not listed is known not to exist; `unit_names` has
    what listed units are called.
    """

    people: People
    units: Units | None
    groups: Groups | None
    privileged: frozenset[str] | None
    inactive: People
    unit_paths: frozenset[str] = frozenset()
    group_ids: tuple[str, ...] = ()
    group_titles: tuple[str | None, ...] = ()
    group_names_known: bool = False
    unit_names: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def guest_domains(self) -> Coded:
        """Return where each guest comes from.

        The column, or where it says nothing the part of the login after the @.
        """
        column, guests = self.people.home_domain, self.people.guests
        codes, known = np.full(len(self.people), MISSING, np.int32), dict[str, int]()
        if column is not None:
            codes, known = column.codes.copy(), {word: number for number, word in enumerate(column.words)}
        empty = np.flatnonzero((codes == MISSING) & guests)
        for row, login in zip(empty.tolist(), self.people.logins.take(empty), strict=True):
            domain = login.rpartition("@")[2] if "@" in login else ""
            if domain:
                codes[row] = known.setdefault(domain, len(known))
        return Coded(codes, tuple(known))

    @cached_property
    def group_index(self) -> Mapping[str, int]:
        """Return the index of each group, by id."""
        groups = self.groups.ids if self.groups is not None else self.group_ids
        return {group: number for number, group in enumerate(groups)}
