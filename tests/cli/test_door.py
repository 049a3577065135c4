"""The door from outside: small organisations written by hand, every answer counted by hand."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any

import pytest

from tests import tiny
from tests.program import call
from tests.tiny import check, write_tiny

SERVICES = """\
usher-gate: services/1
services:
  - id: tidecall
    supports: ["door.*", line.browser, line.dial-in, room.chat, room.share-screen]
    factory:
      door.may-start: "on"
      door.waiting-room: everyone
      door.identity: anyone
      door.anonymous-join: "on"
      door.host-first: "off"
      door.passcode-scheduled: "on"
      door.passcode-instant: "on"
      door.passcode-in-link: "on"
      door.passcode-telephone: "on"
      door.passcode-length: 6
      door.passcode-composition: digits
      door.telephone-waits: "on"
      door.personal-room: "off"
      door.listed-domains: [partner.example]
      door.refused-domains: []
      line.browser: "on"
      line.dial-in: "on"
      room.chat: with-hosts
      room.share-screen: members
    self_service: [door.waiting-room]
"""
SETTINGS = """\
service,control,scope,value,pinned
tidecall,door.waiting-room,organisation,guests,
tidecall,door.waiting-room,person:P3,everyone,
tidecall,door.may-start,person:P5,off,true
tidecall,door.identity,meeting:m2,listed-domains,
tidecall,door.waiting-room,meeting:m3,everyone,
tidecall,door.host-first,meeting:m9,on,
"""
MEETINGS = """\
id,service,organiser,kind,starts_at,recurring,invitees,label
m1,tidecall,P1,,2026-11-20T07:00:00Z,,ben@northmere.example;x@partner.example,Open to partners
m2,tidecall,P1,scheduled,2026-11-21T07:00:00Z,,x@partner.example;y@else.example;DAG@partner.example,Identity asked
m3,tidecall,P2,instant,2026-11-19T07:00:00Z,true,,Own setting
m4,tidecall,P2,scheduled,2026-11-19T07:00:00Z,,,Past
m5,tidecall,P5,scheduled,2026-11-22T07:00:00Z,,nobody,Only joins
m6,tidecall,P9,scheduled,2026-11-22T07:00:00Z,,,Of nobody
m7,quaycall,P1,scheduled,2026-11-22T07:00:00Z,,,Nowhere
"""


@pytest.fixture
def harbour(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    changes: dict[str, str | bytes | None] = {
        "snapshot/services.yaml": SERVICES,
        "snapshot/settings.csv": SETTINGS,
        "snapshot/meetings.csv": MEETINGS,
    }
    folder = write_tiny(tmp_path, changes)
    monkeypatch.chdir(folder)
    return folder


def result_of(*arguments: object) -> Any:
    done = call(*arguments, "--format", "json")
    assert done.status == 0, done.err
    return json.loads(done.out)


def test_the_whole_organisation(harbour: Path) -> None:
    """P1 to P4 may start; P3 opened the waiting room, so no one with a link comes in by app and browser.

    P5 only joins.
    """
    found = result_of("door")
    doors = {each["kind"]: each for each in found["doors"]}
    assert {
        kind: (each["hosts"], each["open"], each["unwatched"], each["unknown"]) for kind, each in doors.items()
    } == {
        "scheduled": (4, 1, 1, 0),
        "instant": (4, 1, 1, 0),
        "personal": (0, 0, 0, 0),
    }
    assert doors["scheduled"]["gates"] == {"0": 1, "1": 3, "2": 0, "3+": 0}
    (by_link,) = [each for each in doors["scheduled"]["visitors"]
                  if (each["standing"], each["holding"], each["way"], each["moment"]) == ("nobody", "link", "browser", "there")]  # fmt: skip
    assert [by_link[word] for word in ("enters", "waits", "refused", "unknown")] == [1, 3, 0, 0]
    assert found["roots"] == [
        {"service": "tidecall", "control": "door.waiting-room", "title": "waiting room", "scope": "person:P3", "value": "everyone", "hosts": 1, "freed": 1, "mended_value": "partners"}
    ]  # fmt: skip
    assert " ".join(call("door").answer.split()).startswith(
        "2 of 8 doors are open to a stranger with a link or a number, 2 before any host is there."
    )


def test_one_host(harbour: Path) -> None:
    visits = result_of("door", "P3", "--kind", "scheduled")["visits"]
    assert len(visits) == 2 * (
        2 * 3 + 2 + 4 * 2 * 3
    )  # no one by app, browser and telephone; four with an account by app and browser
    (one,) = [
        each
        for each in visits
        if (each["standing"], each["holding"], each["way"], each["moment"]) == ("nobody", "link", "app", "there")
    ]
    assert (one["outcome"], one["gate"], one["gates"], one["inside"][0]) == (
        "enters",
        None,
        0,
        "write in the chat (to hosts)",
    )
    (two,) = [
        each
        for each in visits
        if (each["standing"], each["holding"], each["way"], each["moment"]) == ("outsider", "number", "app", "there")
    ]
    assert (two["outcome"], two["gate"], two["control"], two["value"]) == (
        "refused",
        "passcode",
        "door.passcode-scheduled",
        "on",
    )
    assert two["cause"] == {"scope": "factory", "value": "on", "pinned": False}
    table = " ".join(call("door", "P3").answer.split())
    assert table.startswith(
        "A stranger gets into scheduled and instant meetings of cia@northmere.example on tidecall, by app and browser."
    )
    assert "6 digits make 1,000,000 passcodes; 100 guesses" in table
    assert "1 time in 10,000" in table
    assert result_of("door", "P5") | {"taken_at": ""} == {
        "usher-gate": "host-doors/1", "organisation": "Tiny", "taken_at": "",
        "host": {"id": "P5", "login": "eve@northmere.example", "hosting": []}, "visits": [],
    }  # fmt: skip


def test_a_visitor_of_a_domain(harbour: Path) -> None:
    """`--from` asks as a guest, and as the visitor type that the host's list gives."""
    for domain, standing in (("PARTNER.example", "partner"), ("else.example", "outsider")):
        found = {each["standing"] for each in result_of("door", "P1", "--from", domain)["visits"]}
        assert found == {"guest", standing}
    refused = harbour / "snapshot" / "settings.csv"
    refused.write_text(SETTINGS + "tidecall,door.refused-domains,person:P1,Else.example,\n")
    visits = result_of("door", "P1", "--from", "else.EXAMPLE", "--moment", "there")["visits"]
    assert {(each["outcome"], each["gate"]) for each in visits} == {("refused", "domain")}


