"""Edits of access rules: how an edit changes a rule, and which edits make a rule cover a sign-in.

An edit ends an exclusion (of people, a resource or a network), adds a word to a condition, enforces an observed
rule, or excludes one account. Spec: mending 5.2.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import product
from typing import NamedTuple

from ..organisation.access_rules import AccessRule, Conditions, ResourceChoice
from ..organisation.select import Unanswerable, select
from ..organisation.selector import Selector
from ..organisation.sign_ins import SignIn
from ..organisation.snapshot import Snapshot
from ..sign_in.coverage import ALWAYS, covering
from ..sign_in.evaluator import AccessPolicyEvaluator
from ..words.vocabulary import ANY, ELSEWHERE

ENFORCE, EXCLUDE = "enforce", "exclude"
PEOPLE, RESOURCE, TAG, NETWORK_OUT, NETWORK_IN = "people", "resource", "tag", "network-out", "network"
WORD_CONDITIONS = ("client", "platform", "device", "risk")
_PHRASES = {
    EXCLUDE: "also exclude",
    PEOPLE: "no longer exclude",
    RESOURCE: "no longer exclude resource",
    TAG: "no longer exclude what is tagged",
    NETWORK_OUT: "no longer exclude network",
    NETWORK_IN: "also from network",
    **{name: f"also for {name}" for name in WORD_CONDITIONS},
}
Resources = Mapping[str, frozenset[str]]


class RuleEdit(NamedTuple):
    """One edit of the access rule with this number.

    `kind` is ENFORCE, EXCLUDE, the kind of an exclusion that ends, NETWORK_IN, or one of WORD_CONDITIONS.
    `operand` is what is excluded or no longer excluded, or the word that is added.
    """

    number: int
    kind: str
    operand: Selector | str

    def text(self, rules: Sequence[AccessRule]) -> str:
        """Return the edit in words."""
        rule = rules[self.number].id
        if self.kind == ENFORCE:
            return f"enforce {rule}"
        operand = self.operand.text if isinstance(self.operand, Selector) else self.operand
        return f"{rule}: {_PHRASES[self.kind]} {operand}"

    def apply(self, rule: AccessRule, resources: Resources) -> AccessRule:
        """Return the rule with this edit."""
        if self.kind == ENFORCE:
            return rule.with_mode("enforce")
        if isinstance(self.operand, Selector):
            change = _excluding if self.kind == EXCLUDE else _no_longer_excluding
            return replace(rule, exclude=change(rule.exclude, self.operand))
        if self.kind in (RESOURCE, TAG):
            return _with_resource(rule, self.kind, self.operand, resources)
        when, word = rule.when, frozenset((self.operand,))
        if self.kind == NETWORK_OUT:
            return replace(rule, when=replace(when, networks_out=when.networks_out - word))
        name = "networks_in" if self.kind == NETWORK_IN else self.kind
        return replace(rule, when=replace(when, **{name: (getattr(when, name) or frozenset()) | word}))


Edits = frozenset[RuleEdit]
NO_EDITS: Edits = frozenset()


def with_edits(rules: Sequence[AccessRule], edits: Iterable[RuleEdit], resources: Resources) -> tuple[AccessRule, ...]:
    """Return the rules with all of these edits; several edits may change one rule."""
    edited = list(rules)
    for edit in edits:
        edited[edit.number] = edit.apply(edited[edit.number], resources)
    return tuple(edited)


def _excluding(exclude: Selector | None, addition: Selector) -> Selector:
    if exclude is None:
        return addition
    if exclude.key == addition.key and not exclude.parts:
        return replace(exclude, values=(*exclude.values, *addition.values))
    parts = exclude.parts if exclude.key == "any-of" else (exclude,)
    return Selector("any-of", parts=(*parts, addition))


def _no_longer_excluding(exclude: Selector | None, removal: Selector) -> Selector | None:
    """Remove the whole selector, a branch of an `any-of`, or one value of a list."""
    if exclude is None or exclude == removal:
        return None
    if exclude.key == "any-of":
        reduced = (_no_longer_excluding(part, removal) for part in exclude.parts)
        parts = tuple(part for part in reduced if part is not None)
        if len(parts) > 1:
            return replace(exclude, parts=parts)
        return parts[0] if parts else None
    if exclude.key == removal.key and len(removal.values) == 1:
        return replace(exclude, values=tuple(value for value in exclude.values if value not in removal.values))
    return exclude


def _with_resource(rule: AccessRule, kind: str, word: str, resources: Resources) -> AccessRule:
    excluded, included = rule.resources_out, rule.resources_in
    assert excluded is not None and included is not None
    if kind == RESOURCE:
        reduced = replace(excluded, names=tuple(name for name in excluded.names if name != word))
    else:
        reduced = replace(excluded, tags=tuple(tag for tag in excluded.tags if tag != word))
    is_empty = not (reduced.names or reduced.tags or reduced.any)
    covered = included.among(resources) - reduced.among(resources)
    return replace(rule, resources=covered, resources_out=None if is_empty else reduced)


class CoveringEdits:
    """Finds which edits make a rule cover a sign-in of a person, for a required proof."""

    def __init__(self, evaluator: AccessPolicyEvaluator) -> None:
        self._evaluator = evaluator
        self._masks: dict[Selector, list[bool] | None] = {}

    def find(self, proof: str, sign_in: SignIn, person: int) -> frozenset[Edits]:
        """Return each minimal set of edits with which one rule denies this sign-in or asks for the proof."""
        bits = covering(self._evaluator, proof, sign_in.client, sign_in.device)[0]
        if bits == ALWAYS:
            return frozenset((NO_EDITS,))
        edit_sets = {
            frozenset().union(*choice)
            for number, rule in enumerate(self._evaluator.rules)
            if bits >> number & 1 and rule.mode != "off"
            for choice in product(*self._by_condition(number, rule, sign_in, person))
        }
        return frozenset(edits for edits in edit_sets if not any(other < edits for other in edit_sets))

    def _by_condition(self, number: int, rule: AccessRule, sign_in: SignIn, person: int) -> Iterator[Sequence[Edits]]:
        """Yield the alternatives for each condition of a rule: sets of edits with which it holds.

        The empty set is the only alternative where it holds already; there is none where no edit helps.
        """
        yield [frozenset((RuleEdit(number, ENFORCE, ""),)) if rule.mode == "observe" else NO_EDITS]
        is_included = self._is_selected(rule.include, person)
        yield self._ending_exclusion(number, rule.exclude, person) if is_included else []
        yield _on_resource(number, rule, sign_in.resource, self._evaluator.snapshot)
        yield _at_network(number, rule.when, sign_in.network.names)
        for name in WORD_CONDITIONS:
            word = getattr(sign_in, name)
            if rule.when.holds(name, word):
                yield [NO_EDITS]
                continue
            # A healthy device satisfies the word managed, too.
            words = [word, "managed"] if (name, word) == ("device", "healthy") else [word]
            yield [frozenset((RuleEdit(number, name, each),)) for each in words]

    def _ending_exclusion(self, number: int, exclude: Selector | None, person: int) -> list[Edits]:
        """Return the sets of edits with which an exclusion no longer selects a person."""
        if exclude is None or self._is_selected(exclude, person) is False:
            return [NO_EDITS]
        alternatives = [frozenset((RuleEdit(number, PEOPLE, exclude),))]
        if exclude.key == "any-of":
            by_part = [self._ending_exclusion(number, part, person) for part in exclude.parts]
            alternatives += [frozenset().union(*choice) for choice in product(*by_part)]
        elif len(exclude.values) > 1:
            values = (replace(exclude, values=(value,)) for value in exclude.values)
            selecting = [value for value in values if self._is_selected(value, person)]
            alternatives.append(frozenset(RuleEdit(number, PEOPLE, value) for value in selecting))
        return [edits for edits in alternatives if edits]

    def _is_selected(self, selector: Selector, person: int) -> bool | None:
        """Return whether a selector selects a person; None if the snapshot does not say."""
        if selector not in self._masks:
            try:
                self._masks[selector] = select(selector, self._evaluator.snapshot).tolist()
            except Unanswerable:
                self._masks[selector] = None
        mask = self._masks[selector]
        return None if mask is None else mask[person]


def _on_resource(number: int, rule: AccessRule, resource: str, snapshot: Snapshot) -> list[Edits]:
    if resource in rule.resources:
        return [NO_EDITS]
    included, excluded = rule.resources_in, rule.resources_out
    if included is None or resource not in included.among(snapshot.resources) or not _can_end(excluded):
        return []
    assert excluded is not None
    tags = snapshot.resources.get(resource, frozenset()) & set(excluded.tags)
    edits = [RuleEdit(number, TAG, tag) for tag in tags]
    edits += [RuleEdit(number, RESOURCE, resource)] if resource in excluded.names else []
    return [frozenset(edits)]


def _can_end(excluded: ResourceChoice | None) -> bool:
    return excluded is not None and not excluded.any


def _at_network(number: int, when: Conditions, names: frozenset[str]) -> list[Edits]:
    here = (names or frozenset((ELSEWHERE,))) | {ANY}
    ended = frozenset(RuleEdit(number, NETWORK_OUT, name) for name in when.networks_out & here)
    if when.networks_in is None or when.networks_in & here:
        return [ended]
    return [ended | {RuleEdit(number, NETWORK_IN, name)} for name in sorted(here - {ANY})]
