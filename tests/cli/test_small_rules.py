"""Small rules of the domain and of the interface, one at a time.

Each of these was once broken by hand without any other test noticing.

`make mutants` breaks them again (tests/mutants.py).
"""

from __future__ import annotations

import csv
import io
import json
import os
import pty
import re
import subprocess
from pathlib import Path
from typing import Any

import pytest

from tests import tiny
from tests.program import PROGRAM, Done, call
from tests.tiny import check, write_tiny
from usher_gate.core.sign_in.lockout import ConditionalAccess
from usher_gate.outputs.conditions import conditions_text
from usher_gate.outputs.results.door import guessing

RULE = "  - id: {id}\n    mode: {mode}\n    people: {{include: {people}}}\n    resources: {{include: [{resource}]}}\n    outcome: {outcome}\n"


def rules(*made: dict[str, str]) -> str:
    usual = {"mode": "enforce", "people": "{any: true}", "resource": "console"}
    return "usher-gate: access-rules/1\nrules:\n" + "".join(
        RULE.format(**{**usual, "id": f"A{n}", **each}) for n, each in enumerate(made, 1)
    )


Files = dict[str, str | bytes | None]
FREE = tiny.PEOPLE.replace("required", "offered")  # of no one is a second factor required anyway
NOTHING: Files = {
    "snapshot/authenticators.csv": "person,type\n",
    "snapshot/passes.csv": "person,issued_at,expires_at\n",
    "snapshot/people.csv": FREE,
}


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    return tmp_path


def json_of(*line: object) -> dict[str, Any]:
    done = call(*line, "--format", "json")
    assert done.status in (0, 1, 3), done.err
    found: dict[str, Any] = json.loads(done.out)
    return found


def findings(*options: object) -> dict[tuple[str, str], str]:
    return {(each["rule"], each["subject"]["id"]): each["verdict"] for each in json_of("check", *options)["findings"]}


def baseline(*expect: str) -> str:
    return "usher-gate: baseline/1\nname: b\nversion: '1'\nrules:\n" + "".join(
        f"  - {{id: R{number}, title: t, expect: {each}}}\n" for number, each in enumerate(expect, 1)
    )


def test_the_tightest_session_limit_counts(folder: Path) -> None:
    made: Files = {**NOTHING, "snapshot/access-rules.yaml": rules(
        {"outcome": "{session: {longest_hours: 8}}"}, {"outcome": "{session: {longest_hours: 2}}"}, {"outcome": "{session: {longest_hours: 24}}"})}  # fmt: skip
    write_tiny(folder, made)
    assert json_of("sign-in", "P1", "--resource", "console")["rows"][0]["decision"]["longest_hours"] == 2


def test_a_legacy_client_carries_no_proof_in_a_replay(folder: Path) -> None:
    write_tiny(folder, {
        "snapshot/people.csv": FREE, "snapshot/access-rules.yaml": rules({"outcome": "{require: {any_of: [mfa, managed-device]}}"}),
        "snapshot/authenticators.csv": "person,type\nP1,multi-factor-crypto-device\n", "snapshot/passes.csv": "person,issued_at,expires_at\n",
        "snapshot/sign_ins.csv": "time,person,resource,client,device,shown\n2026-11-19T08:00:00Z,P1,console,legacy,unknown,multi-factor-crypto-device\n"
        "2026-11-19T08:00:00Z,P1,console,legacy,managed,\n2026-11-19T08:00:00Z,P1,console,app,unknown,multi-factor-crypto-device\n"})  # fmt: skip
    changes = {(each["now"], each["then"]): each["sign_ins"] for each in json_of("rehearse")["changes"]}
    assert changes == {("stuck", "stuck"): 1, ("allowed", "allowed"): 2}


def test_a_named_network_lies_only_in_those_that_wholly_hold_it(folder: Path) -> None:
    organisation = tiny.ORGANISATION.replace(
        "{office: [192.0.2.0/24]}",
        "{half: [192.0.2.0/25], office: [192.0.2.0/24], edge: [192.0.2.64/26, 198.51.100.0/24]}",
    )
    deny = rules({"outcome": "{deny: true}"}) + "    when: {network: [half]}\n"
    write_tiny(folder, {**NOTHING, "snapshot/organisation.yaml": organisation, "snapshot/access-rules.yaml": deny})
    outcome = {
        name: json_of("sign-in", "P1", "--resource", "console", "--network", name)["rows"][0]["decision"]["outcome"]
        for name in ("half", "office", "edge")
    }
    assert outcome == {"half": "denied", "office": "allowed", "edge": "allowed"}


