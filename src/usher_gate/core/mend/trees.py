"""What the tree of a rule asks of what counts on a walk, as rows of the program.

Spec: mending 2."""

from __future__ import annotations

import numpy as np

from ..door.visitors import GUEST
from ..settings.effective import Cause
from ..verdicts.codes import DRIFTS, LOOSE, MEETS, SETTLING, UNAVAILABLE, UNKNOWN
from ..verdicts.condition import Branch, Leaf, TooFew, Tree, deciding, ends
from ..verdicts.outcome import Judged, Outcome, narrowness
from ..verdicts.rules import Rule
from ..words.record import record
from ..words.vocabulary import MEETING_KINDS
from .doors import DoorRows
from .integer_program import Term, total
from .variables import DecisionVariables
from .walks import EquivalenceClass, Item


@record
class WatchedTree:
    """A leaf about doors that has to be at least `goodness` where `term` is 1."""

    alike: EquivalenceClass
    rule: Rule
    leaf: Leaf
    goodness: int
    term: Term


class Trees:
    """Adds the constraints that a rule's verdict is at least so good."""

    def __init__(self, variables: DecisionVariables) -> None:
        self._judging, self._program, self._accept = variables.judging, variables.program, variables.accept
        catalogue = self._judging.base.snapshot.catalogue
        self._doors = DoorRows(self._judging.service, catalogue, self._program, self._accept)
        self.watched: dict[tuple[int, str], list[WatchedTree]] = {}

    def require(self, alike: EquivalenceClass, rule: Rule, tree: Tree, goodness: int, term: Term, mends: bool) -> None:
        """Where `term` is 1, a rule's tree has to be at least so good (as far as that can be said beforehand).

        What `mends` may end with a finding by a fact: then only as much is asked as surely has to hold.
        """
        if self._of_one_control(alike, rule, tree, goodness, term, mends):
            return
        if mends and self._by_fact(alike, rule, tree):
            self._require_settings(alike, rule, tree, term)
            return
        self._require_tree(alike, rule, tree, goodness, term)

    def _of_one_control(
        self, alike: EquivalenceClass, rule: Rule, tree: Tree, goodness: int, term: Term, mends: bool
    ) -> bool:
        """Requires a tree of which one control alone decides, item by item; says whether it is such a tree."""
        leaves = [end for end in ends(tree) if isinstance(end, Leaf)]
        moving = [leaf for leaf in leaves if self._constant(alike, rule, leaf) is None]
        names = {leaf.name for leaf in moving}
        if len(names) != 1 or any(leaf.about != "control" for leaf in moving):
            return False
        (control,) = names
        if self._judging.base.snapshot.catalogue.index[control].kind.name == "set":
            return False
        good = [self._tree_is_good(alike, rule, tree, item, goodness, mends) for item in alike.items[control]]
        self._accept(alike, control, good, term)
        return True

    def _tree_is_good(
        self, alike: EquivalenceClass, rule: Rule, tree: Tree, item: Item, goodness: int, mends: bool
    ) -> bool:
        """Return whether a tree is as good as it has to be where an item counts.

        Or drifts by what no setting mends, where that is enough.
        """
        verdicts: dict[int, np.ndarray] = {}
        narrow: dict[int, np.ndarray] = {}
        settings: set[int] = set()
        for end in ends(tree):
            if not isinstance(end, Leaf):
                continue
            constant = self._constant(alike, rule, end)
            verdict = self._item_verdict(alike, rule, end, item) if constant is None else constant
            cause = Cause(item.scope, item.value) if constant is None else None
            verdicts[end.number] = np.array([verdict], np.uint8)
            narrow[end.number] = np.array([narrowness(end, Outcome(verdict, "", None, cause))], np.int64)
            settings |= {end.number} if constant is None and self._by_value(end, item) else set()
        decision = deciding(tree, verdicts, narrow, 1)
        if int(decision.verdict[0]) >= goodness:
            return True
        return (
            mends
            and int(decision.verdict[0]) == DRIFTS
            and int(decision.leaf[0]) not in settings | self._seen_leaves(alike, rule, tree, item)
        )

    @staticmethod
    def _by_value(leaf: Leaf, item: Item) -> bool:
        """Return whether a leaf fails by the value of an item."""
        return item.value is not None and leaf.comparison is not None and not leaf.comparison.passes(item.value)

    def _seen_leaves(self, alike: EquivalenceClass, rule: Rule, tree: Tree, item: Item) -> set[int]:
        """Return the leaves that drift because of what was seen: that is not mended."""
        return {
            end.number
            for end in ends(tree)
            if isinstance(end, Leaf)
            and self._constant(alike, rule, end) is None
            and self._item_verdict(alike, rule, end, item) == DRIFTS
            and not self._by_value(end, item)
        }

    def _by_fact(self, alike: EquivalenceClass, rule: Rule, tree: Tree) -> bool:
        return any(isinstance(end, TooFew) or self._constant(alike, rule, end) == DRIFTS for end in ends(tree))

    def _require_settings(self, alike: EquivalenceClass, rule: Rule, tree: Tree, term: Term) -> bool:
        """Return where `term` is 1, what surely has to hold so that a tree is good or drifts by a fact.

        Says whether a fact drifts in it.

        Of an `all-of` nothing is asked behind the first drifting fact: that decides. Of other branches one way must be
        free of settings.
        """
        if not isinstance(tree, Branch):
            if isinstance(tree, TooFew) or self._constant(alike, rule, tree) == DRIFTS:
                return True
            self._require_end(alike, rule, tree, UNAVAILABLE, term)
            return False
        if tree.operator == "all-of":
            return any(self._require_settings(alike, rule, branch, term) for branch in tree.branches)
        parts = [self._program.variable() for _ in tree.branches]
        self._program.at_least(total([*parts, term.times(-1)]), 0)
        facts = [
            self._require_settings(alike, rule, branch, part) for branch, part in zip(tree.branches, parts, strict=True)
        ]
        return any(facts)

    def _require_tree(self, alike: EquivalenceClass, rule: Rule, tree: Tree, goodness: int, term: Term) -> None:
        if not isinstance(tree, Branch):
            self._require_end(alike, rule, tree, goodness, term)
            return
        needed = {"all-of": len(tree.branches), "any-of": 1}.get(tree.operator, tree.at_least)
        if needed == len(tree.branches):
            for branch in tree.branches:
                self._require_tree(alike, rule, branch, goodness, term)
            return
        parts = [self._program.variable() for _ in tree.branches]
        self._program.at_least(total([*parts, term.times(-needed)]), 0)
        for branch, part in zip(tree.branches, parts, strict=True):
            self._require_tree(alike, rule, branch, goodness, part)

    def _judged(self, rule: Rule, leaf: Leaf) -> Judged | None:
        said = self._judging.base.judge(rule, self._judging.service).judged
        return next((one for one in said if one.leaf.number == leaf.number), None)

    def _constant(self, alike: EquivalenceClass, rule: Rule, leaf: Leaf) -> int | None:
        """Return the verdict of a leaf that no edit here changes; None for one that may be changed."""
        if leaf.about == "door" or (leaf.about == "control" and leaf.name in alike.items):
            return None
        if leaf.about == "control":
            value = alike.fixed.get(leaf.name)
            if value is not None and leaf.comparison is not None:
                return MEETS if leaf.comparison.passes(value) else DRIFTS
            if alike.subject == "people":
                judged = self._judged(rule, leaf)
                return None if judged is None else int(judged.verdicts[judged.codes[alike.person]])
            return UNKNOWN
        if alike.subject == "people":
            judged = self._judged(rule, leaf)
            return None if judged is None else int(judged.verdicts[judged.codes[alike.person]])
        return self._said_now(alike, rule, leaf)

    def _said_now(self, alike: EquivalenceClass, rule: Rule, leaf: Leaf) -> int | None:
        """Return what a leaf says of a meeting or the organisation as things are."""
        from ..verdicts.others import judge_organisation
        from ..verdicts.planned import judge_leaves

        judging = self._judging
        if alike.subject == "organisation":
            leaves_judged = judge_organisation(rule, judging.service, judging.base.resolver).found[0][1].leaves
            return next((outcome.verdict for one, outcome in leaves_judged if one.number == leaf.number), None)
        assert judging.planned is not None
        found = judge_leaves(rule, judging.service, judging.base)
        one = next((each for each in found if each.leaf.number == leaf.number), None)
        return None if one is None else int(one.verdicts[one.codes[alike.meeting]])

    def _require_end(self, alike: EquivalenceClass, rule: Rule, end: Leaf | TooFew, goodness: int, term: Term) -> None:
        """Add the constraint that one end of a rule's tree is at least so good whenever the term is 1."""
        constant = DRIFTS if isinstance(end, TooFew) else self._constant(alike, rule, end)
        if constant is not None:
            if constant < goodness:
                self._program.at_least(term.times(-1), 0)
            return
        assert isinstance(end, Leaf)
        if end.about == "door":
            self.watched.setdefault((alike.name, rule.id), []).append(
                WatchedTree(alike=alike, rule=rule, leaf=end, goodness=goodness, term=term)
            )
            self._doors.require(alike, rule, end, goodness, term, *self._host(alike))
            return
        good = [self._item_verdict(alike, rule, end, item) >= goodness for item in alike.items[end.name]]
        worst = self._judging.base.snapshot.catalogue.index[end.name].kind.name == "set"
        self._accept(alike, end.name, good, term, worst)

    def _host(self, alike: EquivalenceClass) -> tuple[str, bool]:
        """Return the kind of a planned meeting ("" for a host), and whether the host is a guest."""
        planned, kind = self._judging.planned, self._judging.base.snapshot.people.kind
        of_meeting = ""
        if alike.subject == "meetings" and planned is not None:
            of_meeting = MEETING_KINDS[int(planned.kinds[alike.meeting])]
        return of_meeting, kind.words[int(kind.codes[alike.person])] == GUEST

    def _item_verdict(self, alike: EquivalenceClass, rule: Rule, leaf: Leaf, item: Item) -> int:
        """Return what a leaf about a control says where an item counts."""
        assert leaf.comparison is not None
        if item.current and alike.subject == "people" and item.given is None and self._looked(alike, leaf.name):
            judged = self._judged(rule, leaf)
            assert judged is not None
            return int(judged.verdicts[judged.codes[alike.person]])
        late = alike.subject == "people" and self._seen_failing(alike, leaf)
        if item.value is None:
            return DRIFTS if late else UNKNOWN
        if not leaf.comparison.passes(item.value) or (late and not item.young):
            return DRIFTS
        if item.young and alike.subject == "people":
            return SETTLING
        if item.young and alike.subject == "organisation":
            return SETTLING
        changeable = rule.pinned == "strict" or (rule.pinned == "true" and self._judging.service.changeable(leaf.name))
        return LOOSE if changeable and not item.pinned else MEETS

    def _looked(self, alike: EquivalenceClass, control: str) -> bool:
        seen = self._judging.base.seen(self._judging.service, control)
        return seen is not None and bool(np.any(seen.people == alike.person))

    def _seen_failing(self, alike: EquivalenceClass, leaf: Leaf) -> bool:
        """Return whether a person was seen with a value that fails, at the very time of the snapshot.

        No edit makes that too old to count.
        """
        seen = self._judging.base.seen(self._judging.service, leaf.name)
        if seen is None or leaf.comparison is None:
            return False
        rows = np.flatnonzero((seen.people == alike.person) & (seen.at == self._judging.base.snapshot.taken_at))
        return any(
            not leaf.comparison.passes(seen.words[value])
            for row in rows.tolist()
            for value in seen.values[int(seen.starts[row]) : int(seen.starts[row + 1])].tolist()
        )
