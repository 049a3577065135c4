"""Who is locked out: whom every possible sign-in to a resource denies or leaves stuck, whatever missing data might hold."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ..organisation.access_rules import SECOND_FACTOR, Conditions
from ..organisation.columns import Bools, Longs
from ..organisation.proofs import PROOF_LEVELS, device_proofs
from ..organisation.select import Unanswerable, select
from ..organisation.selector import Selector
from ..words.record import record
from ..words.vocabulary import DEVICES
from .bits import least, none_of
from .gatekeeper import Gatekeeper
from .possible import SignInClass, sign_in_classes

ADMIN = "admin"  # the tag of resources for administrators
WATCHED = (
    ("privileged", Selector("role", ("privileged",))),
    ("break-glass", Selector("break-glass", ("true",))),
)


@record
class Lockout:
    """Who is locked out of an admin resource: ids, of which kind, and whether these are all of that kind."""

    resource: str
    people: tuple[str, ...]
    of: str
    all: bool


@record
class Lockouts:
    """All lock-outs by resource and kind, and notes about what could not be told."""

    found: tuple[Lockout, ...]
    notes: frozenset[str]


def lockouts(keeper: Gatekeeper) -> Lockouts:
    """Which privileged people and which break-glass accounts are locked out of each resource for administrators."""
    snapshot, notes, kinds = keeper.snapshot, set[str](), []
    if snapshot.access_rules is None:
        return Lockouts((), frozenset())
    for kind, selector in WATCHED:
        try:
            kinds.append((kind, np.flatnonzero(select(selector, snapshot))))
        except Unanswerable as gap:
            notes.add(f"whether {kind} people are locked out cannot be told without {gap}")
    found = []
    doors = _Ways(keeper)
    for resource in sorted(name for name, tags in snapshot.resources.items() if ADMIN in tags):
        for kind, people in kinds:
            out = people[doors.locked_out(people, resource)]
            if len(out):
                found.append(Lockout(resource, tuple(snapshot.people.ids.take(out)), kind, len(out) == len(people)))
    return Lockouts(tuple(found), frozenset(notes))


class _Ways:
    """The ways in to each resource, by what could bar them."""

    def __init__(self, keeper: Gatekeeper) -> None:
        self._keeper = keeper
        self._classes: dict[tuple[str, tuple[str, ...]], list[SignInClass]] = {}

    def locked_out(self, people: Longs, resource: str) -> Bools:
        """For whom of these every possible sign-in to a resource is denied or stuck, whatever missing data might hold."""
        keeper = self._keeper
        whom, out = np.zeros(len(keeper.guests), bool), np.zeros(len(keeper.guests), bool)
        whom[people] = True
        for home, some in keeper.by_home(whom):
            if home is not None and not home.guests_in:
                out[some] = True
                continue
            devices: tuple[tuple[str, ...], ...] = (DEVICES, ("unknown",)) if home is None else (DEVICES,)
            if home is not None and not home.home_device:
                devices = (("unknown",),)
            level, must_show = keeper.levels[keeper.kits[0][some]], keeper.must_show[some]
            for key in sorted(set(zip(level.tolist(), must_show.tolist(), strict=True))):
                mine = some[(level == key[0]) & (must_show == key[1])]
                open_to = np.zeros(len(mine), bool)
                for mask in self._bars(resource, devices, PROOF_LEVELS[key[0]], key[1]):
                    open_to |= none_of(mask, keeper.bits, mine)
                out[mine] = ~open_to
        return out[people]

    def _bars(
        self, resource: str, devices: Sequence[Sequence[str]], best: frozenset[str], must_show: bool
    ) -> list[int]:
        """For each way in, the rules (as bits) that would deny it or ask for more than can be shown; whoever none of them includes
        gets in."""
        enforced = self._keeper.in_modes("enforce")
        blocking: dict[tuple[str, str], int | None] = {}
        found = []
        for possible in self._to(resource, devices):
            client, device = key = possible.sign_in.client, possible.sign_in.device
            if key not in blocking:
                shown = device_proofs(device) | (frozenset() if client == "legacy" else best)
                barred = (
                    rule.deny or (rule.require is not None and not rule.require.met_by(shown))
                    for rule in self._keeper.rules
                )
                bits = sum(1 << number for number, bar in enumerate(barred) if bar)
                blocking[key] = None if must_show and not SECOND_FACTOR.met_by(shown) else bits
            bits_here = blocking[key]
            if bits_here is not None:
                found.append(possible.rules & bits_here & enforced)
        return least(found)

    def _to(self, resource: str, devices: Sequence[Sequence[str]]) -> Iterator[SignInClass]:
        for some in devices:
            key = resource, tuple(some)
            if key not in self._classes:
                keeper = self._keeper
                found = sign_in_classes(keeper.rules, keeper.networks, (resource,), Conditions(), some)
                self._classes[key] = found
            yield from self._classes[key]