def test_of_guests_without_a_partners_table_nothing_is_known_that_differs(folder: Path) -> None:
    made = rules({"outcome": "{require: {any_of: [mfa]}}"}) + "    when: {device: [unknown]}\n"
    proofs = baseline(
        "{proof: mfa, on: any, when: {device: [unknown]}}", "{proof: mfa, on: any}", "{proof: hardware-key, on: any}"
    )
    files: Files = {"snapshot/access-rules.yaml": made.replace("[console]", "any"), "baseline.yaml": proofs, "exceptions.yaml": None,
                    "usher-gate.toml": 'snapshot = "snapshot"\nbaseline = "baseline.yaml"\n'}  # fmt: skip
    write_tiny(folder, files)
    found = findings()
    # With their device seen as unknown the proof is asked for; were it seen as it is, a managed one would slip through.
    assert [found.get((rule, "P4"), "meets") for rule in ("R1", "R2", "R3")] == ["meets", "unknown", "unknown"]


def test_a_pass_that_is_used_at_the_very_second_of_the_snapshot_is_used_up(folder: Path) -> None:
    rows = ["P1,2026-11-20T00:00:00Z,2026-11-21T00:00:00Z,true,2026-11-20T06:00:00Z", "P2,2026-11-20T00:00:00Z,2026-11-21T00:00:00Z,true,2026-11-20T06:00:01Z",
            "P3,2026-11-20T06:00:00Z,2026-11-21T00:00:00Z,,", "P5,2026-11-20T00:00:00Z,2026-11-20T06:00:00Z,,"]  # fmt: skip
    write_tiny(folder, {"snapshot/passes.csv": "person,issued_at,expires_at,single_use,used_at\n" + "\n".join(rows) + "\n",
                        "baseline.yaml": baseline("{person: passes.live, is: 0}", "{person: passes.live, is: 1}"), "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n"})  # fmt: skip
    found = findings()
    assert {who for (rule, who), verdict in found.items() if rule == "R1" and verdict == "drifts"} == {"P2", "P3"}


def test_the_life_of_a_pass_is_rounded_up(folder: Path) -> None:
    write_tiny(folder, {"snapshot/passes.csv": "person,issued_at,expires_at\nP1,2026-11-20T05:59:00Z,2026-11-20T06:59:00.0000001Z\n"
                        "P2,2026-11-20T05:59:00Z,2026-11-20T06:59:00.000001Z\nP3,2026-11-20T05:59:00Z,2026-11-20T06:59:00Z\n",
                        "baseline.yaml": baseline("{person: passes.longest-minutes, no_weaker_than: 60}"), "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n"})  # fmt: skip
    assert findings() == {("R1", "P2"): "drifts"}


SERVICES = """\
usher-gate: services/1
services:
  - id: tidecall
    supports: ["door.*", "line.*", "room.*"]
    factory: {line.encryption: end-to-end, line.dial-in: "on"}
    needs:
      "line.*": {licences: [plus]}
      "line.e*": {licences: [gold]}
"""


def test_who_lacks_the_licence_contradicts_nothing_and_the_longest_star_counts(folder: Path) -> None:
    people = "id,login,kind,licences\nP1,a@x,member,gold;plus\nP2,b@x,member,plus\nP3,c@x,member,gold\nP4,d@x,member,\n"
    write_tiny(folder, {"snapshot/services.yaml": SERVICES, "snapshot/people.csv": people, "snapshot/settings.csv": "service,control,scope,value\n", "snapshot/groups.csv": None,
                        "snapshot/members.csv": None, "baseline.yaml": baseline("{control: line.encryption, is: end-to-end}", "{control: line.dial-in, is: 'on'}"),
                        "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n"})  # fmt: skip
    result = json_of("check")
    assert [
        (each["controls"], each["people"]) for each in result["contradictions"] if "line.dial-in" in each["controls"]
    ] == [(["line.encryption", "line.dial-in"], ["P1"])]
    assert result["summary"]["contradicting_people"] == 1
    assert findings() == {
        ("R1", "P2"): "unavailable",
        ("R1", "P4"): "unavailable",
        ("R2", "P3"): "unavailable",
        ("R2", "P4"): "unavailable",
    }


@pytest.mark.parametrize(
    ("said", "changeable"),
    [
        ("", True),
        ("    self_service: []\n", False),
        ("    self_service: [door.waiting-room]\n", True),
        ("    self_service: [door.host-first]\n", False),
    ],
)
def test_a_service_that_has_not_said_lets_people_change_what_is_not_pinned(
    folder: Path, said: str, changeable: bool
) -> None:
    services = tiny.SERVICES.replace("    self_service: [door.waiting-room]\n", said)
    write_tiny(
        folder,
        {
            "snapshot/services.yaml": services,
            "snapshot/settings.csv": "service,control,scope,value\ntidecall,door.waiting-room,organisation,guests\n",
        },
    )
    assert json_of("why", "P1", "door.waiting-room")["walks"][0]["changeable"] is changeable
    assert (findings().get(("R1", "P1")) == "loose") is changeable
    pinned = "service,control,scope,value,pinned\ntidecall,door.waiting-room,organisation,guests,true\n"
    (folder / "snapshot/settings.csv").write_text(pinned)
    assert json_of("why", "P1", "door.waiting-room")["walks"][0]["changeable"] is False


