"""Everyone who is invited: every address once, with its visitor type before any list of domains is considered."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints, Longs
from ..organisation.snapshot import Snapshot
from ..words.record import record
from .visitors import GUEST, MEMBER, OUTSIDER, PARTNER

# As what an invited address may stand: of the last two the list of domains is not known, or contested with rivals of
# both minds.
STANDINGS_OF = ((MEMBER,), (GUEST,), (PARTNER,), (OUTSIDER,), (PARTNER, OUTSIDER), (PARTNER, OUTSIDER))
AS_MEMBER, AS_GUEST, AS_PARTNER, AS_OUTSIDER, AS_EITHER, AS_RIVALS = range(6)


@record
class AddressBook:
    """Every invited address, sorted as texts.

    Of each: `folded` numbers it whatever its case, `person` the active person whose login it is (MISSING for none),
    `standing` is its place in STANDINGS_OF as long as no list is asked, `domain` the one that counts (into `domains`,
    case folded, the first of which is none at all), `elsewhere` whether it is no one's here.
    """

    addresses: tuple[str, ...]
    folded: Ints
    person: Longs
    standing: Ints
    domain: Ints
    domains: tuple[str, ...]
    elsewhere: Bools

    @property
    def in_two_cases(self) -> bool:
        """Return whether some address is written in more than one case."""
        return len(self.addresses) > (int(self.folded.max()) + 1 if len(self.folded) else 0)


def address_book(snapshot: Snapshot, addresses: tuple[str, ...]) -> AddressBook:
    """Return what is known of some addresses, sorted as texts."""
    folds: dict[str, int] = {}
    folded = [folds.setdefault(address.casefold(), len(folds)) for address in addresses]
    person = _people(snapshot, folds)[folded] if folded else np.empty(0, np.int64)
    found = _standings(snapshot, addresses, person)
    elsewhere = (found.standing == AS_OUTSIDER) if len(addresses) else np.empty(0, bool)
    return AddressBook(
        addresses=addresses,
        folded=np.array(folded, np.int32),
        person=person,
        standing=found.standing,
        domain=found.domain,
        domains=found.domains,
        elsewhere=elsewhere,
    )


def _people(snapshot: Snapshot, folds: dict[str, int]) -> Longs:
    """Return for each address, whatever its case, the active person whose login it is."""
    found = np.full(len(folds), MISSING, np.int64)
    every = snapshot.people.logins.take(np.arange(len(snapshot.people), dtype=np.int32))
    for person, login in enumerate(every):
        number = folds.get(login.casefold())
        if number is not None:
            found[number] = person
    return found


@record
class _AddressStandings:
    """The visitor type of each address (int32), its domain (int32, an index into `domains`), and the domains."""

    standing: Ints
    domain: Ints
    domains: tuple[str, ...]


def _standings(snapshot: Snapshot, addresses: Sequence[str], person: Longs) -> _AddressStandings:
    """Return the visitor type of each address before any list is considered, and the domain that counts."""
    ours = {domain.casefold() for domain in snapshot.domains or ()}
    index = {"": 0}
    written = [index.setdefault(_domain(address), len(index)) for address in addresses]
    # Guests by their account, members by account or domain, everyone else an outsider.
    mine = np.array([*(domain in ours for domain in index), False], bool)
    domain = np.array(written, np.int32)
    kind = snapshot.people.kind
    guest = kind.where([word == GUEST for word in kind.words])
    known = person != MISSING
    guests = known & guest[np.maximum(person, 0)] if len(guest) else np.zeros(len(person), bool)
    standing = np.where(guests, AS_GUEST, np.where(known | mine[domain], AS_MEMBER, AS_OUTSIDER)).astype(np.int32)
    # Of a guest the home domain counts, not that of the address.
    home = snapshot.guest_domains
    for number in np.flatnonzero(guests).tolist():
        code = int(home.codes[person[number]])
        domain[number] = index.setdefault(home.words[code].casefold(), len(index)) if code != MISSING else 0
    return _AddressStandings(standing, domain, tuple(index))


def _domain(address: str) -> str:
    return address.rpartition("@")[2].casefold() if "@" in address else ""
