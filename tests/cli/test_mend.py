"""The fewest changes from outside: small organisations counted by hand, what may be asked of a plan, and the demo's."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import yaml

from tests.program import call

ORGANISATION = "usher-gate: snapshot/1\nname: Northmere Ferries\ntaken_at: 2026-11-20T06:00:00Z\n"
SERVICES = """usher-gate: services/1
services:
  - id: tidecall
    supports: [door.waiting-room, room.chat, line.encryption, line.dial-in, door.host-first, door.identity]
    self_service: []
    batch: 2
"""
PEOPLE = "id,login,name,unit,kind\n" + "".join(
    f"P{number},p{number}@northmere.example,Person {number},{unit},member\n"
    for number, unit in enumerate(("/Fleet", "/Fleet", "/Fleet/Deck", "/Fleet/Deck", "/Shore", "/Shore"), 1)
)
SETTINGS = """service,control,scope,value,pinned,changed_at
tidecall,door.waiting-room,organisation,guests,,2026-01-02T08:00:00Z
tidecall,door.waiting-room,unit:/Fleet/Deck,everyone,,2026-01-02T08:00:00Z
tidecall,door.waiting-room,person:P1,everyone,,2026-01-02T08:00:00Z
"""
RULE = """usher-gate: baseline/1
name: Doors
version: "1"
rules:
  - {id: D-1, title: Strangers wait, severity: high, expect: {control: door.waiting-room, no_weaker_than: guests}}