@pytest.mark.parametrize(
    ("changed", "long"),
    [
        ("2026-10-21T06:00:00Z", False),
        ("2026-10-21T05:59:59Z", False),
        ("2026-10-20T06:00:00Z", True),
        ("2026-10-20T06:00:01Z", False),
    ],
)
def test_a_rule_is_observed_for_long_after_thirty_days(folder: Path, changed: str, long: bool) -> None:
    made = rules({"mode": "observe", "outcome": "{deny: true}"}) + f"    changed_at: {changed}\n"
    write_tiny(folder, {"snapshot/access-rules.yaml": made})
    assert ("observed-long" in [each["what"] for each in json_of("holes", "--proof", "mfa")["ailments"]]) is long


def test_rules_and_exceptions_that_do_nothing_are_idle(folder: Path) -> None:
    same = "{require: {all_of: [mfa]}}"
    made = rules(
        {"outcome": same},
        {"outcome": same, "people": "{kind: guest}"},
        {"outcome": "{deny: true}", "people": "{kind: service}"},
    )
    exceptions = tiny.EXCEPTIONS + tiny.EXCEPTIONS.partition("exceptions:\n")[2].replace("X1", "X2").replace(
        "ben@*", "ada@*"
    )
    write_tiny(folder, {"snapshot/access-rules.yaml": made, "exceptions.yaml": exceptions})
    assert {each["rule"] for each in json_of("holes", "--proof", "mfa")["ailments"] if each["what"] == "idle"} == {
        "A2",
        "A3",
    }
    assert {each["id"]: (each["state"], each["covers"]) for each in json_of("check")["exceptions"]} == {
        "X1": ("in-force", 1),
        "X2": ("idle", 0),
    }
    assert "exceptions   X2 covers nothing" in check().out


@pytest.mark.parametrize("small", [0, 1 << 30])
@pytest.mark.parametrize(
    ("one", "other"), [("ada", "ADA"), ("strasse", "straße"), ("kai", "\u212aai"), ("élan", "ÉLAN")]
)
def test_a_login_that_two_people_have_names_neither(
    folder: Path, monkeypatch: pytest.MonkeyPatch, one: str, other: str, small: int
) -> None:
    monkeypatch.setattr("usher_gate.files.tables.csv_.SMALL", small)
    people = tiny.PEOPLE.replace("ada@", f"{one}@") + f"P6,{other}@northmere.example,member,/Fleet,required,\n"
    write_tiny(folder, {"snapshot/people.csv": people})
    done = call("why", f"{one}@northmere.example", "door.waiting-room")
    assert done.status == 2
    assert f"people.csv:7: the login '{other}@northmere.example' occurs here and in line 2" in done.err


def test_members_are_named_by_login_too_and_a_nested_group_is_no_login(folder: Path) -> None:
    members = "group,member,type\ng1,P1,\ng1,BEN@northmere.example,person\ng1,cia@northmere.example,group\n"
    write_tiny(folder, {"snapshot/members.csv": members})
    found = json_of("check", "--group", "g1")
    assert found["summary"]["people"] == 2
    assert "members.csv:4: 1 row names a nested group that does not exist; it is ignored" in found["notes"]


@pytest.mark.parametrize("cell", ['"a"b"', 'a"b"c', '"a" "b"', '""a""'])
def test_odd_quotes_in_a_large_table_are_found_with_their_line(folder: Path, cell: str) -> None:
    rows = "".join(f"Q{number:06},q{number}@northmere.example,member,{'n' * 40}\n" for number in range(40_000))
    odd = f"R1,r@northmere.example,member,{cell}\n"
    write_tiny(
        folder,
        {
            "snapshot/people.csv": "id,login,kind,name\n" + rows + odd + rows.replace("Q", "S").replace(",q", ",s"),
            "snapshot/members.csv": None,
            "snapshot/groups.csv": None,
        },
    )
    strict = list(csv.reader(io.StringIO(odd))) if cell == 'a"b"c' else None
    done = check("--format", "json")
    if strict is None:
        assert done.status == 2
        assert "people.csv:40002: is not CSV here" in done.err
    else:
        assert done.status != 2  # quotes within a cell that has none at its ends are letters
        assert 'a"b"c' in call("why", "R1", "door.waiting-room").out


