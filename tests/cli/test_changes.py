"""A file of changes from outside: what is wrong in it, what it would do, and the notices about it."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from email import policy
from email.parser import BytesParser
from pathlib import Path
from typing import Any

import pytest
import yaml

from tests.cli.test_mend import RULE, folder
from tests.program import call
from tests.tiny import write_tiny

HEAD = "usher-gate: changes/1\ntitle: Trial\nchanges:\n"
F = "c.yaml"


def line(change: str) -> str:
    return f"{HEAD}  - {change}\n"


SET = "set: {service: tidecall, control: door.waiting-room, scope: organisation, value: members"
WRONG = [
    ("not its form", "usher-gate: changes/2\ntitle: t\nchanges: []\n", f"{F}:1: usher-gate: 'changes/2' is not the form of this file"),
    ("an unknown kind of change", line("sets: {}"), f"{F}:4: changes[0]: a change has one key, which says what is changed; did you mean 'set'?"),
    ("two in one", line("set: {}\n    unset: {}"), f"{F}:4: changes[0]: a change has one key"),
    ("an unknown control", line("unset: {service: tidecall, control: door.wait, scope: organisation}"), f"{F}:4: changes[0].unset.control: there is no control 'door.wait'"),
    ("an unknown service", line("set: {service: tidecal, control: door.close, scope: organisation, value: on}"), f"{F}:4: change 1: there is no service 'tidecal'; did you mean 'tidecall'?"),
    ("no value of its control", line(SET.replace("members", "friends") + "}"), f"{F}:4: changes[0].set.value: 'friends' is no value of door.waiting-room"),
    ("a scope that is none", line(SET.replace("organisation", "everybody") + "}"), f"{F}:4: changes[0].set.scope: 'everybody' is no scope"),
    ("an unknown person", line(SET.replace("organisation", '"person:P9"') + "}"), f"{F}:4: change 1: there is no person 'P9'"),
    ("an unknown unit", line(SET.replace("organisation", '"unit:/Dock"') + "}"), f"{F}:4: change 1: there is no unit '/Dock'"),
    ("an unknown group", line(SET.replace("organisation", '"group:g9"') + "}"), f"{F}:4: change 1: there is no group 'g9'; known: g1"),
    ("an unknown meeting", line(SET.replace("organisation", '"meeting:m9"') + "}"), f"{F}:4: change 1: there is no meeting 'm9'"),
    ("what a service does not support", line("set: {service: tidecall, control: room.chat, scope: organisation, value: off}"), f"{F}:4: change 1: tidecall does not support room.chat"),
    ("nothing to take away", line("unset: {service: tidecall, control: door.close, scope: organisation}"), f"{F}:4: change 1: door.close is not set at organisation on tidecall"),
    ("a column that is not there", line(SET + ", rank: 3}"), f"{F}:4: change 1: the table settings has no column rank"),
    ("a table that is not there", line("register: {who: {any: true}, type: multi-factor-otp}"), f"{F}:4: change 1: the snapshot has no table authenticators"),
    ("a column of people that is not there", line("people: {who: {any: true}, protection: heightened}"), f"{F}:4: change 1: the table people has no column protection"),
    ("a word that is none", line("people: {who: {any: true}, mfa: on}"), f"{F}:4: changes[0].people.mfa: 'on' is none of the words"),
    ("nothing to change", line("people: {who: {any: true}}"), f"{F}:4: changes[0].people: says nothing that changes"),
    ("nobody meant", line("people: {who: {}, mfa: required}"), f"{F}:4: changes[0].people.who: an empty selector chooses no one"),
    ("someone who is not there", line("people: {who: {person: zoe}, mfa: required}"), f"{F}:4: changes[0].people.who: there is no person 'zoe'"),
    ("what cannot be answered", line("people: {who: {attr.deck: one}, mfa: required}"), f"{F}:4: change 1: who asks for"),
    ("a type that is none", line("register: {who: {any: true}, type: card}"), f"{F}:4: changes[0].register.type: 'card' is none of the words"),
    ("another organisation's group", line("members: {group: crew, add: [P1]}"), f"{F}:4: changes[0].members.group: there is no group 'crew'"),
    ("a member who is not there", line("members: {group: g1, add: [P7]}"), f"{F}:4: changes[0].members.add[0]: there is no person 'P7'"),
    ("no access rules", line("access_rule: {id: A-1, mode: enforce}"), f"{F}:4: changes[0].access_rule: the snapshot has no access-rules.yaml"),
    ("a file of rules that is not there", line("access_rules: rules.yaml"), f"{F}:4: changes[0].access_rules: rules.yaml does not exist"),
    ("a partner without flags", line("partner: {domain: x.example}"), f"{F}:4: changes[0].partner: says nothing that changes"),
    ("a default that is none", line("second_factor_default: perhaps"), f"{F}:4: changes[0].second_factor_default: 'perhaps' is none of the words"),
    ("a time without an offset", "usher-gate: changes/1\ntitle: t\nfrom: 2026-12-01\n" + HEAD.split("\n", 2)[2] + "  - second_factor_default: on\n", f"{F}:3: from: '2026-12-01' is not a time with an offset"),
]  # fmt: skip


@pytest.fixture
def tiny_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(write_tiny(tmp_path))
    return tmp_path


@pytest.mark.parametrize(("text", "message"), [case[1:] for case in WRONG], ids=[case[0] for case in WRONG])
def test_a_fault_is_named(tiny_folder: Path, text: str, message: str) -> None:
    Path(F).write_text(text)
    done = call("rehearse", "--changes", F)
    assert (done.status, done.out) == (2, "")
    assert any(each.startswith(f"usher-gate: error: {message}") for each in done.err.splitlines()), done.err


def test_every_fault_is_told_at_once_and_nothing_is_written(tiny_folder: Path) -> None:
    Path(F).write_text(HEAD + "  - members: {group: crew, add: [P1]}\n  - people: {who: {}, mfa: required}\n")
    done = call("rehearse", "--changes", F, "--notices", "n", "--write-snapshot", "after")
    assert done.status == 2
    assert len([each for each in done.err.splitlines() if "error" in each]) == 2
    assert not Path("n").exists()
    assert not Path("after").exists()


def result_of(*arguments: object) -> Any:
    return json.loads(call("rehearse", *arguments, "--format", "json").out)


def test_a_pin_where_none_can_be(tiny_folder: Path) -> None:
    path = Path("snapshot/services.yaml")
    path.write_text(path.read_text() + "    pins: false\n    precedence: [organisation, person]\n")
    Path(F).write_text(line(SET + ", pinned: true}"))
    assert "change 1: tidecall cannot pin (pins: false)" in call("rehearse", "--changes", F).err
    Path(F).write_text(line(SET.replace("organisation", '"group:g1"') + "}"))
    assert (
        "change 1: tidecall reads no settings at the level group; it reads organisation, person"
        in call("rehearse", "--changes", F).err
    )


def test_changes_that_change_nothing_and_those_that_stand_later(tiny_folder: Path) -> None:
    Path(F).write_text(line("set: {service: tidecall, control: door.waiting-room, scope: organisation, value: guests}"))
    nothing = result_of("--changes", F)
    assert nothing["notes"] == ["change 1: changes nothing"]
    assert nothing["verdicts"]["moves"] == []
    Path(F).write_text(line(SET + "}") + f"  - {SET.replace('members', 'everyone')}, pinned: false}}\n")
    Path(F).write_text(HEAD + "  - people: {who: {login: nobody@*}, mfa: required}\n")
    assert result_of("--changes", F)["notes"] == ["change 1: chooses no one"]
    Path(F).write_text(line(SET + "}") + f"  - {SET.replace('members', 'everyone')}, pinned: false}}\n")
    twice = result_of("--changes", F)
    assert "change 2: change 1 is about the same place; this one counts" in twice["notes"]
    assert twice["verdicts"]["moves"] == [{"from": "meets", "to": "drifts", "count": 5}]
    assert call("rehearse", "--changes", F).status == 1
    assert [each["people"] for each in twice["reach"]] == [5, 5]


def test_people_partners_and_members_by_hand(tiny_folder: Path) -> None:
    """Ben's second factor is required, so R2 ends for him; Cia leaves; Eve gets what the group says."""
    Path("snapshot/people.csv").write_text(
        "id,login,kind,unit,mfa,roles,active,expires_at\nP1,ada@northmere.example,member,/Fleet/Deck,required,admin,,\n"
        "P2,ben@northmere.example,member,/Fleet,offered,,,\nP3,cia@northmere.example,member,/Shore,required,,,\n"
        "P4,dag@partner.example,guest,,,,,\nP5,eve@northmere.example,member,/Shore,required,,false,\n"
    )
    Path(F).write_text(
        HEAD
        + "  - people: {who: {person: BEN@northmere.example}, mfa: required, roles: {add: [admin]}, expires_at: 2026-12-31}\n"
        "  - people: {who: {person: P3}, active: false}\n  - people: {who: {login: eve@*}, active: true}\n"
        "  - members: {group: g1, add: [eve@northmere.example], remove: [P1]}\n"
    )
    made = result_of("--changes", F, "--write-snapshot", "after")
    assert not any("chooses no one" in note for note in made["notes"])
    assert {(each["from"], each["to"]): each["count"] for each in made["verdicts"]["moves"]} == {
        ("excepted", "meets"): 1, ("meets", "not-judged"): 2, ("not-judged", "meets"): 2,
    }  # fmt: skip
    rows = {row["id"]: row for row in csv.DictReader(io.StringIO(Path("after/people.csv").read_text()))}
    assert (rows["P2"]["mfa"], rows["P2"]["roles"], rows["P2"]["expires_at"]) == (
        "required",
        "admin",
        "2026-12-31T23:59:59Z",
    )
    assert (rows["P3"]["active"], rows["P5"]["active"]) == ("false", "true")
    assert (
        Path("after/members.csv").read_text() == "group,member,type\ng1,P5,person\n"
        or Path("after/members.csv").read_text() == "group,member\ng1,P5\n"
    )


