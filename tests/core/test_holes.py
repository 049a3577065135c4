"""Holes: exactly the sign-ins that the reference finds by trying them all, in descriptions that cannot be made smaller."""

from __future__ import annotations

import tempfile
from itertools import combinations, product
from pathlib import Path
from random import Random

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.access_reference import CLIENTS, DEVICES, PLATFORMS, RISKS, Gatekeeper
from tests.compared import compare_many, many
from tests.core.test_access_against_reference import random_gate, write_gate
from tests.reference import Org
from usher_gate.core.sign_in.boxes import Box, boxes
from usher_gate.core.sign_in.coverage import covering
from usher_gate.core.sign_in.evaluator import AccessPolicyEvaluator as Real
from usher_gate.core.sign_in.holes import _Grids, holes
from usher_gate.core.sign_in.possible import ProofDemand
from usher_gate.core.verdicts.condition import Leaf
from usher_gate.core.words.vocabulary import DIMENSIONS
from usher_gate.files.faults import BadInput
from usher_gate.files.snapshot.folder import read_snapshot
from usher_gate.files.written.baseline import read_baseline


@settings(max_examples=many(150))
@given(st.integers(0, 2**32), st.lists(st.integers(1, 4), min_size=1, max_size=4), st.floats(0.05, 0.95))
def test_boxes_are_exactly_the_true_cells_and_none_can_be_described_by_less(
    seed: int, shape: list[int], share: float
) -> None:
    grid = np.random.default_rng(seed).random(shape) < share
    covered = np.zeros_like(grid)
    for box in boxes(grid):
        values = [
            list(range(size)) if places is None else list(places) for size, places in zip(shape, box, strict=True)
        ]
        assert grid[np.ix_(*values)].all()
        covered[np.ix_(*values)] = True
        assert not narrower(grid, box)
    assert (covered == grid).all()


def narrower(grid: np.ndarray, box: Box) -> bool:
    """Whether some cell of a box lies in a box narrowed in fewer of the same dimensions."""
    narrowed = [place for place, places in enumerate(box) if places is not None]
    for fewer in combinations(narrowed, len(narrowed) - 1) if narrowed else ():
        values = [
            list(box[place] or ()) if place in fewer else list(range(size)) for place, size in enumerate(grid.shape)
        ]
        if grid[np.ix_(*values)].all():
            return True
    return False


def test_holes_are_exactly_what_trying_everything_finds() -> None:
    compare_many(compare_holes, 30, 20, 0.4)


def compare_holes(org: Org, rnd: Random) -> int:
    org.people = org.people[:3]
    org.exceptions, org.settings, org.observations = [], None, None
    gate = random_gate(org, rnd)
    with tempfile.TemporaryDirectory() as name:
        write_gate(org, gate, Path(name), rnd)
        try:
            snapshot = read_snapshot(Path(name) / "snapshot").snapshot
            baseline, _ = read_baseline(Path(name) / "baseline.yaml", snapshot.catalogue, snapshot)
        except BadInput:
            return 0
    if snapshot.access_rules is None:
        return 0
    evaluator, real = Gatekeeper(org, gate), Real(snapshot)
    active = sorted(evaluator.reference.active, key=lambda each: each["id"])
    for rule, raw in zip((rule for rule in baseline.rules if rule.id[0] == "R"), gate.leaves, strict=True):
        leaf = rule.expect
        assert isinstance(leaf, Leaf)
        assert leaf.asked is not None
        found = holes(real, leaf.asked, np.ones(len(active), bool))
        compare_missed(real, leaf.asked, rnd)
        every = {"resource": leaf.asked.resources(snapshot.resources), "network": [each.text for each in real.networks.classes],
                 "client": CLIENTS, "platform": PLATFORMS, "device": DEVICES, "risk": RISKS}  # fmt: skip
        for number, person in enumerate(active):
            partner = evaluator.hypotheses(person)
            homes = {
                (home["in"], home["mfa"], home["device"]) for home in partner
            }  # what they show there opens no hole
            if len(homes) > 1 or not partner[0]["in"]:
                assert not [hole for hole in found if number in hole.people]
                continue
            possible = set(evaluator.possible(raw, partner[0]))
            for closes, modes in ((False, ("enforce", "observe")), (None, ("enforce",))):
                cells = set()
                for hole in (
                    each
                    for each in found
                    if number in each.people and (closes is None or each.observed_closes == closes)
                ):
                    for place in product(
                        *(
                            values if values is not None else list(every[name])
                            for name, values in zip(every, hole.values, strict=True)
                        )
                    ):
                        resource, network, client, platform, device, risk = place
                        names = frozenset() if network == "elsewhere" else frozenset(network.split("+"))
                        if (
                            resource,
                            names,
                            client,
                            platform,
                            device if partner[0]["device"] else "unknown",
                            risk,
                        ) in possible:
                            cells.add(
                                (resource, names, client, platform, device if partner[0]["device"] else "unknown", risk)
                            )
                expected = {
                    place for place in possible if not evaluator.covered(person, leaf.name, partner[0], modes, place)
                }
                assert cells == expected, (person, raw, modes)
    return len(active)


