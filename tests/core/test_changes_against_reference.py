"""Changes against the plain reference: what is shown before and after is what two checks say.

In memory it is what it is in files.
"""

from __future__ import annotations

import json
import tempfile
from collections.abc import Set
from dataclasses import replace
from pathlib import Path
from random import Random
from typing import Any

import yaml

from tests.compared import compare_many
from tests.organisations import CONTROLS, UNITS, value_of, write_org
from tests.program import call
from tests.reference import GOODNESS, Org, Reference, Row, check, controls_of, judged, leaves_of, left_out

WITHOUT_ORDER = ("exempt", "excepted", "not-judged")


def _value(control: str, rnd: Random) -> Any:
    text = value_of(control, rnd)
    return (text.split(";") if text else []) if CONTROLS[control]["kind"] == "set" else text


def random_changes(org: Org, rnd: Random) -> list[Row]:
    """Changes that can be made: at places that are there, of what services support and read."""
    found: list[Row] = []
    reference = Reference(org)
    rows = [row for row in org.settings or () if row.get("active") != "false"]
    ids = [person["id"] for person in org.people]
    units = {above for person in org.people for above in _above(person.get("unit"))} if "unit" in org.columns else set()
    groups = ["group:g0", "group:g1"] if org.groups is not None or org.members is not None else []
    for _ in range(rnd.choice((2, 4, 8))):
        kind = rnd.choice(("set", "set", "set", "unset", "people", "members"))
        service = rnd.choice(org.services or [{}])
        if kind == "set" and org.services and org.settings is not None:
            asked = [control for rule in org.rules for control in controls_of(rule["expect"])]
            control = rnd.choice(asked or list(CONTROLS)) if rnd.random() < 0.9 else rnd.choice(list(CONTROLS))
            scope = rnd.choice(
                (
                    "organisation",
                    "organisation",
                    *(f"person:{one}" for one in rnd.sample(ids, min(2, len(ids)))),
                    *groups,
                    f"unit:{rnd.choice(UNITS)}",
                )
            )
            level = scope.partition(":")[0]
            known = level != "unit" or scope.partition(":")[2] in units
            if not reference.supported(service, control) or level not in service["precedence"] or not known:
                continue
            made: Row = {"service": service["id"], "control": control, "scope": scope, "value": _value(control, rnd)}
            if "pinned" in org.setting_columns and rnd.random() < 0.5:
                made["pinned"] = rnd.random() < 0.7
            if "rank" in org.setting_columns and rnd.random() < 0.3:
                made["rank"] = rnd.choice((1, 2))
            found.append({"set": made})
        elif kind == "unset" and rows:
            row = rnd.choice(rows)
            service = next(each for each in org.services or () if each["id"] == row["service"])
            level = row["scope"].partition(":")[0]
            place = {key: row[key] for key in ("service", "control", "scope")}
            taken = any("unset" in each and each["unset"] == place for each in found)
            if not taken and (level == "meeting" or level in service["precedence"]):
                found.append({"unset": place})
        elif kind == "people" and "mfa" in org.columns:
            who = rnd.choice(({"any": True}, {"person": rnd.choice(ids)}, {"kind": "member"}))
            found.append({"people": {"who": who, "mfa": rnd.choice(("absent", "required", None))}})
        elif kind == "members" and org.members is not None:
            found.append({"members": {"group": "g1", rnd.choice(("add", "remove")): [rnd.choice(ids)]}})
    return found


def _above(unit: str | None) -> list[str]:
    if unit is None:
        return []
    parts = unit.strip("/").split("/") if unit != "/" else []
    return ["/" + "/".join(parts[:depth]) for depth in range(len(parts) + 1)]