def test_planned_meetings(harbour: Path) -> None:
    found = {each["id"]: each for each in result_of("door", "--meetings")["meetings"]}
    assert list(found) == [
        "m3",
        "m1",
        "m2",
        "m5",
    ]  # by start; the past one, the one of no one and the one nowhere are not there
    assert found["m1"]["waiting"] == ["x@partner.example"]
    assert found["m2"]["turned_away"] == ["y@else.example"]
    assert found["m2"]["need_account"] == ["x@partner.example"]  # the guest is known here
    assert found["m2"]["waiting"] == ["x@partner.example"]
    assert [found[name]["open"] for name in ("m1", "m2", "m3", "m5")] == [False, False, True, False]
    assert found["m5"]["waiting"] == ["nobody"]
    notes = " ".join(result_of("door")["notes"])
    assert "the meeting m6 is of someone who is not an active person" in notes
    assert "the meeting m7 is on a service that is not there" in notes
    assert "a setting of door.host-first on tidecall is set at the meeting m9, which is not in the table" in notes
    assert "1 invited address on tidecall has no @" in notes
    assert [each["id"] for each in result_of("door")["meetings"]] == ["m3", "m1", "m2", "m5"]
    rows = list(csv.reader(io.StringIO(call("door", "--meetings", "--format", "csv").out)))
    assert rows[0] == ["meeting", "label", "service", "kind", "organiser", "open", "address", "outcome"]
    assert [
        "m2",
        "Identity asked",
        "tidecall",
        "scheduled",
        "ada@northmere.example",
        "false",
        "y@else.example",
        "turned-away",
    ] in rows


