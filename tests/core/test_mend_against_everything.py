"""Mending against trying everything: on small organisations no plan is better than the one that is answer."""

from __future__ import annotations

import json
import re
import tempfile
from datetime import timedelta
from itertools import permutations
from pathlib import Path
from random import Random
from typing import Any

from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from tests.compared import TIMES, many
from tests.core.test_changes_against_reference import applied
from tests.mend_reference import Mending, Plan, Weight, Wish
from tests.organisations import CONTROLS, TAKEN, random_org, value_of, write_org
from tests.program import call
from tests.reference import Org, Row

BUDGET = 2500  # plans that are tried for one organisation


def _leaf(control: str, rnd: Random) -> Row:
    kind = CONTROLS[control]["kind"]
    if kind == "set":
        operator = rnd.choice(("is", "one-of", "within", "includes", "none-of"))
        sets = [[word for word in value_of(control, rnd).split(";") if word] for _ in range(2)]
        return {"control": control, "operator": operator, "operands": sets if operator == "one-of" else sets[0]}
    operators = ["is", "one-of", "no-weaker-than", "no-weaker-than", *(["between"] if kind == "number" else [])]
    operator = rnd.choice(operators)
    if operator == "one-of":
        return {
            "control": control,
            "operator": operator,
            "operands": sorted({value_of(control, rnd) for _ in range(2)}),
        }
    if operator == "between":
        return {
            "control": control,
            "operator": operator,
            "operands": rnd.choice((["5", "10"], ["10", "60"], ["10", "10.5"])),
        }
    return {"control": control, "operator": operator, "operands": value_of(control, rnd)}


def _tree(controls: list[str], rnd: Random, depth: int = 0) -> Row:
    if depth < 2 and rnd.random() < (0.35 if depth == 0 else 0.2):
        parts = [_tree(controls, rnd, depth + 1) for _ in range(rnd.choice((2, 2, 3)))]
        if rnd.random() < 0.25:
            return {"some-of": {"at-least": 2, "of": parts}}
        return {rnd.choice(("all-of", "any-of", "any-of")): parts}
    if rnd.random() < 0.12:
        return {"person": "mfa", "operator": "is", "operands": rnd.choice(("required", "offered"))}
    return _leaf(rnd.choice(controls), rnd)


def _with_control(controls: list[str], rnd: Random) -> Row:
    while True:
        tree = _tree(controls, rnd)
        if "'control'" in repr(tree):
            return tree


