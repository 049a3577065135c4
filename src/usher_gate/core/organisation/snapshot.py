"""Everything known about the organisation at one time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ..words.catalogue import Catalogue
from .access_rules import AccessRule
from .columns import MISSING, Coded
from .credentials import Authenticators, Passes
from .groups import Groups
from .networks import Networks
from .partners import Partner
from .people import People
from .services import Service
from .settings import Observations, Settings
from .units import Units


@dataclass(frozen=True)
class Snapshot:
    """Everything known about the organisation at one time. None stands for what the snapshot does not have."""

    name: str
    taken_at: int
    taken_text: str
    catalogue: Catalogue
    people: People
    units: Units | None
    groups: Groups | None
    privileged: frozenset[str] | None
    services: tuple[Service, ...] | None
    settings: Settings | None
    observations: Observations | None = None
    partners: tuple[Partner, ...] | None = None
    authenticators: Authenticators | None = None
    passes: Passes | None = None
    networks: Networks = field(default_factory=lambda: Networks({}))
    resources: Mapping[str, frozenset[str]] = field(default_factory=dict)  # name to tags
    second_factor_default: bool = False
    access_rules: tuple[AccessRule, ...] | None = None
    notes: tuple[str, ...] = field(default=())
    people_whole: bool = True  # whether everybody is there; where not, nobody can be counted
    unit_paths: frozenset[str] = frozenset()  # also those in which only inactive people are
    group_ids: tuple[str, ...] = ()  # also where there are groups, but no members
    group_titles: tuple[str | None, ...] = ()
    group_names_known: bool = False  # whether a group that is not listed is known not to exist

    @cached_property
    def guest_domains(self) -> Coded:
        """Where each guest comes from: the column, or where it says nothing the part of the login after the @."""
        column, guests = (
            self.people.home_domain,
            self.people.kind.where([word == "guest" for word in self.people.kind.words]),
        )
        codes, known = np.full(len(self.people), MISSING, np.int32), dict[str, int]()
        if column is not None:
            codes, known = column.codes.copy(), {word: number for number, word in enumerate(column.words)}
        empty = np.flatnonzero((codes == MISSING) & guests)
        for row, login in zip(empty.tolist(), self.people.logins.take(empty), strict=True):
            domain = login.rpartition("@")[2] if "@" in login else ""
            if domain:
                codes[row] = known.setdefault(domain, len(known))
        return Coded(codes, tuple(known))

    def registered(self, person: int) -> frozenset[str]:
        """The types that a person has, with the memorized secret that a member is taken to have and a guest has at home."""
        assert self.authenticators is not None
        kind = self.people.kind.words[int(self.people.kind.codes[person])]
        taken = kind == "guest" or (kind == "member" and not self.authenticators.lists_memorized)
        return self.authenticators.of(person) | ({"memorized-secret"} if taken else set())

    @cached_property
    def group_index(self) -> Mapping[str, int]:
        """Where each group stands, by id."""
        groups = self.groups.ids if self.groups is not None else self.group_ids
        return {group: number for number, group in enumerate(groups)}
