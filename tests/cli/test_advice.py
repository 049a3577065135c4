"""Advice that may be followed.

People that a plan, a rehearsal and a cause would harm, each on an organisation counted by hand.
"""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

from tests.cli.test_edges import ACCESS, AT, CONSOLE, MEETINGS, made, result
from tests.cli.test_true_answers import HEAD
from tests.program import call
from tests.tiny import PEOPLE, SERVICES, SETTINGS


@pytest.fixture(autouse=True)
def _here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("COLUMNS", "240")


def changes(*lines: str) -> Path:
    path = Path("c.yaml")
    path.write_text("usher-gate: changes/1\ntitle: t\nchanges:\n" + "".join(f"  - {line}\n" for line in lines))
    return path


def result_of(*arguments: object) -> Any:
    return json.loads(call(*arguments, "--format", "json").out)


OPEN = "service,control,scope,value,pinned\ntidecall,door.waiting-room,organisation,everyone,\n"
HOSTS = "expect: {control: door.waiting-room, no_weaker_than: guests}, except: {group: g1}"  # g1 is ada alone


def test_whom_a_rule_leaves_out_keeps_what_the_rule_is_about() -> None:
    made(HOSTS, settings=OPEN)
    plan = result_of("mend")
    # Four people drift; one edit would mend them, and change ada's value too: hers stays, so there are two.
    assert (plan["plan"]["edits"], plan["plan"]["ended"], plan["plan"]["left"]) == (2, 4, 0)
    assert [each["login"] for each in plan["affected"]] == []
    assert result_of("mend", "--through-exceptions")["plan"]["edits"] == 1
    [root] = result()["roots"]
    assert (root["mended_value"], root["freed"], root["harms"]) == ("guests", 4, 1)
    changes("set: {service: tidecall, control: door.waiting-room, scope: organisation, value: guests}")
    done = call("rehearse", "--changes", "c.yaml")
    assert done.status == 1 and done.answer.startswith(
        "4 findings would end, 0 would begin; 1 person left out by a rule, with another value."
    )
    protected = [(each["rule"], each["login"], each["before"], each["after"]) for each in result_of("rehearse", "--changes", "c.yaml")["protected"]]  # fmt: skip
    assert protected == [("R1", "ada@northmere.example", "everyone", "guests")]


def test_values_are_no_stricter_than_is_asked() -> None:
    asked = ("members", "guests")
    for value in asked:
        made(f"expect: {{control: door.waiting-room, no_weaker_than: {value}}}", settings=OPEN)
        [edit] = result_of("mend")["edits"]
        assert edit["set"]["value"] == value and not edit["set"]["pinned"]


def test_who_is_affected_is_told_by_name() -> None:
    rule = "expect: {control: door.waiting-room, no_weaker_than: guests}, audience: {kind: member}"
    people = PEOPLE.replace("guest,,", "guest,/Shore,")  # else an edit at the unit leaves dag out
    made(rule, settings=OPEN, people=people)
    plan = result_of("mend")
    assert plan["plan"]["without_need"] == 1
    affected = [(each["login"], each["before"], each["after"]) for each in plan["affected"]]
    assert affected == [("dag@partner.example", "everyone", "guests")]
    assert "dag@partner.example" in call("mend").out
    changes("set: {service: tidecall, control: door.waiting-room, scope: organisation, value: hosts}")
    tried = result_of("rehearse", "--changes", "c.yaml")
    assert [(each["login"], each["after"]) for each in tried["affected"]] == [("dag@partner.example", "hosts")]
    assert tried["reach"] == [{"change": 1, "people": 5, "without_need": 1}] and tried["weaker"] == []
    made(rule)
    changes("unset: {service: tidecall, control: door.waiting-room, scope: organisation}")
    weaker = [(each["login"], each["after"]) for each in result_of("rehearse", "--changes", "c.yaml")["weaker"]]
    assert len(weaker) == 5 and ("dag@partner.example", "everyone") in weaker


def test_what_is_set_right_and_not_applied_is_told_so() -> None:
    seen = "person,service,control,value,seen_at\nP2,tidecall,door.waiting-room,everyone,2026-11-20T05:00:00Z\n"
    made("expect: {control: door.waiting-room, no_weaker_than: guests}", observations=seen)
    out = call("check").out
    assert "set as it should be, and not applied: apply it again, or look again" in out
    assert "no value passes" not in out


def test_facts_and_proofs_are_told_in_the_rule_s_own_words() -> None:
    rule = "expect: {person: mfa, is: required}, audience: {kind: member}, mend: Require it"
    proof = "expect: {proof: mfa, on: [console]}, mend: Ask for it"
    enforced = f"  - {{id: A1, mode: enforce, {CONSOLE}, when: {{client: [browser]}}, outcome: {{require: {{all_of: [mfa]}}}}}}\n"
    made(rule, proof, people=PEOPLE.replace("required", "offered"), access__rules=ACCESS + enforced)
    out = call("check").out
    assert "if it held" not in out and "Require it" in out and "Ask for it" in out


