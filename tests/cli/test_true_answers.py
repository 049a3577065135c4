"""Answers that were wrong once, each on an organisation small enough to be counted by hand."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests import tiny
from tests.program import call
from tests.tiny import write_tiny

NOBODY_EXCEPTED = "usher-gate: exceptions/1\nexceptions: []\n"
HEAD = 'usher-gate: baseline/1\nname: b\nversion: "1"\nrules:\n'


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("COLUMNS", "240")
    return tmp_path


def result(*options: str) -> Any:
    return json.loads(call("check", "--format", "json", *options).out)


def made(folder: Path, baseline: str, **files: str | None) -> None:
    names = {name: f"snapshot/{name}.{'yaml' if name in ('services', 'organisation') else 'csv'}" for name in files}
    changes: dict[str, str | bytes | None] = {names[name]: text for name, text in files.items()}
    write_tiny(folder, {"baseline.yaml": HEAD + baseline, "exceptions.yaml": NOBODY_EXCEPTED, **changes})


def root(roots: list[Any], scope: str) -> Any:
    found = next(each for each in roots if each["scope"] == scope)
    return {key: found[key] for key in ("people", "mended_value", "freed", "if_removed", "harms")}


def test_a_licence_frees_nobody_whom_another_setting_keeps_drifting(folder: Path) -> None:
    services = "usher-gate: services/1\nservices:\n  - id: tidecall\n    needs: {line.encryption: {licences: [plus], without: transport}}\n"
    people = "id,login,kind,unit,licences\nP1,a@x,member,/X/Y,\nP2,b@x,member,/X/Y,\nP3,c@x,member,/X,\nP4,d@x,member,/X,plus\n"
    settings = "service,control,scope,value\ntidecall,line.encryption,organisation,end-to-end\ntidecall,line.encryption,unit:/X/Y,transport\n"
    made(
        folder,
        "  - {id: R, title: t, expect: {control: line.encryption, is: end-to-end}}\n",
        services=services, people=people, settings=settings, groups=None, members=None,
    )  # fmt: skip
    roots = result()["roots"]
    assert root(roots, "licence") == {"people": 3, "mended_value": None, "freed": 1, "if_removed": None, "harms": 0}
    assert len(roots) == 1


def test_of_two_groups_that_say_the_same_mending_one_frees_nobody(folder: Path) -> None:
    made(
        folder,
        "  - {id: R, title: t, expect: {control: door.waiting-room, no_weaker_than: guests}}\n",
        groups="id,name\na,A\nb,B\n",
        members="group,member\na,P1\nb,P1\n",
        settings="service,control,scope,value,rank\ntidecall,door.waiting-room,organisation,guests,\n"
        "tidecall,door.waiting-room,group:a,everyone,1\ntidecall,door.waiting-room,group:b,everyone,1\n",
    )
    found = result()
    assert root(found["roots"], "group:a") == {
        "people": 1,
        "mended_value": "guests",
        "freed": 0,
        "if_removed": 0,
        "harms": 0,
    }
    assert found["contested"] == []  # they agree


def test_mending_by_value_is_told_apart_from_taking_away(folder: Path) -> None:
    made(
        folder,
        "  - {id: R, title: t, expect: {control: door.waiting-room, no_weaker_than: guests}}\n",
        settings="service,control,scope,value\ntidecall,door.waiting-room,organisation,everyone\ntidecall,door.waiting-room,unit:/Shore,everyone\n",
    )
    roots = result()["roots"]
    assert root(roots, "unit:/Shore") == {
        "people": 2,
        "mended_value": "guests",
        "freed": 2,
        "if_removed": 0,
        "harms": 0,
    }
    assert root(roots, "organisation") == {
        "people": 3,
        "mended_value": "guests",
        "freed": 3,
        "if_removed": 0,
        "harms": 0,
    }
    table = call("check", "--show", "all", "--ids").out
    assert "set it to guests: clears 3" in table


def test_a_value_that_one_rule_asks_for_may_harm_under_another(folder: Path) -> None:
    made(
        folder,
        "  - {id: R, title: t, audience: {unit: /Shore}, expect: {control: door.waiting-room, is: everyone}}\n"
        "  - {id: S, title: t, audience: {unit: /Fleet}, expect: {control: door.waiting-room, no_weaker_than: guests}}\n",
        settings="service,control,scope,value\ntidecall,door.waiting-room,organisation,guests\n",
    )
    assert root(result()["roots"], "organisation") == {
        "people": 2,
        "mended_value": "everyone",
        "freed": 2,
        "if_removed": 2,
        "harms": 2,
    }
    assert "set it to everyone: clears 2 (harms 2: ada@northmere.example, ben@northmere.example)" in " ".join(
        call("check", "--show", "all", "--ids").out.split()
    )
    narrowed = result("--rule", "R")["roots"]  # harm is harm, whether the report speaks of it or not
    assert root(narrowed, "organisation")["harms"] == 2


NEAREST = """\
  - id: R
    title: t
    expect:
      any_of:
        - {control: door.identity, is: own-organisation}
        - all_of:
            - {control: door.identity, no_weaker_than: listed-domains}
            - {control: door.listed-domains, within: [a.example, b.example, c.example]}