def applied(
    org: Org, changes: list[Row]
) -> tuple[Org, set[tuple[str, str, str]], dict[int, set[tuple[str, str, str]]]]:
    """The organisation after the changes, the places that differ, and those of each change that changed something."""
    settings = [dict(row) for row in org.settings] if org.settings is not None else None
    people, members = (
        [dict(person) for person in org.people],
        None if org.members is None else [dict(row) for row in org.members],
    )
    places: set[tuple[str, str, str]] = set()
    of_change: dict[int, set[tuple[str, str, str]]] = {}
    for number, change in enumerate(changes, 1):
        (kind, said), *_ = change.items()
        if kind in ("set", "unset"):
            assert settings is not None
            place = said["service"], said["control"], said["scope"]
            here = next(
                (
                    row
                    for row in settings
                    if (row["service"], row["control"], row["scope"]) == place and row.get("active") != "false"
                ),
                None,
            )
            if kind == "unset":
                assert here is not None
                settings.remove(here)
                other = True
            else:
                other = _set(settings, here, said)
            if other:
                places.add(place)
                of_change.setdefault(number, set()).add(place)
        elif kind == "people":
            for person in people:
                who = said["who"]
                if ("person" in who and person["id"] != who["person"]) or (
                    "kind" in who and person["kind"] != who["kind"]
                ):
                    continue
                if person.pop("mfa", None) != said["mfa"]:
                    of_change.setdefault(number, set())
                if said["mfa"] is not None:
                    person["mfa"] = said["mfa"]
        else:
            assert members is not None
            before = [dict(row) for row in members]
            for name in said.get("remove", []):
                members = [
                    row
                    for row in members
                    if (row["group"], row["member"], row["type"]) != (said["group"], name, "person")
                ]
            for name in said.get("add", []):
                if not any(
                    (row["group"], row["member"], row["type"]) == (said["group"], name, "person") for row in members
                ):
                    members.append({"group": said["group"], "member": name, "type": "person"})
            if members != before:
                of_change.setdefault(number, set())
    after = replace(org, settings=settings, people=people, members=members)
    return replace(after, observations=_seen(org, after, places)), places, of_change


def _set(settings: list[Row], here: Row | None, said: Row) -> bool:
    value = ";".join(sorted(said["value"])) if isinstance(said["value"], list) else said["value"]
    if here is None:
        made = {"service": said["service"], "control": said["control"], "scope": said["scope"], "value": value}
        if "pinned" in said:
            made["pinned"] = "true" if said["pinned"] else "false"
        if "rank" in said:
            made["rank"] = said["rank"]
        settings.append(made)
        return True
    before = here["value"], here.get("pinned") == "true", here.get("rank")
    here["value"] = value
    if "pinned" in said:
        here["pinned"] = "true" if said["pinned"] else "false"
    if "rank" in said:
        here["rank"] = said["rank"]
    if before == (here["value"], here.get("pinned") == "true", here.get("rank")):
        return False
    here.pop("changed_at", None)
    return True


def _seen(org: Org, after: Org, places: set[tuple[str, str, str]]) -> list[Row] | None:
    """What was seen, without what is older than the change, for the people concerned."""
    if org.observations is None:
        return None
    moved = set()
    for each in (org, after):
        reference = Reference(each)
        for service in each.services or ():
            for control in {place[1] for place in places if place[0] == service["id"]}:
                for person in reference.active:
                    cause = (
                        reference.effective(person, service, control)[0].cause
                        if not reference.licence(person, service, control)
                        else None
                    )
                    if isinstance(cause, dict) and (service["id"], control, cause["scope"]) in places:
                        moved.add((person["id"], service["id"], control))
    return [
        row
        for row in org.observations
        if (row["person"], row["service"], row["control"]) not in moved or row["seen_at"] >= org.taken_at
    ]


def _words(org: Org) -> dict[Any, tuple[str, str]]:
    """Of each (rule, service, person) the verdict, and what it would be without exceptions."""
    return {key: (each[0], each[1]) for key, each in judged(Reference(org)).items()}


def _rank(word: str) -> int:
    return 0 if word in WITHOUT_ORDER else GOODNESS.index(word)