@pytest.mark.parametrize(("outcome", "status"), [("deny: true", 1), ("require: {all_of: [mfa]}", 1), ("session: {longest_hours: 8}", 0)])  # fmt: skip
def test_a_draft_and_a_change_of_the_same_rules_end_alike(outcome: str, status: int) -> None:
    rules = f"{ACCESS}  - {{id: A1, mode: off, {CONSOLE}, outcome: {{{outcome}}}}}\n"
    made(
        "expect: {person: roles, within: [admin]}",
        access__rules=rules,
        people=PEOPLE.replace("required", "offered"),
        authenticators="person,type\n",
        passes="person,issued_at,expires_at\n",
        partners="domain\n*\n",
        sign_ins="time,person,resource\n2026-11-19T06:00:00Z,P1,console\n",
    )
    Path("draft.yaml").write_text(rules.replace("mode: off", "mode: enforce"))
    changes("access_rule: {id: A1, mode: enforce}")
    found = [call("rehearse", *one).status for one in (("--draft", "draft.yaml"), ("--changes", "c.yaml"))]
    assert found == [status, status]


def test_an_invitee_given_by_id_is_that_person() -> None:
    rule = "subject: meetings, expect: {meeting: invitees-from-outside, is: 0}"
    made(rule, meetings=f"{MEETINGS}m1,tidecall,P1,{AT},scheduled,p2;BEN@northmere.example;P3\n")
    assert result()["findings"] == []
    meeting = call("door", "--meeting", "m1").out
    assert "ben@northmere.example" in meeting.lower() and not re.search(r"\bp2\b", meeting)
    made(rule.replace("from-outside, is: 0", "", 1).replace("invitees-", "invitees, is: 2"), meetings=f"{MEETINGS}m1,tidecall,P1,{AT},scheduled,p2;BEN@northmere.example;P3\n")  # fmt: skip
    assert result()["findings"] == []


def test_a_change_to_one_planned_meeting_says_what_it_does_there() -> None:
    column = "id,service,organiser,starts_at,recurring,invitees,label\n"
    talks = "".join(
        f"talk/2026-12-0{day}T06:00:00Z,tidecall,P1,2026-12-0{day}T06:00:00Z,true,x@else.example,Talk\n"
        for day in range(1, 4)
    )
    once = f"m1,tidecall,P1,{AT},,x@else.example;y@else.example,Once\n"
    settings = OPEN + "tidecall,door.waiting-room,meeting:m1,everyone,\n"
    services = SERVICES.replace('["door.*"]', "[door.waiting-room, door.identity]").replace(
        "factory: {", "factory: {door.identity: anyone, "
    )
    made(
        "expect: {person: roles, within: [admin]}", settings=settings, services=services, meetings=column + talks + once
    )
    changes("set: {service: tidecall, control: door.waiting-room, scope: meeting:m1, value: guests}")
    [meeting] = result_of("rehearse", "--changes", "c.yaml")["meetings"]
    assert (meeting["id"], meeting["waiting"]) == ("m1", ["x@else.example", "y@else.example"])
    assert meeting["open"] == {"before": True, "after": False}
    assert "open to a stranger, then shut to a stranger" in call("rehearse", "--changes", "c.yaml").out
    changes("set: {service: tidecall, control: door.identity, scope: organisation, value: own-organisation}")
    done = call("rehearse", "--changes", "c.yaml")
    # Two invitations to the meeting, one to the series: two people.
    assert done.status == 1 and "3 invitations of 2 addresses turned away" in done.answer.splitlines()[0]
    rows = [line.split()[:2] for line in done.out.splitlines() if "turned away: " in line]
    assert sorted(rows) == [["m1", "Once"], ["talk", "Talk"]] and "Talk (3 occurrences)" in done.out


def test_another_baseline_is_rehearsed() -> None:
    made(
        "severity: high, expect: {person: mfa, is: required}, audience: {kind: member}",
        "expect: {person: roles, within: [admin]}",
    )
    Path("new.yaml").write_text(
        HEAD
        + "  - {id: R1, title: t1, severity: critical, expect: {person: mfa, is: required}, audience: {kind: member}}\n"
        + "  - {id: R3, title: t3, expect: {control: door.waiting-room, no_weaker_than: members}}\n"
    )
    done = call("rehearse", "--baseline", "new.yaml")
    # The waiting room is for guests: five people newly drift from R3, ben already did.
    assert done.status == 1 and done.answer.startswith("0 findings would end, 5 would begin")
    tried = result_of("rehearse", "--baseline", "new.yaml")
    assert {each["login"][:3] for each in tried["newly_drifting"]} == {"ada", "cia", "dag", "eve"}
    assert [(each["id"], each["what"], each["direction"]) for each in tried["baseline"]["rules"]] == [
        ("R1", "changed", "stricter"), ("R2", "dropped", None), ("R3", "new", None),
    ]  # fmt: skip
    changes("set: {service: tidecall, control: door.waiting-room, scope: organisation, value: members}")
    both = call("rehearse", "--changes", "c.yaml", "--baseline", "new.yaml")
    assert both.status == 0 and both.answer.startswith("0 findings would end, 0 would begin")


def test_what_no_rule_asks_about_is_listed() -> None:
    services = SERVICES.replace('["door.*"]', "[door.waiting-room, door.host-first, file.guest-download]")
    made("expect: {control: door.waiting-room, no_weaker_than: guests}", "expect: {proof: mfa, on: [console]}", services=services, access__rules=ACCESS + "  []\n")  # fmt: skip
    out = call("baseline", "--uncovered").out
    assert out.startswith("2 of 3 controls of your services are asked about by no rule.")
    found = result_of("baseline", "--uncovered")
    assert [(each["control"], each["settings"], each["values"]) for each in found["controls"]] == [
        ("door.host-first", 1, [{"value": "on", "people": 5}]),
        ("file.guest-download", 0, [{"value": None, "people": 5}]),
    ]
    assert found["resources"] == ["meetings"]
    assert "2 of 3 controls of your services are asked about by no rule" in call("check").out
    assert SETTINGS.count("host-first") == 1