def small_org(rnd: Random, shape: str = "") -> Org:
    """Up to six people and four places, one service, one control or two, rules that meet."""
    controls = rnd.sample(sorted(CONTROLS), rnd.choice((1, 1, 2)))
    shape = shape or rnd.choice(("unit", "group", "person", "both"))
    people = []
    for number in range(rnd.choice((2, 3)) if shape == "person" else rnd.choice((3, 4, 6))):
        person: Row = {
            "id": f"P{number:02}",
            "login": f"p{number}@northmere.example",
            "name": "x",
            "kind": rnd.choice(("member", "member", "guest")),
        }
        if shape in ("unit", "both"):
            person["unit"] = rnd.choice(("/", "/a", "/b") if shape == "unit" else ("/", "/a"))
        if rnd.random() < 0.8:
            person["mfa"] = rnd.choice(("required", "offered"))
        if rnd.random() < 0.7:
            person["licences"] = "plus"
        people.append(person)
    groups = ["g0", "g1"] if shape == "group" else ["g0"] if shape == "both" else []
    members = [
        {"group": group, "member": person["id"], "type": "person"}
        for group in groups
        for person in people
        if rnd.random() < 0.6
    ]
    levels = {
        "unit": ["unit"],
        "group": ["group"],
        "person": ["person"],
        "both": rnd.choice((["unit", "group"], ["group", "unit"])),
    }
    service: Row = {
        "id": "s1",
        "accounts": rnd.choice((None, None, {"kind": "member"})),
        "precedence": ["organisation", *levels[shape]],
        "settle-hours": 24,
        "supports": None,
        "factory": {control: value_of(control, rnd) for control in controls if rnd.random() < 0.7},
        "self-service": rnd.choice((None, [], [controls[0]])),
        "needs": {
            controls[0]: {
                "licences": ["plus"],
                **({"without": value_of(controls[0], rnd)} if rnd.random() < 0.5 else {}),
            }
        }
        if rnd.random() < 0.2
        else {},
    }
    scopes = ["organisation", *(f"group:{group}" for group in groups)]
    if shape in ("unit", "both"):
        scopes += sorted({f"unit:{person['unit']}" for person in people})
    if shape == "person":
        scopes += [f"person:{person['id']}" for person in people]
    rows = []
    for control in controls:
        for scope in scopes:
            if rnd.random() < (0.9 if scope.startswith("group") else 0.6):
                row: Row = {"service": "s1", "control": control, "scope": scope, "value": value_of(control, rnd)}
                if rnd.random() < 0.25:
                    row["pinned"] = "true"
                if rnd.random() < 0.5:
                    row["rank"] = rnd.choice((1, 2))
                if rnd.random() < 0.3:
                    row["changed_at"] = TAKEN - timedelta(hours=rnd.choice((1, 100)))
                rows.append(row)
    observations = None
    if rnd.random() < 0.3:
        observations = [
            {"person": rnd.choice(people)["id"], "service": "s1", "control": control, "value": value_of(control, rnd),
             "seen_at": TAKEN - timedelta(hours=rnd.choice((0, 2, 50, 200)))}
            for control in (rnd.choice(controls) for _ in range(2))
        ]  # fmt: skip
    columns = {"id", "login", "name", "kind", "mfa", "licences", *(["unit"] if shape in ("unit", "both") else [])}
    org = Org(
        TAKEN,
        CONTROLS,
        people,
        columns,
        [{"id": group, "name": group} for group in groups],
        members,
        [service],
        rows,
        {"service", "control", "scope", "value", "pinned", "rank", "changed_at"},
        observations,
        None,
        None,
    )
    for number in range(rnd.choice((1, 2, 3))):
        rule: Row = {"id": f"R{number}", "expect": _with_control(controls, rnd), "severity": "high"}
        if rnd.random() < 0.4:
            rule["audience"] = {"kind": rnd.choice(("member", "guest"))}
        if rnd.random() < 0.3:
            rule["pinned"] = rnd.choice(("true", "strict"))
        if rnd.random() < 0.3:
            excepts = {"kind": "member"}, {"kind": "guest"}, {"login": "p1@*"}, {"licence": "plus"}, {"group": "g0"}
            rule["except"] = rnd.choice(excepts if groups else excepts[:-1])
        org.rules.append(rule)
    if rnd.random() < 0.25:
        org.exceptions.append(
            {"id": "X1", "rules": [rnd.choice(org.rules)["id"]], "who": {"kind": rnd.choice(("member", "guest"))},
             "reason": "because", "approved_by": "somebody", "until": (TAKEN + timedelta(days=9)).date()}
        )  # fmt: skip
    return org


