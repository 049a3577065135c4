"""What is said about correct verdicts, each on an organisation small enough to be counted by hand."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from tests.cli.test_true_answers import HEAD, NOBODY_EXCEPTED
from tests.program import call
from tests.tiny import MEMBERS, ORGANISATION, PEOPLE, SERVICES, SETTINGS, write_tiny

WAITING = "expect: {control: door.waiting-room, no_weaker_than: guests}"
MFA = "audience: {kind: member}, expect: {person: mfa, is: required}"
MEETINGS = "id,service,organiser,starts_at,kind,invitees\n"
AT = "2026-12-01T06:00:00Z"
ACCESS = "usher-gate: access-rules/1\nrules:\n"


@pytest.fixture(autouse=True)
def _here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("COLUMNS", "240")


def made(*rules: str, **files: str | None) -> None:
    """The tiny organisation with these rules, and some of its files as named; None leaves one out."""
    text = "".join(f"  - {{id: R{number}, title: t{number}, {rule}}}\n" for number, rule in enumerate(rules, 1))
    changes: dict[str, str | bytes | None] = {
        f"snapshot/{name.replace('__', '-')}.{'yaml' if name in YAML else 'csv'}": content
        for name, content in files.items()
    }
    write_tiny(Path(), {"baseline.yaml": HEAD + text, "exceptions.yaml": NOBODY_EXCEPTED, **changes})


YAML = ("organisation", "services", "access__rules")


def result(*options: str) -> Any:
    return json.loads(call("check", "--format", "json", *options).out)


def first_lines(number: int = 1, verb: str = "check --show all") -> list[str]:
    return call(*verb.split()).out.splitlines()[:number]


def section(text: str, title: str) -> list[str]:
    """The rows of a table, without its heading."""
    lines = text[text.index(f"\n{title}") :].split("\n\n")[0].splitlines()[1:]
    return lines[lines.index(next(line for line in lines if "──" in line)) + 1 :]


def test_who_is_stranded_is_narrowed() -> None:
    """A second factor is asked of everyone at the console and of P1, P3 and P5 everywhere; no one has one."""
    rules = f"{ACCESS}  - {{id: A1, mode: enforce, {CONSOLE}, outcome: {{require: {{all_of: [mfa]}}}}}}\n"
    made(MFA, access__rules=rules, authenticators="person,type\n", passes="person,issued_at,expires_at\n")
    # P1 is an administrator, and so locked out of the console.
    for options, console, meetings in (("", 3, 3), ("--unit /Fleet", 1, 1), ("--unit /Shore", 2, 2)):
        found = {each["resource"]: each["people"] for each in result(*options.split())["stranded"]}
        assert found == {"console": console, "meetings": meetings}
    assert "2 people are stranded at console, meetings" in call("check", "--show", "all", "--unit", "/Shore").out


# A 1 to A 3: the first line


def test_meetings_that_drift_come_before_people_who_do_not() -> None:
    rule = "subject: meetings, severity: high, expect: {meeting: invitees, no_weaker_than: 0}"
    people = "id,login,kind,mfa\n" + "".join(f"P{n},p{n}@northmere.example,member,required\n" for n in range(1, 10))
    meetings = MEETINGS + "".join(
        f"m{n},tidecall,P1,{AT},scheduled,{who}\n" for n, who in enumerate(("a@x.example", "b@x.example", ""))
    )
    made(MFA, rule, people=people, groups=None, members=None, meetings=meetings)
    assert first_lines() == ["2 planned meetings drift from a high rule; none of 9 people drifts."]
    assert call("check", "--format", "markdown").out.startswith("# 2 planned meetings drift from a high rule; ")


def test_what_is_worst_comes_first_and_everything_is_counted() -> None:
    meeting = "subject: meetings, severity: critical, expect: {meeting: invitees, no_weaker_than: 0}"
    partner = "subject: partners, severity: low, expect: {partner: home_device_counts, is: off}"
    made(
        MFA, meeting, partner,
        meetings=f"{MEETINGS}m1,tidecall,P1,{AT},scheduled,a@x.example\n",
        partners="domain,home_device_counts\n*,false\nyard.example,true\n",
    )  # fmt: skip
    assert first_lines() == [
        "1 planned meeting drifts from a critical rule; 1 of 5 people drifts: at worst 1 from a medium rule; "
        "1 partner drifts from a low rule."
    ]


def test_where_nothing_is_known_to_drift_that_is_said() -> None:
    people = PEOPLE.replace(",required,", ",,").replace(",offered,", ",,")
    made(MFA, "expect: {person: protection, is: heightened}", people=people)
    # Of four members the second factor is not known, and of no one the protection: a column that is not there.
    assert first_lines() == ["Nothing is known to drift: 9 verdicts of 5 people are unknown."]
    assert call("check", "--show", "all").status == 3
    assert result()["summary"]["unclear_people"] == 5
    assert call("report").status == 0
    page = re.sub(r"\s+", " ", re.sub(r"<[^>]*>", " ", Path("report.html").read_text()))
    assert "Nothing is known to drift: 9 verdicts of 5 people are unknown." in page
    assert "0 of 2 rules hold. From 2 more nothing is known to drift" in page


def test_what_holds_counts_everything_too() -> None:
    meeting = "subject: meetings, expect: {meeting: invitees, no_weaker_than: 5}"
    made("expect: {person: roles, within: [admin]}", meeting, meetings=f"{MEETINGS}m1,tidecall,P1,{AT},scheduled,\n")
    assert first_lines() == ["None of 5 people drifts, nor does any of 1 planned meeting."]


LOCKED = f"""{ACCESS}  - {{id: A1, mode: enforce, people: {{include: {{break_glass: true}}}}, resources: {{include: any}}, outcome: {{deny: true}}}}
"""
LAMP = "".join(
    f"{row}{',break_glass' if not place else ',true' if place == 1 else ','}\n"
    for place, row in enumerate(PEOPLE.splitlines())
)


def test_a_lock_out_comes_before_everything_else_in_all_forms() -> None:
    made("expect: {person: roles, within: [admin]}", people=LAMP, access__rules=LOCKED)
    said = "ALL break-glass accounts are locked out of console: ada@northmere.example; by A1."
    privileged = "ALL privileged people are locked out of console: ada@northmere.example; by A1."
    assert first_lines(3) == [said, privileged, "None of 5 people drifts."]
    done = {form: call("check", "--format", form) for form in ("markdown", "sarif", "oscal", "junit", "table")}
    assert {one.status for one in done.values()} == {1}  # whatever the threshold
    assert done["markdown"].out.startswith(
        "# ALL break-glass accounts are locked out; ALL administrators are locked out. "
    )
    assert done["table"].out.splitlines()[1].startswith("ALL break-glass accounts are locked out; ")
    assert json.loads(done["sarif"].out)["runs"][0]["results"][0]["message"]["text"] == said
    assert json.loads(done["oscal"].out)["assessment-results"]["results"][0]["description"].startswith(said)
    assert ElementTree.fromstring(done["junit"].out)[0].get("failures") == "1"
    assert call("report").status == 0
    (first,) = re.findall(r'<p class="first">([^<]*)', Path("report.html").read_text())
    assert first.startswith("ALL break-glass accounts are locked out; ALL administrators are locked out. ")


# A 4 to A 6: numbers and order


def test_numbers_beside_each_other_count_the_same_thing(demo: Path) -> None:
    out, found = call("check", "--show", "all").out, result()
    [(causes, whole, people, others)] = re.findall(r"(\d+) causes of (\d+) findings: (\d+) of people, (\d+) of", out)
    assert (int(causes), int(whole)) == (len(found["roots"]), sum(each["verdicts"] for each in found["roots"]))
    assert int(people) == found["summary"]["verdicts"]["drifts"] and int(people) + int(others) == int(whole)
    assert int(others) == sum(each["verdicts"]["drifts"] for each in found["summary"]["others"])
    shown = [int(number.replace(",", "")) for number in re.findall(r"(?:meets|loose|settling|unknown|unavailable|drifts|excepted) ([\d,]+)  ", out)]  # fmt: skip
    [judged] = re.findall(r"([\d,]+) verdicts of 236 people\n", out)
    assert int(judged.replace(",", "")) == sum(found["summary"]["verdicts"][word] for word in SHOWN)
    assert sum(shown) <= int(judged.replace(",", ""))


SHOWN = ("meets", "loose", "settling", "unknown", "unavailable", "drifts", "excepted")


def test_one_critical_person_comes_before_three_medium_ones() -> None:
    people = PEOPLE.replace("/Fleet,offered,", "/Fleet,absent,").replace(",required,\n", ",offered,\n")
    made(
        "severity: medium, audience: {kind: member}, expect: {person: mfa, is: required}",
        "severity: critical, audience: {login: dag@*}, expect: {person: roles, includes: [admin]}",
        people=people,
        groups="id,name\ng1,Watch\ng2,Guests\n",
        members="group,member\ng1,P2\ng1,P3\ng1,P5\ng2,P4\n",
    )
    out = call("check", "--show", "all").out
    rows = section(out, "Where to begin: 2 causes")
    assert [row.split()[:3] for row in rows] == [["critical", "1", "1"], ["medium", "3", "3"]]
    assert [row.split()[0] for row in section(out, "Rules")] == ["R2", "R1"]
    assert section(out, "People, the worst first")[0].split()[:2] == ["dag@partner.example", "critical"]
    assert [row.split()[1] for row in section(out, "Groups and units")][:1] == ["Watch"]  # Guests has one person
    assert [each["control"] for each in result()["roots"]] == [
        "mfa",
        "roles",
    ]  # the order of JSON stays: most people first


def test_drifting_as_a_whole_is_not_having_the_setting_that_causes_it() -> None:
    settings = (
        SETTINGS + "tidecall,door.waiting-room,group:g1,everyone,\ntidecall,door.waiting-room,unit:/Shore,everyone,\n"
    )
    members = "group,member\ng1,P1\ng1,P2\ng1,P3\n"
    made(WAITING, settings=settings.replace("guests,true", "guests,"), members=members)
    shares = {each["id"]: each for each in result()["groups"]}
    units = {each["path"]: each for each in result()["units"]}
    # The three of g1 drift by g1's setting, the two of /Shore by its own; one of them, cia, is in both.
    assert [(shares["g1"][key]) for key in ("judged", "drifting", "as_a_whole", "own_setting")] == [3, 3, True, True]
    assert [units["/Shore"][key] for key in ("judged", "drifting", "as_a_whole", "own_setting")] == [2, 2, True, True]
    assert [units["/Fleet"][key] for key in ("judged", "drifting", "as_a_whole", "own_setting")] == [2, 2, True, False]
    made(WAITING, settings=settings.replace("guests,true", "guests,"), members=MEMBERS)
    alone = result()["groups"][0]
    assert (alone["judged"], alone["as_a_whole"], alone["own_setting"]) == (1, False, True)
    assert "1 group and 1 unit have a setting that causes findings." in call("check", "--show", "all").out
    assert re.search(r"group Watch +1 of 1 +has the setting that causes it ", call("check", "--show", "all").out)


# A 7: what makes a pipeline fail


def _mixed() -> None:
    """One drifts (medium), two are loose (high), one is unknown (low); two values are contested.

    One setting applies to nothing.
    """
    settings = (
        "service,control,scope,value,pinned,rank\ntidecall,door.waiting-room,organisation,guests,,\n"
        "tidecall,door.waiting-room,unit:/Nowhere,everyone,,\ntidecall,door.listed-domains,group:g1,a.example,,1\n"
        "tidecall,door.listed-domains,group:g2,b.example,,1\n"
    )
    made(
        f"severity: medium, {MFA}",
        f"severity: high, pinned: true, audience: {{unit: /Shore}}, {WAITING}",
        "severity: low, audience: {login: dag@*}, expect: {person: mfa, is: required}",
        settings=settings,
        groups="id,name\ng1,One\ng2,Two\n",
        members="group,member\ng1,P1\ng2,P1\n",
    )


@pytest.mark.parametrize(
    ("options", "status"),
    [
        ("", 1),  # ben drifts
        ("--fail-on loose", 1),
        ("--fail-on loose --fail-at critical", 3),  # what is loose is of a high rule; a setting applies to nothing
        ("--fail-on unknown", 1),
        ("--fail-on unknown --fail-at medium", 3),  # dag's is of a low rule
        ("--fail-on settling", 3),
        ("--fail-on unavailable --fail-on stranded --fail-on lockout --fail-on contradictions", 3),
        ("--fail-on contested --fail-at critical", 1),  # no rule has them, and so no severity
        ("--fail-on ignored-settings", 1),
        ("--fail-at high", 3),
    ],
)
def test_what_fails_a_check_fails_a_case_and_a_result(options: str, status: int) -> None:
    _mixed()
    words = options.split()
    assert call("check", *words).status == status
    suites = ElementTree.fromstring(call("check", *words, "--format", "junit").out)
    failures = {case.get("name"): case.find("failure") is not None for case in suites.iter("testcase")}
    assert any(failures.values()) == (status == 1), failures
    assert sum(int(suite.get("failures", "0")) for suite in suites) == sum(failures.values())
    results = json.loads(call("check", *words, "--format", "sarif").out)["runs"][0]["results"]
    assert any(each["kind"] == "fail" for each in results) == (status == 1)
    assert all((each["level"] == "none") == (each["kind"] != "fail") for each in results)
    if options == "--fail-on loose":
        assert failures["R2 t2"] and not failures["R1 t1"]
        received = next(case for case in suites.iter("testcase") if case.get("name") == "R1 t1").findtext("system-out")
        assert received == "below what fails: verdicts: 1 drifts"


def test_a_narrowed_list_narrows_no_case() -> None:
    _mixed()
    done = call("check", "--verdict", "unknown", "--format", "junit")
    assert done.status == 1 and ElementTree.fromstring(done.out).get("failures") == "1"


# A 8, A 9: what is partial, old, or of a gather that failed


def test_an_old_snapshot_is_said_and_gives_3_for_every_verb_that_reads_one() -> None:
    made("expect: {person: roles, within: [admin]}", access__rules=ACCESS + "  []\n")
    verbs = (
        "check",
        "report",
        "door",
        "holes --proof mfa",
        "mend",
        "guests",
        "why P1",
        "sign-in P1",
        "baseline",
        "exceptions",
    )
    assert {verb: call(*verb.split()).status for verb in verbs} == dict.fromkeys(verbs, 0)
    assert call("check", "--keep").status == 0 and call("history").status == 0
    toml = Path("usher-gate.toml")
    toml.write_text("max_age_hours = 24\n" + toml.read_text())
    for verb in (*verbs, "history"):
        done = call(*verb.split())
        assert done.status == 3, verb
        said = done.err.removeprefix("usher-gate: warning: ") if verb == "report" else done.out
        assert re.match(r"The (snapshot|last check kept) is [\d,]+ hours old, more than 24\.", said), (verb, said[:80])
    json_said = call("door", "--format", "json")
    assert json_said.status == 3 and json_said.err.startswith("usher-gate: warning: The snapshot is ")
    assert result()["snapshot"]["stale"].startswith("the snapshot is ")
    assert call("door", "--max-age", "10000000").status == 0
    toml.write_text(toml.read_text().replace("24", '"soon"'))
    assert "max_age_hours is not a number greater than 0" in call("check").err


@pytest.mark.parametrize(
    ("record", "said"),
    [
        ({"ended": "2026-11-29T02:00:00Z", "status": 4, "failed": ["directory"]}, "failed at source `directory`"),
        ({"ended": "2026-11-29T02:00:00Z", "status": 4, "failed": ["a", "b"]}, "failed at sources `a`, `b`"),
        ({"ended": "2026-11-29T02:00:00Z", "status": 2, "failed": [], "why": "no"}, "failed (no)"),
        ({"ended": None, "status": None, "failed": []}, "did not end"),  # killed
        ({"ended": "2026-11-29T02:00:00Z", "status": 0, "failed": [], "replaced": True}, ""),
        ({"ended": "2026-11-29T02:00:00Z", "status": 4, "failed": ["a"], "replaced": True}, ""),  # the manifest says it
        ({"began": "2026-11-19T02:00:00Z", "ended": None, "status": None, "failed": []}, ""),  # before the snapshot
    ],
)
def test_the_record_of_the_last_gather(record: dict[str, Any], said: str) -> None:
    made("expect: {person: roles, within: [admin]}")
    manifest: dict[str, Any] = {"usher-gate": "manifest/1", "files": [], "missing": [], "services": None}
    for path in sorted(Path("snapshot").iterdir()):
        import hashlib

        digest = hashlib.sha256(path.read_bytes()).hexdigest()
        manifest["files"].append({"name": path.name, "sha256": digest, "bytes": path.stat().st_size})
    Path("snapshot/manifest.json").write_text(json.dumps(manifest))
    received = {"began": "2026-11-29T02:00:00Z", "replaced": False, "why": "", **record}
    Path("last-gather.json").write_text(json.dumps(received))
    done = call("check")
    first = "The last gather (2026-11-29 02:00 UTC) " + said + "; this is the state of 2026-11-20 06:00 UTC."
    assert (done.out.splitlines()[0] == first, done.status) == ((True, 3) if said else (False, 0)), done.out
    if received["ended"] is None and said:  # one that is at work just now has not failed
        import fcntl

        with Path(".lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            assert call("check").status == 0


# A 10, A 11: what applies to nothing


def test_settings_that_apply_to_nothing_are_counted_and_give_3() -> None:
    rows = "".join(
        f"tidecall,door.waiting-room,{scope},guests,\n"
        for scope in (
            "unit:/Flet",
            "unit:/Fleet/Deck",
            "group:g2",
            "person:eva@northmere.example",
            "person:P2",
            "unit:/Port/Gate",
        )
    )
    made("expect: {person: roles, within: [admin]}", settings=SETTINGS + rows, units="path,name\n/Port/Gate,The gate\n")
    done, found = call("check", "--show", "all"), result()
    assert done.status == 3
    assert done.out.splitlines()[0].startswith(
        "3 settings apply to nothing: group:g2 does not exist, person:eva@northmere.example does not exist (did you mean "
    )
    assert [(each["scope"], each["line"], each["nearest"]) for each in found["ignored"]] == [
        ("group:g2", 6, None),
        ("person:eva@northmere.example", 7, "person:eve@northmere.example"),
        ("unit:/Flet", 4, "unit:/Fleet"),
    ]
    assert found["summary"]["ignored_settings"] == 3 and found["ignored"][0]["file"] == "settings.csv"
    Path("snapshot/settings.csv").write_text("")
    made("expect: {person: roles, within: [admin]}", settings=SETTINGS)
    assert call("check", "--show", "all").status == 0


def test_a_service_without_a_rule_s_controls_does_not_look_better() -> None:
    services = SERVICES + '  - id: quaychat\n    supports: ["file.*"]\n    accounts: {kind: member}\n'
    made(WAITING, services=services)
    found = result()
    assert {each["id"]: each["not_applicable"] for each in found["services"]} == {"quaychat": ["R1"], "tidecall": []}
    heads = next(line for line in call("check", "--show", "all").out.splitlines() if line.startswith("  service"))
    assert heads.split("  ")[-1] == "rules not applicable"
    assert section(call("check", "--show", "all").out, "Services")[0].split() == ["quaychat", "4", "0", "1"]
    assert "rule R1 does not apply to service quaychat, which supports none of its controls" in found["notes"]
    made(f"must_support: true, {WAITING}", services=services)
    found = result()
    bad = [(each["subject"]["id"], each["service"], each["reason"]) for each in found["findings"]]
    assert bad == [(name, "quaychat", "not-supported") for name in ("P1", "P2", "P3", "P5")]
    assert found["services"][0]["not_applicable"] == []
    made(f"must_support: true, {MFA}")
    assert "R1" in call("check", "--show", "all").err and call("check", "--show", "all").status == 2


# A 12: empty cells


def test_the_page_about_files_says_of_every_column_what_an_empty_cell_means() -> None:
    from usher_gate.core.organisation.build import credentials, groups, meetings, partners, people, settings, units

    page = (Path(__file__).parents[2] / "docs/files.md").read_text()
    table = page[page.index("What an **empty cell** means") :].split("\n\n")[1]
    received = {
        (row.split("|")[1].split(":")[0].strip(), name.strip())
        for row in table.splitlines()[2:]
        for name in row.split("|")[1].split(":")[1].split(",")
    }
    specs = [people.PEOPLE, units.UNITS, groups.GROUPS, groups.MEMBERS, settings.SETTINGS, credentials.AUTHENTICATORS,
             credentials.PASSES, partners.PARTNERS, meetings.MEETINGS]  # fmt: skip
    wanted = {(spec.name, column) for spec in specs for column in spec.optional}
    assert wanted <= received, wanted - received


# A 13: a rehearsal


def test_a_rehearsal_never_prints_an_unknown_as_zero() -> None:
    made(WAITING, settings=None)
    Path("c.yaml").write_text("usher-gate: changes/1\ntitle: t\nchanges:\n  - members: {group: g1, add: [P2]}\n")
    done = call("rehearse", "--changes", "c.yaml")
    assert re.search(r"to a stranger: 0 open, \d+ cannot\s+be judged, before and after", done.out), done.out
    assert "5 verdicts cannot be judged now, 5 could not be judged afterwards" in done.out


# A 14: the page


def test_the_heat_map_tells_nobody_judged_nought_and_not_known_apart() -> None:
    people = PEOPLE.replace("/Fleet/Deck,required,admin", "/Fleet/Deck,,admin").replace("P2,ben@northmere.example,member,/Fleet,offered", "P2,ben@northmere.example,guest,/Yard,offered")  # fmt: skip
    made(MFA, people=people)
    assert call("report").status == 0
    rows = re.findall(r'<tr><th scope="row">([^<]*)</th><td class="number">\d+</td><td class="[^"]*">([^<]*)</td></tr>', Path("report.html").read_text())  # fmt: skip
    # ada's is not known, cia and eve are required to, ben and dag are guests that no rule judges.
    assert dict(rows) == {"/": "?", "/Fleet": "?", "/Fleet/Deck": "?", "/Shore": "0\N{NO-BREAK SPACE}%", "/Yard": "", "in no unit": ""}  # fmt: skip


def test_most_of_it_is_more_than_half_of_it() -> None:
    made(WAITING, MFA, settings=SETTINGS.replace("guests,true", "everyone,"))
    assert call("report").status == 0
    assert "Most of it has one cause" in Path("report.html").read_text()  # five of six
    made("audience: {login: ada@*}, " + WAITING, MFA, settings=SETTINGS.replace("guests,true", "everyone,"))
    assert call("report").status == 0
    assert "Most of it has one cause" not in Path("report.html").read_text()  # one of two


# C: sign-in


def test_one_key_listed_twice_is_one() -> None:
    key = "multi-factor-crypto-device"
    made(
        f"audience: {{kind: member}}, expect: {{person: authenticators.{key}, is: 99}}",
        authenticators=f"person,type,registered_at,serial\nP1,{key},{AT},\nP1,{key},{AT},\nP2,{key},{AT},A\nP2,{key},{AT},B\n"
        f"P3,{key},,A\nP3,{key},{AT},A\nP5,{key},,\nP5,{key},{AT},\n",
    )
    found = result()
    actual = {each["subject"]["id"]: each["leaves"][0]["actual"] for each in found["findings"]}
    assert actual == {"P1": "1", "P2": "2", "P3": "1", "P5": "2"}
    assert any(
        "2 rows repeat an authenticator of the same person, type and registered_at" in note for note in found["notes"]
    )


HARD = "{require: {any_of: [hardware-key]}}"


@pytest.mark.parametrize(
    ("partners", "shows", "outcome"),
    [
        ("domain,home_mfa_counts,home_factor\npartner.example,true,\n", None, "unknown"),
        ("domain,home_mfa_counts\npartner.example,true\n", None, "unknown"),
        ("domain,home_mfa_counts,home_factor\npartner.example,true,mfa\n", "mfa", "stuck"),
        ("domain,home_mfa_counts,home_factor\npartner.example,true,hardware-key\n", "hardware-key", "challenged"),
        ("domain,home_mfa_counts,home_factor\npartner.example,false,hardware-key\n", "nothing", "stuck"),
    ],
)
def test_what_a_trusted_guest_can_show_is_the_same_in_all_verbs(partners: str, shows: str | None, outcome: str) -> None:
    rule = f"  - {{id: A1, mode: enforce, people: {{include: {{kind: guest}}}}, resources: {{include: [console]}}, outcome: {HARD}}}\n"
    made(
        "audience: {kind: guest}, expect: {person: can-show, no_weaker_than: hardware-key}",
        people=PEOPLE.replace("guest,,,\n", "guest,,,admin\n"),
        partners=partners,
        access__rules=ACCESS + rule,
        authenticators="person,type\n",
    )
    found = result()
    verdicts = [(each["verdict"], each["leaves"][0]["actual"]) for each in found["findings"]]
    expected = [("unknown" if shows is None else "drifts", shows)] if shows != "hardware-key" else []
    assert verdicts == expected
    # A person who may show enough is not listed: only people surely locked out are.
    assert [each["people"] for each in found["lockouts"]] == ([["P4"]] if outcome == "stuck" else [])
    signed = json.loads(call("sign-in", "P4", "--resource", "console", "--format", "json").out)
    assert {row["decision"]["outcome"] for row in signed["rows"] if row["example"]["client"] != "legacy"} == {outcome}
    glance = call("why", "P4").out
    assert ("not known here, decided at home" in glance) == (shows is None)
    if shows is None:
        known = signed["rows"][0]["decision"]["not_known"]
        assert known == ["what is shown at home, which is decided there (the column home_factor of partners)"]


CONSOLE = "people: {include: {any: true}}, resources: {include: [console]}"


@pytest.mark.parametrize(
    ("rules", "said"),
    [
        ("require: {all_of: [managed-device]}}", "from a managed or healthy device"),
        ("deny: true}, when: {risk: [high]}", "at a risk that is not high"),
        ("deny: true}, when: {network: {include: any, exclude: [office]}}", "from office"),
        ("deny: true}, when: {platform: [macos, linux, ios, android, other]}", "on windows"),
        ("require: {all_of: [managed-device]}}, when: {network: {include: any, exclude: [office]}}", "in some combinations of conditions (usher-gate sign-in lists them)"),
        ("deny: true}, when: {client: [legacy]}", ""),  # an old client is no way in, and no condition
    ],
)  # fmt: skip
def test_break_glass_accounts_that_get_in_under_conditions(rules: str, said: str) -> None:
    rule = f"  - {{id: A1, mode: enforce, {CONSOLE}, outcome: {{{rules}}}\n"
    made(
        "expect: {person: roles, within: [admin]}",
        people=LAMP,
        access__rules=ACCESS + rule,
        authenticators="person,type\n",
    )
    done, found = call("check"), result()
    assert done.status == 0 and not found["lockouts"]
    line = f"ada@northmere.example gets into console only {said}."
    assert (line in done.out, len(found["conditional"])) == ((True, 1) if said else (False, 0)), done.out
    assert (line in call("holes", "--proof", "mfa").out) == bool(said)


@pytest.mark.parametrize(("tags", "where"), [("[admin]", ["console"]), ("[]", ["console", "meetings"])])
def test_without_a_tagged_resource_lock_outs_are_looked_for_everywhere(tags: str, where: list[str]) -> None:
    organisation = ORGANISATION.replace("console: [admin]", f"console: {tags}")
    made("expect: {person: roles, within: [admin]}", organisation=organisation, people=LAMP, access__rules=LOCKED)
    found = result()
    assert sorted({each["resource"] for each in found["lockouts"] if each["of"] == "break-glass"}) == where
    assert any("no resource is tagged admin" in note for note in found["notes"]) == (tags == "[]")


def test_an_old_client_is_no_way_in() -> None:
    rule = f"  - {{id: A1, mode: enforce, {CONSOLE}, when: {{client: [browser, app]}}, outcome: {{deny: true}}}}\n"
    made(
        "expect: {person: roles, within: [admin]}",
        people=LAMP.replace("required", "offered"),
        access__rules=ACCESS + rule,
    )
    assert {each["of"] for each in result()["lockouts"]} == {"break-glass", "privileged"}


def test_who_uses_a_hole(tmp_path: Path) -> None:
    rule = f"  - {{id: A1, mode: enforce, {CONSOLE}, when: {{client: [browser]}}, outcome: {{require: {{all_of: [mfa]}}}}}}\n"
    made(
        "expect: {proof: mfa, on: [console]}", access__rules=ACCESS + rule, people=PEOPLE.replace("required", "offered")
    )
    log = "time,person,resource,client,shown,result\n" + "".join(
        f"2026-11-{day:02}T08:00:00Z,{who},{to},{client},{shown},{how}\n"
        for day, who, to, client, shown, how in (
            (10, "P1", "console", "app", "memorized-secret", "allowed"),
            (12, "P1", "console", "app", "memorized-secret", "allowed"),
            (13, "ben@northmere.example", "console", "legacy", "", "allowed"),
            (14, "P3", "console", "app", "multi-factor-otp", "allowed"),  # showed it all the same
            (15, "P3", "console", "browser", "", "allowed"),  # not through the hole
            (16, "P3", "console", "app", "", "denied"),
            (17, "P5", "console", "", "", "allowed"),  # the client is not said
            (18, "P5", "meetings", "app", "", "allowed"),
        )
    )
    Path("log.csv").write_text(log)
    [hole] = json.loads(call("holes", "--log", "log.csv", "--format", "json").out)["holes"]
    by = [{"id": "P1", "sign_ins": 2}, {"id": "P2", "sign_ins": 1}]
    assert hole["used"] == {"sign_ins": 3, "by": by, "last": "2026-11-13T08:00:00Z", "perhaps": 1}
    assert "ada@northmere.example (2), ben@northmere.example (1)" in re.sub(
        r"\s+", " ", call("holes", "--log", "log.csv").out
    )
    assert json.loads(call("holes", "--format", "json").out)["holes"][0]["used"] is None
    toml = Path("usher-gate.toml")
    toml.write_text('sign_ins = "log.csv"\n' + toml.read_text())
    assert json.loads(call("holes", "--format", "json").out)["holes"][0]["used"]["sign_ins"] == 3
    rows = call("holes", "--format", "csv").out.splitlines()
    assert [row.rpartition(",")[2] for row in rows] == ["sign_ins", "2", "1", "0", "0"]


def test_a_sign_in_without_a_resource_answers_for_every_one() -> None:
    rule = f"  - {{id: A1, mode: enforce, {CONSOLE}, outcome: {{deny: true}}}}\n"
    made("expect: {person: roles, within: [admin]}", access__rules=ACCESS + rule, people=PEOPLE.replace("required", ""))
    rows = section(call("sign-in", "P1").out, "Every resource")[:2]
    assert [row.split()[:2] for row in rows] == [["console", "denied"], ["meetings", "allowed"]]
    received = json.loads(call("sign-in", "P1", "--format", "json").out)["resources"]
    assert {each["resource"]: each["outcomes"] for each in received} == {"console": ["denied"], "meetings": ["allowed"]}


def test_a_rehearsed_change_of_people_tells_who_gets_in_and_who_does_not() -> None:
    rules = (
        "  - {id: A1, mode: enforce, people: {include: {group: g1}}, resources: {include: [console]}, outcome: {deny: true}}\n"
        "  - {id: A2, mode: enforce, people: {include: {any: true}}, resources: {include: [meetings]}, outcome: {require: {all_of: [mfa]}}}\n"
    )
    made(
        "expect: {person: roles, within: [admin]}",
        access__rules=ACCESS + rules,
        people=PEOPLE.replace("required", "offered"),
        authenticators="person,type\nP1,multi-factor-otp\n",
        partners="domain,home_mfa_counts\npartner.example,false\n",
        passes="person,issued_at,expires_at\n",
    )
    Path("c.yaml").write_text(
        "usher-gate: changes/1\ntitle: t\nchanges:\n  - members: {group: g1, add: [P2], remove: [P1]}\n"
        "  - partner: {domain: partner.example, home_mfa_counts: true}\n"
        "  - people: {who: {person: [P1, P3]}, mfa: required}\n"
    )
    received = json.loads(call("rehearse", "--changes", "c.yaml", "--format", "json").out)["access"]
    found = {(each["resource"], each["what"]): (each["people"], each["always"]) for each in received}
    assert found == {
        # ada leaves the group that is denied, and ben joins it.
        ("console", "gets-in"): (["P1"], ["P1"]),
        ("console", "denied"): (["P2", "P3"], ["P2"]),  # cia by an old client, which shows nothing
        ("console", "stuck"): (["P3"], []),  # cia must show a second factor, and has none
        ("meetings", "gets-in"): (["P4"], ["P4"]),  # the partner's second factor counts now
    }
    assert "Sign-ins that would meet something else" in call("rehearse", "--changes", "c.yaml").out
    Path("snapshot/passes.csv").unlink()  # then no one knows whether cia has a pass to register with
    received = json.loads(call("rehearse", "--changes", "c.yaml", "--format", "json").out)["access"]
    unclear = {each["what"]: each["people"] for each in received if each["resource"] == "console"}
    assert unclear == {"gets-in": ["P1"], "denied": ["P2", "P3"], "unknown": ["P3"]}


def test_one_more_way_in_is_told_as_one_of_several() -> None:
    rule = f"  - {{id: A1, mode: enforce, {CONSOLE}, when: {{client: [app]}}, outcome: {{deny: true}}}}\n"
    made(
        "expect: {person: roles, within: [admin]}",
        access__rules=ACCESS + rule,
        people=PEOPLE.replace("required", "offered"),
    )
    Path("c.yaml").write_text("usher-gate: changes/1\ntitle: t\nchanges:\n  - access_rule: {id: A1, mode: observe}\n")
    received = json.loads(call("rehearse", "--changes", "c.yaml", "--format", "json").out)["access"]
    found = [(each["what"], each["people"], each["always"]) for each in received]
    # Whether dag has to show a second factor is not known: the cell is empty.
    assert found == [("gets-in", ["P1", "P2", "P3", "P5"], []), ("unknown", ["P4"], ["P4"])]


@pytest.mark.parametrize(("changed", "said"), [("2026-11-01T06:00:00Z", "for 19 days)"), ("2026-10-01T06:00:00Z", "for 50 days, which is long)"), ("", "since when is not known)")])  # fmt: skip
def test_an_observed_rule_is_named_with_its_age(changed: str, said: str) -> None:
    at = f", changed_at: {changed}" if changed else ""
    rule = f"  - {{id: A1, mode: observe{at}, {CONSOLE}, outcome: {{deny: true}}}}\n"
    made("expect: {person: roles, within: [admin]}", access__rules=ACCESS + rule)
    line = f"1 access rule is only observed and stops no one: A1 ({said}."
    assert line in call("check", "--show", "all").out
    assert call("report").status == 0 and line in Path("report.html").read_text()
    toml = Path("usher-gate.toml")
    toml.write_text("observed_days = 10\n" + toml.read_text())
    assert result()["observed_rules"][0]["old"] is True


# F: history, exceptions, forms


def test_a_gap_in_the_data_is_not_a_mend() -> None:
    def keep(day: str, columns: str = "mfa", exceptions: str = NOBODY_EXCEPTED) -> None:
        people = PEOPLE if columns == "mfa" else PEOPLE.replace(",mfa,", ",x.mfa,")
        organisation = ORGANISATION.replace("2026-11-20", day)
        made(MFA, organisation=organisation, people=people)
        Path("exceptions.yaml").write_text(exceptions)
        assert call("check", "--keep").status == (3 if columns != "mfa" else 0 if exceptions != NOBODY_EXCEPTED else 1)

    def since() -> dict[str, int]:
        received = json.loads(call("history", "--since", "1", "--format", "json").out)
        assert call("history", "--verify").status == 0
        return {word: number for word, number in received["since"].items() if word not in ("from", "to") and number}

    excepted = NOBODY_EXCEPTED.replace("[]", "\n  - {id: X, rules: [R1], who: {id: [P2]}, reason: r, approved_by: a, until: 2027-01-01}")  # fmt: skip
    keep("2026-11-01")
    keep("2026-11-08", "none")  # the column is gone for a week
    assert since() == {"not-known-now": 1}
    keep("2026-11-15")
    assert since() == {"still": 1}
    keep("2026-11-18", exceptions=excepted)
    assert since() == {"excepted": 1}
    keep("2026-11-19")
    assert since() == {"still": 1}
    last = json.loads(call("history", "--format", "json").out)["checks"][-1]
    assert (last["oldest_age_days"], last["new"], last["back"], last["gone"]) == (18, 0, 0, 0)
    assert json.loads(call("check", "--format", "json").out)["since"]["oldest_age_days"] == 18


def test_a_service_that_is_gone_for_a_week_mends_nothing() -> None:
    for day, services in (("2026-11-01", SERVICES), ("2026-11-08", SERVICES.replace("tidecall", "quaychat")), ("2026-11-15", SERVICES)):  # fmt: skip
        settings = SETTINGS.replace("guests,true", "everyone,")
        settings = settings if "tidecall" in services else settings.replace("tidecall", "quaychat").replace("everyone", "members")  # fmt: skip
        made(WAITING, organisation=ORGANISATION.replace("2026-11-20", day), services=services, settings=settings)
        assert call("check", "--keep").status in (0, 1)
    data_points = json.loads(call("history", "--format", "json").out)["checks"]
    assert [
        (data_point["drifts"], data_point["not-known-now"], data_point["gone"], data_point["new"])
        for data_point in data_points
    ] == [
        (5, None, None, None),
        (0, 5, 0, 0),
        (5, 0, 0, 0),
    ]
    assert data_points[-1]["oldest_age_days"] == 14


def test_a_link_kept_elsewhere_finds_a_record_that_was_cut_off() -> None:
    import sqlite3

    for day in ("2026-11-18", "2026-11-19", "2026-11-20"):
        made(MFA, organisation=ORGANISATION.replace("2026-11-20", day))
        assert call("check", "--keep").status == 1
    first, last = (json.loads(call("history", "--format", "json").out)["checks"][place]["link"] for place in (0, -1))
    Path("kept.txt").write_text(f"kept in the safe: {last}\n")
    whole = call("history", "--verify", "--link", "kept.txt")
    assert whole.status == 0 and "the link is that of check 3 (2026-11-20T06:00:00Z, kept at " in whole.out
    assert "2 more followed" in call("history", "--verify", "--link", first).out
    assert "cannot be recognised from inside" in call("history", "--verify").out
    with sqlite3.connect("history.db") as database:
        for line in ("DELETE FROM checks WHERE number = 3", "DELETE FROM counts WHERE number = 3"):
            database.execute(line)
    assert call("history", "--verify").status == 0  # from inside nothing is wrong
    cut = call("history", "--verify", "--link", "kept.txt")
    assert cut.status == 1 and "is in no check: the record was rewritten, or cut off" in cut.out
    assert call("history", "--verify", "--link", "nowhere").status == 2


def test_a_history_of_the_first_version_is_read_and_upgraded() -> None:
    import sqlite3

    made(MFA)
    assert call("check", "--keep").status == 1
    with sqlite3.connect("history.db") as database:
        database.execute("ALTER TABLE checks DROP COLUMN kept_at")
        database.execute("UPDATE alembic_version SET version_num = '0001'")
    assert call("history").status == 0
    made(MFA, organisation=ORGANISATION.replace("2026-11-20", "2026-11-21"))
    assert call("check", "--keep").status == 1
    assert "kept_at" not in call("history", "--verify").out
    with sqlite3.connect("history.db") as database:
        assert [row[0] is None for row in database.execute("SELECT kept_at FROM checks ORDER BY number")] == [
            True,
            False,
        ]


def test_an_exception_for_a_person_stays_with_the_person() -> None:
    made(MFA)
    options = ("--rule", "R1", "--person", "ben@northmere.example", "--reason", "r", "--approved-by", "a", "--until", "2026-12-31")  # fmt: skip
    done = call("exceptions", "add", "X1", *options)
    assert (done.status, 'who: {id: ["P2"]}  # ben@northmere.example\n' in Path("exceptions.yaml").read_text()) == (
        0,
        True,
    )
    assert result()["summary"]["verdicts"]["excepted"] == 1
    swapped = PEOPLE.replace("ben@", "old.ben@").replace("cia@", "ben@").replace("ben@northmere.example,member,/Shore,required", "ben@northmere.example,member,/Shore,offered")  # fmt: skip
    made(MFA, people=swapped)
    call("exceptions", "add", "X1", *options[:2], "--person", "P2", *options[4:])
    assert {each["subject"]["id"]: each["verdict"] for each in result()["findings"]} == {
        "P2": "excepted",
        "P3": "drifts",
    }
    other = call("exceptions", "add", "X2", *options, "--exceptions", "other.yaml")
    assert "usher-gate.toml reads exceptions.yaml: without --exceptions other.yaml no verb knows of X2" in other.err


def test_oscal_under_a_framework_of_one_s_own() -> None:
    made(f"{MFA}, maps: {{Our house rules: [H-7 (b)]}}", "expect: {person: roles, within: [admin]}")
    [received] = json.loads(call("check", "--format", "oscal").out)["assessment-results"]["results"]
    found = {
        finding["target"]["target-id"]: (finding["target"]["status"]["state"], {prop["name"]: prop["value"] for prop in finding["props"]})
        for finding in received["findings"]
    }  # fmt: skip
    assert found == {
        "x-our-house-rules-h-7-b": ("not-satisfied", {"framework": "Our house rules", "control": "H-7 (b)"}),
        "x-rule-r2": ("satisfied", {"rule": "R2"}),
    }
    assert received["remarks"] == "1 rule maps to no framework: R2."


def test_a_starter_takes_only_what_the_snapshot_can_answer() -> None:
    made(MFA)
    counted = {}
    for part in ("everything", "sign-in", "meetings"):
        done = call("baseline", "--start", part, "--out", "new.yaml")
        assert done.status == 0 and "rules are left out, which the snapshot cannot answer (" in done.err
        counted[part] = Path("new.yaml").read_text().count("\n  - id: ")
        checked = call("check", "--baseline", "new.yaml", "--format", "json")
        summary = json.loads(checked.out)["summary"]
        assert summary["rules_judging_nobody"] == [] and summary["verdicts"]["unknown"] <= summary["verdicts"]["drifts"]
    assert counted["everything"] == counted["sign-in"] + counted["meetings"] > 0 < counted["sign-in"]
    whole = call("baseline", "--start", "everything", "--all")
    assert whole.out.count("\n  - id: ") == 66 and not whole.err


# J: where the text was open


def test_where_a_service_default_is() -> None:
    made(WAITING, settings="service,control,scope,value\n")
    assert [each["where"] for each in result()["roots"]] == ["services.yaml:5"]
    rows = call("check", "--format", "csv").out.splitlines()
    assert rows[1].split(",")[rows[0].split(",").index("where")] == "services.yaml:5"


def test_words_that_nobody_has_are_noted_in_counts_and_unused_audiences_too() -> None:
    steersmen = CONSOLE.replace("any: true", "role: steersman")
    rules = f"{ACCESS}  - {{id: A1, mode: enforce, {steersmen}, outcome: {{deny: true}}}}\n"
    made("subject: organisation, expect: {count: {role: adnim}, is: 0}", access__rules=rules)
    baseline = Path("baseline.yaml")
    baseline.write_text(baseline.read_text().replace("rules:", "audiences: {masters: {licence: gold}}\nrules:"))
    notes = result()["notes"]
    assert any(note.startswith("the count of rule R1 asks for the role 'adnim', which no one has") for note in notes)
    assert any("the key include of access rule A1" in note and "'steersman'" in note for note in notes), notes


def test_a_planned_meeting_of_a_kind_that_the_service_lacks_has_the_gates_of_its_kind() -> None:
    services = SERVICES + "    door: {kinds: [scheduled]}\n"
    rule = "subject: meetings, expect: {door: {kind: webinar, standing: nobody}, no_weaker_than: waits}"
    made(rule, services=services, meetings=f"{MEETINGS}m1,tidecall,P1,{AT},webinar,\nm2,tidecall,P1,{AT},scheduled,\n")
    assert [(each["subject"]["id"], each["verdict"]) for each in result()["findings"]] == [("m1", "drifts")]


def test_a_meeting_in_a_personal_room_that_is_off_fails_no_rule_and_is_not_loose() -> None:
    settings = SETTINGS.replace("true", "") + "tidecall,door.personal-room,organisation,{},\n"
    meetings = f"{MEETINGS}m1,tidecall,P1,{AT},personal,\n"
    asked = "subject: meetings, pinned: true, expect: {door: {kind: personal, standing: %s}, %s}"
    rules = (asked % ("member", "is: enters"), asked % ("nobody", "no_weaker_than: waits"))
    for value, verdicts in (
        ("off", ["meets", "meets"]),
        ("on", ["drifts", "loose"]),
    ):  # members wait, too: guests are let in by none
        made(*rules, settings=settings.format(value), meetings=meetings)
        received = {each["rule"]: each["verdict"] for each in result()["findings"]}
        assert [received.get(rule, "meets") for rule in ("R1", "R2")] == verdicts, value


def test_days_ahead_are_whole_days() -> None:
    starts = ("2026-11-21T05:59:59Z", "2026-11-21T06:00:00Z", "2026-11-22T05:00:00Z", "2026-11-22T06:00:00Z")
    meetings = MEETINGS + "".join(f"m{n},tidecall,P1,{at},scheduled,\n" for n, at in enumerate(starts))
    made(*(f"subject: meetings, expect: {{meeting: days-ahead, is: {days}}}" for days in range(3)), meetings=meetings)
    drifting = {(each["rule"], each["subject"]["id"]) for each in result()["findings"]}
    every = {(rule, f"m{n}") for rule in ("R1", "R2", "R3") for n in range(4)}
    assert every - drifting == {("R1", "m0"), ("R2", "m1"), ("R2", "m2"), ("R3", "m3")}


def test_a_meeting_whose_organiser_left_has_left() -> None:
    rule = "subject: meetings, expect: {meeting: invitees, no_weaker_than: 0}"
    meetings = f"{MEETINGS}m1,tidecall,P2,{AT},scheduled,a@x.example\n"
    made(rule, meetings=meetings)
    assert call("check", "--keep").status == 1
    people = (
        PEOPLE.replace("roles\n", "roles,active\n")
        .replace(",admin\n", ",admin,\n")
        .replace("offered,\n", "offered,,false\n")
    )
    later = ORGANISATION.replace("2026-11-20", "2026-11-27")
    made(
        rule,
        meetings=meetings,
        organisation=later,
        people="".join(f"{row}{'' if row.count(',') == 6 else ','}\n" for row in people.splitlines()),
    )
    assert call("check", "--keep").status == 3  # the rule judges no one any more
    assert re.search(r"\bleft +1 ", call("history", "--since", "1").out)


def test_changes_that_do_nothing_do_nothing() -> None:
    made(MFA)
    Path("c.yaml").write_text("usher-gate: changes/1\ntitle: t\nchanges: []\n")
    done = call("rehearse", "--changes", "c.yaml")
    assert done.status == 0 and "changes is empty, so nothing is changed" in done.err
    Path("c.yaml").write_text("usher-gate: changes/1\ntitle: t\nchanges:\n  - members: {group: g1, remove: []}\n")
    assert "remove is empty, so it does nothing" in call("rehearse", "--changes", "c.yaml").err


def test_a_person_without_findings_has_an_empty_history() -> None:
    made(MFA)
    assert call("check", "--keep").status == 1
    assert call("history", "--person", "P3").status == 0
    assert json.loads(call("history", "--person", "eve@northmere.example", "--format", "json").out)["spells"] == []
    assert call("history", "--person", "P9").status == 2


def test_settings_of_a_service_that_was_not_gathered_are_not_all_there_is() -> None:
    import hashlib

    made(WAITING, settings=SETTINGS.replace("guests,true", "everyone,"))
    manifest: dict[str, Any] = {"usher-gate": "manifest/1", "missing": [], "services": []}
    manifest["files"] = [
        {"name": path.name, "sha256": hashlib.sha256(path.read_bytes()).hexdigest(), "bytes": path.stat().st_size}
        for path in Path("snapshot").iterdir()
    ]
    Path("snapshot/manifest.json").write_text(json.dumps(manifest))
    assert {each["verdict"] for each in result()["findings"]} == {"unknown"}


# G 45, G 48


def test_why_tells_arrival_rank_chain_and_the_value_of_the_exempt() -> None:
    settings = (
        "service,control,scope,value,changed_at\ntidecall,door.waiting-room,group:g3,hosts,2026-11-20T05:00:00Z\n"
        "tidecall,door.listed-domains,group:g1,a.example,\ntidecall,door.listed-domains,group:g3,b.example,\n"
    )
    made(
        "audience: {unit: /Shore}, expect: {control: door.waiting-room, no_weaker_than: guests}",
        settings=settings,
        groups="id,name\ng1,Watch\ng2,Crew\ng3,Everyone at sea\n",
        members="group,member,type\ng1,P1,\ng2,g1,group\ng3,g2,group\n",
        units="path,name\n/Shore,Shore offices\n",
    )
    walk = call("why", "P1", "door.waiting-room").out
    assert "It should have arrived by 2026-11-21 05:00 UTC." in walk
    assert "In the group g3 (Everyone at sea) through g1 (Watch), which is in g2 (Crew)." in walk
    assert "set at group:g3 (Everyone at sea)" in walk
    assert "They are of equal rank: the weaker value counts." in call("why", "P1", "door.listed-domains").out
    contested = {}
    for control in ("door.listed-domains", "door.waiting-room"):
        [walked] = json.loads(call("why", "P1", control, "--format", "json").out)["walks"]
        contested[control] = [each["scope"] for each in walked["contested"]]
    assert contested == {"door.listed-domains": ["group:g1", "group:g3"], "door.waiting-room": []}
    exempt = call("why", "P1", "--rule", "R1").out
    assert (
        "The value all the same: tidecall: waiting room: only hosts walk in, set at group:g3 (Everyone at sea)."
        in exempt
    )
    [said] = json.loads(call("why", "P1", "--rule", "R1", "--format", "json").out)["verdicts"]
    assert (said["verdict"], said["values"][0]["value"]) == ("exempt", "hosts")


@pytest.mark.parametrize(("minutes", "shown"), [("11520", "8 days"), ("11521", "11,521 minutes"), ("120", "2 hours"), ("60", "1 hour"), ("0", "0 minutes")])  # fmt: skip
def test_numbers_have_their_units(minutes: str, shown: str) -> None:
    services = SERVICES.replace('["door.*"]', '["sign-in.*"]').replace("door.waiting-room: everyone", f"sign-in.pass-minutes: {minutes}").replace("[door.waiting-room]", "[]")  # fmt: skip
    made("expect: {control: sign-in.pass-minutes, is: 1}", services=services, settings="service,control,scope,value\n")
    assert f"sign-in.pass-minutes = {shown}, the service default" in call("check", "--show", "all", "--ids").out
    assert f"sign-in.pass-minutes is {shown}" in call("why", "P1", "sign-in.pass-minutes", "--ids").out
    assert result()["roots"][0]["value"] == minutes  # a program reads the number


def test_a_control_is_named_by_its_title_where_only_one_has_it() -> None:
    own = "controls:\n  - {id: dock.room, title: Waiting Room, kind: flag, strict: 'on'}\n"
    made("expect: {control: door.waiting-room, is: hosts}")
    assert "(door.waiting-room)" in call("why", "P1", "WAITING room").out
    made("expect: {control: door.waiting-room, is: hosts}", organisation=ORGANISATION + own)
    done = call("why", "P1", "waiting room")
    assert (done.status, done.out) == (2, "")
    assert "2 controls are called 'waiting room'; name one by id: door.waiting-room or dock.room" in done.err
    assert call("why", "P1", "door.waiting-room").status == 0


def test_the_places_of_settings_are_looked_up_once_a_check(monkeypatch: pytest.MonkeyPatch) -> None:
    """Once for each of a thousand causes it took six times as long as the check."""
    answers: list[Any] = []
    monkeypatch.setattr("usher_gate.cli.check.write", lambda *given: answers.append(given[2]))
    made("expect: {control: door.waiting-room, is: hosts}")
    call("check")
    assert answers[0].where is answers[0].where