@pytest.mark.parametrize("mode", [0o640, 0o604, 0o660, 0o602])
def test_a_secret_file_that_others_can_read_is_refused(folder: Path, mode: int) -> None:
    from usher_gate.files.faults import UsherError
    from usher_gate.sources.secrets import Secrets

    (folder / "secret").write_text("sesame\n")
    (folder / "secret").chmod(mode)
    with pytest.raises(UsherError, match="can be read by others than its owner"):
        Secrets(folder).fetch("file:secret")
    (folder / "secret").chmod(0o600)
    assert Secrets(folder).fetch("file:secret") == "sesame"


def test_retry_after_may_be_a_date(monkeypatch: pytest.MonkeyPatch) -> None:
    from usher_gate.sources import web

    monkeypatch.setattr("time.time", lambda: 1_795_459_200.0)
    assert web._retry_after("Mon, 23 Nov 2026 18:40:30 GMT") == 30.0
    assert web._retry_after("Mon, 23 Nov 2026 18:39:30 GMT") == 0.0
    assert web._retry_after("7") == 7.0
    assert web._retry_after("soon") == 0.0


def test_markdown_escapes_what_would_break_a_table(folder: Path) -> None:
    write_tiny(
        folder,
        {
            "baseline.yaml": tiny.BASELINE.replace("The second factor is required", "A | B *c* [d](e) `f`"),
            "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
        },
    )
    text = check("--format", "markdown", "--show", "all").out
    assert r"A \| B \*c\* \[d\](e) \`f\`" in text
    for block in text.split("\n\n"):
        rows = [line.replace("\\|", "") for line in block.splitlines() if line.startswith("|")]
        assert len({row.count("|") for row in rows}) <= 1


def decision(person: str, resource: str, device: str, **others: str) -> dict[str, Any]:
    """What is decided of a sign-in at the office, by an app without risk, where nothing else is said."""
    line = {"network": "office", "client": "app", "platform": "ios", "risk": "none"} | others | {"device": device}
    words = [word for name, value in line.items() for word in (f"--{name}", value)]
    found: dict[str, Any] = json_of("sign-in", person, "--resource", resource, *words)["rows"][0]["decision"]
    return found


DENY = "{deny: true}"
HOME = "let their second factor at home count (home_mfa_counts)"
PARTNER, DEVICES = "let guests of this partner in (guests_in)", "let their devices at home count (home_device_counts)"
FACTOR, PASS = "register a second factor", "have a bootstrap pass issued"
NONE = "nothing was found; ask the owner of the access rules"
OLD, RISK = ("{client: [legacy]}", DENY), ("{risk: [high]}", DENY)


def proofs(*names: str) -> str:
    return f"{{require: {{all_of: [{', '.join(names)}]}}}}"


MFA, MANAGED = ("{}", proofs("mfa")), ("{}", proofs("managed-device"))


