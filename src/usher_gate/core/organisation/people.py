"""People as columns."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..words.record import record
from .columns import MISSING, Bools, Coded, Ints, Longs, Texts

OWNER = "attr.owner"  # whose account it is: accounts of one owner are accounts of one human


@record
class People:
    """People (the active ones, or the others), sorted by id. A column that the snapshot does not have is None."""

    ids: Texts
    logins: Texts
    names: Texts | None
    kind: Coded
    unit: Coded | None
    roles: Coded | None
    licences: Coded | None
    break_glass: Bools | None
    home_domain: Coded | None  # as the column says; see Directory.guest_domains
    mfa: Coded | None
    protection: Coded | None
    times: Mapping[str, Longs]
    attributes: Mapping[str, Coded]
    sponsors: Ints | None = None  # who each sponsor is (a number of an active person, MISSING for no one who is)
    others_owned: Ints | None = None  # of a part of the people: see `others`, counted over everyone

    def __len__(self) -> int:
        return len(self.ids)

    @property
    def guests(self) -> Bools:
        """Return a mask (bool, one for each active person) of those whose kind is guest."""
        return self.kind.where([word == "guest" for word in self.kind.words])

    def others(self) -> Ints | None:
        """Return how many other active accounts the owner of each has (int32, MISSING for one without owner).

        None if no owners are known.
        """
        return others_of(self.attributes.get(OWNER)) if self.others_owned is None else self.others_owned


def others_of(owner: Coded | None) -> Ints | None:
    """Return how many other accounts the owner of each has, of all accounts in a column."""
    if owner is None:
        return None
    counted = np.bincount(owner.codes[owner.codes != MISSING], minlength=len(owner.words) + 1)
    return np.where(owner.codes == MISSING, MISSING, counted[owner.codes] - 1).astype(np.int32)
