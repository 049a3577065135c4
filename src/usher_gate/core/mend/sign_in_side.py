"""Single edits of access rules that close a hole: one exclusion less, one word more in a condition, one observed rule enforced.

They are listed apart from the plan and never counted in it. Source: changes, section 3 ("Beyond settings"); reading 38.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

import numpy as np

from ..organisation.access_rules import AccessRule, ResourceChoice
from ..organisation.selector import Selector
from ..sign_in.coverage import Coverage, Hole
from ..sign_in.gatekeeper import Gatekeeper
from ..sign_in.holes import WayIn, holes, slipping
from ..sign_in.lockout import lockouts
from ..sign_in.possible import Asked
from ..verdicts.checker import Checker
from ..verdicts.codes import DRIFTS
from ..words.record import record
from ..words.vocabulary import CONDITION_WORDS, DIMENSIONS
from .terms import Terms

MOST_HOLES = 8  # of one rule, those of most people
_CONDITIONS = ("client", "platform", "device", "risk")


@record
class Suggestion:
    """One edit of one access rule. `rule` asks for the proof, `hole` is what it closes; `drifting` people drift from the rule for want of
    the proof now, and `drifting_then` would afterwards. `locked_out` are newly locked out (resource, kind, id), `stranded` newly get in
    nowhere somewhere until they register something (ids). `rules` are the access rules as they would be, `edited` the one that
    is other."""

    rule: str
    asked: Asked
    hole: WayIn
    what: str
    edited: AccessRule
    drifting: int
    drifting_then: int
    locked_out: tuple[tuple[str, str, str], ...]
    stranded: tuple[str, ...]
    rules: tuple[AccessRule, ...]

    @property
    def locks_break_glass(self) -> bool:
        """Whether a break-glass account would be locked out: then it is not recommended."""
        return any(kind == "break-glass" for _, kind, _ in self.locked_out)


def suggestions(checker: Checker, terms: Terms) -> Iterator[Suggestion]:
    """For each hole of the rules that drift, every single edit that closes it: the one that ends most first."""
    snapshot = checker.snapshot
    if snapshot.access_rules is None:
        return
    keeper = checker.gatekeeper
    now = lockouts(keeper)
    locked = {(each.resource, each.of, person) for each in now.found for person in each.people}
    stuck = {(each.resource, person) for each in now.stranded for person in each.people.tolist()}
    for rule in checker.baseline.rules:
        leaves = [leaf for leaf in rule.leaves if leaf.about == "proof" and leaf.asked is not None]
        if rule.subject != "people" or not leaves or not terms.keeps(rule, None) or rule.of_services:
            continue
        audience = (checker.judge(rule, None).verdict == DRIFTS) & terms.chosen
        for leaf in leaves:
            assert leaf.asked is not None
            for hole in holes(keeper, leaf.asked, audience)[:MOST_HOLES] if np.any(audience) else ():
                found = []
                for what, number, edited in _edits(keeper.rules, hole, snapshot.resources):
                    rules = tuple(edited if place == number else one for place, one in enumerate(keeper.rules))
                    after = keeper.with_rules(rules)
                    if slipping(after, leaf.asked, hole):
                        continue
                    then = _drifting(after, leaf.asked, audience)
                    out = lockouts(after)
                    new = {(each.resource, each.of, one) for each in out.found for one in each.people} - locked
                    no_way = {(each.resource, one) for each in out.stranded for one in each.people.tolist()} - stuck
                    people = np.array(sorted({one for _, one in no_way}), np.int64)
                    found.append(
                        Suggestion(
                            rule.id,
                            leaf.asked,
                            hole,
                            what,
                            edited,
                            int(np.count_nonzero(audience)),
                            then,
                            tuple(sorted(new)),
                            tuple(snapshot.people.ids.take(people)),
                            rules,
                        )
                    )
                yield from sorted(
                    found, key=lambda one: (one.locks_break_glass, len(one.locked_out), one.drifting_then, one.what)
                )


def _drifting(keeper: Gatekeeper, asked: Asked, audience: np.ndarray) -> int:
    """How many of some people still have a hole in a proof."""
    known = Coverage(keeper).of(asked)
    open_ = np.array([isinstance(answer, Hole) for answer in known.answers], bool)
    return int(np.count_nonzero(open_[known.codes] & audience))


Edit = tuple[str, int, AccessRule]
Resources = Mapping[str, frozenset[str]]


def _edits(rules: tuple[AccessRule, ...], hole: WayIn, resources: Resources) -> Iterator[Edit]:
    for number, rule in enumerate(rules):
        if rule.mode == "off" or not (rule.deny or rule.require is not None):
            continue
        if rule.mode == "observe":
            yield f"enforce {rule.id}", number, rule.with_mode("enforce")
            continue
        yield from _exclusions(number, rule, resources)
        yield from _words(number, rule, hole)


def _exclusions(number: int, rule: AccessRule, resources: Resources) -> Iterator[Edit]:
    """One entry of a list, one branch of an `any-of`, or the whole exclusion of people."""
    for what, exclude in _less(rule.exclude):
        said = f"{rule.id}: no longer exclude {what}"
        yield said, number, replace(rule, exclude=exclude)
    chosen = rule.resources_out
    if chosen is not None and rule.resources_in is not None:
        for word in chosen.names:
            out = replace(chosen, names=tuple(other for other in chosen.names if other != word))
            yield f"{rule.id}: no longer exclude resource {word}", number, _with_resources(rule, out, resources)
        for word in chosen.tags:
            out = replace(chosen, tags=tuple(other for other in chosen.tags if other != word))
            yield f"{rule.id}: no longer exclude what is tagged {word}", number, _with_resources(rule, out, resources)
    for word in sorted(rule.when.networks_out):
        said = f"{rule.id}: no longer exclude network {word}"
        when = replace(rule.when, networks_out=rule.when.networks_out - {word})
        yield said, number, replace(rule, when=when)


def _with_resources(rule: AccessRule, out: ResourceChoice, resources: Resources) -> AccessRule:
    assert rule.resources_in is not None
    left = rule.resources_in.among(resources) - out.among(resources)
    return replace(rule, resources=left, resources_out=out if out.names or out.tags or out.any else None)


def _less(selector: Selector | None) -> Iterator[tuple[str, Selector | None]]:
    """An exclusion of people with one thing less, and what that is."""
    if selector is None:
        return
    if selector.key == "any-of":
        for part in selector.parts:
            rest = tuple(other for other in selector.parts if other != part)
            yield part.text, replace(selector, parts=rest) if len(rest) > 1 else rest[0] if rest else None
    elif len(selector.values) > 1:
        for value in selector.values:
            yield f"{selector.key} {value}", replace(selector, values=tuple(v for v in selector.values if v != value))
    yield selector.text, None


def _words(number: int, rule: AccessRule, hole: WayIn) -> Iterator[Edit]:
    """One more word in a condition, of those that the hole has and the rule leaves out."""
    values = dict(zip(DIMENSIONS, hole.values, strict=True))
    for name in _CONDITIONS:
        wanted: frozenset[str] | None = getattr(rule.when, name)
        for word in values[name] or CONDITION_WORDS[name]:
            if wanted is not None and word not in wanted:
                said = f"{rule.id}: also for {name} {word}"
                when = replace(rule.when, **{name: wanted | {word}})
                yield said, number, replace(rule, when=when)
    if rule.when.networks_in is not None:
        for text in values["network"] or ():
            for word in text.split("+"):
                if word not in rule.when.networks_in:
                    said = f"{rule.id}: also from network {word}"
                    when = replace(rule.when, networks_in=rule.when.networks_in | {word})
                    yield said, number, replace(rule, when=when)
