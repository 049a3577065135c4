"""What judging some people has found, and the sum of what was found of people apart."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import TypeVar

import numpy as np

from ..organisation.columns import Ints, Longs
from ..settings.clashes import Clash
from ..settings.contests import Contest
from ..words.compare import Comparison
from ..words.vocabulary import SEVERITIES
from .codes import VERDICTS
from .outcome import Root
from .result import FindingBlock
from .tally import NO_SEVERITY, OwnerCounts, RootCount

Wanted = dict[str, Comparison]  # what is asked of a root's value, by its words
_Thing = TypeVar("_Thing")


@dataclass
class ServiceCount:
    """Counts of one service.

    Its verdicts by code, and how many people drift there at worst from a rule of each of SEVERITIES (int64 each).
    """

    counts: Longs = field(default_factory=lambda: np.zeros(len(VERDICTS), np.int64))
    worst: Longs = field(default_factory=lambda: np.zeros(len(SEVERITIES), np.int64))


@dataclass
class PartialResult:
    """Describes what was found of the people from `first` on: numbers of people count from it, sums can be added up.

    `drifting` are the people who drift (ascending, int32), `drifts` how often, `worst` their worst severity (a place in
    SEVERITIES); `judging` are the rules that judge someone, `reported_rules` those about people that are in the report;
    `wanted` says what each root that is a setting would have to satisfy, `at_doors` are the roots by which doors fail.
    """

    first: int = 0
    notes: set[str] = field(default_factory=set)
    counts: dict[str, Longs] = field(default_factory=dict)
    by_pair: dict[tuple[str, str | None], Longs] = field(
        default_factory=dict
    )  # by rule and service the verdicts, by code
    blocks: list[FindingBlock] = field(default_factory=list)
    covers: dict[str, int] = field(default_factory=dict)
    judging: set[str] = field(default_factory=set)
    reported_rules: set[str] = field(default_factory=set)
    services: dict[str, ServiceCount] = field(default_factory=dict)
    roots: dict[Root, RootCount] = field(default_factory=dict)
    wanted: dict[Root, Wanted] = field(default_factory=dict)
    at_doors: set[Root] = field(default_factory=set)
    groups: dict[str, OwnerCounts] = field(default_factory=dict)
    units: dict[str, OwnerCounts] = field(default_factory=dict)
    drifting: Ints = field(default_factory=lambda: np.empty(0, np.int32))
    drifts: Ints = field(default_factory=lambda: np.empty(0, np.int32))
    worst: Ints = field(default_factory=lambda: np.empty(0, np.int32))
    clashes: tuple[Clash, ...] = ()
    clashing: int = 0
    unclear: int = 0  # people with a verdict that is unknown or unavailable
    contests: tuple[Contest, ...] = ()

    def everybody(self, size: int) -> tuple[Ints, Ints]:
        """Return how often each person drifts, and from what severity at worst (NO_SEVERITY for none); int32 each."""
        drifts, worst = np.zeros(size, np.int32), np.full(size, NO_SEVERITY, np.int32)
        drifts[self.drifting], worst[self.drifting] = self.drifts, self.worst
        return drifts, worst


def together(parts: Sequence[PartialResult]) -> PartialResult:
    """Return what was found of people apart, in the order of the people, as if it had been found at once."""
    if len(parts) == 1 and parts[0].first == 0:
        return parts[0]
    whole = PartialResult()
    for part in parts:
        _add_sums(whole, part)
    whole.drifting = _joined([part.drifting + np.int32(part.first) for part in parts])
    whole.drifts, whole.worst = _joined([part.drifts for part in parts]), _joined([part.worst for part in parts])
    blocks = ((part.first, (block.rule.id, block.service), block) for part in parts for block in part.blocks)
    whole.blocks = [_block(some) for some in _alike(blocks)]
    clashes = ((part.first, (each.service, each.first, each.second), each) for part in parts for each in part.clashes)
    whole.clashes = tuple(
        replace(some[0][1], people=_joined([clash.people + np.int32(first) for first, clash in some]))
        for some in _alike(clashes)
    )
    contests = (
        (part.first, (each.service, each.control, each.value, each.settings), each)
        for part in parts
        for each in part.contests
    )
    whole.contests = tuple(
        replace(some[0][1], people=_joined([contest.people + np.int32(first) for first, contest in some]))
        for some in _alike(contests)
    )
    return whole


def _add_sums(whole: PartialResult, part: PartialResult) -> None:
    """Add the counts of another part of the people to those of the whole."""
    whole.notes |= part.notes
    whole.judging |= part.judging
    whole.reported_rules |= part.reported_rules
    whole.at_doors |= part.at_doors
    whole.clashing += part.clashing
    whole.unclear += part.unclear
    for rule, counted in part.counts.items():
        whole.counts[rule] = whole.counts.get(rule, 0) + counted
    for pair, counted in part.by_pair.items():
        whole.by_pair[pair] = whole.by_pair.get(pair, 0) + counted
    for name, covered in part.covers.items():
        whole.covers[name] = whole.covers.get(name, 0) + covered
    for name, service in part.services.items():
        known = whole.services.setdefault(name, ServiceCount())
        known.counts, known.worst = known.counts + service.counts, known.worst + service.worst
    for root, count in part.roots.items():
        whole.roots[root] = count if root not in whole.roots else whole.roots[root].plus(count)
    for root, wanted in part.wanted.items():
        whole.wanted[root] = wanted | whole.wanted.get(root, {})
    for mine, others in ((whole.groups, part.groups), (whole.units, part.units)):
        for rule, owners in others.items():
            mine[rule] = owners if rule not in mine else mine[rule].plus(owners)


def _alike(things: Iterable[tuple[int, Hashable, _Thing]]) -> list[list[tuple[int, _Thing]]]:
    """Things that say the same of the people of some parts, each with its part's first person."""
    found: dict[Hashable, list[tuple[int, _Thing]]] = {}
    for first, key, thing in things:
        found.setdefault(key, []).append((first, thing))
    return list(found.values())


def _joined(runs: Sequence[Ints]) -> Ints:
    return np.concatenate([np.empty(0, np.int32), *runs]).astype(np.int32)


def _block(some: Sequence[tuple[int, FindingBlock]]) -> FindingBlock:
    """Return the findings of one rule and service about the people of some parts."""
    if len(some) == 1 and some[0][0] == 0:
        return some[0][1]
    counts = np.cumsum([0, *(len(block.details) for _, block in some)]).tolist()
    return FindingBlock(
        rule=some[0][1].rule,
        service=some[0][1].service,
        people=_joined([block.people + np.int32(first) for first, block in some]),
        detail=_joined([block.detail + np.int32(before) for (_, block), before in zip(some, counts, strict=False)]),
        details=tuple(detail for _, block in some for detail in block.details),
    )