def messages(folder: str) -> Iterator[tuple[list[str], str]]:
    for path in sorted(Path(folder).glob("*.eml")):
        message = BytesParser(policy=policy.default).parsebytes(path.read_bytes())
        assert message["X-Unsent"] == "1"
        assert (message["To"] is None) == path.name.startswith("notice-")
        yield [each.strip() for each in str(message["Bcc"] or message["To"]).split(",")], message.get_content()


def test_everybody_whose_value_is_other_gets_one_message(demo: Path) -> None:
    made = result_of("--changes", "changes/waiting-rooms.yaml", "--notices", "notices")
    ended = [each["subject"] for each in made["verdicts"]["ended"]]
    assert ended and all(("login" in subject) == (subject["type"] == "person") for subject in ended)
    rows = list(csv.DictReader(io.StringIO(Path("notices/index.csv").read_text())))
    assert len({row["person"] for row in rows}) == len(rows)
    found = list(messages("notices"))
    invited = list(csv.DictReader(io.StringIO(Path("notices/invited.csv").read_text())))
    assert sum(len(to) for to, _ in found) == len(rows) + len(invited)
    [outside] = [text for to, text in found if to == ["yard@shipyard.example.com"]]
    assert (
        '- "Plans for the dry dock" (on 24 November 2026, 09:00 UTC): you will wait until someone lets you in.'
        in outside
    )
    assert {each["invited"]: each["organiser"] for each in invited} == {"yard@shipyard.example.com": "N1171"}
    before = json.loads(call("why", "N1001", "door.waiting-room", "--service", "tidecall", "--format", "json").out)[
        "walks"
    ][0]["value"]
    assert before == "everyone"
    (deck,) = [text for to, text in found if "asta.brandt@northmere.example" in to]
    assert "From 21 November 2026, 08:00 UTC the following changes for you at Northmere Ferries." in deck
    assert (
        '- In Tidecall meetings, "waiting room" changes from "everyone walks in" to "guests and members walk in".'
        in deck
    )
    assert "You get into the meetings of other people here as before." in deck
    assert "It can take up to 24 hours until it has arrived everywhere." in deck
    assert not any("door." in text for _, text in found)
    (organiser,) = [text for to, text in found if "cilla.holmvik@northmere.example" in to]
    assert (
        '- "Plans for the dry dock" (on 24 November 2026, 09:00 UTC): yard@shipyard.example.com will wait until you let them in.'
        in organiser
    )
    assert made["reach"][1] == {"change": 2, "people": 52, "without_need": 0}
    assert (
        call("rehearse", "--changes", "changes/waiting-rooms.yaml", "--notices", "notices").status == 2
    )  # is there already