"""


def folder(tmp_path: Path, **files: str) -> Path:
    """Writes an organisation of six people; a file given replaces that of its name."""
    snapshot = tmp_path / "snapshot"
    snapshot.mkdir()
    texts = {
        "organisation.yaml": ORGANISATION,
        "services.yaml": SERVICES,
        "people.csv": PEOPLE,
        "settings.csv": SETTINGS,
    }
    texts |= {name.replace("__", "."): text for name, text in files.items() if name not in ("baseline", "exceptions")}
    for name, text in texts.items():
        (snapshot / name).write_text(text)
    (tmp_path / "baseline.yaml").write_text(files.get("baseline", RULE))
    toml = 'snapshot = "snapshot"\nbaseline = "baseline.yaml"\n'
    if "exceptions" in files:
        (tmp_path / "exceptions.yaml").write_text(files["exceptions"])
        toml += 'exceptions = "exceptions.yaml"\n'
    (tmp_path / "usher-gate.toml").write_text(toml)
    return tmp_path


def result_of(where: Path, *options: object, status: int = 0) -> dict[str, Any]:
    done = call("mend", *options, "--format", "json", cwd=where)
    assert done.status == status, done.err
    answer: dict[str, Any] = json.loads(done.out)
    return answer


def edits(answer: dict[str, Any]) -> list[str]:
    """The edits in a few words."""
    found = []
    for each in answer["edits"]:
        said = each.get("set") or each["unset"]
        what = f"{said['value']}{' pinned' if said['pinned'] else ''}" if "set" in each else "unset"
        found.append(f"{said['control']} {said['scope']} {what}")
    return found


def test_one_pin_is_fewer_than_two_edits(tmp_path: Path) -> None:
    # a pin at the unit above all three ends them at once; no one else's value changes, and it reaches fewer than the
    # organisation
    answer = result_of(folder(tmp_path))
    assert edits(answer) == ["door.waiting-room unit:/Fleet guests pinned"]
    plan = answer["plan"]
    assert (plan["edits"], plan["ended"], plan["left"], plan["freed"]) == (1, 3, 0, 3)
    assert (plan["touched"], plan["without_need"], plan["proof"]) == (3, 0, "proven fewest")
    assert answer["edits"][0]["undone_by"] == "nobody"


def test_a_stricter_person_is_not_weakened_unless_that_is_allowed(tmp_path: Path) -> None:
    strict = (
        SETTINGS + "tidecall,door.waiting-room,person:P6,everyone,,\ntidecall,door.waiting-room,person:P5,hosts,,\n"
    )
    where = folder(tmp_path, settings__csv=strict)
    # one pin reaches P1, P3, P4 and P6, who drift: `guests` would weaken P5, `hosts` changes what P2 has
    answer = result_of(where)
    assert edits(answer) == ["door.waiting-room organisation hosts pinned"]
    assert (answer["plan"]["touched"], answer["plan"]["without_need"]) == (5, 1)
    # either changes five values, one without need; then the text decides
    assert edits(result_of(where, "--weaken")) == ["door.waiting-room organisation guests pinned"]


def test_a_service_that_cannot_pin_takes_two_edits(tmp_path: Path) -> None:
    answer = result_of(folder(tmp_path, services__yaml=SERVICES + "    pins: false\n"))
    assert sorted(edits(answer)) == ["door.waiting-room person:P1 unset", "door.waiting-room unit:/Fleet/Deck unset"]
    assert [edit["ended"] for edit in answer["edits"]] == [2, 1]
    assert {edit["undone_by"] for edit in answer["edits"]} == {"settings"}


def test_an_edited_setting_of_a_group_keeps_its_rank(tmp_path: Path) -> None:
    """Three people are in two groups that let everyone in; `a` outranks `b`, so mending `a` is enough for them."""
    settings = (
        "service,control,scope,value,rank\ntidecall,door.waiting-room,organisation,guests,\n"
        "tidecall,door.waiting-room,group:a,everyone,1\ntidecall,door.waiting-room,group:b,everyone,2\n"
    )
    members = "group,member\n" + "".join(f"{group},P{number}\n" for group in "ab" for number in (1, 2, 3))
    services = SERVICES + "    pins: false\n    precedence: [organisation, group, person]\n"
    where = folder(tmp_path, settings__csv=settings, groups__csv="id,name\na,A\nb,B\n", members__csv=members,
                   services__yaml=services)  # fmt: skip
    answer = result_of(where)
    assert (answer["plan"]["edits"], answer["plan"]["ended"], answer["plan"]["proof"]) == (1, 3, "proven fewest")
    assert edits(answer) in (["door.waiting-room group:a guests"], ["door.waiting-room group:a hosts"])


def test_what_people_have_to_do_is_narrowed_too(tmp_path: Path) -> None:
    rule = "  - {id: F-1, title: Factor, expect: {person: mfa, is: required}}\n"
    people = PEOPLE.replace(",kind\n", ",kind,mfa\n").replace(",member\n", ",member,offered\n")
    where = folder(tmp_path, baseline=RULE + rule, people__csv=people)
    by_unit = {unit["unit"]: unit["people"] for unit in result_of(where)["tasks"][0]["units"]}
    assert by_unit == {"/Fleet": ["P1", "P2"], "/Fleet/Deck": ["P3", "P4"], "/Shore": ["P5", "P6"]}
    [task] = result_of(where, "--unit", "/Shore")["tasks"]
    assert [unit["people"] for unit in task["units"]] == [["P5", "P6"]]
    assert result_of(where, "--rule", "D-1")["tasks"] == []


EXCEPTION = """usher-gate: exceptions/1
exceptions:
  - {id: E-1, rules: [D-1], who: {login: "p1@*"}, reason: open house, approved_by: the board, until: 2026-12-31}
