"""Contested values under many groups of equal precedence, against asking of each person which groups they are in."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.compared import many
from tests.tiny import ORGANISATION, SERVICES
from usher_gate.core.settings.contests import disputes
from usher_gate.core.settings.resolver import Resolver
from usher_gate.files.snapshot.folder import read_snapshot

CONTROL, PEOPLE = "door.waiting-room", 12
WORDS = ("everyone", "guests", "hosts")  # the least strict first
EVERYBODY = frozenset(range(PEOPLE))


@st.composite
def worlds(draw: st.DrawFn) -> list[tuple[str, str, frozenset[int]]]:
    """For each group the value and the rank of its setting, and its members.

    Some hundred groups at most, many of which say the same.
    """
    size = draw(st.sampled_from((3, 3, 70, 110)))
    words = st.sampled_from(draw(st.sampled_from((WORDS, WORDS[:2], (*[WORDS[1]] * 30, WORDS[2])))))
    some = draw(st.lists(st.frozensets(st.integers(0, PEOPLE - 1), min_size=1), min_size=1, max_size=4))
    members = st.sampled_from([*some, *[EVERYBODY] * (size // 4)])
    return draw(st.lists(st.tuples(words, st.sampled_from(("", "1", "1", "1")), members), min_size=size, max_size=size))


# Seventy groups of everyone; one person each is out of four of them, and no one of these is under the same ones as
# another.
LACK = {60: 0, 28: 1, 59: 2, 58: 3}
MANY = [(WORDS[min(n, 1)], "1", EVERYBODY - {LACK[n]} if n in LACK else EVERYBODY) for n in range(70)]


@settings(max_examples=many(60))
@example(MANY, frozenset())
@example([("guests", "1", frozenset((0, 1))), ("guests", "1", EVERYBODY), ("hosts", "1", frozenset((1,)))], frozenset())
@given(worlds(), st.frozensets(st.integers(0, PEOPLE - 1)))
def test_who_is_under_which_settings_that_disagree(
    groups: list[tuple[str, str, frozenset[int]]], left_out: frozenset[int]
) -> None:
    with TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "organisation.yaml").write_text(ORGANISATION)
        (folder / "services.yaml").write_text(SERVICES)
        tables = {
            "people": ["id,login,kind", *(f"P{n:02},p{n}@northmere.example,member" for n in range(PEOPLE))],
            "groups": ["id,name", *(f"g{n:02},Group {n}" for n in range(len(groups)))],
            "members": [
                "group,member",
                *(f"g{n:02},P{p:02}" for n, (*_, who) in enumerate(groups) for p in sorted(who)),
            ],
            "settings": [
                "service,control,scope,value,rank",
                *(f"tidecall,{CONTROL},group:g{n:02},{word},{rank}" for n, (word, rank, _) in enumerate(groups)),
            ],
        }
        for table, lines in tables.items():
            (folder / f"{table}.csv").write_text("\n".join(lines) + "\n")
        snapshot = read_snapshot(folder).snapshot
    assert snapshot.services is not None
    effective = Resolver(snapshot).effective(snapshot.services[0], CONTROL)
    found: dict[frozenset[str], list[int]] = {}
    for rivals, people in disputes(effective, np.array([n not in left_out for n in range(PEOPLE)])):
        said = [(effective.cause(place).scope or "", effective.value(place) or "") for place in rivals]
        assert said == sorted(said, key=lambda each: (WORDS.index(each[1]), each[0]))  # the one that counts first
        scopes = frozenset(scope for scope, _ in said)
        assert scopes not in found
        found[scopes] = people.tolist()
    wanted: dict[frozenset[str], list[int]] = {}
    for person in sorted(EVERYBODY - left_out):
        mine = [(f"group:g{n:02}", word, rank) for n, (word, rank, who) in enumerate(groups) if person in who]
        strongest = [each for each in mine if each[2] == max(each[2] for each in mine)]  # a blank rank comes last
        if len({word for _, word, _ in strongest}) > 1:
            wanted.setdefault(frozenset(scope for scope, *_ in strongest), []).append(person)
    assert found == wanted