def test_what_hurts_is_stopped(demo: Path) -> None:
    done = call("rehearse", "--changes", "changes/own-organisation-only.yaml")
    assert done.status == 1
    first = " ".join(done.answer.split())
    assert first.startswith(
        "52 findings would end, 0 would begin; 5 invitations of 3 addresses turned away and 93 past sign-ins stopped."
    )
    assert "Of 18,402 sign-ins that got in, 93 would not any more" in first
    made = result_of("--changes", "changes/own-organisation-only.yaml")
    turned = {each["id"]: each["turned_away"] for each in made["meetings"] if each["turned_away"]}
    assert turned == {
        "pilot-room": ["watch@coastguard.example.org"], "fog": ["watch@coastguard.example.org"],
        "near-miss": ["liaison@coastguard.example.org"], "dock-plans": ["yard@shipyard.example.com"],
        "drill": ["liaison@coastguard.example.org"],
    }  # fmt: skip
    assert made["sign_ins"]["would_be"]["denied"] == 93


def test_a_roll_out_step_by_step_says_who_has_to_register_first(demo: Path) -> None:
    stuck = []
    snapshot = "snapshot"
    for step in (1, 2, 3):
        made = result_of(
            "--changes",
            f"changes/second-factor-{step}.yaml",
            "--snapshot",
            snapshot,
            "--write-snapshot",
            f"after-{step}",
        )
        stuck.append({each["id"] for each in made["stranded"]})
        assert made["verdicts"]["begun"] == []
        assert all(each["helps"] for each in made["stranded"])
        snapshot = f"after-{step}"
    assert not stuck[0] & stuck[1]
    assert len(stuck[2]) > len(stuck[1])
    assert (
        "\n8 of 236"
        in call("check", "--show", "all", "--rule", "SIGN-03", "--snapshot", "after-3", "--verdict", "drifts").out
    )