def compare(org: Org, rnd: Random) -> int:
    """Compares what is shown with what two checks would say; returns how many verdicts are other."""
    changes = random_changes(org, rnd)
    if not changes:
        return 0
    after, _, of_change = applied(org, changes)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd)
        (folder / "c.yaml").write_text(yaml.safe_dump({"usher-gate": "changes/1", "title": "t", "changes": changes}))
        places = (
            "--baseline",
            folder / "baseline.yaml",
            "--exceptions",
            folder / "exceptions.yaml",
            "--format",
            "json",
        )
        done = call(
            "rehearse",
            "--changes",
            folder / "c.yaml",
            "--snapshot",
            folder / "snapshot",
            "--write-snapshot",
            folder / "after",
            *places,
        )
        if lost := _named(org) - _named(after):
            assert done.status == 2 and all(f"no one is left in the group '{group}'" in done.err for group in lost)
            return 0
        assert done.status in (0, 1), done.err
        then = call("check", "--snapshot", folder / "after", *places)
    received, checked, expected = json.loads(done.out), json.loads(then.out), check(after)
    # in memory, in files, and by the reference: the same
    assert received["verdicts"]["after"] == checked["summary"]["verdicts"]
    found = {
        (each["rule"], each["service"], each["subject"]["id"]): (each["verdict"], each["reason"])
        for each in checked["findings"]
    }
    assert found == {key: (each["verdict"], each["reason"]) for key, each in expected.findings.items()}
    before, now = _words(org), _words(after)
    keys = before.keys() | now.keys()
    other = {key: (before.get(key, ("not-judged",) * 2), now.get(key, ("not-judged",) * 2)) for key in keys}
    begun = {key for key, (first, second) in other.items() if second[0] == "drifts" != first[0]}
    ended = {key for key, (first, second) in other.items() if first[0] == "drifts" != second[0]}
    worse = {key: (first[1], second[1]) for key, (first, second) in other.items() if _rank(second[1]) > _rank(first[1])}
    assert {_key(each) for each in received["verdicts"]["begun"]} == begun
    assert {_key(each) for each in received["verdicts"]["ended"]} == ended
    assert {_key(each): (each["from"], each["to"]) for each in received["verdicts"]["worse"]} == worse
    moves: dict[tuple[str, str], int] = {}
    for first, second in other.values():
        if first[0] != second[0]:
            moves[first[0], second[0]] = moves.get((first[0], second[0]), 0) + 1
    assert {(each["from"], each["to"]): each["count"] for each in received["verdicts"]["moves"]} == moves
    drifting = [len({key[2] for key, (verdict, _) in words.items() if verdict == "drifts"}) for words in (before, now)]
    assert [received["verdicts"]["drifting_people"][key] for key in ("before", "after")] == drifting
    _values_shown(received, org, after)
    assert done.status == int(bool(begun or received["protected"]))
    reached = {each["change"]: each["people"] for each in received["reach"]}
    for number, mine in of_change.items():
        (kind, said), *_ = changes[number - 1].items()
        others = set().union(*of_change.values())
        moved = _reached(org, after, mine) if mine else _concerned(org, after, kind, said, others)
        assert reached[number] == len(moved), changes[number - 1]
    return sum(moves.values()) + 1


def _values_shown(received: Row, org: Org, after: Org) -> None:
    """Changed values: of people left out by a rule, of people with nothing to mend there, and weaker ones."""
    references = Reference(org), Reference(after)
    people = [{person["id"]: person for person in reference.active} for reference in references]
    drifting = {key for key, (verdict, _) in _words(org).items() if verdict == "drifts"}
    found: dict[str, set[tuple[Any, ...]]] = {"affected": set(), "weaker": set(), "protected": set()}
    for name in people[0].keys() & people[1].keys():
        for service in org.services or ():
            for control in CONTROLS:
                sides = [
                    _held(reference, service["id"], control, mine[name])
                    for reference, mine in zip(references, people, strict=True)
                ]
                if sides[0] == sides[1] or not references[0].supported(service, control):
                    continue
                rules = [
                    rule for rule in org.rules if control in [leaf.get("control") for leaf in leaves_of(rule["expect"])]
                ]
                row = service["id"], control, name, *sides
                if not any((rule["id"], service["id"], name) in drifting for rule in rules):
                    found["affected"].add(row)
                strict = references[0].strictness
                if sides[0] is not None and (sides[1] is None or strict(control, sides[1]) < strict(control, sides[0])):
                    found["weaker"].add(row)
                for rule in rules:
                    if left_out(references[0], rule, service, people[0][name]):
                        found["protected"].add((rule["id"], *row))
    for what, rows in found.items():
        keys = (*(("rule",) if what == "protected" else ()), "service", "control", "person", "before", "after")
        assert {tuple(each[key] for key in keys) for each in received[what]} == rows, what


def _held(reference: Reference, service_id: str, control: str, person: Row) -> str | None:
    """The value that someone has; None for none, or for one that is not known."""
    service = next(each for each in reference.org.services or () if each["id"] == service_id)
    licence: Any = reference.licence(person, service, control)
    if reference.chosen(service["accounts"], person, True) is False:
        return None
    if licence and licence != "no-fact":
        found: str | None = licence.get("without")
        return found
    return reference.effective(person, service, control)[0].value


