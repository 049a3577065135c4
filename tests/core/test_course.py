"""The course of drifts, reckoned from runs, against asking of each check and each spell."""

from __future__ import annotations

from collections import Counter

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.compared import many
from tests.history_reference import since
from usher_gate.core.history.chain import finding_line, findings_digest, lines_digest
from usher_gate.core.history.course import course, runs_of
from usher_gate.core.history.spells import Between, Key, Lot, Spell
from usher_gate.core.organisation.columns import DAY

CHECKS = 7
KEYS = [Key(rule, "tidecall", "person", f"P{number}") for rule in ("R-1", "R-2") for number in range(3)]


@st.composite
def spells(draw: st.DrawFn) -> list[Spell]:
    found = []
    for key in KEYS:
        drifting = draw(st.lists(st.booleans(), min_size=CHECKS, max_size=CHECKS))
        first = None
        for number, drifts in enumerate([*drifting, None], 1):
            if drifts and first is None:
                first = number
            elif not drifts and first is not None:
                lasts = drifts is None  # past the last check
                found.append(
                    Spell(key, "drifts", first, None if lasts else number - 1, not lasts and draw(st.booleans()))
                )
                first = None
    return found


RULES = st.fixed_dictionaries(
    {number: st.frozensets(st.sampled_from(("R-1", "R-2"))) for number in range(1, CHECKS + 1)}
)
HOURS = st.lists(st.integers(0, 400), min_size=CHECKS, max_size=CHECKS)


@settings(max_examples=many(300), deadline=None)
@given(spells(), RULES, HOURS)
def test_each_leg_is_what_asking_every_spell_gives(
    found: list[Spell], rules: dict[int, frozenset[str]], hours: list[int]
) -> None:
    taken = {number: sum(hours[:number]) * DAY // 24 for number in range(1, CHECKS + 1)}
    legs = course(runs_of(found), taken, rules)
    assert len(legs) == CHECKS
    for number, leg in enumerate(legs, 1):
        there = [spell for spell in found if spell.first <= number and (spell.last is None or spell.last >= number)]
        ages = sorted((taken[number] - taken[spell.first]) // DAY for spell in there)
        assert leg.drifts == len(ages)
        assert (leg.median_age, leg.oldest_age) == ((ages[len(ages) // 2], ages[-1]) if ages else (None, None))
        if number == 1:
            assert leg.changed is None
            continue
        plain = Counter(one.what for one in since(found, number - 1, number, rules[number - 1], rules[number]))
        assert leg.changed is not None
        assert {name: many for name, many in leg.changed.items() if many} == dict(plain)


@settings(max_examples=many(300), deadline=None)
@given(spells(), RULES, st.integers(1, CHECKS - 1), st.integers(1, CHECKS))
def test_what_became_of_each_drift_is_what_asking_every_spell_gives(
    found: list[Spell], rules: dict[int, frozenset[str]], then: int, more: int
) -> None:
    now = min(then + more, CHECKS)

    def lots(some: list[Spell]) -> dict[Lot, dict[str, int]]:
        made: dict[Lot, dict[str, int]] = {}
        for spell in some:
            made.setdefault(Lot(*spell.key[:3], "drifts"), {})[spell.key.id] = spell.first
        return made

    def at(check: int) -> list[Spell]:
        return [spell for spell in found if spell.first <= check and (spell.last is None or spell.last >= check)]

    ended = [spell for spell in found if spell.last is not None]
    between = Between(
        lots(at(then)),
        lots(at(now)),
        lots([spell for spell in ended if spell.last is not None and spell.last < then]),
        lots(
            [
                spell
                for spell in ended
                if spell.left and spell.last is not None and spell.first <= then <= spell.last < now
            ]
        ),
        rules[then],
        rules[now],
    )
    plain = list(since(found, then, now, rules[then], rules[now]))
    assert [(one.key, one.what, one.first) for one in between.changed()] == [
        (one.key, one.what, one.first) for one in plain
    ]
    assert {what: many for what, many in between.counts().items() if many} == Counter(one.what for one in plain)


def test_without_any_spell_nothing_drifts_and_nothing_is_old() -> None:
    (leg,) = course([], {1: 0}, {1: frozenset()})
    assert (leg.drifts, leg.changed, leg.median_age, leg.oldest_age) == (0, None, None, None)


ODD = st.text("aP1\\\t\n-", min_size=1, max_size=4)


@settings(max_examples=many(200), deadline=None)
@given(st.dictionaries(st.tuples(ODD, ODD, ODD), st.sampled_from(("drifts", "loose", "unknown")), max_size=12))
def test_the_digest_of_findings_is_that_of_their_lines_in_order(verdicts: dict[tuple[str, str, str], str]) -> None:
    """The quick way by lots against line by line, with ids in which a tab, a line's end or a backslash stands."""
    lots: dict[Lot, list[str]] = {}
    lines = []
    for (rule, service, name), verdict in verdicts.items():
        lots.setdefault(Lot(rule, service, "person", verdict), []).append(name)
        lines.append((Key(rule, service, "person", name), verdict))
    assert findings_digest(lots) == lines_digest(map(finding_line, sorted(lines)))


def test_two_findings_that_differ_never_have_one_line() -> None:
    lines = [finding_line((Key("R", "", "person", name), "drifts")) for name in ("a\tb", "a\\tb", "a\nb", "a\\nb")]
    assert len(set(lines)) == 4 and all(line.count(b"\n") == 1 and line.count(b"\t") == 4 for line in lines)