@pytest.mark.parametrize(("person", "line", "rules_", "partner", "helps"), [
    ("P1", {}, [("{}", DENY)], "", NONE),
    ("P1", {}, [("{client: [browser]}", DENY)], "", None),
    # what the person, or an administrator for them, can do
    ("P1", {}, [MFA], "", f"{FACTOR}; or {PASS}"),
    ("P2", {}, [MFA], "", None),
    ("P1", {}, [("{}", proofs("phishing-resistant"))], "", "register a phishing-resistant authenticator"),
    ("P2", {}, [("{}", proofs("phishing-resistant"))], "", "register a phishing-resistant authenticator"),
    ("P1", {}, [("{}", proofs("hardware-key"))], "", "register a hardware key"),
    ("P4", {}, [MFA], "home_mfa_counts=false", f"{FACTOR}; or {HOME}"),
    ("P4", {}, [MFA], "guests_in=false,home_mfa_counts=true", PARTNER),
    ("P4", {"device": "managed"}, [MANAGED], "home_device_counts=false", DEVICES),
    # how strong a proof is at home is not known, unless the partner's row says so
    ("P4", {}, [("{}", proofs("phishing-resistant"))], "home_mfa_counts=false", NONE),
    ("P4", {}, [("{}", proofs("phishing-resistant"))], "home_mfa_counts=false,home_factor=hardware-key", HOME),
    # another way
    ("P1", {}, [MANAGED], "", "sign in from a managed device"),
    ("P1", {"device": "managed"}, [("{}", proofs("healthy-device"))], "", "sign in from a healthy device"),
    ("P1", {}, [("{device: [unknown]}", DENY)], "", "sign in from a registered device"),
    ("P1", {"device": "registered"}, [("{device: [unknown, registered]}", DENY)], "", "sign in from a managed device"),
    ("P1", {"device": "healthy"}, [("{device: [unknown, registered]}", DENY)], "", None),
    ("P1", {}, [("{client: [app]}", DENY)], "", "use the browser"),
    ("P1", {"client": "browser"}, [("{client: [browser, legacy]}", DENY)], "", "use the app"),
    ("P1", {"client": "legacy"}, [OLD], "", "use the browser; or use the app"),
    ("P1", {}, [("{platform: [ios, windows]}", DENY)], "", "use another platform, such as macos"),
    ("P1", {"risk": "low"}, [("{risk: [low, high]}", DENY)], "", "have the risk looked into"),
    ("P1", {"network": "elsewhere"}, [("{network: {include: [elsewhere]}}", DENY)], "", "sign in from office"),
    ("P1", {}, [("{network: {include: [office]}}", DENY)], "", "sign in from outside all networks"),
    # two things together, only where none suffices alone; what takes three is not looked for
    ("P1", {}, [("{}", proofs("mfa", "managed-device"))], "",
     f"sign in from a managed device, and {FACTOR}; or sign in from a managed device, and {PASS}"),
    ("P2", {}, [("{}", proofs("mfa", "managed-device"))], "", "sign in from a managed device"),
    ("P1", {"client": "legacy"}, [MFA, OLD], "",
     f"use the browser, and {FACTOR}; or use the browser, and {PASS}; or use the app, and {FACTOR}"),
    ("P4", {}, [MANAGED], "home_device_counts=false", f"sign in from a managed device, and {DEVICES}"),
    ("P4", {}, [MFA], "guests_in=false,home_mfa_counts=false", f"{FACTOR}, and {PARTNER}; or {PARTNER}, and {HOME}"),
    ("P1", {"client": "legacy", "risk": "high"}, [OLD, RISK], "",
     "use the browser, and have the risk looked into; or use the app, and have the risk looked into"),
    ("P1", {"client": "legacy", "risk": "high"}, [OLD, RISK, MFA], "", NONE),
])  # fmt: skip
def test_what_helps_somebody_who_cannot_get_in(
    folder: Path, person: str, line: dict[str, str], rules_: list[tuple[str, str]], partner: str, helps: str | None
) -> None:
    cells = dict(part.split("=") for part in partner.split(",") if part) or {"home_mfa_counts": "false"}
    made = rules(*({"outcome": f"{outcome}\n    when: {when}"} for when, outcome in rules_))
    write_tiny(
        folder,
        {
            "snapshot/people.csv": FREE,
            "snapshot/access-rules.yaml": made,
            "snapshot/authenticators.csv": "person,type\nP2,multi-factor-otp\n",
            "snapshot/passes.csv": "person,issued_at,expires_at\n",
            "snapshot/partners.csv": f"domain,{','.join(cells)}\npartner.example,{','.join(cells.values())}\n",
        },
    )
    assert decision(person, "console", **({"device": "unknown"} | line))["helps"] == helps


def test_the_columns_of_a_rehearsal_stand_worst_first(folder: Path) -> None:
    write_tiny(folder, {"snapshot/people.csv": FREE, "snapshot/access-rules.yaml": rules({"mode": "observe", "outcome": "{deny: true}"}, {"mode": "observe", "outcome": "{require: {all_of: [mfa]}}", "resource": "meetings"}),
                        "snapshot/authenticators.csv": "person,type\nP1,multi-factor-otp\n", "snapshot/passes.csv": "person,issued_at,expires_at\n",
                        "snapshot/sign_ins.csv": "time,person,resource,client,result\n" + "2026-11-19T08:00:00Z,P1,console,app,allowed\n" * 3
                        + "2026-11-19T08:00:00Z,P2,meetings,app,allowed\n" * 2 + "2026-11-19T08:00:00Z,P1,meetings,app,allowed\n"})  # fmt: skip
    lines = [line.split() for line in call("rehearse").out.splitlines()]
    head = next(line for line in lines if line[:1] == ["resource"])
    assert head == ["resource", "denied", "stuck", "challenged", "people"]
    assert next(line for line in lines if line[:1] == ["console"]) == ["console", "3", "·", "·", "1"]
    assert next(line for line in lines if line[:1] == ["meetings"]) == ["meetings", "·", "2", "1", "2"]


def test_group_and_unit_narrow_what_is_reported(folder: Path) -> None:
    people = tiny.PEOPLE.replace("required", "offered")
    write_tiny(folder, {"snapshot/people.csv": people, "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n"})
    everybody = {who for rule, who in findings() if rule == "R2"}
    assert everybody == {"P1", "P2", "P3", "P5"}
    for options, whose in ((("--group", "g1"), {"P1"}), (("--group", "Watch"), {"P1"}), (("--unit", "/Fleet"), {"P1", "P2"}), (("--unit", "/Shore", "--unit", "/Fleet/Deck"), {"P1", "P3", "P5"}),
                           (("--group", "g1", "--unit", "/Shore"), set())):  # fmt: skip
        assert {who for rule, who in findings(*options) if rule == "R2"} == whose
        assert json_of("check", *options)["summary"]["people"] == len(whose)