def mended(org: Org, rnd: Random, *options: str) -> dict[str, Any]:
    """What mend says of an organisation."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd)
        done = call(
            "mend",
            *options,
            "--snapshot", folder / "snapshot",
            "--baseline", folder / "baseline.yaml",
            "--exceptions", folder / "exceptions.yaml",
            "--format", "json",
        )  # fmt: skip
        assert done.status in (0, 1), done.err
        answer: dict[str, Any] = json.loads(done.out)
        assert done.status == int(answer["plan"]["left"] > 0)
        return answer


def random_wish(org: Org, rnd: Random) -> Wish:
    """What a call asks for: options, and often only some rules or people."""
    wish = Wish()
    for name in ("hold", "weaken", "through_exceptions"):
        if rnd.random() < 0.2:
            setattr(wish, name, True)
            wish.options.append("--" + name.replace("_", "-"))
    if rnd.random() < 0.4:
        wish.rules = {rule["id"] for rule in rnd.sample(org.rules, rnd.randint(1, len(org.rules)))}
        wish.options += [part for rule in sorted(wish.rules) for part in ("--rule", rule)]
    ways: dict[str, list[tuple[str, set[str]]]] = {
        "person": [(rnd.choice((person["id"], person["login"])), {person["id"]}) for person in org.people],
        "unit": [(unit, {person["id"] for person in org.people if (person.get("unit") or "x").startswith(unit)})
                 for unit in {person["unit"] for person in org.people if person.get("unit")}],
        "group": [(group["id"], {row["member"] for row in org.members or () if row["group"] == group["id"]})
                  for group in org.groups or ()],
    }  # fmt: skip
    for name, every in ways.items():
        if every and rnd.random() < 0.25:
            some = rnd.sample(sorted(every), rnd.randint(1, min(2, len(every))))
            wish.options += [part for value, _ in some for part in (f"--{name}", value)]
            chosen = set().union(*(people for _, people in some))
            wish.people = chosen if wish.people is None else wish.people & chosen
    return wish


def _made(answer: dict[str, Any]) -> Plan:
    """The edits of a plan."""
    made: Plan = {}
    for edit in answer["edits"]:
        if "members" in edit:
            continue
        said = edit.get("set") or edit["unset"]
        place = said["service"], said["control"], said["scope"]
        made[place] = (said["value"], said["pinned"]) if "set" in edit else (None, False)
    return made


def compare(org: Org, rnd: Random) -> int:
    """Compares with every plan of as many edits; returns how many edits the plan has."""
    wish = random_wish(org, rnd)
    answer = mended(org, rnd, *wish.options)
    plan = answer["plan"]
    assert plan["proof"] == "proven fewest"
    tried = Mending(org, applied, wish)
    weight = tried.weigh(_made(answer))
    assert weight.wrong is None, weight.wrong
    assert (plan["left"], plan["edits"]) == (weight.left, weight.edits)
    _figures(tried, weight, answer)
    _in_order(tried, plan["order"], _made(answer))
    best = tried.best(plan["edits"], BUDGET)
    if best is None:
        return 0
    assert weight.order == best.order, (weight, best)
    assert (plan["without_need"], plan["touched"]) == (best.without, best.touched)
    return weight.edits


def _figures(tried: Mending, weight: Weight, answer: dict[str, Any]) -> None:
    """All that is said about a plan beside its edits."""
    plan, made = answer["plan"], _made(answer)
    assert plan["mendable"] == len(tried.to_mend)
    assert (plan["drifting"], plan["ended"]) == (len(tried.drifting), len(tried.drifting - weight.drifting))
    assert plan["freed"] == len({key[2] for key in tried.drifting} - {key[2] for key in weight.drifting})
    left = [(each["rule"], each["service"], each["subject"]["id"]) for each in answer["left"]]
    assert left == sorted(weight.open) and all(each["because"] for each in answer["left"])
    affected = [
        tuple(each[key] for key in ("person", "service", "control", "before", "after")) for each in answer["affected"]
    ]
    assert len(affected) == len(set(affected)) and set(affected) == weight.moved
    tasks = {task["rule"]: {one["unit"]: set(one["people"]) for one in task["units"]} for task in answer["tasks"]}
    assert tasks == weight.tasks
    for edit in answer["edits"]:
        where = edit.get("set") or edit["unset"]
        place = where["service"], where["control"], where["scope"]
        assert (edit["ended"], edit["touched"], edit["without_need"]) == tried.by_itself(made, place)
        assert edit["people"] == tried.weigh({place: made[place]}).reach


ORDERED = {"safe": 0, "none": 0}  # plans of several edits


def _in_order(tried: Mending, order: str, plan: Plan) -> None:
    """An order in which no step hurts is answer exactly where there is one."""
    if len(plan) < 2:
        assert order == "safe"
        return
    ORDERED[order] += 1
    assert tried.harmless(plan, list(plan)) == (order == "safe")
    if order == "none" and len(plan) <= 5:
        assert not any(tried.harmless(plan, list(each)) for each in permutations(plan))


def test_no_plan_is_better() -> None:
    counts: list[int] = []

    @settings(max_examples=many(130), suppress_health_check=[HealthCheck.too_slow])
    @example(1268732)  # someone who lacks the licence is in a group whose setting is to be pinned
    @example(19)  # of two values that are enough, the less strict one counts
    @given(st.integers(0, 2**32 - 1))
    def one(seed: int) -> None:
        rnd = Random(seed)
        counts.append(compare(small_org(rnd), rnd))

    one()
    assert sum(counts) >= 22 * TIMES
    assert sum(not count for count in counts) <= 0.75 * len(counts)
    assert ORDERED["safe"] >= 1


def compare_memberships(org: Org, rnd: Random) -> tuple[int, int]:
    """Compares where people may be taken out of groups; returns how many are, and how many edits the plan has."""
    answer = mended(org, rnd, "--memberships")
    plan = answer["plan"]
    assert plan["proof"] == "proven fewest"
    out = tuple((one["group"], one["remove"][0]) for one in (each.get("members") for each in answer["edits"]) if one)
    tried = Mending(org, applied)
    weight = tried.weigh(_made(answer), out)
    assert weight.wrong is None, weight.wrong
    assert (plan["left"], plan["edits"]) == (weight.left, weight.edits)
    assert (plan["without_need"], plan["touched"]) == (weight.without, weight.touched)
    best = tried.best_with(plan["edits"], BUDGET // 3)
    if best is None:
        return 0, 0
    assert weight.order[:4] == best.order[:4], (weight, best)
    return len(out), weight.edits


def test_no_plan_with_memberships_is_better() -> None:
    counts: list[tuple[int, int]] = []
    for seed in sorted({23, 31, 46, 47, 51, 54, 56, *range(many(14))}):  # in the first seven someone is taken out
        rnd = Random(seed)
        org = small_org(rnd, rnd.choice(("group", "group", "both")))
        for person, rule in zip(org.people, org.rules, strict=False):  # people left out keep the group's value
            rule.pop("audience", None)
            rule["except"] = {"kind": "member"} if rnd.random() < 0.7 else {"login": person["login"]}
        counts.append(compare_memberships(org, rnd))
    assert sum(out for out, _ in counts) >= 5 * TIMES
    assert sum(edits for _, edits in counts) >= 10 * TIMES


def keeps_its_promise(org: Org, rnd: Random) -> int:
    """Writes the plan, applies it to the files and checks them anew: what was promised is so.

    Returns how many drifts end.
    """
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd)
        rules = ("--baseline", folder / "baseline.yaml", "--exceptions", folder / "exceptions.yaml", "--format", "json")
        plan, after = folder / "plan.yaml", folder / "after"
        done = call("mend", "--snapshot", folder / "snapshot", *rules, "--seconds", "10")
        assert done.status in (0, 1), done.err
        answer = json.loads(done.out)
        if not answer["edits"]:
            return 0
        call("mend", "--snapshot", folder / "snapshot", *rules, "--seconds", "10", "--write", plan)
        tried = call(
            "rehearse", "--changes", plan, "--snapshot", folder / "snapshot", "--write-snapshot", after, *rules
        )
        assert tried.status == 0, tried.err + tried.out[:2000]
        made = json.loads(tried.out)
        checked = json.loads(call("check", "--snapshot", after, *rules).out)
        before = json.loads(call("check", "--snapshot", folder / "snapshot", *rules).out)
    assert not made["verdicts"]["begun"] and not made["verdicts"]["worse"] and not made["lockouts"]["begun"]
    now, then = ({_key(each) for each in one["findings"] if each["verdict"] == "drifts"} for one in (before, checked))
    assert not then - now
    assert answer["plan"]["ended"] == len(now - then) == len(made["verdicts"]["ended"])
    assert answer["plan"]["freed"] == len({key[2] for key in now} - {key[2] for key in then})
    weight = Mending(org, applied).weigh(_made(answer))
    assert (weight.wrong, weight.left) == (None, answer["plan"]["left"])
    assert (weight.without, weight.touched) == (answer["plan"]["without_need"], answer["plan"]["touched"])
    return int(answer["plan"]["ended"])


def _key(each: Row) -> tuple[str, str | None, str]:
    return each["rule"], each["service"], each["subject"]["id"]


def test_a_written_plan_does_what_was_promised() -> None:
    ended = 0
    for seed in range(many(14)):
        rnd = Random(seed)
        ended += keeps_its_promise(random_org(rnd, 200 if seed % 4 == 0 else None), rnd)
    assert ended > 100 * TIMES


def hinted(org: Org, rnd: Random) -> int:
    """Compares what the last line of a check says of mending with what mend finds. Returns how many edits it names."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd)
        rules = ("--baseline", folder / "baseline.yaml", "--exceptions", folder / "exceptions.yaml")
        shown = call("check", "--snapshot", folder / "snapshot", *rules).out
        plan = json.loads(call("mend", "--snapshot", folder / "snapshot", *rules, "--format", "json").out)["plan"]
    said = re.search(r"(\d+) of \d+ findings? (?:with (\d+) edits?|comes? from)", " ".join(shown.split()))
    if said is None:
        assert plan["ended"] == plan["left"] == 0
        return 0
    if said[2] is None:
        return 0
    assert (int(said[2]), int(said[1]), 0) == (plan["edits"], plan["ended"], plan["left"])
    return int(said[2])


def test_the_last_line_of_a_check_names_as_many_edits_as_mend() -> None:
    named = 0
    for seed in range(many(36)):
        rnd = Random(seed)
        org = small_org(rnd)
        if rnd.random() < 0.5:
            org.setting_columns.discard("pinned")
        named += hinted(org, rnd)
    assert named >= 5 * TIMES
