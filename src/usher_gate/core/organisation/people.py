"""People as columns."""

from __future__ import annotations

from collections.abc import Mapping

from ..words.record import record
from .columns import Bools, Coded, Ints, Longs, Texts


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
    sponsors: Ints | None = None  # who each sponsor is (a number of an active person, MISSING for nobody who is)
    others_owned: Ints | None = None  # of a part of the people: see facts.others_owned, counted over everybody

    def __len__(self) -> int:
        return len(self.ids)

    @property
    def guests(self) -> Bools:
        """A mask (bool, one for each active person) of those whose kind is guest."""
        return self.kind.where([word == "guest" for word in self.kind.words])
