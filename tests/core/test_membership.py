"""Memberships that are held and memberships that are walked are the same, and the same as a plain walk by hand."""

from __future__ import annotations

from random import Random

import numpy as np
import pytest

from tests.compared import many
from usher_gate.core.organisation import membership
from usher_gate.core.organisation.groups import Groups, close_groups


def built(seed: int) -> tuple[Groups, list[tuple[int, int]], list[tuple[int, int]], int, int]:
    draw = Random(seed)
    groups, people = draw.randint(1, 12), draw.randint(1, 70)
    nested = [(draw.randrange(groups), draw.randrange(groups)) for _ in range(draw.randint(0, 16))]  # loops are legal
    direct = [(draw.randrange(groups), draw.randrange(people)) for _ in range(draw.randint(0, 60))]
    made = close_groups(
        [f"g{number:02}" for number in range(groups)],
        [None] * groups,
        (np.array([pair[0] for pair in direct], np.int32), np.array([pair[1] for pair in direct], np.int32)),
        (np.array([pair[0] for pair in nested], np.int32), np.array([pair[1] for pair in nested], np.int32)),
        people,
    )
    return made, direct, nested, groups, people


def plain(direct: list[tuple[int, int]], nested: list[tuple[int, int]], group: int) -> set[int]:
    seen, waiting = {group}, [group]
    while waiting:
        outer = waiting.pop()
        for container, inner in nested:
            if container == outer and inner not in seen:
                seen.add(inner)
                waiting.append(inner)
    return {person for owner, person in direct if owner in seen}


@pytest.mark.parametrize("held", ["all", "those with people", "none"])
def test_every_question_has_the_answer_of_a_plain_walk(held: str, monkeypatch: pytest.MonkeyPatch) -> None:
    if held != "all":
        monkeypatch.setattr(membership, "_FEW", 0)
        monkeypatch.setattr(membership, "_TIMES_DIRECT", 0 if held == "none" else 64)
    if held == "those with people":
        monkeypatch.setattr(membership, "_above", lambda *_: None)
    monkeypatch.setattr(membership, "_BLOCK", 16)
    walked = 0
    for seed in range(many(150)):
        made, direct, nested, groups, people = built(seed)
        walked += isinstance(made._membership, membership.WalkedMemberships)
        draw = Random(seed)
        wanted = [plain(direct, nested, group) for group in range(groups)]
        mask = np.array([draw.random() < 0.5 for _ in range(people)])
        some = np.array([draw.randrange(people) for _ in range(3)])
        assert [set(made.members(group).tolist()) for group in range(groups)] == wanted
        joined, lengths = made.members_of(np.arange(groups, dtype=np.int32))
        assert joined.tolist() == [one for group in wanted for one in sorted(group)]
        assert lengths.tolist() == [len(group) for group in wanted]
        assert made.count(mask).tolist() == [sum(bool(mask[one]) for one in group) for group in wanted]
        assert made.count_of(some).tolist() == [sum(one in group for one in some.tolist()) for group in wanted]
        for person in range(people):
            assert made.of(person).tolist() == [group for group in range(groups) if person in wanted[group]]
        half = made.part(people // 3, people)
        assert [set(half.members(group).tolist()) for group in range(groups)] == [
            {one - people // 3 for one in group if one >= people // 3} for group in wanted
        ]
    assert (walked > 50) == (held == "none")