"""


def test_what_an_exception_covers_stays_unless_it_may_change(tmp_path: Path) -> None:
    where = folder(tmp_path, exceptions=EXCEPTION)
    answer = result_of(where)
    assert edits(answer) == ["door.waiting-room unit:/Fleet/Deck unset"]
    assert edits(result_of(where, "--through-exceptions")) == [
        "door.waiting-room unit:/Fleet/Deck unset"
    ]  # touches fewer


def test_a_gate_against_an_exception_is_named(tmp_path: Path) -> None:
    # nothing is set for single people here: only the organisation could mend P2, and that is P1's value as well
    services = SERVICES + "    precedence: [organisation]\n"
    settings = "service,control,scope,value,pinned,changed_at\ntidecall,door.waiting-room,organisation,everyone,,\n"
    where = folder(tmp_path, services__yaml=services, settings__csv=settings, exceptions=EXCEPTION)
    answer = result_of(where, status=1)
    assert (answer["plan"]["edits"], answer["plan"]["left"], answer["plan"]["proof"]) == (0, 5, "proven fewest")
    assert {(each["because"], each["against"]) for each in answer["left"]} == {
        ("what mends it changes door.waiting-room behind an exception", "exception E-1")
    }
    done = call("mend", cwd=where)
    assert "5 verdicts drift, and nothing that may be set ends any of it." in done.out
    assert edits(result_of(where, "--through-exceptions")) == ["door.waiting-room organisation guests"]


TWO = """usher-gate: baseline/1
name: Doors
version: "1"
rules:
  - {id: D-1, title: Strangers wait, severity: high, expect: {control: door.waiting-room, no_weaker_than: guests}}
  - {id: D-2, title: Guests walk in, severity: low, expect: {control: door.waiting-room, one_of: [everyone, partners]}}
"""


def test_a_rule_against_a_rule_is_named(tmp_path: Path) -> None:
    answer = result_of(folder(tmp_path, baseline=TWO), status=1)
    # three drift from one and three from the other; ending either begins the other
    assert (answer["plan"]["edits"], answer["plan"]["left"]) == (0, 6)
    assert {(each["rule"], each["against"]) for each in answer["left"]} == {("D-1", "rule D-2"), ("D-2", "rule D-1")}


HELD = RULE.replace("expect:", "pinned: strict, expect:")


def test_holding_pins_what_is_right(tmp_path: Path) -> None:
    where = folder(tmp_path, baseline=HELD)
    assert edits(result_of(where)) == ["door.waiting-room unit:/Fleet guests pinned"]
    other = folder_without_pin(tmp_path / "other")
    assert edits(result_of(other)) == ["door.waiting-room unit:/Fleet/Deck unset"]
    assert edits(result_of(other, "--hold")) == ["door.waiting-room organisation guests pinned"]


def folder_without_pin(where: Path) -> Path:
    """All hold nothing; one unit drifts."""
    where.mkdir()
    return folder(where, baseline=HELD, settings__csv="".join(SETTINGS.splitlines(keepends=True)[:3]))


def test_contradictions_are_not_begun(tmp_path: Path) -> None:
    baseline = RULE.replace("door.waiting-room, no_weaker_than: guests", "line.encryption, is: end-to-end")
    settings = """service,control,scope,value,pinned,changed_at
