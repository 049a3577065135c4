"""Who is locked out: whom every possible sign-in to a resource denies or leaves stuck, whatever missing data might hold."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

import numpy as np

from ..organisation.access_rules import SECOND_FACTOR, AccessRule, Conditions
from ..organisation.columns import Bools, Ints, Longs
from ..organisation.proofs import PROOF_LEVELS, device_proofs
from ..organisation.select import Unanswerable, select
from ..organisation.selector import Selector
from ..words.record import record
from ..words.vocabulary import DEVICES
from .bits import Bits, least, none_of, packed
from .gatekeeper import Gatekeeper
from .possible import SignInClass, sign_in_classes

ADMIN = "admin"  # the tag of resources for administrators
WATCHED = (
    ("privileged", Selector("role", ("privileged",))),
    ("break-glass", Selector("break-glass", ("true",))),
)


@record
class Lockout:
    """Who is locked out of an admin resource: ids, of which kind, and whether these are all of that kind.

    `rules` are the enforced rules that deny one of the possible sign-ins, or ask for what one of these people cannot show; legacy clients
    are left out. It may be empty: a partner may shut people out, or their own requirement.
    """

    resource: str
    people: tuple[str, ...]
    of: str
    all: bool
    rules: tuple[AccessRule, ...]


@record
class Stranded:
    """Who can get in nowhere at a resource although not all is denied: somebody forgot to register something. `people` ascending."""

    resource: str
    people: Ints


@record
class Lockouts:
    """All lock-outs by resource and kind, the others who are stranded by resource, and notes about what could not be told."""

    found: tuple[Lockout, ...]
    stranded: tuple[Stranded, ...]
    notes: frozenset[str]


def lockouts(keeper: Gatekeeper) -> Lockouts:
    """Which privileged people and which break-glass accounts are locked out of each resource for administrators."""
    snapshot, notes, kinds = keeper.snapshot, set[str](), []
    if snapshot.access_rules is None:
        return Lockouts((), (), frozenset())
    for kind, selector in WATCHED:
        try:
            kinds.append((kind, np.flatnonzero(select(selector, snapshot))))
        except Unanswerable as gap:
            notes.add(f"whether {kind} people are locked out cannot be told without {gap}")
    found, stranded = [], []
    doors = _Ways(keeper)
    kind_of = snapshot.people.kind
    everybody = np.flatnonzero(kind_of.where([word in ("member", "guest") for word in kind_of.words]))
    for resource in sorted(snapshot.resources):
        told = np.zeros(len(keeper.guests), bool)
        for kind, people in kinds if ADMIN in snapshot.resources[resource] else ():
            out = people[doors.shut_out(people, resource).out]
            if len(out):
                told[out] = True
                rules = doors.rules_against(out, resource)
                ids = tuple(snapshot.people.ids.take(out))
                found.append(Lockout(resource, ids, kind, len(out) == len(people), rules))
        others = everybody[~told[everybody]]
        lost = others[doors.shut_out(others, resource).stuck]
        if len(lost):
            stranded.append(Stranded(resource, lost.astype(np.int32)))
    return Lockouts(tuple(found), tuple(stranded), frozenset(notes))


@record
class _Shut:
    """Of some people: for whom no possible sign-in gets in, and for whom besides one is stuck, whatever missing data might hold."""

    out: Bools
    stuck: Bools


@record
class _Alike:
    """People who could show as much (`best`, devices apart), on the same devices; `known` says that it is known whether they are let in."""

    people: Longs
    devices: tuple[tuple[str, ...], ...]
    best: frozenset[str]
    must_show: bool
    known: bool

    def shown(self, client: str, device: str) -> frozenset[str]:
        """The most that they could show by a client on a device."""
        return device_proofs(device) | (frozenset() if client == "legacy" else self.best)


class _Ways:
    """The ways in to each resource, by what could bar them."""

    def __init__(self, keeper: Gatekeeper) -> None:
        self._keeper = keeper
        self._classes: dict[tuple[str, tuple[str, ...]], list[SignInClass]] = {}

    def shut_out(self, people: Longs, resource: str) -> _Shut:
        """Whom of these no possible sign-in to a resource lets in, and who is besides stuck in one."""
        size = len(self._keeper.guests)
        out, stuck = np.zeros(size, bool), np.zeros(size, bool)
        for alike in self._alike(people):
            mine = alike.people
            if not alike.devices:  # their partner keeps them out
                out[mine] = True
                continue
            open_to, not_denied = np.zeros(len(mine), bool), np.zeros(len(mine), bool)
            for mask in least(bars for bars in self._bars(resource, alike) if bars is not None):
                open_to |= none_of(mask, self._keeper.bits, mine)
            if not np.all(open_to) and alike.known:
                for mask in self._denials(resource, alike):
                    not_denied |= none_of(mask, self._perhaps, mine)
            out[mine], stuck[mine] = ~open_to, ~open_to & not_denied
        return _Shut(out[people], stuck[people])

    def rules_against(self, people: Longs, resource: str) -> tuple[AccessRule, ...]:
        """The enforced rules that deny any of these people a sign-in, or ask for what they cannot show; legacy clients left out."""
        keeper, found = self._keeper, set[int]()
        for alike in self._alike(people):
            against = 0
            for possible, bars in self._barred(resource, alike):
                against |= 0 if possible.sign_in.client == "legacy" else bars & keeper.in_modes("enforce")
            found.update(
                number
                for number in range(len(keeper.rules))
                if against >> number & 1 and keeper.whom(number)[alike.people].any()
            )
        return tuple(sorted((keeper.rules[number] for number in found), key=lambda rule: rule.id))

    @cached_property
    def _perhaps(self) -> Bits:
        """The rules that include each person, or may, as words of bits."""
        keeper = self._keeper
        truths = np.zeros((len(keeper.guests), max(1, -(-len(keeper.rules) // 64)) * 64), bool)
        for number in range(len(keeper.rules)):
            truths[:, number] = keeper.whom(number) | keeper.perhaps(number)
        return packed(truths)

    def _alike(self, people: Longs) -> Iterator[_Alike]:
        """People by what they could show, and on which devices; none where their partner keeps them out."""
        keeper = self._keeper
        whom = np.zeros(len(keeper.guests), bool)
        whom[people] = True
        for home, some in keeper.by_home(whom):
            devices: tuple[tuple[str, ...], ...] = (DEVICES, ("unknown",)) if home is None else (DEVICES,)
            if home is not None and not home.home_device:
                devices = (("unknown",),)
            if home is not None and not home.guests_in:
                devices = ()
            level, must_show = keeper.levels[keeper.kits[0][some]], keeper.must_show[some]
            for key in sorted(set(zip(level.tolist(), must_show.tolist(), strict=True))):
                mine = some[(level == key[0]) & (must_show == key[1])]
                yield _Alike(mine, devices, PROOF_LEVELS[key[0]], key[1], home is not None)

    def _barred(self, resource: str, alike: _Alike) -> Iterator[tuple[SignInClass, int]]:
        """Each way in, with the rules of its conditions (as bits) that would deny it or ask for more than can be shown."""
        known: dict[tuple[str, str], int] = {}
        for possible in self._to(resource, alike.devices):
            client, device = key = possible.sign_in.client, possible.sign_in.device
            if key not in known:
                shown = alike.shown(client, device)
                barred = (
                    rule.deny or (rule.require is not None and not rule.require.met_by(shown))
                    for rule in self._keeper.rules
                )
                known[key] = sum(1 << number for number, bar in enumerate(barred) if bar)
            yield possible, possible.rules & known[key]

    def _bars(self, resource: str, alike: _Alike) -> Iterator[int | None]:
        """For each way in the enforced rules (as bits) that bar it: whoever none of them includes gets in; None where nobody does."""
        enforced = self._keeper.in_modes("enforce")
        for possible, bars in self._barred(resource, alike):
            shown = alike.shown(possible.sign_in.client, possible.sign_in.device)
            yield None if alike.must_show and not SECOND_FACTOR.met_by(shown) else bars & enforced

    def _denials(self, resource: str, alike: _Alike) -> list[int]:
        """For each way in the enforced rules (as bits) that deny it: whoever none of them includes is not denied."""
        enforced, found = self._keeper.in_modes("enforce"), []
        for possible in self._to(resource, alike.devices):
            legacy = possible.sign_in.client == "legacy"
            if legacy and alike.must_show and not SECOND_FACTOR.carried_by_legacy:
                continue
            denying = (
                rule.deny or (legacy and rule.require is not None and not rule.require.carried_by_legacy)
                for rule in self._keeper.rules
            )
            found.append(
                sum(1 << number for number, denies in enumerate(denying) if denies) & possible.rules & enforced
            )
        return least(found)

    def _to(self, resource: str, devices: Sequence[Sequence[str]]) -> Iterator[SignInClass]:
        for some in devices:
            key = resource, tuple(some)
            if key not in self._classes:
                keeper = self._keeper
                found = sign_in_classes(keeper.rules, keeper.networks, (resource,), Conditions(), some)
                self._classes[key] = found
            yield from self._classes[key]