def test_the_draft_may_be_combined_and_options_need_a_file_of_changes(demo: Path) -> None:
    made = result_of("--changes", "changes/waiting-rooms.yaml", "--draft", "drafts/cargo-portal.yaml")
    assert [each["change"] for each in made["reach"]] == [1, 2, 3, 4]
    assert made["sign_ins"]["would_be"]["stuck"] == 430
    for option in (("--notices", "n"), ("--write-snapshot", "s"), ("--format", "markdown")):
        assert call("rehearse", *option).status == 2


def test_the_last_member_of_a_group_that_only_members_tell_of_cannot_go(tmp_path: Path) -> None:
    rule = "\n  - {id: G-1, title: G, audience: {group: watch}, expect: {control: door.waiting-room, is: guests}}\n"
    where = folder(tmp_path, members__csv="group,member\nwatch,P1\nwatch,P2\ndeck,P3\n", baseline=RULE + rule)
    changes = [{"members": {"group": "watch", "remove": [each]}} for each in ("P1", "P2")]
    for many, group, added in ((1, "", False), (2, "watch", False), (2, "", True)):
        text = yaml.safe_dump({"usher-gate": "changes/1", "title": "t", "changes": changes[:many]})
        (where / "c.yaml").write_text(text)
        if added:
            (where / "snapshot" / "groups.csv").write_text("id,name\nwatch,Watch\ndeck,Deck\n")
        done = call("rehearse", "--changes", "c.yaml", cwd=where)
        if not group:
            assert done.status == 0, done.err
            continue
        assert (done.status, done.out) == (2, "")
        assert "c.yaml:6: change 2: no one is left in the group 'watch', which without a table groups" in done.err


