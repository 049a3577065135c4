"""Everything known about the organisation at one time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from functools import cached_property

import numpy as np

from ..words.catalogue import Catalogue
from ..words.record import record_by_name
from .access_rules import AccessRule
from .columns import MISSING, Ints
from .credentials import Authenticators, Passes
from .directory import Directory
from .meetings import Meetings
from .networks import Networks
from .partners import Partner
from .services import Service
from .settings import IgnoredSettings, Observations, Settings


@record_by_name
class Snapshot(Directory):
    """Everything known about the organisation at one time. None means that the snapshot does not have it."""

    name: str
    taken_at: int  # microseconds since 1970-01-01T00:00Z
    taken_text: str
    catalogue: Catalogue
    domains: frozenset[str] | None = None  # the organisation's own
    services: tuple[Service, ...] | None = None
    settings: Settings | None = None
    inactive_settings: Settings | None = None
    ignored: IgnoredSettings | None = None  # settings that apply to nothing
    observations: Observations | None = None
    partners: tuple[Partner, ...] | None = None
    partner_columns: frozenset[str] = frozenset()  # which of a partner's flags the table has
    authenticators: Authenticators | None = None
    passes: Passes | None = None
    meetings: Meetings | None = None
    networks: Networks = field(default_factory=lambda: Networks({}))
    resources: Mapping[str, frozenset[str]] = field(default_factory=dict)  # name to tags
    second_factor_default: bool = False
    access_rules: tuple[AccessRule, ...] | None = None
    notes: tuple[str, ...] = ()
    people_whole: bool = True  # whether everyone is there; where not, no one can be counted
    missing: tuple[str, ...] = ()  # tables, files and columns that are not there, and services that were not gathered
    partial: tuple[str, ...] = ()  # what gathering could not bring, in words
    stale: str = ""  # why the snapshot is older than it should be, in words
    manifest: str | None = None  # the SHA-256 of its manifest
    content: str = ""  # a digest of all its files, if they were copied from a store

    @cached_property
    def partner_rows(self) -> Ints:
        """Return for each active person the number of the partner that counts for a guest (own row, else `*`), MISSING
        for others.
        """
        partners = {partner.domain.casefold(): number for number, partner in enumerate(self.partners or ())}
        domains, star = self.guest_domains, partners.get("*", MISSING)
        row = np.array([*(partners.get(word.casefold(), star) for word in domains.words), star], np.int32)
        found: Ints = row[domains.codes]
        return found

    @property
    def is_doubtful(self) -> bool:
        """Return whether it is known to be less than whole, or older than it should be."""
        return bool(self.partial or self.stale)

    def scope_name(self, scope: str) -> str:
        """Return what the group, unit, person or meeting of a scope is called.

        "" where nothing else than the scope is known.
        """
        kind, _, name = scope.partition(":")
        if kind == "unit":
            return self.unit_names.get(name, "")
        if kind == "group" and name in self.group_index and self.group_index[name] < len(self.group_titles):
            return self.group_titles[self.group_index[name]] or ""
        if kind == "person":
            return "".join(self.people.logins.take(np.array(self.people.ids.find(name)[:1], np.int32)))
        if kind == "meeting" and self.meetings is not None and self.meetings.labels is not None:
            return "".join(self.meetings.labels.take(np.array(self.meetings.ids.find(name)[:1], np.int32)))
        return ""

    @property
    def says_pinned(self) -> bool:
        """Return whether the table of settings says what is pinned.

        Where it does not, nothing can be pinned by a change.
        """
        return self.settings is not None and "settings.pinned" not in self.missing

    def registered(self, person: int) -> frozenset[str]:
        """Return the types that a person has, with the memorized secret that a member is taken to have and a guest has
        at home.
        """
        assert self.authenticators is not None
        kind = self.people.kind.words[int(self.people.kind.codes[person])]
        taken = kind == "guest" or (kind == "member" and not self.authenticators.lists_memorized)
        return self.authenticators.of(person) | ({"memorized-secret"} if taken else set())
