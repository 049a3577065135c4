"""What mending one root would do.

The value that is due there, the people that it clears and harms, all found by judging again.

Spec: verdicts 7.2. Only the verdicts that a change can touch are judged again, each from its leaves up.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np

from ..door.hosts import MAY_START, START, Hosts, may_start
from ..organisation.columns import MISSING, Bools, Ints, distinct
from ..organisation.services import Service
from ..organisation.settings import ORGANISATION
from ..settings.edited import NewValue, SettingTarget
from ..settings.effective import Effective
from ..settings.observations import observed, seen_later
from ..settings.resolver import Edit
from ..words.compare import Comparison
from ..words.record import record
from ..words.values import Kind, join_words, split_words
from .checker import Checker, PairVerdicts
from .codes import DRIFTS, EXEMPT, MEETS, UNAVAILABLE, UNKNOWN, VerdictCodes
from .condition import Branch, Leaf, TooFew, Tree, judge, nearest_way
from .control_leaf import ControlJudge
from .door_leaf import judge_door, rooted_rows
from .exceptions import applying
from .others import judge_organisation
from .outcome import Judged, Root, VerdictDetail, narrowness
from .planned import judge_meetings, shutting
from .rules import Rule, hangs_on
from .scope import services_of
from .trial import Remembered, Trial

MOST = 100  # of so many roots, the largest, it is worked out
MOST_BEYOND = 20  # and of so many of the others, the most severe


@record
class Remedy:
    """Describes what mending a root would do.

    `mended_value` is the weakest value that satisfies every rule it makes drift, None where there is none.

    `freed` counts the people who would then drift from nothing any more, `ended` the findings that would end (None if
    that was not asked), `if_removed` the people as `freed` if the setting were taken away (None for what is no
    setting), `harms` the people who would have a worse verdict than now by the mending; `harmed` names (by id) the
    first of these.
    """

    mended_value: str | None = None
    freed: int = 0
    ended: int | None = None
    if_removed: int | None = None
    harms: int = 0
    harmed: tuple[str, ...] = ()


@record
class _Pair:
    """A pair of rule and service as it is judged now, and how many pairs are judged just like it. `kept` says whether
    the report speaks
    of them."""

    rule: Rule
    service: Service | None
    kept: bool
    verdicts: PairVerdicts
    count: int = 1


Again = Callable[
    [_Pair, Judged], VerdictCodes | None
]  # a leaf's new verdicts for everyone; None where it stays as it is


@record
class EditEffect:
    """What an edit does to some people.

    How many it clears, how many of their findings it ends, how many it harms (with the first ids), and how many taking
    the setting away would clear.
    """

    freed: int = 0
    ended: int = 0
    harms: int = 0
    harmed: tuple[str, ...] = ()
    if_removed: int | None = None


_MOST_HARMED = 20  # ids
# Asks all that know some of the people: the name of a method of Mending, what it is asked; the answer of each.
Somewhere = Callable[[str, Any], Sequence[Any]]
_ABOUT = {"person": "person", "access-rules": "proof"}  # roots that are met or not, by their scope


def _is_setting(root: Root) -> bool:
    """Return whether there is something to set.

    Not what was seen, what is not supported, or a door that nothing shuts alone.
    """
    return root.service is not None and root.value is not None and root.scope is not None


def weakest(kind: Kind, standing: str, wanted: Iterable[Comparison]) -> str | None:
    """Return the weakest value that passes every comparison.

    Of a set, the present one, cut down and extended as far as it must be.
    """
    return next(passing_values(kind, standing, wanted), None)


def passing_values(
    kind: Kind, standing: str, wanted: Iterable[Comparison], others: Sequence[Callable[[str], bool]] = ()
) -> Iterator[str]:
    """Return the values that pass every comparison (and whatever else is asked of them), the weakest first.

    See `weakest`.
    """
    wanted = list(wanted)
    operands = {operand for each in wanted for operand in each.operands}
    if kind.name == "set":
        words = split_words(standing)
        for each in wanted:
            words = words & split_words(each.operands[0]) if each.operator == "within" else words
        for each in wanted:
            words = words - split_words(each.operands[0]) if each.operator == "none-of" else words
        for each in wanted:
            words = words | split_words(each.operands[0]) if each.operator == "includes" else words
        named = {operand for each in wanted if each.operator in ("is", "one-of") for operand in each.operands}
        tried: Sequence[str] = (join_words(tuple(words)), *sorted(named))
    elif kind.name == "number":
        tried = sorted(operands, key=lambda value: (kind.strictness(value), value))
    else:
        tried = kind.words
    passing = (value for value in tried if all(each.passes(value) for each in wanted))
    return (value for value in passing if all(asked(value) for asked in others))


class EditEffects:
    """Describes what edits would do to some people: those of a checker.

    `keeps` says which pairs the report speaks of, `chosen` which people; `drifts_of` counts the findings of each,
    `people_of` gives the people that a cause makes drift.
    """

    def __init__(
        self,
        checker: Checker,
        keeps: Callable[[Rule, str | None], bool],
        chosen: Bools,
        drifts_of: Ints,
        people_of: Callable[[Root], Ints],
    ) -> None:
        self._checker, self._keeps, self._chosen, self._drifts_of = checker, keeps, chosen, drifts_of
        self._people_of = people_of
        self._services = {service.id: service for service in checker.snapshot.services or ()}
        self._pairs: tuple[tuple[str, str], list[_Pair]] = (("", ""), [])

    def effects(self, asked: Sequence[tuple[Root, str | None]]) -> list[EditEffect]:
        """Return for each cause, the people that another value (None if there is none) would clear and harm, and those
        that removal would clear.
        """
        return [self._effect(root, value) for root, value in asked]

    def shut(self, asked: Sequence[tuple[Root, Sequence[str]]]) -> list[list[bool] | None]:
        """Return for each root which of some values would shut every door that it makes fail.

        None where there is no such door here.
        """
        return [self._shut(root, values) for root, values in asked]

    def _effect(self, root: Root, value: str | None) -> EditEffect:
        """Return the people that a new value of a cause clears and harms, and how many its removal clears."""
        if root.service is None:
            return self._as_if_met(root)
        service = self._services[root.service]
        if root.scope == "licence":
            return self._with_licence(root, service, self._people_of(root))
        effective = self._checker.resolver.effective(service, root.control)
        try:
            place = effective.place_of(root.scope or "")
        except KeyError:  # a setting of someone who is not among these people
            return EditEffect(if_removed=None if root.scope == "factory" else 0)
        pairs = self._pairs_of(service, root.control)
        edited = EditEffect() if value is None else self._edited(service, effective, place, value, pairs)
        if root.scope == "factory":
            return edited
        return replace(edited, if_removed=self._edited(service, effective, place, None, pairs).freed)

    def _shut(self, root: Root, values: Sequence[str]) -> list[bool] | None:
        people = self._people_of(root)
        if not len(people):
            return None
        asked = self._doors(root, people, self._pairs_of(self._services[root.service or ""], root.control))
        return [all(each(value) for each in asked) for value in values] if asked else None

    def _pairs_of(self, service: Service, control: str) -> list[_Pair]:
        """Return the pairs that a control of a service touches.

        The last ones are kept, for roots of one control come together.
        """
        if self._pairs[0] != (service.id, control):
            self._pairs = (service.id, control), self._touched(service, frozenset((control,)))
        return self._pairs[1]

    def _touched(self, service: Service | None, controls: frozenset[str], about: str = "control") -> list[_Pair]:
        """Return the pairs whose rules have a leaf about one of some controls (facts, proofs), judged as things are.

        Rules that ask the same of the same people, with the same exceptions, are one pair that counts several times.
        """
        found: dict[object, _Pair] = {}
        for rule in self._checker.baseline.rules:
            if rule.subject != "people" or not any(
                hangs_on(leaf, controls) if about == "control" else leaf.about == about and leaf.name in controls
                for leaf in rule.leaves
            ):
                continue
            for one in services_of(rule, self._checker.snapshot.services):
                if service is not None and one is not service:
                    continue
                verdicts = self._checker.judge(rule, one)
                if verdicts.tree is None:
                    continue
                name, would_be = one.id if one else None, verdicts.would_be.tobytes()
                excepted = tuple(
                    each.id for each in applying(self._checker.exceptions, rule, name, self._checker.snapshot)
                )
                kept = self._keeps(rule, name)
                key = _signature(verdicts.tree), rule.pinned, name, kept, excepted, would_be
                before = found.get(key)
                found[key] = (
                    _Pair(rule, one, kept, verdicts) if before is None else replace(before, count=before.count + 1)
                )
        return list(found.values())

    def _judge_again(
        self, pairs: Sequence[_Pair], people: Ints, again: Again, harmed: Bools | None = None
    ) -> EditEffect:
        """Return how many of some people would drift from nothing any more, how many of their findings end, and who
        would have a worse verdict than now, or is `harmed`.
        """
        ended = 0
        drifts = self._drifts_of[people].astype(np.int64)
        open_questions = np.zeros(len(people), bool)
        worse = np.zeros(len(people), bool) if harmed is None else harmed[people]
        for pair in pairs:
            now = pair.verdicts
            assert now.tree is not None
            if np.all(now.would_be[people] == EXEMPT):  # the rule is about none of them, and stays so
                continue
            leaves = {}
            for judged in now.judged:
                new = again(pair, judged)
                leaves[judged.leaf.number] = judged.verdicts.take(judged.codes[people]) if new is None else new[people]
            would_be = judge(now.tree, leaves, len(people)).copy()
            would_be[now.would_be[people] == EXEMPT] = EXEMPT
            worse |= np.minimum(would_be, MEETS) < np.minimum(now.would_be[people], MEETS)
            if pair.kept:
                excused = self._checker.excuse(pair.rule, pair.service, would_be, people)
                then = np.where(excused.exception == MISSING, would_be, MEETS)
                drifting, unclear = now.verdict[people] == DRIFTS, (then == UNKNOWN) | (then == UNAVAILABLE)
                drifts += pair.count * ((then == DRIFTS).astype(np.int64) - drifting)
                open_questions |= unclear & (then != now.verdict[people])
                ended += pair.count * int(
                    np.count_nonzero(drifting & (then != DRIFTS) & ~unclear & self._chosen[people])
                )
        freed = self._chosen[people] & (self._drifts_of[people] > 0) & (drifts == 0) & ~open_questions
        names = self._checker.snapshot.people.ids.take(people[worse][:_MOST_HARMED])
        return EditEffect(int(np.count_nonzero(freed)), ended, int(np.count_nonzero(worse)), tuple(names))

    def _as_if_met(self, root: Root) -> EditEffect:
        """Return a fact or a proof: as if it were met."""
        about = _ABOUT[root.scope or ""]
        met = np.full(len(self._chosen), MEETS, np.uint8)
        return self._judge_again(
            self._touched(None, frozenset((root.control,)), about),
            self._people_of(root),
            lambda _, judged: met if judged.leaf.about == about and judged.leaf.name == root.control else None,
        )

    def _edited(
        self, service: Service, effective: Effective, place: int, value: str | None, pairs: Sequence[_Pair]
    ) -> EditEffect:
        """Return what one edit of the setting at a place does: another value, or none.

        People that a rule about it leaves out are harmed by another value.
        """
        edit = Edit(int(effective.rows[place]), value)
        after = self._checker.resolver.edited(effective, edit)
        moved = effective.places == place
        if value is not None:
            moved |= after.places == after.place_of(effective.cause(place).scope or "factory")
        people = effective.members(place) if place else np.arange(len(moved), dtype=np.int32)
        harmed = self._checker.scopes.left_out_of(self._checker.baseline.rules, service, effective.control)
        if harmed is not None:
            harmed = harmed & effective.differs(after)
        return self._judge_again(pairs, people, self._controls_again({effective.control: after}, moved), harmed)

    def _controls_again(self, after: Mapping[str, Effective], moved: Bools) -> Again:
        """Leaves judged with other effective values.

        What was seen of people whose setting `moved` is too old to count.
        """
        snapshot = self._checker.snapshot
        doors: dict[str, tuple[Hosts, Bools]] = {}
        known: dict[tuple[str, str, str, str], VerdictCodes] = {}  # rules that ask the same are judged once

        def door(pair: _Pair, leaf: Leaf) -> VerdictCodes | None:
            service = pair.service
            if service is None or not hangs_on(leaf, after):
                return None
            if service.id not in doors:
                edited = self._checker.hosts(service).edit(after)
                moves = {MAY_START, START} & after.keys()
                doors[service.id] = edited, may_start(edited) if moves else self._checker.starting(service)
            said = judge_door(leaf, pair.rule.pinned, *doors[service.id])
            return said.verdicts.take(said.codes)

        def again(pair: _Pair, judged: Judged) -> VerdictCodes | None:
            leaf = judged.leaf
            if leaf.about == "door":
                return door(pair, leaf)
            effective = after.get(leaf.name) if leaf.about == "control" else None
            if effective is None or pair.service is None:
                return None
            key = pair.service.id, leaf.name, leaf.expected, pair.rule.pinned
            if key not in known:
                seen = observed(snapshot, pair.service.id, leaf.name)
                seen = None if seen is None else seen_later(seen, moved, snapshot.taken_at)
                said = ControlJudge(leaf, pair.rule.pinned, pair.service, effective, seen).judge()
                known[key] = said.verdicts.take(said.codes)
            return known[key]

        return again

    def _with_licence(self, root: Root, service: Service, people: Ints) -> EditEffect:
        """As if the people had every licence that is named where this one is needed."""
        resolver, pattern = self._checker.resolver, service.needs[root.control].pattern
        after: dict[str, Effective] = {}
        for control in sorted(service.controls):
            need, lacking = service.needs.get(control), resolver.lacking(service, control)
            if need is not None and need.pattern == pattern and lacking is not None:
                still = lacking.copy()
                still[people] = False
                after[control] = resolver.licensed(service, control, still)
        pairs = self._touched(service, frozenset(after))
        nobody = np.zeros(len(self._chosen), bool)
        return self._judge_again(pairs, people, self._controls_again(after, nobody))

    def _doors(self, root: Root, people: Ints, pairs: Sequence[_Pair]) -> list[Callable[[str], bool]]:
        """Return what the root's value has to do at doors: no door that it makes drift may still fail by it."""
        found: list[Callable[[str], bool]] = []
        for pair in pairs:
            doors = [judged for judged in pair.verdicts.judged if judged.leaf.about == "door"]
            if not pair.kept or pair.service is None:
                continue
            drifting = people[pair.verdicts.verdict[people] == DRIFTS]
            hosts = self._checker.hosts(pair.service)
            for judged in doors:
                mine = [code for code in distinct(judged.codes[drifting]).tolist() if judged.outcome(code).root == root]
                if mine:
                    rows = distinct(hosts.class_of[drifting[np.isin(judged.codes[drifting], mine)]])
                    found.append(_shuts(judged.leaf, pair.rule.pinned, hosts, rows, root.control))
        return found