def _named(org: Org) -> set[str]:
    """The groups that only their members tell of."""
    if org.groups is not None or org.members is None:
        return set()
    return {row["group"] for row in org.members} | {row["member"] for row in org.members if row["type"] == "group"}


def _key(each: Row) -> tuple[str, str | None, str]:
    return each["rule"], each["service"], each["subject"]["id"]


def _concerned(org: Org, after: Org, kind: str, said: Row, others: set[tuple[str, str, str]]) -> set[str]:
    """Who has another fact, or another value that no changed setting gives, by a change of people or members."""
    references = Reference(org), Reference(after)
    people = [{person["id"]: person for person in reference.active} for reference in references]
    both = people[0].keys() & people[1].keys()
    if kind == "members":
        inside = [{one for one in both if said["group"] in reference.member_of[one]} for reference in references]
        chosen, found = inside[0] ^ inside[1], set[str]()
    else:
        who = said["who"]
        chosen = {
            one
            for one in both
            if who.get("person", one) == one and who.get("kind", people[0][one]["kind"]) == people[0][one]["kind"]
        }
        found = {one for one in chosen if people[0][one].get("mfa") != people[1][one].get("mfa")}
    every = {(service["id"], control, None) for service in org.services or () for control in CONTROLS}
    return found | (chosen & _reached(org, after, every, others))


def _reached(
    org: Org, after: Org, places: Set[tuple[str, str, str | None]], others: Set[tuple[str, str, str]] = frozenset()
) -> set[str]:
    """Whose value is other, and comes, before or after, from one of some places (None: from any but the others)."""
    found = set()
    references = Reference(org), Reference(after)
    for service_id, control, scope in places:
        for name in {person["id"] for reference in references for person in reference.active}:
            values, scopes = list[str | None](), set[str]()
            for reference in references:
                service = next(each for each in reference.org.services or () if each["id"] == service_id)
                person = next((each for each in reference.active if each["id"] == name), None)
                licence: Any = "" if person is None else reference.licence(person, service, control)
                if (
                    person is None
                    or reference.chosen(service["accounts"], person, True) is False
                    or (licence and licence != "no-fact" and "without" not in licence)
                ):
                    values.append(None)
                elif licence and licence != "no-fact":
                    values.append(licence["without"])
                else:
                    value = reference.effective(person, service, control)[0]
                    values.append(value.value)
                    cause = value.cause
                    scopes |= {str(cause["scope"])} if isinstance(cause, dict) else set()
            if values[0] != values[1] and (
                scope in scopes if scope else not any((service_id, control, each) in others for each in scopes)
            ):
                found.add(name)
    return found


def test_what_is_told_of_changes_is_what_two_checks_say() -> None:
    compare_many(compare, 100, 90, 0.4)


def test_a_change_and_its_reverse_give_the_first_result_back(demo: Path) -> None:
    there = [
        {"set": {"service": "tidecall", "control": "door.waiting-room", "scope": "organisation", "value": "hosts"}},
        {"unset": {"service": "tidecall", "control": "door.waiting-room", "scope": "group:deck"}},
        {"people": {"who": {"unit": "/Terminals/North"}, "protection": "heightened"}},
        {"members": {"group": "board", "add": ["N1001"]}},
    ]
    back = [
        {"set": {"service": "tidecall", "control": "door.waiting-room", "scope": "organisation", "value": "guests"}},
        {"set": {"service": "tidecall", "control": "door.waiting-room", "scope": "group:deck", "value": "everyone"}},
        {"people": {"who": {"unit": "/Terminals/North"}, "protection": "standard"}},
        {"members": {"group": "board", "remove": ["N1001"]}},
    ]
    for name, changes in (("there", there), ("there-and-back", [*there, *back])):
        Path(f"{name}.yaml").write_text(yaml.safe_dump({"usher-gate": "changes/1", "title": name, "changes": changes}))
    received = json.loads(call("rehearse", "--changes", "there.yaml", "--format", "json").out)
    assert received["verdicts"]["moves"]
    received = json.loads(call("rehearse", "--changes", "there-and-back.yaml", "--format", "json").out)
    assert (received["verdicts"]["moves"], received["verdicts"]["worse"], received["meetings"]) == ([], [], [])
    assert received["verdicts"]["before"] == received["verdicts"]["after"]