tidecall,line.encryption,organisation,transport,,
tidecall,line.dial-in,organisation,on,,
"""
    answer = result_of(folder(tmp_path, baseline=baseline, settings__csv=settings), status=1)
    # end-to-end excludes telephones, and no rule says that dial-in may be off: `off` is set nowhere
    assert {each["against"] for each in answer["left"]} == {"line.encryption and line.dial-in"}
    off = settings + "tidecall,line.dial-in,unit:/Shore,off,,\n"
    other = tmp_path / "other"
    other.mkdir()
    assert sorted(edits(result_of(folder(other, baseline=baseline, settings__csv=off)))) == [
        "line.dial-in unit:/Fleet off",
        "line.encryption organisation end-to-end",
    ]


MEETINGS = """id,service,organiser,kind,starts_at,invitees
m1,tidecall,P3,scheduled,2026-11-25T09:00:00Z,coast@partner.example
"""


def test_invitees_are_not_turned_away_unless_they_may_be(tmp_path: Path) -> None:
    baseline = RULE.replace(
        "door.waiting-room, no_weaker_than: guests", "door.identity, no_weaker_than: own-organisation"
    )
    settings = "service,control,scope,value,pinned,changed_at\ntidecall,door.identity,organisation,any-account,,\n"
    where = folder(tmp_path, baseline=baseline, settings__csv=settings, meetings__csv=MEETINGS)
    answer = result_of(where, status=1)
    # everyone but the organiser P3 can be mended; for P3 it would shut the partner out
    assert (answer["plan"]["ended"], answer["plan"]["left"], answer["plan"]["edits"]) == (5, 1, 2)
    assert [each["against"] for each in answer["left"]] == ["meeting m1"]
    assert result_of(where, "--turn-away")["plan"] | {} == result_of(where, "--turn-away")["plan"]
    assert edits(result_of(where, "--turn-away")) == ["door.identity organisation own-organisation"]


def test_the_best_of_at_most_so_many_edits(tmp_path: Path) -> None:
    where = folder(tmp_path, services__yaml=SERVICES + "    pins: false\n")
    answer = result_of(where, "--edits", "1", status=1)
    assert edits(answer) == ["door.waiting-room unit:/Fleet/Deck unset"]
    assert (answer["plan"]["ended"], answer["plan"]["left"]) == (2, 1)
    none = result_of(where, "--edits", "0", status=1)
    assert (none["plan"]["edits"], none["plan"]["left"]) == (0, 3)


def test_narrowed_to_people_only_they_are_mended(tmp_path: Path) -> None:
    answer = result_of(folder(tmp_path), "--person", "P1")
    assert edits(answer) == ["door.waiting-room person:P1 unset"]
    assert answer["plan"]["drifting"] == 1


def test_edits_at_people_come_in_batches(tmp_path: Path) -> None:
    settings = "".join(SETTINGS.splitlines(keepends=True)[:2]) + "".join(
        f"tidecall,door.waiting-room,person:P{number},everyone,,\n" for number in (1, 3, 5)
    )
    services = SERVICES + "    pins: false\n"
    done = call("mend", cwd=folder(tmp_path, settings__csv=settings, services__yaml=services))
    assert "3 edits end 3 of 3 findings: proven fewest." in done.out
    row = next(line for line in done.out.splitlines() if line.strip().startswith("tidecall  waiting room"))
    assert row.split()[3:] == ["3", "2", "2"]
    assert "person:P1 and 2 more that say the same" in " ".join(done.out.split())


def test_the_written_plan_is_a_file_of_changes_that_hurts_nobody(tmp_path: Path) -> None:
    where = folder(tmp_path)
    answer = call("mend", "--write", "plan.yaml", cwd=where)
    assert answer.status == 0
    text = (where / "plan.yaml").read_text()
    assert "# ends 3 findings; changes 3 values\n" in text
    made = yaml.safe_load(text)
    assert made["usher-gate"] == "changes/1" and len(made["changes"]) == 1
    tried = call("rehearse", "--changes", "plan.yaml", "--format", "json", cwd=where)
    assert tried.status == 0
    assert len(json.loads(tried.out)["verdicts"]["ended"]) == 3


def test_nothing_to_mend(tmp_path: Path) -> None:
    where = folder(tmp_path, settings__csv="".join(SETTINGS.splitlines(keepends=True)[:2]))
    done = call("mend", cwd=where)
    assert (done.status, done.answer.splitlines()[0]) == (0, "Nothing drifts, so there is nothing to mend.")
    none = call("mend", "--write", "plan.yaml", cwd=where)
    assert none.status == 0 and "plan.yaml is not written: " in none.err and not (where / "plan.yaml").exists()


def test_an_optimiser_without_time_leaves_the_plan_step_by_step(tmp_path: Path) -> None:
    where = folder(tmp_path, services__yaml=SERVICES + "    pins: false\n")
    done = call("mend", "--seconds", "0.001", "--format", "json", cwd=where)
    answer = json.loads(done.out)
    assert done.status == int(answer["plan"]["left"] > 0)
    assert answer["plan"]["gap"] or answer["plan"]["proof"] == "proven fewest"


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (("--edits", "-1"), "--edits"),
        (("--seconds", "0"), "--seconds"),
        (("--verdict", "drifts"), "a plan mends what drifts"),
        (("--rule", "D-9"), "there is no rule 'D-9'"),
    ],
)
def test_what_is_asked_wrongly(tmp_path: Path, options: tuple[str, ...], said: str) -> None:
    done = call("mend", *options, cwd=folder(tmp_path))
    assert done.status == 2 and said in done.err and done.err.startswith("usher-gate: error: ")


def test_check_says_what_mending_would_do(tmp_path: Path) -> None:
    where = folder(tmp_path)
    assert "One plan: usher-gate mend ends 3 of 3 findings with 1 edit, and makes no one worse off." in " ".join(
        call("check", cwd=where).out.split()
    )
    narrowed = call("check", "--person", "P6", cwd=where)
    assert "usher-gate mend" not in narrowed.out


def test_the_demo_can_be_mended(demo: Path, demo_plan: Path) -> None:
    answer = json.loads(demo_plan.read_text())
    plan = answer["plan"]
    assert (plan["edits"], plan["ended"], plan["left"], plan["proof"]) == (11, 361, 0, "proven fewest")
    closing = [each for each in answer["sign_in_side"] if each["rule"] == "SIGN-11" and each["recommended"]]
    assert "A-20: no longer exclude resource cargo-portal" in {each["what"] for each in closing}
    best = next(each for each in closing if each["what"].startswith("A-20"))
    assert best["drifting"]["after"] == 0 and best["sign_ins"]["people"] == 8
    tasks = {task["rule"]: sum(len(unit["people"]) for unit in task["units"]) for task in answer["tasks"]}
    checked = json.loads(call("check", "--rule", "SIGN-03", "--format", "json", cwd=demo).out)
    assert tasks["SIGN-03"] == sum(each["verdict"] == "drifts" for each in checked["findings"])
    assert not any(
        each["recommended"] and any(one["of"] == "break-glass" for one in each["locked_out"])
        for each in answer["sign_in_side"]
    )


def test_the_last_line_of_a_check_counts_what_ends(tmp_path: Path) -> None:
    """A verdict that then drifts by a fact is mended as far as settings go, and does not end."""
    both = "all_of: [{control: door.waiting-room, is: guests}, {person: mfa, is: required}]"
    rules = RULE + f"  - {{id: D-2, title: Both, expect: {{{both}}}}}\n"
    people = "\n".join(
        line + (",mfa" if not number else ",required" if number < 4 else ",offered")
        for number, line in enumerate(PEOPLE.splitlines())
    )
    settings = "service,control,scope,value,pinned\ntidecall,door.waiting-room,organisation,everyone,\n"
    where = folder(tmp_path, people__csv=people + "\n", settings__csv=settings, baseline=rules)
    plan = result_of(where)["plan"]
    shown = " ".join(call("check", cwd=where).out.split())
    assert (plan["edits"], plan["ended"], plan["drifting"]) == (1, 9, 12)
    assert "One plan: usher-gate mend ends 9 of 12 findings with 1 edit, and makes no one worse off." in shown


@pytest.mark.parametrize("verb", ["mend", "guests"])
def test_a_table_is_not_taken_for_a_file_of_changes(demo: Path, verb: str) -> None:
    done = call(verb, "--out", "plan.yaml")
    assert (done.status, done.out, (demo / "plan.yaml").exists()) == (2, "", False)
    assert "--out plan.yaml would hold a table; --write plan.yaml writes the changes" in done.err
    assert call("guests", "--out", "table.yaml", "--format", "table").status == 0
    assert (
        call("check", "--out", "check.yaml").status == 1
    )  # which writes no changes, so there is nothing to be mistaken for


def test_what_the_time_did_not_suffice_for_is_said(demo: Path) -> None:
    done = call("mend", "--seconds", "0.0001", "--format", "json", "--out", "plan.json")
    plan = json.loads(Path("plan.json").read_text())
    assert done.status in (0, 1)
    assert any("was stopped after 0.0001 seconds" in note for note in plan["notes"])
    assert plan["plan"]["gap"] > 0 and "at most " in plan["plan"]["proof"]
    whole = json.loads(call("mend", "--format", "json").out)
    assert not any("was stopped after" in note for note in whole["notes"])
    assert plan["plan"]["left"] >= whole["plan"]["left"]


def test_who_does_not_belong_in_a_group_may_be_taken_out(tmp_path: Path) -> None:
    """The others need the group's values, and the rules leave them out.

    Only without the membership do both drifts end.
    """
    where = folder(
        tmp_path,
        people__csv="id,login,kind,roles\n"
        + "".join(
            f"p{number},p{number}@northmere.example,member,{'host' if number in (4, 5) else ''}\n"
            for number in range(1, 7)
        ),
        groups__csv="id,name\nhosts,Event hosts\n",
        members__csv="group,member\nhosts,p4\nhosts,p5\nhosts,p6\n",
        settings__csv="service,control,scope,value,pinned\n"
        "tidecall,door.waiting-room,group:hosts,everyone,\ntidecall,room.share-screen,group:hosts,everyone,\n"
        "tidecall,broadcast.audience,group:hosts,public,\n",
        services__yaml="usher-gate: services/1\nservices:\n  - id: tidecall\n    supports: ['door.*', 'room.*', 'broadcast.*']\n"
        "    precedence: [organisation, group]\n"
        "    factory: {door.waiting-room: guests, room.share-screen: hosts, broadcast.audience: organisation}\n",
        baseline="usher-gate: baseline/1\nname: Small\nversion: '1'\nrules:\n"
        "  - {id: R1, title: Wait, expect: {control: door.waiting-room, no_weaker_than: guests}, except: {role: host}}\n"
        "  - {id: R2, title: Share, expect: {control: room.share-screen, is: hosts}, except: {role: host}}\n",
    )
    alone = json.loads(call("mend", "--format", "json", cwd=where).out)
    assert (alone["plan"]["edits"], alone["plan"]["left"]) == (0, 2)
    done = call("mend", "--memberships", "--write", "plan.yaml", "--format", "json", cwd=where)
    shown = json.loads(done.out)
    assert (done.status, shown["plan"]["edits"], shown["plan"]["ended"], shown["plan"]["left"]) == (0, 1, 2, 0)
    assert [(one["members"], one["ended"]) for one in shown["edits"]] == [({"group": "hosts", "remove": ["p6"]}, 2)]
    assert [(one["control"], one["before"], one["after"]) for one in shown["edits"][0]["also"]] == [
        ("broadcast.audience", "public", "organisation")
    ]
    assert shown["affected"] == shown["edits"][0]["also"]
    # Narrowed, it counts only what is asked about: of the two findings that end, one.
    narrowed = json.loads(call("mend", "--memberships", "--rule", "R1", "--format", "json", cwd=where).out)
    counted = narrowed["plan"]["drifting"], narrowed["plan"]["ended"], narrowed["edits"][0]["ended"]
    assert (*counted, narrowed["plan"]["freed"]) == (1, 1, 1, 1)
    tried = call("rehearse", "--changes", "plan.yaml", "--write-snapshot", "after", cwd=where)
    assert (tried.status, tried.answer.splitlines()[0]) == (0, "2 findings would end, 0 would begin.")
    assert "\nNone of 6 people drifts.\n" in call("check", "--snapshot", "after", cwd=where).out
    # No one is taken out where a value that needed no mending gets weaker, or where a rule would no longer be about
    # them.
    for path, old, new in (
        ("snapshot/services.yaml", ", broadcast.audience: organisation}", "}"),
        ("baseline.yaml", "except: {role: host}", "except: {role: host}, audience: {group: hosts}"),
    ):
        text = (where / path).read_text()
        (where / path).write_text(text.replace(old, new))
        shown = json.loads(call("mend", "--memberships", "--format", "json", cwd=where).out)
        assert (shown["plan"]["edits"], shown["plan"]["left"]) == (0, 2)
        assert any(note.startswith("1 membership stays although what the group sets drifts") for note in shown["notes"])
        (where / path).write_text(text)


ACCESS = """\
usher-gate: access-rules/1
rules:
  - {id: A, title: All, mode: enforce, people: {include: {any: true}, exclude: {any_of: [{id: p1}, {id: p2}]}}, resources: {include: any},
     when: {device: [unknown, registered]}, outcome: {require: {all_of: [mfa]}}}
  - {id: B, title: Consoles, mode: enforce, people: {include: {any: true}}, resources: {include: [console]}, outcome: {deny: true}}