class Remedies:
    """Works out remedies of roots.

    `wanted` says what rules about people ask of each, `at_doors` by which doors may fail; `somewhere` asks those who
    know the people what edits would do to them, and gives one answer for each part of the people. `people` are those
    that the report speaks of (None: all).
    """

    def __init__(
        self,
        checker: Checker,
        keeps: Callable[[Rule, str | None], bool],
        wanted: Mapping[Root, Mapping[str, Comparison]],
        at_doors: Container[Root],
        somewhere: Somewhere,
        people: Bools | None,
    ) -> None:
        self._checker, self._keeps, self._people = checker, keeps, people
        self._wanted, self._at_doors, self._somewhere = wanted, at_doors, somewhere

    def of(self, roots: Sequence[Root]) -> dict[Root, Remedy]:
        """Return the remedy of each root."""
        found = {root: Remedy() for root in roots}
        ordered = sorted(roots, key=lambda root: (root.service or "", root.control))
        settings = [root for root in ordered if _is_setting(root)]
        values = self._values([root for root in settings if root.scope != "licence"])
        for root in settings:
            if (root.scope or "").startswith("meeting:"):  # frees no person: its verdicts are the meeting's
                found[root] = Remedy(mended_value=values[root], if_removed=0)
        asked = [
            (root, values.get(root))
            for root in ordered
            if (root in values and not (root.scope or "").startswith("meeting:"))
            or (_is_setting(root) and root.scope == "licence")
            or (root.service is None and root.scope in _ABOUT)
        ]
        answers = self._somewhere("effects", asked) if asked else []
        for number, (root, value) in enumerate(asked):
            effects: list[EditEffect] = [part[number] for part in answers]
            removed = [each.if_removed for each in effects if each.if_removed is not None]
            names = [name for each in effects for name in each.harmed]
            found[root] = Remedy(
                mended_value=value,
                freed=sum(each.freed for each in effects),
                ended=sum(each.ended for each in effects) + self._others_ended(root, value),
                if_removed=sum(removed) if removed else None,
                harms=sum(each.harms for each in effects),
                harmed=tuple(sorted(names[:_MOST_HARMED])),
            )
        return found

    @cached_property
    def _remembered(self) -> Remembered:
        return Remembered(self._checker.snapshot, self._checker.baseline, self._checker.exceptions)

    def _others_ended(self, root: Root, value: str | None) -> int:
        """Return how many findings of planned meetings and of the organisation another value of a cause ends."""
        snapshot = self._checker.snapshot
        service = next((one for one in snapshot.services or () if one.id == root.service), None)
        if value is None or service is None or root.scope in (None, "licence"):
            return 0
        rules = [
            rule
            for rule in self._checker.baseline.rules
            if rule.subject in ("meetings", "organisation")
            and self._keeps(rule, service.id)
            and service in services_of(rule, snapshot.services)
            and any(hangs_on(leaf, frozenset((root.control,))) for leaf in rule.leaves)
        ]
        if not rules:
            return 0
        before = self._remembered
        effective = before.resolver.effective(service, root.control)
        place = effective.place_of(root.scope or "")
        kind = int(effective.kinds[place]) if place else ORGANISATION
        target = int(effective.targets[place]) if kind != ORGANISATION else MISSING
        scope = root.scope if place else "organisation"
        edit_target = SettingTarget(
            service=service.id, control=root.control, kind=kind, target=target, scope=scope or ""
        )
        after = Trial(before, {edit_target: NewValue(value, bool(effective.pinned[place]))})
        return sum(self._ended_of(rule, service, before, after) for rule in rules)

    def _ended_of(self, rule: Rule, service: Service, before: Checker, after: Checker) -> int:
        """Return how many findings of one rule about meetings or the organisation end."""
        now, then = (
            judge_meetings(rule, service, checker)
            if rule.subject == "meetings"
            else judge_organisation(rule, service, checker.resolver)
            for checker in (before, after)
        )
        if self._people is not None and now.organisers is None:
            return 0
        whose = [MISSING] * len(now.found) if now.organisers is None else now.organisers.tolist()
        return sum(
            detail.verdict == DRIFTS
            and other.verdict not in (DRIFTS, UNKNOWN, UNAVAILABLE)
            and (self._people is None or (who != MISSING and bool(self._people[who])))
            for (_, detail), (_, other), who in zip(now.found, then.found, whose, strict=True)
        )

    def _values(self, roots: Sequence[Root]) -> dict[Root, str | None]:
        """Return for each root the weakest value that satisfies whatever asks something of it.

        None where nothing does, or no value would.
        """
        candidates: dict[Root, tuple[list[str], bool]] = {}
        for root in roots:
            kind = self._checker.snapshot.catalogue.index[root.control].kind
            wanted, others = dict(self._wanted.get(root, {})), list[Callable[[str], bool]]()
            self._of_the_organisation(root, wanted)
            more, others = self._of_meetings(root)
            for each in more:
                wanted.setdefault(each.text, each)
            passing = passing_values(kind, root.value or "", wanted.values(), others)
            candidates[root] = list(passing), bool(wanted or others)
        asked = [(root, candidates[root][0]) for root in roots if root in self._at_doors]
        answers = self._somewhere("shut", asked) if asked else []
        for number, (root, values) in enumerate(asked):
            said = [shut for part in answers if (shut := part[number]) is not None]
            if said:
                kept = [value for place, value in enumerate(values) if all(shut[place] for shut in said)]
                candidates[root] = kept, True
        return {root: values[0] if there and values else None for root, (values, there) in candidates.items()}

    def _of_the_organisation(self, root: Root, wanted: dict[str, Comparison]) -> None:
        """What rules about the organisation ask."""
        for rule in self._checker.baseline.rules:
            if rule.subject != "organisation" or root.control not in rule.controls:
                continue
            for service in services_of(rule, self._checker.snapshot.services):
                if service is not None and service.id == root.service and self._keeps(rule, service.id):
                    said = judge_organisation(rule, service, self._checker.resolver).found
                    add_wanted(wanted, rule.tree_on(service), root, [detail for _, detail in said])

    def _of_meetings(self, root: Root) -> tuple[list[Comparison], list[Callable[[str], bool]]]:
        """Return what rules about planned meetings that a root makes drift ask of its value."""
        wanted: dict[str, Comparison] = {}
        others: list[Callable[[str], bool]] = []
        for rule in self._checker.baseline.rules:
            if rule.subject != "meetings" or not any(leaf.about in ("control", "door") for leaf in rule.leaves):
                continue
            for service in services_of(rule, self._checker.snapshot.services):
                if service is None or service.id != root.service or not self._keeps(rule, service.id):
                    continue
                said = judge_meetings(rule, service, self._checker).found
                numbers = [
                    number
                    for number, (_, detail) in enumerate(said)
                    if detail.verdict == DRIFTS and detail.root == root
                ]
                details = [said[number][1] for number in numbers]
                add_wanted(wanted, rule.tree_on(service), root, details)
                for leaf in rule.judged_on(service):
                    mine = [
                        number for number, detail in zip(numbers, details, strict=True) if _by_door(detail, leaf, root)
                    ]
                    if mine:
                        others.append(shutting(leaf, self._checker.agenda.services[service.id], mine, root.control))
        return list(wanted.values()), others


