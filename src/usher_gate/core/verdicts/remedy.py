"""What mending one root would do: the value that is due there, whom it frees and whom it harms, all found by judging again.

Source: domain, "Roots". Only the verdicts that a change can touch are judged again, each from its leaves up.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import groupby

import numpy as np

from ..door.hosts import MAY_START, START, Hosts, may_start
from ..organisation.columns import MISSING, Bools, Ints
from ..organisation.services import Service
from ..settings.effective import Effective
from ..settings.observations import observed, seen_later
from ..settings.resolver import Edit
from ..words.compare import Comparison
from ..words.record import record
from ..words.values import Kind, join_words, split_words
from .checker import Checker, PairVerdicts
from .codes import DRIFTS, EXEMPT, MEETS, UNAVAILABLE, UNKNOWN, VerdictCodes
from .condition import Leaf, Tree, judge, nearest_way
from .control_leaf import ControlJudge
from .door_leaf import judge_door, rooted_rows
from .others import judge_organisation
from .outcome import Judged, Root, Tail, narrowness
from .planned import judge_meetings, shutting
from .rules import DOOR_CONTROLS, Rule
from .scope import services_of

MOST = 100  # of so many roots, the largest, it is worked out


@record
class Remedy:
    """What mending a root would do. `mended_value` is the weakest value that satisfies every rule it makes drift, None where there is none.

    `freed` counts the people who would then drift from nothing any more, `if_removed` the same if the setting were taken away (None for
    what is no setting), `harms` the people who would have a worse verdict than now by the mending.
    """

    mended_value: str | None = None
    freed: int = 0
    if_removed: int | None = None
    harms: int = 0


@record
class _Pair:
    """A pair of rule and service as it is judged now. `kept` says whether the report speaks of it."""

    rule: Rule
    service: Service | None
    kept: bool
    verdicts: PairVerdicts


Again = Callable[
    [_Pair, Judged], VerdictCodes | None
]  # a leaf's new verdicts for everybody; None where it stays as it is


def weakest(
    kind: Kind, standing: str, wanted: Iterable[Comparison], others: Sequence[Callable[[str], bool]] = ()
) -> str | None:
    """The weakest value that passes every comparison (and whatever else is asked of it); of a set, what stands, cut down and extended as
    far as it must be."""
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
    return next((value for value in passing if all(asked(value) for asked in others)), None)


class Remedies:
    """Works out remedies. `keeps` says which pairs the report speaks of, `chosen` which people; `drifts_of` counts the drifts of each."""

    def __init__(
        self, checker: Checker, keeps: Callable[[Rule, str | None], bool], chosen: Bools, drifts_of: Ints
    ) -> None:
        self._checker, self._keeps, self._chosen, self._drifts_of = checker, keeps, chosen, drifts_of
        self._services = {service.id: service for service in checker.snapshot.services or ()}

    def of(self, people_of: Mapping[Root, Ints]) -> dict[Root, Remedy]:
        """The remedy of each root; `people_of` are the people whom it makes drift."""
        found: dict[Root, Remedy] = {}
        ordered = sorted(people_of, key=lambda root: (root.service or "", root.control))
        for (service, control), alike in groupby(ordered, key=lambda root: (root.service, root.control)):
            roots = list(alike)
            if service is None:
                for root in roots:
                    found[root] = self._as_if_met(root, people_of[root])
                continue
            pairs = self._touched(self._services[service], frozenset((control,)))
            for root in roots:
                found[root] = self._of_setting(root, people_of[root], pairs)
        return found

    def _touched(self, service: Service | None, controls: frozenset[str], about: str = "control") -> list[_Pair]:
        """The pairs whose rules have a leaf about one of some controls (facts, proofs), judged as things are."""
        found = []
        doors = about == "control" and not controls.isdisjoint(DOOR_CONTROLS)
        for rule in self._checker.baseline.rules:
            if rule.subject != "people" or not any(
                (leaf.about == about and leaf.name in controls) or (doors and leaf.about == "door")
                for leaf in rule.leaves
            ):
                continue
            for one in services_of(rule, self._checker.snapshot.services):
                if service is not None and one is not service:
                    continue
                verdicts = self._checker.judge(rule, one)
                if verdicts.tree is not None:
                    found.append(_Pair(rule, one, self._keeps(rule, one.id if one else None), verdicts))
        return found

    def _judge_again(self, pairs: Sequence[_Pair], people: Ints, again: Again) -> tuple[int, int]:
        """How many of some people would drift from nothing any more, and how many would have a worse verdict than now."""
        drifts = self._drifts_of[people].astype(np.int64)
        open_questions, worse = np.zeros(len(people), bool), np.zeros(len(people), bool)
        for pair in pairs:
            now = pair.verdicts
            assert now.tree is not None
            leaves = {}
            for judged in now.judged:
                new = again(pair, judged)
                leaves[judged.leaf.number] = judged.verdicts[judged.codes[people]] if new is None else new[people]
            would_be = judge(now.tree, leaves, len(people)).copy()
            would_be[now.would_be[people] == EXEMPT] = EXEMPT
            worse |= np.minimum(would_be, MEETS) < np.minimum(now.would_be[people], MEETS)
            if pair.kept:
                excused, _, _ = self._checker.excuse(pair.rule, pair.service, would_be, people)
                then = np.where(excused == MISSING, would_be, MEETS)
                drifts += (then == DRIFTS).astype(np.int64) - (now.verdict[people] == DRIFTS)
                open_questions |= ((then == UNKNOWN) | (then == UNAVAILABLE)) & (then != now.verdict[people])
        freed = self._chosen[people] & (self._drifts_of[people] > 0) & (drifts == 0) & ~open_questions
        return int(np.count_nonzero(freed)), int(np.count_nonzero(worse))

    def _as_if_met(self, root: Root, people: Ints) -> Remedy:
        """A fact, a proof, a partner's column or a count: as if it were met."""
        about = {"person": "person", "access-rules": "proof"}.get(root.scope or "")
        if about is None:
            return Remedy()
        met = np.full(len(self._chosen), MEETS, np.uint8)
        freed, harms = self._judge_again(
            self._touched(None, frozenset((root.control,)), about),
            people,
            lambda _, judged: met if judged.leaf.about == about and judged.leaf.name == root.control else None,
        )
        return Remedy(None, freed, None, harms)

    def _of_setting(self, root: Root, people: Ints, pairs: Sequence[_Pair]) -> Remedy:
        service = self._services[root.service or ""]
        if (
            root.value is None or root.scope is None
        ):  # as it was seen, not supported, a door that nothing shuts alone: nothing to set
            return Remedy()
        if root.scope.startswith("meeting:"):
            return self._of_meeting(root)
        if root.scope == "licence":
            return self._with_licence(root, service, people)
        effective = self._checker.resolver.effective(service, root.control)
        place = effective.place_of(root.scope)
        wanted, doors = self._wanted(root, pairs), self._wanted_doors(root, people, pairs)
        kind = self._checker.snapshot.catalogue.index[root.control].kind
        value = weakest(kind, root.value, wanted, doors) if wanted or doors else None
        freed = harms = 0
        if value is not None:
            freed, harms = self._edited(effective, place, value, pairs)
        removed = None if root.scope == "factory" else self._edited(effective, place, None, pairs)[0]
        return Remedy(value, freed, removed, harms)

    def _of_meeting(self, root: Root) -> Remedy:
        """A setting of a planned meeting's own: what it would have to be. Mending it frees no person: its verdicts are the meeting's."""
        wanted, others = self._wanted_of_meetings(root)
        kind = self._checker.snapshot.catalogue.index[root.control].kind
        return Remedy(weakest(kind, root.value or "", wanted, others) if wanted or others else None, 0, 0, 0)

    def _wanted_of_meetings(self, root: Root) -> tuple[list[Comparison], list[Callable[[str], bool]]]:
        """What rules about planned meetings that a root makes drift ask of its value."""
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
                    number for number, (_, tail) in enumerate(said) if tail.verdict == DRIFTS and tail.root == root
                ]
                tails = [said[number][1] for number in numbers]
                _add_wanted(wanted, rule.tree_on(service), root, tails)
                for leaf in rule.judged_on(service):
                    mine = [number for number, tail in zip(numbers, tails, strict=True) if _by_door(tail, leaf, root)]
                    if mine:
                        others.append(shutting(leaf, self._checker.agenda.services[service.id], mine, root.control))
        return list(wanted.values()), others

    def _edited(self, effective: Effective, place: int, value: str | None, pairs: Sequence[_Pair]) -> tuple[int, int]:
        """What one edit of the setting at a place does: a value in its place, or none."""
        edit = Edit(int(effective.rows[place]), value)
        after = self._checker.resolver.edited(effective, edit)
        moved = effective.places == place
        if value is not None:
            moved |= after.places == after.place_of(effective.cause(place).scope or "factory")
        people = effective.members(place) if place else np.arange(len(moved), dtype=np.int32)
        return self._judge_again(pairs, people, self._controls_again({effective.control: after}, moved))

    def _controls_again(self, after: Mapping[str, Effective], moved: Bools) -> Again:
        """Leaves judged with other effective values; what was seen of people whose setting `moved` is too old to count."""
        snapshot = self._checker.snapshot
        doors: dict[str, tuple[Hosts, Bools]] = {}

        def door(pair: _Pair, leaf: Leaf) -> VerdictCodes | None:
            service = pair.service
            if service is None or DOOR_CONTROLS.isdisjoint(after):
                return None
            if service.id not in doors:
                edited = self._checker.hosts(service).edit(after)
                moves = {MAY_START, START} & after.keys()
                doors[service.id] = edited, may_start(edited) if moves else self._checker.starting(service)
            said = judge_door(leaf, pair.rule.pinned, *doors[service.id])
            return said.verdicts[said.codes]

        def again(pair: _Pair, judged: Judged) -> VerdictCodes | None:
            leaf = judged.leaf
            if leaf.about == "door":
                return door(pair, leaf)
            effective = after.get(leaf.name) if leaf.about == "control" else None
            if effective is None or pair.service is None:
                return None
            seen = observed(snapshot, pair.service.id, leaf.name)
            seen = None if seen is None else seen_later(seen, moved, snapshot.taken_at)
            said = ControlJudge(leaf, pair.rule.pinned, pair.service, effective, seen).judge()
            return said.verdicts[said.codes]

        return again

    def _with_licence(self, root: Root, service: Service, people: Ints) -> Remedy:
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
        freed, harms = self._judge_again(pairs, people, self._controls_again(after, nobody))
        return Remedy(None, freed, None, harms)

    def _wanted_doors(self, root: Root, people: Ints, pairs: Sequence[_Pair]) -> list[Callable[[str], bool]]:
        """What the root's value has to do at doors: no door that it makes drift may still fail by it."""
        found: list[Callable[[str], bool]] = []
        for pair in pairs:
            doors = [judged for judged in pair.verdicts.judged if judged.leaf.about == "door"]
            if not pair.kept or pair.service is None:
                continue
            drifting = people[pair.verdicts.verdict[people] == DRIFTS]
            hosts = self._checker.hosts(pair.service)
            for judged in doors:
                mine = [
                    code for code in np.unique(judged.codes[drifting]).tolist() if judged.outcome(code).root == root
                ]
                rows = np.unique(hosts.class_of[drifting[np.isin(judged.codes[drifting], mine)]])
                if len(rows):
                    found.append(_shuts(judged.leaf, pair.rule.pinned, hosts, rows, root.control))
        return found + self._wanted_of_meetings(root)[1]

    def _wanted(self, root: Root, pairs: Sequence[_Pair]) -> list[Comparison]:
        """What the root's value has to pass: the leaves about it on the nearest way to each verdict that it makes drift."""
        found: dict[str, Comparison] = {}
        for pair in pairs:
            if pair.kept:
                drifting = np.flatnonzero((pair.verdicts.verdict == DRIFTS) & self._chosen)
                if len(drifting):
                    tails, _ = self._checker.tails(pair.service, pair.verdicts, drifting)
                    _add_wanted(found, pair.verdicts.tree, root, tails)
        for rule in self._checker.baseline.rules:
            if rule.subject != "organisation" or root.control not in rule.controls:
                continue
            for service in services_of(rule, self._checker.snapshot.services):
                if service is not None and service.id == root.service and self._keeps(rule, service.id):
                    said = judge_organisation(rule, service, self._checker.resolver).found
                    _add_wanted(found, rule.tree_on(service), root, [tail for _, tail in said])
        more, _ = self._wanted_of_meetings(root)
        return [*found.values(), *(each for each in more if each.text not in found)]


def _by_door(tail: Tail, leaf: Leaf, root: Root) -> bool:
    return leaf.about == "door" and any(one.number == leaf.number and said.root == root for one, said in tail.leaves)


def _shuts(leaf: Leaf, pinned: str, hosts: Hosts, rows: Ints, control: str) -> Callable[[str], bool]:
    return lambda value: not np.any(rooted_rows(leaf, pinned, hosts, rows, control, value))


def _add_wanted(found: dict[str, Comparison], tree: Tree | None, root: Root, tails: Iterable[Tail]) -> None:
    known: set[tuple[tuple[int, int], ...]] = set()
    for tail in tails:
        if tail.root != root or tail.reason != "fails" or tree is None:
            continue
        verdicts = {leaf.number: outcome.verdict for leaf, outcome in tail.leaves}
        narrow = {leaf.number: narrowness(leaf, outcome) for leaf, outcome in tail.leaves}
        key = tuple((verdicts[number], narrow[number]) for number in verdicts)
        if key in known:
            continue
        known.add(key)
        for leaf in nearest_way(tree, verdicts, narrow):
            if leaf.about == "control" and leaf.name == root.control and leaf.comparison is not None:
                found.setdefault(leaf.comparison.text, leaf.comparison)
