"""Someone who does not exist yet: a snapshot of one person, to try the access rules on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ..organisation.columns import MISSING, NO_TIME, Coded, Ints, Longs
from ..organisation.credentials import Authenticators, no_passes
from ..organisation.groups import Groups, close_groups
from ..organisation.people import People
from ..organisation.select import find_group
from ..organisation.snapshot import Snapshot
from ..organisation.units import Units, lineage
from ..words.record import record
from ..words.values import join_words


@record
class Traits:
    """Describes what is said of the person; groups by id or name, `mfa` "" for not known."""

    kind: str = "member"
    login: str = "somebody"
    unit: str = ""
    roles: tuple[str, ...] = ()
    licences: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    home_domain: str = ""
    mfa: str = ""
    authenticators: tuple[str, ...] = ()


class _One:
    """One text."""

    def __init__(self, text: str) -> None:
        self.text = text

    def __len__(self) -> int:
        return 1

    def take(self, rows: Ints | Longs) -> list[str]:
        return [self.text] * len(rows)

    def find(self, text: str) -> list[int]:
        return [0] if text == self.text else []


def _coded(text: str) -> Coded:
    return Coded(np.zeros(1, np.int32), (text,)) if text else Coded(np.full(1, MISSING, np.int32), ())


def somebody(snapshot: Snapshot, traits: Traits) -> Snapshot:
    """Return the snapshot with no one in it but this person; raises KeyError for a group that does not exist."""
    domain = traits.home_domain or (traits.login.rpartition("@")[2] if "@" in traits.login else "")
    unit = [] if not traits.unit else lineage(traits.unit)
    people = People(
        ids=_One("somebody"),
        logins=_One(traits.login),
        names=None,
        kind=_coded(traits.kind),
        unit=_coded(traits.unit),
        roles=Coded(np.zeros(1, np.int32), (join_words(traits.roles),)),
        licences=Coded(np.zeros(1, np.int32), (join_words(traits.licences),)),
        break_glass=np.zeros(1, bool),
        home_domain=_coded(domain),
        mfa=_coded(traits.mfa),
        protection=_coded("standard"),
        times=dict.fromkeys(("created_at", "last_sign_in_at", "expires_at", "reviewed_at"), np.full(1, NO_TIME)),
        attributes={},
    )
    kinds = tuple(sorted(set(traits.authenticators)))
    lists = snapshot.authenticators is not None and snapshot.authenticators.lists_memorized
    units = Units(tuple(unit), np.array([len(unit) - 1 if unit else MISSING], np.int32))
    return replace(
        snapshot,
        people=people,
        units=units,
        groups=_groups(snapshot, traits.groups),
        authenticators=Authenticators(
            np.zeros(len(kinds), np.int32), np.arange(len(kinds), dtype=np.int32), kinds, lists
        ),
        passes=no_passes(snapshot.taken_at, 1),
        unit_paths=frozenset(unit),
    )


def _groups(snapshot: Snapshot, names: Sequence[str]) -> Groups | None:
    """Return the same groups with this person as the only member of the named ones and of those around them."""
    if snapshot.groups is None:
        return None
    groups = snapshot.groups
    mine = np.array(sorted({find_group(name, snapshot) for name in names}), np.int64)
    return close_groups(
        groups.ids, groups.names, (mine, np.zeros(len(mine), np.int32)), groups.nested, 1, groups.owners
    )
