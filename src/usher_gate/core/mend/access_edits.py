"""Edits of access rules: which there are, what a rule is with several of them, and which sets of them make rules cover a sign-in.

An edit ends an exclusion (of people, of a resource, of a network), adds a word to a condition, enforces what is only observed, or excludes
one account. Source: answers, B 21.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import product
from typing import NamedTuple

from ..organisation.access_rules import AccessRule, Conditions
from ..organisation.select import Unanswerable, select
from ..organisation.selector import Selector
from ..organisation.sign_ins import SignIn
from ..organisation.snapshot import Snapshot
from ..sign_in.coverage import ALWAYS, covering
from ..sign_in.gatekeeper import Gatekeeper
from ..words.vocabulary import ANY, ELSEWHERE

ENFORCE, EXCUSE = "enforce", "excuse"
PEOPLE, RESOURCE, TAG, NETWORK_OUT, NETWORK_IN = "people", "resource", "tag", "network-out", "network"
WORDS = ("client", "platform", "device", "risk")
_SAID = {
    ENFORCE: "enforce",
    EXCUSE: "also exclude",
    PEOPLE: "no longer exclude",
    RESOURCE: "no longer exclude resource",
    TAG: "no longer exclude what is tagged",
    NETWORK_OUT: "no longer exclude network",
    NETWORK_IN: "also from network",
    **{name: f"also for {name}" for name in WORDS},
}
Resources = Mapping[str, frozenset[str]]


class RuleEdit(NamedTuple):
    """One edit of the access rule of this number: `kind` is ENFORCE, EXCUSE, one that ends an exclusion, NETWORK_IN or one of WORDS;
    `what` is excluded or no longer excluded, or the word."""

    number: int
    kind: str
    what: Selector | str

    def said(self, rules: Sequence[AccessRule]) -> str:
        """The edit in words."""
        rule = rules[self.number].id
        if self.kind == ENFORCE:
            return f"enforce {rule}"
        return f"{rule}: {_SAID[self.kind]} {self.what.text if isinstance(self.what, Selector) else self.what}"

    def made(self, rule: AccessRule, resources: Resources) -> AccessRule:
        """The rule with this edit."""
        if self.kind == ENFORCE:
            return rule.with_mode("enforce")
        if isinstance(self.what, Selector):
            exclude = with_one(rule.exclude, self.what) if self.kind == EXCUSE else without_one(rule.exclude, self.what)
            return replace(rule, exclude=exclude)
        if self.kind in (RESOURCE, TAG):
            return _with_resource(rule, self.kind, self.what, resources)
        when, word = rule.when, frozenset((self.what,))
        if self.kind == NETWORK_OUT:
            return replace(rule, when=replace(when, networks_out=when.networks_out - word))
        name = "networks_in" if self.kind == NETWORK_IN else self.kind
        return replace(rule, when=replace(when, **{name: (getattr(when, name) or frozenset()) | word}))


Edits = frozenset[RuleEdit]
NO_EDITS: Edits = frozenset()


def with_edits(rules: Sequence[AccessRule], edits: Iterable[RuleEdit], resources: Resources) -> tuple[AccessRule, ...]:
    """The rules with all of these edits."""
    made = list(rules)
    for edit in edits:
        made[edit.number] = edit.made(made[edit.number], resources)
    return tuple(made)


def with_one(exclude: Selector | None, one: Selector) -> Selector:
    """An exclusion of people with one thing more."""
    if exclude is None:
        return one
    if exclude.key == one.key and not exclude.parts:
        return replace(exclude, values=(*exclude.values, *one.values))
    return Selector("any-of", parts=(*(exclude.parts if exclude.key == "any-of" else (exclude,)), one))


def without_one(exclude: Selector | None, one: Selector) -> Selector | None:
    """An exclusion of people with one thing less: itself, a branch of an `any-of`, or a value of a list."""
    if exclude is None or exclude == one:
        return None
    if exclude.key == "any-of":
        parts = tuple(part for part in (without_one(each, one) for each in exclude.parts) if part is not None)
        return replace(exclude, parts=parts) if len(parts) > 1 else parts[0] if parts else None
    if exclude.key == one.key and len(one.values) == 1:
        return replace(exclude, values=tuple(value for value in exclude.values if value not in one.values))
    return exclude


def _with_resource(rule: AccessRule, kind: str, word: str, resources: Resources) -> AccessRule:
    out, chosen = rule.resources_out, rule.resources_in
    assert out is not None and chosen is not None
    less = (
        replace(out, names=tuple(name for name in out.names if name != word))
        if kind == RESOURCE
        else replace(out, tags=tuple(tag for tag in out.tags if tag != word))
    )
    left = less if less.names or less.tags or less.any else None
    meant = chosen.among(resources) - less.among(resources)
    return replace(rule, resources=meant, resources_out=left)


class Terms:
    """Which sets of edits make a rule cover a sign-in of somebody, in a proof that is asked for."""

    def __init__(self, keeper: Gatekeeper) -> None:
        self._keeper = keeper
        self._chosen: dict[Selector, list[bool] | None] = {}

    def covering(self, proof: str, sign_in: SignIn, person: int) -> frozenset[Edits]:
        """Each least set of edits of one rule with which it denies this person's sign-in, or asks for the proof."""
        bits = covering(self._keeper, proof, sign_in.client, sign_in.device)[0]
        if bits == ALWAYS:
            return frozenset((NO_EDITS,))
        found = {
            frozenset().union(*some)
            for number, rule in enumerate(self._keeper.rules)
            if bits >> number & 1 and rule.mode != "off"
            for some in product(*self._needed(number, rule, sign_in, person))
        }
        return frozenset(one for one in found if not any(other < one for other in found))

    def _needed(self, number: int, rule: AccessRule, sign_in: SignIn, person: int) -> Iterator[Sequence[Edits]]:
        """For each thing that a rule looks at the sets of edits with which it holds; an empty one where it holds, none where none helps."""
        yield [frozenset((RuleEdit(number, ENFORCE, ""),)) if rule.mode == "observe" else NO_EDITS]
        yield self._including(number, rule, person)
        yield _on_resource(number, rule, sign_in.resource, self._keeper.snapshot)
        yield _at_network(number, rule.when, sign_in.network.names)
        words = {"client": sign_in.client, "platform": sign_in.platform, "device": sign_in.device, "risk": sign_in.risk}
        for name, word in words.items():
            # A healthy device is managed, too.
            more = [word, "managed"] if (name, word) == ("device", "healthy") else [word]
            holds = rule.when.holds(name, word)
            yield [NO_EDITS] if holds else [frozenset((RuleEdit(number, name, each),)) for each in more]

    def _including(self, number: int, rule: AccessRule, person: int) -> list[Edits]:
        if not self._is_chosen(rule.include, person):
            return []
        return self._letting_go(number, rule.exclude, person)

    def _letting_go(self, number: int, exclude: Selector | None, person: int) -> list[Edits]:
        """The sets of edits with which an exclusion no longer speaks of somebody."""
        if exclude is None or self._is_chosen(exclude, person) is False:
            return [NO_EDITS]
        found = [frozenset((RuleEdit(number, PEOPLE, exclude),))]
        if exclude.key == "any-of":
            each = [self._letting_go(number, part, person) for part in exclude.parts]
            found += [frozenset().union(*some) for some in product(*each)]
        elif len(exclude.values) > 1:
            single = (replace(exclude, values=(value,)) for value in exclude.values)
            found.append(frozenset(RuleEdit(number, PEOPLE, one) for one in single if self._is_chosen(one, person)))
        return [one for one in found if one]

    def _is_chosen(self, selector: Selector, person: int) -> bool | None:
        """Whether a selector chooses somebody; None where that cannot be told."""
        if selector not in self._chosen:
            try:
                self._chosen[selector] = select(selector, self._keeper.snapshot).tolist()
            except Unanswerable:
                self._chosen[selector] = None
        known = self._chosen[selector]
        return None if known is None else known[person]


def _on_resource(number: int, rule: AccessRule, resource: str, snapshot: Snapshot) -> list[Edits]:
    if resource in rule.resources:
        return [NO_EDITS]
    chosen, out = rule.resources_in, rule.resources_out
    if chosen is None or out is None or out.any or resource not in chosen.among(snapshot.resources):
        return []
    tags = sorted(snapshot.resources.get(resource, frozenset()) & set(out.tags))
    return [
        frozenset(
            [RuleEdit(number, RESOURCE, name) for name in out.names if name == resource]
            + [RuleEdit(number, TAG, tag) for tag in tags]
        )
    ]


def _at_network(number: int, when: Conditions, names: frozenset[str]) -> list[Edits]:
    here = (names or frozenset((ELSEWHERE,))) | {ANY}
    dropped = frozenset(RuleEdit(number, NETWORK_OUT, name) for name in when.networks_out & here)
    if when.networks_in is None or when.networks_in & here:
        return [dropped]
    return [dropped | {RuleEdit(number, NETWORK_IN, name)} for name in sorted(here - {ANY})]