"""


def test_the_nearest_way_is_blamed_and_the_words_too_many_are_named(folder: Path) -> None:
    made(
        folder,
        NEAREST,
        settings="service,control,scope,value\ntidecall,door.identity,organisation,listed-domains\n"
        "tidecall,door.listed-domains,organisation,a.example;b.example\ntidecall,door.listed-domains,person:P1,a.example;d.example\n",
    )
    found = result()
    [blamed] = found["roots"]
    assert (blamed["control"], blamed["scope"], blamed["mended_value"], blamed["freed"]) == (
        "door.listed-domains", "person:P1", "a.example", 1,
    )  # fmt: skip
    assert "d.example too many" in call("check", "--show", "all").out


SEEN = "person,service,control,value,seen_at\n"
CHANGED = (
    "service,control,scope,value,changed_at\ntidecall,door.waiting-room,organisation,guests,2026-11-15T06:00:00Z\n"
)


@pytest.mark.parametrize(
    ("seen_at", "verdict", "reason"),
    [
        ("2026-11-15T05:59:59Z", None, None),  # before the change: it says nothing
        ("2026-11-15T06:00:00Z", "settling", "not-seen-since"),
        ("2026-11-16T05:59:59Z", "settling", "not-seen-since"),
        ("2026-11-16T06:00:00Z", "drifts", "not-applied"),
    ],
)
def test_evidence_from_inside_the_settling_time_is_no_drift(
    folder: Path, seen_at: str, verdict: str | None, reason: str | None
) -> None:
    made(
        folder,
        "  - {id: R, title: t, expect: {control: door.waiting-room, no_weaker_than: guests}}\n",
        settings=CHANGED,
        observations=f"{SEEN}P1,tidecall,door.waiting-room,everyone,{seen_at}\n",
    )
    found = result()["findings"]
    assert [(each["verdict"], each["reason"]) for each in found] == ([] if verdict is None else [(verdict, reason)])
    if reason == "not-seen-since":
        assert "due since 2026-11-16 06:00 UTC, and not looked at again" in call("check", "--verdict", "settling").out


@pytest.mark.parametrize(
    "rule",
    [
        "audience: {role: admn}, expect: {person: mfa, is: required}",
        "audience: {login: nobody@*}, expect: {person: mfa, is: required}",
        "audience: {licence: gold}, expect: {person: mfa, is: required}",
        "expect: {control: room.chat, is: 'off'}",
        "subject: organisation, expect: {control: room.chat, is: 'off'}",
    ],
)
def test_a_rule_that_judges_nobody_does_not_hold(folder: Path, rule: str) -> None:
    people = (
        "\n".join(f"{line},{'licences' if line.startswith('id') else ''}" for line in tiny.PEOPLE.splitlines()) + "\n"
    )
    made(folder, f"  - {{id: R, title: t, {rule}}}\n", people=people)
    done = call("check", "--show", "all")
    first, second = done.out.splitlines()[:2]
    assert (done.status, first, second) == (3, "1 rule judges no one: R.", "None of 5 people drifts.")
    assert result()["summary"]["rules_judging_nobody"] == ["R"]
    made(folder, f"  - {{id: R, title: t, may_judge_nobody: true, {rule}}}\n", people=people)
    assert call("check", "--show", "all").status == 0
    assert result()["summary"]["rules_judging_nobody"] == []


def test_without_an_active_person_nothing_holds(folder: Path) -> None:
    made(
        folder,
        "  - {id: R, title: t, may_judge_nobody: true, expect: {person: mfa, is: required}}\n",
        people="id,login,kind\n",
        groups=None,
        members=None,
    )
    done = call("check", "--show", "all")
    assert (done.status, done.out.splitlines()[0][:16]) == (3, "No one is judged")


def test_logins_join_everywhere_and_two_settings_of_one_person_are_an_error(folder: Path) -> None:
    settings = "service,control,scope,value\ntidecall,door.waiting-room,organisation,guests\ntidecall,door.waiting-room,person:BEN@northmere.example,everyone\n"
    rule = "  - {id: R, title: t, expect: {control: door.waiting-room, no_weaker_than: guests}}\n"
    made(folder, rule, settings=settings, members="group,member\ng1,Ada@Northmere.example\n")
    found = result()
    assert [each["subject"]["id"] for each in found["findings"]] == ["P2"]
    assert [each["scope"] for each in found["roots"]] == ["person:P2"]
    made(folder, rule, settings=settings + "tidecall,door.waiting-room,person:P2,guests\n")
    done = call("check")
    assert (done.status, "settings.csv:4: the same service, control and scope (person:P2)" in done.err) == (2, True)


def test_contested_values_contradictions_and_services_are_opened_to_names(folder: Path) -> None:
    made(
        folder,
        "  - {id: R, title: t, expect: {control: door.waiting-room, no_weaker_than: members}}\n",
        groups="id,name\na,A\nb,B\n",
        members="group,member\na,P1\nb,P1\na,P2\n",
        settings="service,control,scope,value,rank\ntidecall,door.waiting-room,group:a,everyone,1\ntidecall,door.waiting-room,group:b,hosts,1\n",
    )
    found = result()
    assert found["contested"] == [
        {
            "service": "tidecall",
            "control": "door.waiting-room",
            "title": "waiting room",
            "value": "everyone",
            "settings": [{"scope": "group:a", "value": "everyone"}, {"scope": "group:b", "value": "hosts"}],
            "people": ["P1"],
        }
    ]
    assert found["summary"]["people_contested"] == 1
    assert found["services"] == [
        {
            "id": "tidecall",
            "accounts": 5,
            "drifting": 5,
            "verdicts": found["summary"]["verdicts"],
            "not_applicable": [],
        }
    ]
    assert "ada@northmere.example" in call("check", "--show", "all").out


def test_the_empty_set_is_a_dash(folder: Path) -> None:
    made(
        folder,
        "  - {id: R, title: t, expect: {control: door.listed-domains, includes: [a.example]}}\n",
        settings="service,control,scope,value\ntidecall,door.listed-domains,organisation,-\n",
    )
    [blamed] = result()["roots"]
    assert (blamed["value"], blamed["mended_value"]) == ("-", "a.example")
    assert "a.example missing" in call("check", "--show", "all").out


PASSES = "person,issued_at,starts_at,expires_at,single_use,issuer\n"


@pytest.mark.parametrize(
    ("row", "facts"),
    [
        ("P1,2026-11-20T05:00:00Z,,2026-11-20T08:00:00Z,true,P2", {"live": "1", "coming": "0", "longest-minutes": "180"}),
        ("P1,2026-11-20T05:00:00Z,2026-11-21T05:00:00Z,2026-11-21T06:00:00Z,true,P2", {"live": "0", "coming": "1", "longest-minutes": "60"}),
        ("P1,2026-11-21T05:00:00Z,,2026-11-21T08:00:00Z,true,P2", {"live": "0", "coming": "0", "longest-minutes": "0"}),
    ],
)  # fmt: skip
def test_passes_that_are_live_that_come_and_that_are_not_issued_yet(
    folder: Path, row: str, facts: dict[str, str]
) -> None:
    rules = "".join(
        f"  - {{id: {name}, title: t, audience: {{login: 'ada@*'}}, expect: {{person: passes.{name}, is: 99}}}}\n"
        for name in facts
    )
    made(folder, rules, passes=PASSES + row + "\n")
    assert {each["rule"]: each["leaves"][0]["actual"] for each in result()["findings"]} == facts


@pytest.mark.parametrize(
    ("kind", "types", "shows"),
    [
        ("member", "", "nothing"),
        ("member", "memorized-secret;out-of-band-sms", "restricted-mfa"),
        ("member", "memorized-secret;out-of-band-sms;single-factor-otp", "mfa"),
        ("member", "multi-factor-crypto-software", "phishing-resistant"),
        ("member", "multi-factor-crypto-software;multi-factor-crypto-device", "hardware-key"),
        ("guest", "multi-factor-crypto-device", "mfa"),
        ("guest", "single-factor-otp", "mfa"),
    ],
)
def test_the_strongest_that_somebody_can_show(folder: Path, kind: str, types: str, shows: str) -> None:
    rows = "".join(f"P1,{one}\n" for one in types.split(";") if one)
    made(
        folder,
        "  - {id: R, title: t, expect: {person: can-show, no_weaker_than: hardware-key}}\n",
        people=f"id,login,kind\nP1,a@x,{kind}\n",
        groups=None,
        members=None,
        authenticators="person,type\n" + rows,
        partners="domain,home_mfa_counts\n*,false\n",
    )
    found = result()["findings"]
    assert [each["leaves"][0]["actual"] for each in found] == ([] if shows == "hardware-key" else [shows])


@pytest.mark.parametrize("who", ["P1", "ada@northmere.example", "ADA@Northmere.example", "ada lovell"])
def test_one_person_at_a_glance_by_id_login_or_name(folder: Path, who: str) -> None:
    made(
        folder,
        "  - {id: R, title: t, expect: {control: door.waiting-room, no_weaker_than: hosts}}\n",
        people="id,login,kind,name,created_at,last_sign_in_at\nP1,ada@northmere.example,member,Ada Lovell,2024-03-01T06:00:00Z,\n",
        groups=None, members=None,
        settings="service,control,scope,value,note\ntidecall,door.waiting-room,organisation,guests,as agreed in May\n",
        passes=PASSES + "P1,2026-11-20T05:00:00Z,,2026-11-21T08:00:00Z,true,P1\n",
    )  # fmt: skip
    shown = call("why", who).out
    for text in (
        "1 verdict drifts; 0 verdicts met.",
        "A bootstrap pass of 1 day and 3 hours, live for another 1 day and 2 hours: from 2026-11-20 05:00 UTC to 2026-11-21 08:00 UTC",
        "issued by ada@northmere.example, works once.",
        "never, 994 days since the account was made",
        "Next: usher-gate why ada@northmere.example --rule R",
    ):
        assert text in shown, text
    assert "as agreed in May" in call("why", who, "door.waiting-room").out


def test_who_has_a_value_and_by_which_ways(folder: Path) -> None:
    made(
        folder,
        "  - {id: R, title: t, expect: {person: mfa, is: required}}\n",
        settings="service,control,scope,value\ntidecall,door.waiting-room,unit:/Fleet,hosts\ntidecall,door.waiting-room,person:P1,everyone\n",
    )
    found = json.loads(call("why", "--control", "door.waiting-room", "--value", "everyone", "--format", "json").out)[
        "people"
    ]
    assert [(each["id"], each["has"], [way["scope"] for way in each["ways"]]) for each in found] == [
        ("P1", True, ["factory", "person:P1"]),
        ("P3", True, ["factory"]),
        ("P4", True, ["factory"]),
        ("P5", True, ["factory"]),
        ("P2", False, ["factory"]),
    ]
    assert found[-1]["counts"] == {"scope": "unit:/Fleet", "value": "hosts"}


def test_a_hole_is_shown_with_the_observed_rule_that_would_close_it(folder: Path) -> None:
    rule = "usher-gate: access-rules/1\nrules:\n  - {id: A1, mode: observe, people: {include: {any: true}}, resources: {include: any}, outcome: {require: {all_of: [mfa]}}}\n"
    made(folder, "  - {id: R, title: t, expect: {proof: mfa, on: {tag: admin}}}\n")
    (folder / "snapshot/access-rules.yaml").write_text(rule)
    shown = call("why", "P2", "--rule", "R").out
    assert "The hole: to console, from office (192.0.2.1), client browser" in shown
    assert "A1 would close it, but is only observed." in shown


def test_findings_by_the_numbers_of_a_framework(folder: Path) -> None:
    made(
        folder,
        "  - {id: R, title: t, expect: {person: mfa, is: required}, maps: {NIST SP 800-53r5: [AC-12, AC-2]}, because: It matters., mend: Mend it.}\n",
    )
    shown = call("check", "--show", "all", "--by", "nist").out
    assert shown.index("AC-2 ") < shown.index("AC-12")
    pasted = call("check", "--by", "NIST", "--format", "markdown", "--show", "all").out
    assert "## By NIST SP 800-53r5" in pasted
    assert "- R: t. It matters. Mend it. (NIST SP 800-53r5: AC-12, AC-2)" in pasted


@pytest.mark.parametrize("width", [80, 100])
def test_no_word_is_broken_at_narrow_widths(folder: Path, width: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    unit = "/Fleet/Deck/North-Crossing/Watch-of-the-night"
    login = "a-very-long-login-name.of-somebody@northmere.example"
    made(
        folder,
        "  - {id: ROOM-LONG-01, title: Someone waits until someone else lets them in, expect: {control: door.passcode-personal-room, is: 'on'}}\n",
        people=f"id,login,kind,unit\nP1,{login},member,{unit}\nP2,b@x,member,{unit}\n",
        groups=None, members=None,
        settings=f"service,control,scope,value\ntidecall,door.passcode-personal-room,unit:{unit},off\n",
    )  # fmt: skip
    shown = call("check", "--show", "all").out + call("check", "--show", "all", "--ids").out
    assert max(map(len, shown.splitlines())) <= width
    for word in (login, f"unit:{unit},"[:-1], "door.passcode-personal-room", "ROOM-LONG-01"):
        assert word in shown, word


def test_the_form_is_the_one_of_the_ending(folder: Path) -> None:
    made(folder, "  - {id: R, title: t, expect: {person: mfa, is: required}}\n")
    call("check", "--out", "a.csv")
    call("check", "--out", "a.JSON")
    assert (folder / "a.csv").read_text().startswith("rule,severity,")
    assert json.loads((folder / "a.JSON").read_text())["usher-gate"] == "check/1"


def test_old_snapshots_are_said_to_be_old_if_asked(folder: Path) -> None:
    made(folder, "  - {id: R, title: t, expect: {person: mfa, is: required}}\n")
    assert call("check", "--max-age", "24").out.startswith("The snapshot is ")
    assert not call("check", "--max-age", "900000").out.startswith("Stale")


def test_holes_by_person_and_network_with_names(folder: Path) -> None:
    rule = "usher-gate: access-rules/1\nrules:\n  - {id: A1, mode: enforce, people: {include: {any: true}, exclude: {login: 'ben@*'}}, resources: {include: [console]}, when: {client: [browser, app]}, outcome: {require: {all_of: [mfa]}}}\n"
    made(
        folder,
        "  - {id: R, title: t, expect: {person: mfa, is: required}}\n",
        partners="domain,home_mfa_counts\n*,true\n",
    )
    (folder / "snapshot/access-rules.yaml").write_text(rule)
    rows = call("holes", "--proof", "mfa", "--person", "Dag@partner.example", "--format", "csv").out.splitlines()
    assert {row.split(",")[3] for row in rows[1:]} == {"dag@partner.example"}
    because = json.loads(call("holes", "--proof", "mfa", "--person", "P4", "--format", "json").out)["holes"]
    # legacy clients come in everywhere: the client is why at the console, the resource is why elsewhere
    assert {tuple(each["because"]) for each in because} == {
        ("A1 leaves out client legacy",),
        ("A1 leaves out resource meetings",),
    } or {tuple(each["because"]) for each in because} == {
        ("A1 leaves out resource meetings",),
        ("for resource meetings: A1 leaves it out", "for client legacy: A1 leaves it out"),
    }
    assert call("holes", "--proof", "mfa", "--network", "offce").status == 2
    assert "ben@northmere.example" in call("holes", "--proof", "mfa", "--network", "office", "--rows", "0").out