def test_each_organiser_s_own_list_of_domains(harbour: Path) -> None:
    """Two hosts whose gates are all alike, but with other organisations as partners."""
    settings = harbour / "snapshot" / "settings.csv"
    settings.write_text(
        "service,control,scope,value,pinned\n"
        "tidecall,door.identity,organisation,listed-domains,\n"
        "tidecall,door.listed-domains,person:P2,else.example,\n"
        "tidecall,door.listed-domains,meeting:m3,third.example,\n"
    )
    asked = "x@partner.example;y@else.example;z@third.example"
    (harbour / "snapshot" / "meetings.csv").write_text(
        "id,service,organiser,starts_at,invitees\n"
        + "".join(
            f"m{number},tidecall,P{who},2026-11-2{number}T07:00:00Z,{asked}\n"
            for number, who in ((1, 1), (2, 2), (3, 2), (4, 1))
        )
    )
    found = {each["id"]: each["need_account"] for each in result_of("door", "--meetings")["meetings"]}
    assert found == {
        "m1": ["x@partner.example"],
        "m2": ["y@else.example"],
        "m3": ["z@third.example"],
        "m4": ["x@partner.example"],
    }


def test_one_meeting_and_where_its_values_come_from(harbour: Path) -> None:
    found = result_of("door", "--meeting", "m2", "--standing", "outsider", "--moment", "there")
    assert [(each["address"], each["standing"], each["outcome"], each["control"], each["need_account"]) for each in found["invited"]] == [
        ("DAG@partner.example", "guest", "enters", None, False),
        ("x@partner.example", "partner", "waits", "door.waiting-room", True),
        ("y@else.example", "outsider", "refused", "door.identity", False),
    ]  # fmt: skip
    assert {(each["outcome"], each["cause"]["scope"]) for each in found["visits"]} == {("refused", "meeting:m2")}
    walk = result_of("why", "--meeting", "m3", "door.waiting-room")
    (step,) = walk["walks"]
    assert (step["value"], step["scope"], step["steps"][-1]["step"]) == ("everyone", "meeting:m3", "meeting")
    assert [each["settings"][0]["state"] for each in step["steps"] if each["settings"]] == [
        "overridden",
        "overridden",
        "stands",
    ]


def test_a_pin_above_holds_against_a_meeting(harbour: Path) -> None:
    path = harbour / "snapshot" / "settings.csv"
    path.write_text(SETTINGS.replace("organisation,guests,", "organisation,guests,true"))
    assert [each["open"] for each in result_of("door", "--meetings")["meetings"] if each["id"] == "m3"] == [False]
    (step,) = result_of("why", "--meeting", "m3", "door.waiting-room")["walks"]
    assert (step["value"], step["scope"]) == ("guests", "organisation")
    assert step["steps"][-1]["settings"][0]["state"] == "after-pin"


RULES = """\
  - {id: D1, title: t, expect: {door: {standing: [nobody, outsider], holding: [number, link], moment: there}, no_weaker_than: waits}, pinned: "true"}
  - {id: M1, title: t, subject: meetings, expect: {any_of: [{meeting: invitees-from-outside, is: 0}, {control: door.identity, no_weaker_than: any-account}]}}
  - {id: M2, title: t, subject: meetings, pinned: strict, expect: {control: door.may-start, is: "on"}}
  - {id: M3, title: t, subject: meetings, expect: {meeting: days-ahead, between: [0, 1]}}
"""


