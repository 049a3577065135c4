"""Sign-ins that happened, decided again by columns: under the access rules as they are, and under others.

Every rule that takes part is a bit. Each person, resource, network, client, platform, device and risk has the bits of
the rules that it satisfies; the bits of a sign-in are those of its parts, and-ed. Two further bits stand for the second
factor that a person must show anyway, and for a partner who lets no one in. What was shown, and what could be, is one
of four levels (proofs imply one another), so a decision is a few operations on whole columns. Spec: sign-in 2.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import product

import numpy as np
from numpy.typing import NDArray

from ..organisation.access_rules import SECOND_FACTOR, AccessRule
from ..organisation.columns import MISSING, Bools, Ints, Longs, distinct
from ..organisation.proofs import DEVICE_PROOFS, PROOF_LEVELS, device_proofs
from ..words.record import record
from ..words.vocabulary import CLIENTS, CONDITION_WORDS, DEVICES, PLATFORMS, RISKS
from .bits import Bits, packed
from .decide import OUTCOMES, OWN, Assumption, Decider
from .evaluator import AccessPolicyEvaluator

OutcomeCodes = NDArray[np.int8]
ALLOWED, CHALLENGED, STUCK, DENIED, UNKNOWN = range(len(OUTCOMES))
PARTNER = "partner"
_LEGACY, _UNKNOWN_DEVICE = CLIENTS.index("legacy"), DEVICES.index("unknown")
_NO_RULE = 2  # the bits before the first rule: OWN and PARTNER


@record
class Events:
    """Sign-ins as columns of numbers, MISSING for what one does not say (never a person or a resource).

    `person` numbers the snapshot's people, `resource` Replay.resources, `network` Replay.networks, `shown`
    Replay.shown, the others the words of CONDITION_WORDS.
    """

    person: Ints
    resource: Ints
    network: Ints
    client: Ints
    platform: Ints
    device: Ints
    risk: Ints
    shown: Ints

    def __len__(self) -> int:
        return len(self.person)

    def at(self, rows: Longs | slice) -> Events:
        """Return only those at these rows."""
        return Events(
            *(getattr(self, name)[rows] for name in ("person", "resource", "network", *CONDITION_WORDS, "shown"))
        )


@record
class TriedRule:
    """A rule that takes part: in the present (`now`), in what is tried (`then`), or in both."""

    rule: AccessRule
    evaluator: AccessPolicyEvaluator
    number: int
    now: bool
    then: bool


def taking_part(present: AccessPolicyEvaluator, draft: AccessPolicyEvaluator | None) -> list[TriedRule]:
    """Return the rules of a rehearsal: of a draft, or without one of the observed rules as if they were enforced."""
    found = []
    for number, rule in enumerate(present.rules):
        then = draft is None and rule.mode in ("enforce", "observe")
        if rule.mode == "enforce" or then:
            found.append(TriedRule(rule=rule, evaluator=present, number=number, now=rule.mode == "enforce", then=then))
    if draft is not None:
        tried = enumerate(draft.rules)
        found += [
            TriedRule(rule=rule, evaluator=draft, number=number, now=False, then=True)
            for number, rule in tried
            if rule.mode == "enforce"
        ]
    return found


class _Levels:
    """The levels that an authenticator set has shown and could show, for each set of shown types.

    Worked out when first asked for.
    """

    def __init__(
        self, deciders: Sequence[Decider], assumptions: Sequence[Assumption], shown: list[frozenset[str]]
    ) -> None:
        self._deciders, self._assumptions, self._shown = deciders, assumptions, shown
        self._known = np.full((len(deciders), 1), -1, np.int32)

    def of(self, authenticator_set: Ints, shown: Ints) -> Ints:
        """could * 4 + given."""
        if self._known.shape[1] < len(self._shown):
            more = len(self._shown) + 8 - self._known.shape[1]
            self._known = np.concatenate((self._known, np.full((len(self._deciders), more), -1, np.int32)), axis=1)
        key = authenticator_set * np.int32(self._known.shape[1]) + shown
        found: Ints = self._known.reshape(-1).take(key, mode="wrap")
        if len(found) and found.min() < 0:
            for new in set(key[found < 0].tolist()):
                self._work_out(*divmod(new, self._known.shape[1]))
            found = self._known.reshape(-1)[key]
        return found

    def _work_out(self, authenticator_set: int, shown: int) -> None:
        given, could = self._deciders[authenticator_set].proofs_given(
            self._assumptions[authenticator_set], self._shown[shown]
        )
        levels = [PROOF_LEVELS.index(proofs - DEVICE_PROOFS) for proofs in (given | could, given)]
        self._known[authenticator_set, shown] = levels[0] * 4 + levels[1]


@record
class _World:
    """One assumption about what is not known.

    Of each person the bits, the authenticator set, and whether their device counts as unknown.
    """

    people: Bits
    authenticator_set: Ints
    unseen: Bools | None
    levels: _Levels


@record
class _EventParts:
    """Parts of some sign-ins: the rules about each (bits, words x sign-ins), and whether the client is legacy.

    `shown` and `could_show` are rows of the table of unmet requirements (int32): for what was shown, and what could be.
    """

    rules: Bits
    shown: Ints
    could_show: Ints
    legacy: Bools


class Replay:
    """Decides sign-ins again. The sets of networks and of shown types by which sign-ins are numbered may grow."""

    def __init__(self, present: AccessPolicyEvaluator, draft: AccessPolicyEvaluator | None = None) -> None:
        self.snapshot, self.rules = present.snapshot, taking_part(present, draft)
        self.resources = sorted(self.snapshot.resources)
        self.networks: list[frozenset[str]] = []
        self.shown: list[frozenset[str]] = [frozenset()]
        self._network_numbers: dict[frozenset[str], int] = {}
        self._shown_numbers: dict[frozenset[str], int] = {frozenset(): 0}
        self.words = (len(self.rules) + _NO_RULE + 63) // 64
        requirements = [SECOND_FACTOR, None, *(tried.rule.require for tried in self.rules)]
        self._deny = self._bits([[False, True, *(tried.rule.deny for tried in self.rules)]])[:, 0]
        carried = [requirement is None or requirement.carried_by_legacy for requirement in requirements]
        self._uncarried = self._bits([[not carries for carries in carried]])[:, 0]
        self._unmet = self._bits(
            [
                [
                    requirement is not None and not requirement.met_by(level | device_proofs(device))
                    for requirement in requirements
                ]
                for level, device in product(PROOF_LEVELS, DEVICES)
            ]
        )
        taking = [[True, True, *(getattr(tried, name) for tried in self.rules)] for name in ("now", "then")]
        self._regimes = self._bits(taking)
        self._by = {name: self._dimension(name) for name in CONDITION_WORDS}
        self._by_context = self._contexts()
        rows = [[name in tried.rule.resources for tried in self.rules] for name in self.resources]
        self._by_resource = self._rule_bits(rows)
        self._by_network = np.zeros((self.words, 0), np.uint64)
        self._worlds = list(self._possible_worlds(present))

    def network(self, names: frozenset[str]) -> int:
        """Return the number of a set of networks that an address lies in."""
        number = self._network_numbers.setdefault(names, len(self.networks))
        if number == len(self.networks):
            self.networks.append(names)
            more = self._rule_bits([[tried.rule.when.network(names) for tried in self.rules]])
            self._by_network = np.concatenate((self._by_network, more), axis=1)
        return number

    def types_shown(self, types: Iterable[str]) -> int:
        """Return the number of a set of authenticator types."""
        number = self._shown_numbers.setdefault(frozenset(types), len(self.shown))
        if number == len(self.shown):
            self.shown.append(frozenset(types))
        return number

    # Tables of bits, each (words, values)

    def _bits(self, rows: Sequence[Sequence[bool]]) -> Bits:
        table = np.zeros((len(rows), self.words * 64), bool)
        for row, truths in enumerate(rows):
            table[row, : len(truths)] = truths
        return packed(table)

    def _rule_bits(self, rows: Sequence[Sequence[bool]]) -> Bits:
        return self._bits([[True] * _NO_RULE + list(row) for row in rows])

    def _dimension(self, name: str) -> Bits:
        words = CONDITION_WORDS[name]
        return self._rule_bits([[tried.rule.when.holds(name, word) for tried in self.rules] for word in words])

    def _contexts(self) -> Bits:
        """Client, platform, device and risk together: the number of one is as if counted through all of them."""
        made = np.full((self.words, 1), ~np.uint64(0))
        for name in CONDITION_WORDS:
            made = (made[:, :, None] & self._by[name][:, None, :]).reshape(self.words, -1)
        return made

    def _possible_worlds(self, evaluator: AccessPolicyEvaluator) -> Iterator[_World]:
        """Yield each combination of facts that the snapshot leaves open; a decision must hold in all of them."""
        authenticator_set, first = evaluator.authenticator_sets
        deciders = [Decider(evaluator, person) for person in first]
        choices = [_distinct_assumptions(decider.assumptions()) for decider in deciders]
        truths = np.zeros((len(self.snapshot.people), self.words * 64), bool)
        truths[:, 0] = evaluator.must_show
        for bit, tried in enumerate(self.rules, _NO_RULE):
            truths[:, bit] = tried.evaluator.included(tried.number)
        perhaps_mask = np.zeros_like(truths)
        for bit, tried in enumerate(self.rules, _NO_RULE):
            perhaps_mask[:, bit] = tried.evaluator.perhaps(tried.number)
        for number in range(max(map(len, choices), default=0)):
            assumptions = [choice[min(number, len(choice) - 1)] for choice in choices]
            truths[:, 1] = np.array([not assumption.home.guests_in for assumption in assumptions])[authenticator_set]
            blind = [
                decider.guest and not assumption.home.home_device
                for decider, assumption in zip(deciders, assumptions, strict=True)
            ]
            unseen = np.array(blind)[authenticator_set] if any(blind) else None
            levels = _Levels(deciders, assumptions, self.shown)
            yield _World(packed(truths), authenticator_set, unseen, levels)
            if perhaps_mask.any():
                yield _World(packed(truths | perhaps_mask), authenticator_set, unseen, levels)

    # Deciding

    def decide(self, events: Events) -> tuple[OutcomeCodes, OutcomeCodes]:
        """Return the decisions now and then, as numbers of OUTCOMES.

        UNKNOWN where they differ with what is not known or not said.
        """
        names = ("network", *CONDITION_WORDS)
        # A bit for each dimension that the log does not give.
        gaps = np.zeros(len(events), np.int32)
        for place, name in enumerate(names):
            column = getattr(events, name)
            if len(column) and column.min() < 0:
                gaps |= (column == MISSING).astype(np.int32) << place
        if not gaps.any():
            return self._whole(events)
        # Decide events with the same gaps together, with every value that could fill them.
        now, then = np.empty(len(events), np.int8), np.empty(len(events), np.int8)
        for pattern in distinct(gaps).tolist():
            rows = np.flatnonzero(gaps == pattern)
            some = events.at(rows)
            missing = [name for place, name in enumerate(names) if pattern >> place & 1]
            now[rows], then[rows] = _agreed(self._whole(filled) for filled in self._filled(some, missing))
        return now, then

    def _filled(self, events: Events, missing: Sequence[str]) -> Iterator[Events]:
        """Yield the sign-ins with all that they could be, as far as it can make a difference."""
        for values in product(*(self._telling(name) for name in missing)):
            columns = {name: np.full(len(events), value, np.int32) for name, value in zip(missing, values, strict=True)}
            yield replace(events, **columns)

    def _telling(self, name: str) -> list[int]:
        """Return values of a dimension, one for each difference that they can make."""
        if name == "network":
            numbers = [self.network(network.names) for network in self.snapshot.networks.classes]
            table = self._by_network
        else:
            numbers, table = list(range(len(CONDITION_WORDS[name]))), self._by[name]
        found: dict[tuple[object, ...], int] = {}
        for number in numbers:
            own = device_proofs(DEVICES[number]) if name == "device" else name == "client" and number == _LEGACY
            found.setdefault((own, *table[:, number].tolist()), number)
        return list(found.values())

    def _whole(self, events: Events) -> tuple[OutcomeCodes, OutcomeCodes]:
        """Decide sign-ins for which the log gives everything."""
        return _agreed(self._in(world, events) for world in self._worlds)

    def _in(self, world: _World, events: Events) -> tuple[OutcomeCodes, OutcomeCodes]:
        """Decide a batch of events in one possible world: two arrays of outcomes, for the rules now and then."""
        parts = self._parts(world, events)
        here, given, could, legacy = parts.rules, parts.shown, parts.could_show, parts.legacy
        found = []
        # Rules that bar a sign-in outright; old protocols are also barred by proofs that they cannot carry.
        bars = self._deny[:, None] | np.where(legacy, self._uncarried[:, None], np.uint64(0))
        for which in range(2):
            barred, missing, lost = (np.zeros(len(events), bool) for _ in range(3))
            for word in range(self.words):
                # Rules in force that match, 64 of them in each word.
                mine = here[word] & self._regimes[word, which]
                barred |= (mine & bars[word]) != 0
                missing |= (mine & self._unmet[word].take(given, mode="wrap")) != 0
                lost |= (mine & self._unmet[word].take(could, mode="wrap")) != 0
            outcome = missing.astype(np.int8)
            outcome += lost  # what could not be shown is missing too
            outcome[barred] = DENIED
            found.append(outcome)
        return found[0], found[1]

    def _parts(self, world: _World, events: Events) -> _EventParts:
        """Return what each sign-in needs to be decided."""
        device = events.device
        if world.unseen is not None:
            device = np.where(world.unseen.take(events.person, mode="wrap"), np.int32(_UNKNOWN_DEVICE), device)
        context = ((events.client * len(PLATFORMS) + events.platform) * len(DEVICES) + device) * len(
            RISKS
        ) + events.risk
        here = np.empty((self.words, len(events)), np.uint64)
        for word in range(self.words):
            np.take(world.people[word], events.person, out=here[word], mode="wrap")
            here[word] &= self._by_resource[word].take(events.resource, mode="wrap")
            here[word] &= self._by_network[word].take(events.network, mode="wrap")
            here[word] &= self._by_context[word].take(context, mode="wrap")
        legacy = events.client == _LEGACY
        levels = world.levels.of(world.authenticator_set.take(events.person, mode="wrap"), np.maximum(events.shown, 0))
        levels[legacy] = 0
        return _EventParts(
            rules=here,
            shown=(levels & 3) * len(DEVICES) + device,
            could_show=(levels >> 2) * len(DEVICES) + device,
            legacy=legacy,
        )

    def causes(self, events: Events) -> Iterator[tuple[str, Bools]]:
        """Yield which rules decide what is tried.

        Each that denies, or lacks something, with the sign-ins that it decides.

        Named by rule id, OWN or PARTNER. Asked of sign-ins whose decision is known.
        """
        names = [name for name in ("network", *CONDITION_WORDS) if bool(np.any(getattr(events, name) == MISSING))]
        for name in names:
            column = getattr(events, name)
            events = replace(events, **{name: np.where(column == MISSING, np.int32(self._telling(name)[0]), column)})
        # A bit for each rule (rows of 64 bits) and sign-in (columns): which rules match it.
        parts = self._parts(self._worlds[0], events)
        here, given, could, legacy = parts.rules, parts.shown, parts.could_show, parts.legacy
        here &= self._regimes[:, 1][:, None]
        # For each way in which a rule can stop a sign-in, the rules that do it.
        barred, carried, lost, missing = (np.empty_like(here) for _ in range(4))
        for word in range(self.words):
            barred[word] = here[word] & self._deny[word]
            carried[word] = np.where(legacy, here[word] & self._uncarried[word], np.uint64(0))
            lost[word] = here[word] & self._unmet[word].take(could, mode="wrap")
            missing[word] = here[word] & self._unmet[word].take(given, mode="wrap")
        # The strongest way that any rule has decides: denied, not carried, lost, then missing.
        by = missing
        for stronger in (lost, carried, barred):
            by = np.where(stronger.any(0), stronger, by)
        for bit, name in enumerate((OWN, PARTNER, *(tried.rule.id for tried in self.rules))):
            mask = (by[bit // 64] >> np.uint64(bit % 64) & np.uint64(1)).astype(bool)
            if mask.any():
                yield name, mask


def _distinct_assumptions(assumptions: Iterable[Assumption]) -> list[Assumption]:
    """Return the assumptions, those that differ only in rules whose people are not known once."""
    found: dict[tuple[object, ...], Assumption] = {}
    for assumption in assumptions:
        home = assumption.home
        found.setdefault(
            (home.guests_in, home.home_mfa, home.home_device, home.factor, assumption.types, assumption.live_pass),
            assumption,
        )
    return list(found.values())


def _agreed(answers: Iterable[tuple[OutcomeCodes, OutcomeCodes]]) -> tuple[OutcomeCodes, OutcomeCodes]:
    """Return what all answers say; UNKNOWN where they differ."""
    first, *others = answers
    for answer in others:
        for mine, other in zip(first, answer, strict=True):
            mine[mine != other] = UNKNOWN
    return first
