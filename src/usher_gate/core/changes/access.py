"""Who newly gets in, is challenged, gets stuck, is denied or is not known to get in because of a change, by resource.

Every possible sign-in is decided before and after. Spec: changes 3.1.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..organisation.access_rules import AccessRule, Conditions
from ..organisation.columns import MISSING, Ints, Longs
from ..organisation.snapshot import Snapshot
from ..sign_in.evaluator import AccessPolicyEvaluator
from ..sign_in.possible import SignInClass, sign_in_classes
from ..sign_in.replay import ALLOWED, CHALLENGED, DENIED, STUCK, UNKNOWN, Events, OutcomeCodes, Replay
from ..words.record import record
from ..words.vocabulary import CONDITION_WORDS

GETS_IN, NOW_CHALLENGED, NOW_STUCK, NOW_DENIED, NOW_UNKNOWN = "gets-in", "challenged", "stuck", "denied", "unknown"
WHAT = (GETS_IN, NOW_CHALLENGED, NOW_STUCK, NOW_DENIED, NOW_UNKNOWN)


@record
class AccessMoved:
    """Whose possible sign-ins to a resource meet something else: `what` is one of WHAT, `people` are ids in order.

    `always` are the people among them that it concerns by every way in that there was before.
    For `gets-in` they got in by no way before; for `unknown` no way in is known.
    """

    resource: str
    what: str
    people: tuple[str, ...]
    always: tuple[str, ...]


def access_moves(before: Snapshot, after: Snapshot) -> tuple[AccessMoved, ...]:
    """Return what differs, for which people, at which resource; a person who is not there counts as denied."""
    if before.access_rules is None or after.access_rules is None:
        return ()
    sides = [_Side(snapshot) for snapshot in (before, after)]
    ids = sorted({*sides[0].numbers, *sides[1].numbers})
    people = np.array([[side.numbers.get(name, MISSING) for name in ids] for side in sides], np.int64)
    keys = np.stack([side.alike(numbers) for side, numbers in zip(sides, people, strict=True)])
    _, first, which = np.unique(keys, axis=1, return_index=True, return_inverse=True)
    which = which.reshape(-1)
    found = []
    for resource in sorted(set(before.resources) & set(after.resources)):
        rules: tuple[AccessRule, ...] = (*before.access_rules, *after.access_rules)
        classes = sign_in_classes(rules, before.networks, (resource,), Conditions())
        now, then = (side.outcomes(numbers[first], classes) for side, numbers in zip(sides, people, strict=True))
        for what in WHAT:
            some, every = _moved(what, now, then)
            concerned = np.flatnonzero(some[which])
            if len(concerned):
                always = [ids[number] for number in concerned.tolist() if every[which[number]]]
                names = tuple(ids[number] for number in concerned.tolist())
                found.append(AccessMoved(resource, what, names, tuple(always)))
    return tuple(found)


class _Side:
    """The sign-ins before a change, or after it."""

    def __init__(self, snapshot: Snapshot) -> None:
        self._evaluator = AccessPolicyEvaluator(snapshot)
        self._replay = Replay(self._evaluator, self._evaluator)
        ids = snapshot.people.ids.take(np.arange(len(snapshot.people), dtype=np.int32))
        self.numbers = {name: number for number, name in enumerate(ids)}

    def alike(self, people: Longs) -> Longs:
        """Return a class number for each person (MISSING: not there).

        Every sign-in meets the same for people of one class.
        """
        authenticator_sets = self._evaluator.authenticator_sets[0].astype(np.int64)
        both = (
            self._evaluator.classes[0].astype(np.int64) * (int(authenticator_sets.max(initial=0)) + 1)
            + authenticator_sets
        )
        return np.append(both, -1)[people]

    def outcomes(self, people: Longs, classes: Sequence[SignInClass]) -> OutcomeCodes:
        """Return the outcome of each class of sign-ins (columns) of each of some people (rows).

        DENIED for someone who is not there.
        """
        replay = self._replay
        found = np.full((len(people), len(classes)), DENIED, np.int8)
        here = np.flatnonzero(people != MISSING)
        if not len(here) or not classes:
            return found
        sign_ins = [possible.sign_in for possible in classes]
        # The sign-ins as columns of codes, the same for each person.
        columns: dict[str, Ints] = {
            name: np.array([words.index(sign_in.word(name)) for sign_in in sign_ins], np.int32)
            for name, words in CONDITION_WORDS.items()
        }
        resource = np.array([replay.resources.index(sign_in.resource) for sign_in in sign_ins], np.int32)
        network = np.array([replay.network(sign_in.network.names) for sign_in in sign_ins], np.int32)
        for row in here.tolist():
            person = np.full(len(classes), people[row], np.int32)
            events = Events(person, resource, network, shown=np.zeros(len(classes), np.int32), **columns)
            found[row] = replay.decide(events)[0]
        return found


def _moved(what: str, now: OutcomeCodes, then: OutcomeCodes) -> tuple[np.ndarray, np.ndarray]:
    """Return for each row, whether some sign-in moves so, and whether all do that could."""
    was_in, is_in = now <= CHALLENGED, then <= CHALLENGED
    if what == GETS_IN:
        moved = ((now == STUCK) | (now == DENIED)) & is_in
        return moved.any(axis=1), moved.any(axis=1) & ~was_in.any(axis=1)
    if what == NOW_UNKNOWN:
        return ((now != UNKNOWN) & (then == UNKNOWN)).any(axis=1), (then == UNKNOWN).all(axis=1)
    before = now == ALLOWED if what == NOW_CHALLENGED else was_in
    after = {NOW_CHALLENGED: CHALLENGED, NOW_STUCK: STUCK, NOW_DENIED: DENIED}[what]
    moved = before & (then == after)
    return moved.any(axis=1), moved.any(axis=1) & (moved == was_in).all(axis=1)