def test_a_series_is_told_its_organiser_once_and_what_is_before_the_change_not_at_all(tiny_folder: Path) -> None:
    """Ada organises a series of three and one meeting; one occurrence is over before the change.

    Cia is of the organisation.
    """
    rows = [
        f"week/{day:02},tidecall,P1,2026-12-{day:02}T09:00:00Z,true,x@partner.example;CIA@northmere.example,Week"
        for day in (1, 8, 15)
    ]
    rows.append("one,tidecall,P1,2026-12-09T09:00:00Z,,y@partner.example;x@partner.example,Talk")
    Path("snapshot/meetings.csv").write_text(
        "id,service,organiser,starts_at,recurring,invitees,label\n" + "\n".join(rows) + "\n"
    )
    values = {
        "waiting-room": "everyone",
        "identity": "anyone",
        "anonymous-join": "on",
        "passcode-scheduled": "off",
        "host-first": "off",
        "refused-domains": "x.example",
    }
    Path("snapshot/settings.csv").write_text(
        "service,control,scope,value\n"
        + "".join(f"tidecall,door.{name},organisation,{value}\n" for name, value in values.items())
    )
    Path(F).write_text(
        "usher-gate: changes/1\ntitle: Wait\nfrom: 2026-12-02T06:00:00Z\nchanges:\n"
        "  - set: {service: tidecall, control: door.waiting-room, scope: organisation, value: hosts}\n"
    )
    call("rehearse", "--changes", F, "--notices", "n")
    shown = {tuple(to): text for to, text in messages("n")}
    ada = shown["ada@northmere.example",]
    assert (
        '- "Week" (2 meetings, the first on 8 December 2026, 09:00 UTC): CIA@northmere.example, x@partner.example will wait until you let them in.'
        in ada
    )
    assert (
        '- "Talk" (on 9 December 2026, 09:00 UTC): x@partner.example, y@partner.example will wait until you let them in.'
        in ada
    )
    assert ada.count('"Week"') == ada.count('"Talk"') == 1
    assert '"Week" (2 meetings' in shown["x@partner.example",] and '"Talk"' in shown["x@partner.example",]
    assert '"Week"' not in shown["y@partner.example",] and "ask your administrators" not in ada
    index = list(csv.DictReader(io.StringIO(Path("n/invited.csv").read_text())))
    assert [(each["organiser"], each["invited"]) for each in index] == [
        ("P1", "x@partner.example"),
        ("P1", "y@partner.example"),
    ]


def test_each_change_reaches_only_the_people_it_changes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """One person joins a group, one gets a value, one value changes for everyone, and the last changes nothing."""
    settings = """service,control,scope,value
tidecall,door.waiting-room,organisation,guests
tidecall,door.waiting-room,group:g1,hosts
tidecall,door.close,unit:/Shore,on
tidecall,door.host-first,organisation,on
"""
    monkeypatch.chdir(write_tiny(tmp_path, {"snapshot/settings.csv": settings}))
    changes = (
        "members: {group: g1, add: [P3]}",
        'set: {service: tidecall, control: door.close, scope: "person:P2", value: "on"}',
        'set: {service: tidecall, control: door.host-first, scope: organisation, value: "off"}',
        "members: {group: g1, add: [P1]}",
    )
    Path(F).write_text(HEAD + "".join(f"  - {change}\n" for change in changes))
    answer = json.loads(call("rehearse", "--changes", F, "--format", "json").out)
    assert [(each["change"], each["people"]) for each in answer["reach"]] == [(1, 1), (2, 1), (3, 5), (4, 0)]