def _by_door(detail: VerdictDetail, leaf: Leaf, root: Root) -> bool:
    return leaf.about == "door" and any(one.number == leaf.number and said.root == root for one, said in detail.leaves)


def _signature(tree: Tree) -> object:
    """Return what a tree asks, so that trees with the same signature ask the same.

    Leaves about doors and proofs are only like themselves.
    """
    if isinstance(tree, Branch):
        return tree.operator, tree.at_least, tuple(_signature(branch) for branch in tree.branches)
    if isinstance(tree, TooFew):
        return "few", tree.control, tree.number
    if tree.comparison is None or tree.about not in ("control", "person"):
        return tree
    return tree.about, tree.name, tree.number, tree.comparison.operator, tree.comparison.operands


def _shuts(leaf: Leaf, pinned: str, hosts: Hosts, rows: Ints, control: str) -> Callable[[str], bool]:
    return lambda value: not np.any(rooted_rows(leaf, pinned, hosts, rows, control, value))


def add_wanted(found: dict[str, Comparison], tree: Tree | None, root: Root, details: Iterable[VerdictDetail]) -> None:
    """Adds what some tails that a root makes drift ask of it on the nearest way to each verdict."""
    if isinstance(tree, Leaf):  # the only way
        mine = tree.comparison if tree.about == "control" and tree.name == root.control else None
        if mine is not None and any(detail.root == root and detail.reason == "fails" for detail in details):
            found.setdefault(mine.text, mine)
        return
    known: set[tuple[tuple[int, int], ...]] = set()
    for detail in details:
        if detail.root != root or detail.reason != "fails" or tree is None:
            continue
        verdicts = {leaf.number: outcome.verdict for leaf, outcome in detail.leaves}
        narrow = {leaf.number: narrowness(leaf, outcome) for leaf, outcome in detail.leaves}
        key = tuple((verdicts[number], narrow[number]) for number in verdicts)
        if key in known:
            continue
        known.add(key)
        for leaf in nearest_way(tree, verdicts, narrow):
            if leaf.about == "control" and leaf.name == root.control and leaf.comparison is not None:
                found.setdefault(leaf.comparison.text, leaf.comparison)