"""
MFA = "usher-gate: baseline/1\nname: Small\nversion: '1'\nrules:\n  - {id: S, title: Factor, expect: {proof: mfa, on: any}}\n"


def gate(tmp_path: Path, rules: str, baseline: str = MFA) -> Path:
    people = (
        "id,login,kind,roles,break_glass\np1,ada@northmere.example,member,admin,\np2,ben@northmere.example,member,,\n"
    )
    people += "p3,lamp@northmere.example,member,,true\n"
    organisation = "usher-gate: snapshot/1\nname: Small\ntaken_at: 2026-11-20T06:00:00Z\nprivileged_roles: [admin]\n"
    where = folder(
        tmp_path,
        people__csv=people,
        organisation__yaml=organisation + "resources: {console: [admin], files: []}\n",
        baseline=baseline,
    )
    (where / "snapshot/access-rules.yaml").write_text(rules)
    return where


def sign_in_side(where: Path) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(call("mend", "--format", "json", cwd=where).out)["sign_in_side"]
    return found


def test_overlapping_holes_take_two_edits_of_one_rule_and_lock_outs_one_of_another(tmp_path: Path) -> None:
    """Rule A leaves ada and ben out, and devices that are managed.

    A healthy one is managed, too, so one word is enough for both.
    """
    side = sign_in_side(gate(tmp_path, ACCESS))
    shown = [(each["of"], (each["account"] or {}).get("id"), each["fewest"], each["what"]) for each in side]
    assert shown == [
        ("lock-out", "p3", 1, "B: also exclude id p3"),
        ("lock-out", "p1", 1, "B: also exclude id p1"),
        ("hole", None, 2, "A: also for device managed; A: no longer exclude id p1 or id p2"),
        ("hole", None, 1, "A: also for device managed"),
    ]
    assert [each["hole"] for each in side[2:]] == [
        "any client, from anywhere, to files", "any client, from anywhere, to files, device managed or healthy",
    ]  # fmt: skip


def test_who_is_excluded_must_not_get_a_hole_break_glass_accounts_apart(tmp_path: Path) -> None:
    """Everyone is denied at the console; without that nothing asks ada or lamp for a second factor there."""
    rules = ACCESS.replace("{include: any},\n     when: {device: [unknown, registered]}", "{include: [files]}").replace(
        ", exclude: {any_of: [{id: p1}, {id: p2}]}", ""
    )
    side = {each["account"]["id"]: each for each in sign_in_side(gate(tmp_path, rules))}
    assert (side["p3"]["fewest"], side["p3"]["opened"]) == (1, [{"rule": "S", "people": ["p3"]}])
    assert (side["p1"]["fewest"], side["p1"]["changes"]) == (None, [])
    assert side["p1"]["because"] == "excluding them would open a hole under S: register what is asked for instead"


def test_each_branch_of_an_exclusion_may_end_alone(tmp_path: Path) -> None:
    rules = ACCESS.replace("\n     when: {device: [unknown, registered]},", "")
    where = gate(tmp_path, rules, MFA.replace("title: Factor", "title: Factor, audience: {id: p1}"))
    plans = [each["edits"] for each in sign_in_side(where) if each["of"] == "hole"]
    assert plans == [["A: no longer exclude id p1"], ["A: no longer exclude id p1 or id p2"]]


def test_a_rehearsal_of_the_plan_counts_the_same_values_without_need(demo: Path) -> None:
    """What drifts at a planned meeting is its organiser's to mend, in both."""
    plan = json.loads(call("mend", "--service", "tidecall", "--format", "json", "--write", "plan.yaml").out)["plan"]
    tried = json.loads(call("rehearse", "--changes", "plan.yaml", "--format", "json").out)
    assert len(tried["affected"]) == plan["without_need"] > 0
    assert [each["control"] for each in tried["weaker"]] == ["door.may-start"]  # of the organiser, and needed
    assert "door.may-start" not in {each["control"] for each in tried["affected"]}