def compare_missed(real: Real, asked: ProofDemand, rnd: Random) -> None:
    """What each rule misses of a hole, asked by dimension, is what every single cell says, in the same order."""
    for unseen in (False, True):
        grids = _Grids(real, asked, unseen)
        if not all(grids.shape):
            continue
        cells = np.array([rnd.random() < 0.5 for _ in range(int(np.prod(grids.shape)))]).reshape(grids.shape)
        for box in list(boxes(cells))[:6]:
            plain: dict[int, set[frozenset[str]]] = {}
            inside = [range(size) if some is None else some for size, some in zip(grids.shape, box, strict=True)]
            for place in product(*inside):
                cell = [values[at] for values, at in zip(grids.values, place, strict=True)]
                covers = covering(real, asked.proof, str(cell[2]), str(cell[4]))[0]
                for number, rule in enumerate(real.rules):
                    if rule.mode != "off" and covers >> number & 1:
                        missed = frozenset(
                            name
                            for name, value in zip(DIMENSIONS, cell, strict=True)
                            if not rule.speaks_of(name, value)
                        )
                        plain.setdefault(number, set()).add(missed)
            found = grids.missed(box)
            assert list(found) == list(plain)
            assert found == {number: sorted(some, key=sorted) for number, some in plain.items()}
            assert [len(names) for names in grids.values_of(box)][1] >= len(inside[1])


def test_the_demo_s_holes_are_told_with_their_reasons(demo: Path) -> None:
    import json

    from tests.program import call

    made = json.loads(call("holes", "--format", "json").out)
    ways = {(hole["rule"], hole["way"], tuple(hole["because"]), hole["observed_closes"]) for hole in made["holes"]}
    assert ("NM-05", "legacy clients, from anywhere, to any resource, risk not high",
            ("A-20 leaves out resource cargo-portal", "A-21 leaves out client legacy", "A-30 is only observed"), True) in ways  # fmt: skip
    assert {(each["resource"], each["of"], each["all"]) for each in made["lockouts"]} == {
        (resource, of, False)
        for resource in ("directory-console", "meeting-console")
        for of in ("privileged", "break-glass")
    }
    assert [(each["rule"], each["what"]) for each in made["ailments"]] == [("A-30", "observed-long")]


def test_adding_a_denying_rule_or_removing_an_exclusion_never_opens_a_hole(demo: Path) -> None:
    path = demo / "snapshot" / "access-rules.yaml"
    text = path.read_text()

    def people_with_holes() -> dict[str, set[int]]:
        snapshot = read_snapshot(demo / "snapshot").snapshot
        evaluator = Real(snapshot)
        everybody = np.ones(len(snapshot.people), bool)
        return {proof: {person for hole in holes(evaluator, ProofDemand(proof), everybody) if not hole.observed_closes for person in hole.people}
                for proof in ("mfa", "phishing-resistant", "managed-device")}  # fmt: skip

    before = people_with_holes()
    denying = "  - {id: A-99, mode: enforce, people: {include: {unit: /Fleet}}, resources: {include: any}, outcome: {deny: true}}\n"
    for change in (
        text + denying,
        text.replace(", exclude: {group: legacy-scanners}", ""),
        text.replace(", exclude: {break_glass: true}", ""),
    ):
        assert change != text
        path.write_text(change)
        after = people_with_holes()
        assert all(after[proof] <= before[proof] for proof in before)