def test_rules_about_doors_and_meetings(harbour: Path) -> None:
    (harbour / "baseline.yaml").write_text(tiny.BASELINE.split("rules:")[0] + "rules:\n" + RULES)
    (harbour / "exceptions.yaml").unlink()
    (harbour / "usher-gate.toml").write_text('snapshot = "snapshot"\nbaseline = "baseline.yaml"\n')
    result = json.loads(check("--format", "json").out)
    found = {(each["rule"], each["subject"]["id"]): (each["verdict"], each["reason"]) for each in result["findings"]}
    assert found == {
        ("D1", "P1"): ("loose", "changeable"), ("D1", "P2"): ("loose", "changeable"), ("D1", "P4"): ("loose", "changeable"),
        ("D1", "P3"): ("drifts", "open-door"),
        ("M1", "m1"): ("drifts", "fails"), ("M1", "m5"): ("drifts", "fails"),
        ("M2", "m1"): ("loose", "changeable"), ("M2", "m2"): ("loose", "changeable"), ("M2", "m3"): ("loose", "changeable"),
        ("M2", "m5"): ("drifts", "fails"),
        ("M3", "m5"): ("drifts", "fails"),
    }  # fmt: skip
    leaf = next(each for each in result["findings"] if each["subject"]["id"] == "P3")["leaves"][0]
    assert leaf["door"] == {
        "kind": "scheduled",
        "standing": "nobody",
        "holding": "link",
        "way": "app",
        "moment": "there",
        "outcome": "enters",
    }
    assert leaf["actual"] == "enters: nobody with a link by app into a scheduled meeting with the host there"
    assert leaf["cause"] == {"scope": "person:P3", "value": "everyone", "pinned": False}
    roots = {
        (each["control"], each["scope"]): (each["people"], each["verdicts"], each["mended_value"], each["freed"])
        for each in result["roots"]
    }
    assert roots == {
        ("door.waiting-room", "person:P3"): (1, 1, "partners", 1),
        ("door.identity", "factory"): (0, 2, "any-account", 0),
        ("door.may-start", "person:P5"): (0, 1, "on", 0),
        ("days-ahead", "meetings"): (0, 1, None, 0),
    }
    (subject,) = {json.dumps(each["subject"]) for each in result["findings"] if each["rule"] == "M3"}
    assert json.loads(subject) == {"type": "meeting", "id": "m5", "label": "Only joins", "organiser": "P5"}
    assert check().status == 1


def test_a_rule_about_meetings_without_a_table_holds_for_nobody(harbour: Path) -> None:
    (harbour / "baseline.yaml").write_text(tiny.BASELINE.split("rules:")[0] + "rules:\n" + RULES.splitlines(True)[3])
    (harbour / "exceptions.yaml").write_text("usher-gate: exceptions/1\nexceptions: []\n")
    (harbour / "snapshot" / "meetings.csv").unlink()
    done = check("--format", "json")
    assert done.status == 3
    assert json.loads(done.out)["summary"]["rules_judging_nobody"] == ["M3"]
    refused = call("door", "--meetings")
    assert (refused.status, refused.out) == (2, "")
    assert "the snapshot has no table meetings" in refused.err


WRONG = [
    (("door", "P1", "--meetings"), "name a person, or planned meetings, not both"),
    (("door", "--from", "x.example"), "--from asks about one host; name a person"),
    (("door", "--standing", "nobody"), "--standing narrow what one host's visitors meet; name a person, or --meeting ID"),
    (("door", "--meeting", "m1", "--kind", "instant"), "--meeting names one meeting"),
    (("door", "--meeting", "m12"), "there is no meeting 'm12'; did you mean 'm"),
    (("door", "--meeting", "m4"), "the meeting 'm4' has passed"),
    (("door", "--meeting", "m6"), "the meeting m6 is of someone who is not an active person"),
    (("door", "P1", "--way", "phone"), "invalid choice: 'phone'"),
    (("door", "--kind", "party"), "invalid choice: 'party'"),
    (("door", "P1", "--standing", "friend"), "invalid choice: 'friend'"),
    (("door", "--service", "tidecal"), "there is no service 'tidecal'; did you mean 'tidecall'?"),
    (("why", "--meeting", "m1"), "a planned meeting is asked with its control alone"),
    (("why", "--meeting", "m1", "door.knob"), "there is no control 'door.knob'"),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "message"), WRONG)
def test_a_call_that_is_wrong_says_why(harbour: Path, arguments: tuple[str, ...], message: str) -> None:
    done = call(*arguments)
    assert (done.status, done.out) == (2, "")
    assert message in done.err