def on_a_terminal(*line: str, **environment: str) -> str:
    """What the program writes to a terminal."""
    ours, theirs = pty.openpty()
    environment = {
        key: value for key, value in {**os.environ, "TERM": "xterm-256color", **environment}.items() if value != "none"
    }
    child = subprocess.Popen(
        [PROGRAM, *line],
        stdout=theirs,
        stderr=subprocess.DEVNULL,
        stdin=theirs,
        env=environment,
    )
    os.close(theirs)
    data = b""
    try:
        while piece := os.read(ours, 65536):
            data += piece
    except OSError:
        pass  # how a terminal ends
    child.wait()
    os.close(ours)
    return data.decode()


def test_no_colour_where_it_is_not_wanted(folder: Path) -> None:
    write_tiny(folder)
    assert "\x1b[" in on_a_terminal("check", NO_COLOR="none")
    assert "\x1b[" in on_a_terminal("check", NO_COLOR="")
    assert "\x1b[" not in on_a_terminal("check", NO_COLOR="1")
    assert "\x1b[" not in on_a_terminal("check", "--no-colour", NO_COLOR="none")
    assert "\x1b[" not in check().out


def test_a_rehearsal_tells_only_of_lock_outs_that_are_new(folder: Path) -> None:
    organisation = tiny.ORGANISATION.replace("resources: {", "resources: {safe: [admin], ")
    made = rules({"outcome": "{deny: true}"}, {"mode": "observe", "outcome": "{deny: true}", "resource": "safe"})
    write_tiny(
        folder,
        {
            "snapshot/organisation.yaml": organisation,
            "snapshot/access-rules.yaml": made,
            "snapshot/sign_ins.csv": "time,person,resource\n2026-11-19T08:00:00Z,P1,safe\n",
        },
    )
    assert {each["resource"] for each in json_of("check")["lockouts"]} == {"console"}
    assert {each["resource"] for each in json_of("rehearse")["lockouts"]} == {"safe"}


@pytest.mark.parametrize(("threshold", "status"), [("critical", 0), ("high", 0), ("medium", 3), ("low", 3)])
def test_fail_at_bounds_what_is_not_known_too(folder: Path, threshold: str, status: int) -> None:
    write_tiny(
        folder,
        {
            "snapshot/people.csv": tiny.PEOPLE.replace("offered", "").replace("required", ""),
            "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
        },
    )
    assert check("--fail-at", threshold).status == status


def noted(done: Done) -> list[str]:
    return [line for line in done.err.splitlines() if line.startswith("usher-gate: note: ")]


def test_notes_are_bounded_on_a_terminal_and_whole_in_json(folder: Path) -> None:
    (folder / "snapshot").mkdir()
    for number in range(40):
        (folder / "snapshot" / f"stray{number:02}.csv").write_text("a\n")
    write_tiny(folder)
    shown = noted(check())
    assert len(shown) == 13
    assert shown[-1].endswith(f"and {len(json_of('check')['notes']) - 12} more; --format json lists them all")
    assert len([note for note in json_of("check")["notes"] if "stray" in note]) == 40


@pytest.mark.parametrize(
    "columns",
    [
        "domain,home_mfa_counts\npartner.example,false\n",
        "domain,home_mfa_counts\npartner.example,\n",
        "domain\npartner.example\n",
        "domain\n",
    ],
)
def test_a_privileged_guest_whose_home_does_not_count_is_locked_out(folder: Path, columns: str) -> None:
    people = "id,login,kind,roles\nP1,ada@northmere.example,member,admin\nP4,dag@partner.example,guest,admin\n"
    write_tiny(folder, {"snapshot/people.csv": people, "snapshot/access-rules.yaml": rules({"outcome": "{require: {all_of: [hardware-key]}}"}), "snapshot/partners.csv": columns,
                        "snapshot/authenticators.csv": "person,type\nP1,multi-factor-crypto-device\nP4,multi-factor-crypto-device\n", "snapshot/passes.csv": "person,issued_at,expires_at\n",
                        "snapshot/groups.csv": None, "snapshot/members.csv": None, "baseline.yaml": baseline("{person: roles, is: [admin]}"),
                        "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n"})  # fmt: skip
    assert json_of("check")["lockouts"] == [
        {
            "resource": "console",
            "people": ["P4"],
            "of": "privileged",
            "all": False,
            "rules": [{"id": "A1", "changed_at": None}],
        }
    ]
    assert decision("P4", "console", "unknown")["outcome"] == "stuck"


@pytest.mark.parametrize(
    ("table", "verdict"),
    [
        ("domain\n", "unknown"),
        ("domain,guests_in\n", "unknown"),
        ("domain,home_mfa_counts\n", "drifts"),
        ("domain,home_mfa_counts\n*,true\n", "meets"),
    ],
)
def test_a_partners_table_without_the_column_tells_nothing_of_the_others(
    folder: Path, table: str, verdict: str
) -> None:
    rule = baseline("{partner: home_mfa_counts, is: 'on'}").replace("title: t,", "title: t, subject: partners,")
    write_tiny(
        folder,
        {
            "snapshot/partners.csv": table,
            "baseline.yaml": rule,
            "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
        },
    )
    assert findings().get(("R1", "*"), "meets") == verdict


@pytest.mark.parametrize("form", ["json", "csv", "table", "markdown"])
def test_the_status_is_the_same_when_the_reader_of_a_pipe_has_had_enough(folder: Path, form: str) -> None:
    people = "id,login,kind,mfa\n" + "".join(
        f"Q{number:05},q{number}@northmere.example,member,offered\n" for number in range(3_000)
    )
    write_tiny(
        folder,
        {
            "snapshot/people.csv": people,
            "snapshot/members.csv": None,
            "snapshot/groups.csv": None,
            "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
        },
    )
    for _ in range(3):
        child = subprocess.Popen(
            [PROGRAM, "check", "--format", form, "--rows", "0"], stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        assert child.stdout is not None
        assert child.stderr is not None
        child.stdout.read(10)
        child.stdout.close()
        said = child.stderr.read().decode()
        child.stderr.close()
        assert child.wait() == 1
        assert "Broken" not in said


def test_the_status_is_the_same_when_nobody_reads_the_notes(folder: Path) -> None:
    write_tiny(
        folder,
        {
            "snapshot/people.csv": tiny.PEOPLE.replace("required", "offered"),
            "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
        },
    )
    reading, writing = os.pipe()
    os.close(reading)
    try:
        done = subprocess.run([PROGRAM, "check"], stdout=writing, stderr=writing, check=False)
    finally:
        os.close(writing)
    assert done.returncode == 1


@pytest.mark.parametrize(
    ("outcome", "line", "answer"),
    [
        ("{deny: true}", "", "P1 cannot sign in to console: denied."),
        ("{deny: true}", "--client app", "P1 cannot sign in to console like this: denied."),
        ("{require: {all_of: [mfa]}}", "--client app", "P1 can sign in to console like this: challenged."),
        ("{require: {all_of: [mfa]}}", "", "Whether P1 can sign in to console depends: challenged or denied."),
        ("{require: {all_of: [hardware-key]}}", "", "P1 cannot sign in to console: stuck or denied."),
    ],
)
def test_the_first_line_of_a_sign_in_is_the_answer(folder: Path, outcome: str, line: str, answer: str) -> None:
    write_tiny(
        folder,
        {
            "snapshot/access-rules.yaml": rules({"outcome": outcome}),
            "snapshot/authenticators.csv": "person,type\nP1,multi-factor-otp\n",
            "snapshot/passes.csv": "person,issued_at,expires_at\n",
        },
    )
    assert call("sign-in", "P1", "--resource", "console", *line.split()).out.splitlines()[0] == answer


def test_what_is_not_known_of_a_sign_in_stands_in_the_first_line(folder: Path) -> None:
    made = rules({"outcome": "{require: {all_of: [mfa]}}"})
    write_tiny(folder, {"snapshot/access-rules.yaml": made, "snapshot/authenticators.csv": None})
    line = ("sign-in", "P1", "--resource", "console")
    assert call(*line).out.startswith("Whether P1 can sign in to console is not known: denied or unknown.")
    assert call(*line, "--client", "app").out.startswith("Whether P1 can sign in to console like this is not known.")


def test_a_legacy_client_is_no_way_in(tmp_path: Path) -> None:
    """Every other client is denied, so the guest is not stranded but denied.

    That a legacy one would be stuck does not count.
    """
    rules = (
        "usher-gate: access-rules/1\nrules:\n"
        "  - {id: A1, mode: enforce, people: {include: {kind: guest}}, resources: {include: [meetings]},\n"
        "     when: {client: [browser, app]}, outcome: {deny: true}}\n"
        "  - {id: A2, mode: enforce, people: {include: {kind: guest}}, resources: {include: [meetings]},\n"
        "     when: {client: [legacy]}, outcome: {require: {all_of: [managed-device]}}}\n"
    )
    folder = write_tiny(
        tmp_path,
        {
            "snapshot/access-rules.yaml": rules,
            "snapshot/authenticators.csv": "person,type\n",
            "snapshot/partners.csv": "domain,guests_in,home_mfa_counts,home_device_counts\npartner.example,true,false,false\n",
        },
    )
    assert json.loads(call("check", "--format", "json", cwd=folder).out)["stranded"] == []


def test_the_rules_that_do_not_apply_are_told_by_service(demo: Path) -> None:
    received = (
        "usher-gate: note: 1 rule does not apply to service quaychat, which supports none of its controls: DOOR-17\n"
    )
    assert received in call("check", "--rule", "DOOR-17").err
    found = re.findall(r"(\d+) rules do not apply to service (\w+), .*: ([^ ,]+),", call("check").err)
    rows = {
        each["id"]: each["not_applicable"] for each in json.loads(call("check", "--format", "json").out)["services"]
    }
    assert found == [(str(len(rules)), name, rules[0]) for name, rules in rows.items() if rules]


FACTS = """usher-gate: baseline/1
name: Facts
version: "1"
rules:
  - id: F1
    title: Members can show a second factor
    severity: high
    audience: {kind: member}
    expect: {person: can-show, one_of: [mfa, phishing-resistant, hardware-key]}
  - id: F2
    title: No pass works twice
    audience: {kind: member}
    expect: {person: passes.reusable, is: 0}
  - id: F3
    title: No pass was issued by the person who uses it
    audience: {kind: member}
    expect: {person: passes.self-issued, is: 0}
"""


def drifting(folder: Path) -> set[tuple[str, str]]:
    found = json.loads(call("check", "--format", "json", cwd=folder).out)["findings"]
    return {(each["rule"], each["subject"]["id"]) for each in found if each["verdict"] == "drifts"}


def test_a_guest_s_memorized_secret_says_nothing_about_members(tmp_path: Path) -> None:
    one_time = "person,type\n" + "".join(f"P{number},single-factor-otp\n" for number in (1, 2, 3, 5))
    none = {
        "baseline.yaml": FACTS.partition("  - id: F2")[0],
        "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
    }
    for row, lacking in (("", set()), ("P4,memorized-secret\n", set()), ("P9,memorized-secret\n", set()),
                         ("P2,memorized-secret\n", {("F1", f"P{number}") for number in (1, 3, 5)})):  # fmt: skip
        folder = write_tiny(tmp_path / f"{row[:2] or 'none'}", {**none, "snapshot/authenticators.csv": one_time + row})
        assert drifting(folder) == lacking, row


def test_a_pass_that_is_to_come_counts_as_one_that_is_live(tmp_path: Path) -> None:
    head = "person,issued_at,starts_at,expires_at,single_use,issuer\n"
    live = "2026-11-19T00:00:00Z,2026-11-19T00:00:00Z,2026-11-29T00:00:00Z"
    coming = "2026-11-19T00:00:00Z,2026-11-23T00:00:00Z,2026-11-29T00:00:00Z"
    over = "2026-11-01T00:00:00Z,2026-11-01T00:00:00Z,2026-11-19T00:00:00Z"
    rows = f"P1,{live},false,P2\nP2,{coming},false,P2\nP3,{over},false,P3\nP5,{coming},true,P1\n"
    rules = FACTS.partition("  - id: F1")[0] + "  - id: F2" + FACTS.partition("  - id: F2")[2]
    texts = {
        "baseline.yaml": rules,
        "snapshot/passes.csv": head + rows,
        "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
    }
    assert drifting(write_tiny(tmp_path, {**texts})) == {("F2", "P1"), ("F2", "P2"), ("F3", "P2")}


@pytest.mark.parametrize(("length", "composition", "said"), [
    ("0", "digits", ""), ("1", "digits", "make 10 passcodes; "), ("4", "digits", "find the right one 1 time in 100."),
    ("6", "letters-and-digits", "6 letters and digits make 56,800,235,584 passcodes; "),
    ("8", "with-symbols", "94 to the power of 8 passcodes"),
    ("60", "digits", "practically never"), ("61", "digits", ""),
    (None, "digits", ""), ("4", None, ""), ("four", "digits", ""),
])  # fmt: skip
def test_how_hard_a_passcode_is_to_guess(length: str | None, composition: str | None, said: str) -> None:
    text = " ".join(guessing([("door.passcode", length, composition)]))
    assert (said in text) if said else not text


@pytest.mark.parametrize(("conditions", "said"), [
    ((("device", ("unknown",)),), "from a device that is unknown"),
    ((("device", ("managed", "healthy")),), "from a managed or healthy device"),
    ((("device", ("registered",)),), "from a registered device"),
    ((("network", ("office", "elsewhere")),), "from office or outside all networks"),
    ((("network", ("office+pier",)),), "from office and pier"),
    ((("client", ("browser",)), ("platform", ("ios", "macos"))), "with the browser and on ios or macos"),
    ((("risk", ("none",)),), "at a risk that is none"), ((("risk", ("none", "low")),), "at a risk that is none or low"),
    ((("risk", ("none", "low", "medium")),), "at a risk that is not high"),
])  # fmt: skip
def test_conditions_in_words(conditions: tuple[tuple[str, tuple[str, ...]], ...], said: str) -> None:
    assert conditions_text(ConditionalAccess("console", "P1", conditions, False)) == said
    assert conditions_text(ConditionalAccess("console", "P1", conditions, True)).endswith(
        "(usher-gate sign-in lists them)"
    )
