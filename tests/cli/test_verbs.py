"""The other verbs: demo, why, baseline, exceptions, help and version."""

from __future__ import annotations

import json
import shlex
import shutil
from pathlib import Path

import pytest

from tests import tiny
from tests.cli.test_golden import CALLS, WEEKS, called
from tests.conftest import PLANNED, demo_run
from tests.program import PROGRAM, call, process
from tests.tiny import write_tiny
from usher_gate import __version__
from usher_gate.cli.main import VERBS
from usher_gate.demo.write import files


def test_the_demo_is_the_same_every_time_and_checks_itself(
    tmp_path: Path, tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By the two examples of its help, as they stand.

    The twelve weeks are made by the first, and end in the link that they always do.
    """
    lines = [shlex.split(line)[1:] for line in examples() if line.startswith("usher-gate demo")]
    assert lines == [["demo"], ["demo", "elsewhere", "--no-colour"]]
    first, printed = demo_run(tmp_path_factory)
    monkeypatch.setattr("usher_gate.cli.demo.keep_weeks", lambda _: "")
    monkeypatch.setenv("COLUMNS", "100")
    done = call(*lines[1], cwd=tmp_path)
    assert done.status == 0
    assert done.out.splitlines()[:-1] == printed.splitlines()[:-1]
    assert "Try next: cd northmere && usher-gate why" in printed
    for name, text in files().items():
        for folder in (first, tmp_path / "elsewhere"):
            assert (folder / name).read_bytes().decode() == text
    assert len(json.loads(call("history", "--format", "json", cwd=first).out)["checks"]) == 12
    assert call("history", "--link", cwd=first).out == WEEKS.read_text()


def test_the_demo_is_made_anew_where_nobody_changed_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("usher_gate.cli.demo.keep_weeks", lambda _: "")
    for more in ([], ["--fresh"]):
        done = call("demo", "one", "--format", "json", *more, cwd=tmp_path)
        assert done.status == 0, done.err
    assert call("demo", "one", cwd=tmp_path).status == 2
    (tmp_path / "one" / "usher-gate.toml").write_text("# mine\n")
    assert call("demo", "one", "--fresh", cwd=tmp_path).status == 2


def test_help_and_version() -> None:
    assert call("--version").out == f"usher-gate {__version__}\n"
    top = call("--help")
    assert (top.status, call().out) == (0, top.out)
    for verb in VERBS:
        assert verb in top.out
        done = process(verb, "--help", width=100)
        assert done.status == 0
        assert "examples" in done.out
        assert len(done.out.splitlines()) <= 45


def examples() -> list[str]:
    """The example calls at the end of every verb's help, apart from those whose output is compared (test_golden)."""
    import importlib

    found = []
    for verb in VERBS:
        text = importlib.import_module(f"usher_gate.cli.{verb.replace('-', '_')}").EXAMPLES.replace("\\\n", " ")
        found += [line.strip() for line in text.splitlines()[1:]]
    compared = {f"usher-gate {called(line)}" for line in CALLS}
    return [line for line in found if line not in compared]


@pytest.mark.parametrize("line", [line for line in examples() if not line.startswith("usher-gate demo")])
def test_the_examples_run_as_they_stand_on_the_demo(demo: Path, request: pytest.FixtureRequest, line: str) -> None:
    program, *arguments = shlex.split(line)
    assert program == "usher-gate"
    if arguments[0] == "stand-in":
        run_until_it_serves(arguments, demo)
        return
    if arguments[0] == "history":  # there has to be one
        shutil.copy(request.getfixturevalue("demo_history"), demo)
    if line == PLANNED:
        assert json.loads(request.getfixturevalue("demo_plan").read_text())["edits"]
        return
    if "--plan" in arguments:  # likewise
        shutil.copy(request.getfixturevalue("demo_plan"), demo / arguments[arguments.index("--plan") + 1])
    done = call(*arguments, cwd=demo / "practice" if arguments[0] == "gather" else demo)
    stops = arguments[0] in ("check", "mend", "guests") or {"--since", "--changes", "--draft"} & {
        *arguments
    }  # what drifts, or would hurt someone, is status 1
    assert done.status in ((0, 1) if stops else (0,)), done.err


def run_until_it_serves(arguments: list[str], folder: Path) -> None:
    """The stand-in serves until it is interrupted; the port of its own choice, since others test beside us."""
    import signal
    import subprocess

    program = PROGRAM
    child = subprocess.Popen(
        [program, *arguments, "--port", "0"], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert child.stdout is not None
    said = [child.stdout.readline() for _ in range(5)]
    child.send_signal(signal.SIGINT)
    assert child.wait(30) == 130
    assert "practice ground" in said[0]
    assert "237 people, 24 groups" in said[1]
    child.communicate()


def test_why_tells_each_step_and_where_a_pin_ended_the_walk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    settings = ("service,control,scope,value,pinned,rank,note\ntidecall,door.waiting-room,organisation,everyone,,,\n"
                "tidecall,door.waiting-room,unit:/Fleet,members,true,,\ntidecall,door.waiting-room,unit:/Fleet/Deck,everyone,,,\n"
                "tidecall,door.waiting-room,group:g1,hosts,,2,\ntidecall,door.waiting-room,group:g2,guests,,1,\n"
                "tidecall,door.waiting-room,person:P1,everyone,,,\n")  # fmt: skip
    monkeypatch.chdir(write_tiny(tmp_path, {"snapshot/settings.csv": settings, "snapshot/groups.csv": "id,name\ng1,A\ng2,B\n",
                                            "snapshot/members.csv": "group,member\ng1,P1\ng2,P1\n"}))  # fmt: skip
    walk = json.loads(call("why", "ada@northmere.example", "door.waiting-room", "--format", "json").out)["walks"][0]
    assert (walk["value"], walk["scope"], walk["pinned"], walk["changeable"]) == ("members", "unit:/Fleet", True, False)
    assert [(step["step"], step["ends_the_walk"], [(each["scope"], each["state"], each["at"]) for each in step["settings"]])
            for step in walk["steps"]] == [
        ("factory", False, [("factory", "overridden", None)]), ("organisation", False, [("organisation", "overridden", "settings.csv:2")]),
        ("unit:/", False, []), ("unit:/Fleet", True, [("unit:/Fleet", "stands", "settings.csv:3")]),
        ("unit:/Fleet/Deck", False, [("unit:/Fleet/Deck", "after-pin", "settings.csv:4")]),
        ("group", False, [("group:g2", "after-pin", "settings.csv:6"), ("group:g1", "after-pin", "settings.csv:5")]),
        ("person", False, [("person:P1", "after-pin", "settings.csv:7")])]  # fmt: skip
    assert [(each["rule"], each["verdict"]) for each in walk["rules"]] == [("R1", "meets")]


def test_why_names_contests_contradictions_gaps_and_exemptions(demo: Path) -> None:
    contested = json.loads(call("why", "N1053", "app.third-party", "--format", "json").out)["walks"][0]
    assert [each["value"] for each in contested["contested"]] == ["any", "none"]
    assert contested["value"] == "any"
    clash = call("why", "N1171", "line.encryption").out
    assert "Contradiction: who may record is 'hosts only' (set at organisation)." in clash
    assert "is not in the rule's audience" in call("why", "N1001", "--rule", "NM-01").out
    (demo / "snapshot" / "members.csv").unlink()
    gap = json.loads(call("why", "N1001", "door.waiting-room", "--service", "tidecall", "--format", "json").out)[
        "walks"
    ][0]
    assert gap["value"] is None
    assert [step["gap"] for step in gap["steps"] if step["step"] == "group"] == ["there is no members table"]


def test_why_and_check_agree_about_everybody(demo: Path) -> None:
    found = {}
    for each in json.loads(call("check", "--format", "json").out)["findings"]:
        found[each["rule"], each["service"], each["subject"]["id"]] = (each["verdict"], each["reason"])
    for rule in ("DOOR-01", "DOOR-09", "SIGN-03", "APP-01", "FILE-01"):
        for person in ("N1001", "N1053", "N1171", "N1179", "N1210"):
            for said in json.loads(call("why", person, "--rule", rule, "--format", "json").out)["verdicts"]:
                if said["verdict"] in ("meets", "exempt"):
                    assert (rule, said["service"], person) not in found
                else:
                    assert found[rule, said["service"], person] == (said["verdict"], said["reason"])


@pytest.mark.parametrize("strength", ["every-organisation", "high-assurance"])
def test_a_starter_baseline_is_valid_and_speaks_only_of_what_the_services_support(demo: Path, strength: str) -> None:
    assert call("baseline", "--start", strength, "--out", "new.yaml").status == 0
    done = call("check", "--baseline", "new.yaml", "--exceptions", "none.yaml", "--format", "json")
    assert done.status == 2  # no such exceptions file
    (demo / "none.yaml").write_text("usher-gate: exceptions/1\nexceptions:\n")
    done = call("check", "--baseline", "new.yaml", "--exceptions", "none.yaml", "--format", "json")
    assert done.status == 1
    text = (demo / "new.yaml").read_text()
    assert "DOOR-01" in text
    assert "legacy-protocols" not in text
    rules = json.loads(call("baseline", "--baseline", "new.yaml", "--format", "json").out)["rules"]
    assert all(
        rule["because"] and rule["mend"] and {"NIST SP 800-53r5", "ISO/IEC 27001:2022"} <= rule["maps"].keys()
        for rule in rules
    )


def test_the_controls_are_listed_with_the_organisation_s_own(demo: Path) -> None:
    controls = {
        each["id"]: each for each in json.loads(call("baseline", "--controls", "--format", "json").out)["controls"]
    }
    assert controls["dock.camera"]["own"]
    assert controls["door.waiting-room"]["values"] == ["everyone", "partners", "guests", "members", "invitees", "hosts"]
    assert all(each["title"] and each["weak"] for each in controls.values())


ADD = (
    "exceptions",
    "add",
    "X9",
    "--rule",
    "R2",
    "--who",
    "login=eve@*",
    "--reason",
    'Eve: "later", #1',
    "--approved-by",
    "captain",
    "--until",
    "2026-12-24",
)


@pytest.mark.parametrize("text", [
    tiny.EXCEPTIONS, tiny.EXCEPTIONS.rstrip("\n"), tiny.EXCEPTIONS + "# the end\n", tiny.EXCEPTIONS.replace("  - id", "- id").replace("    ", "  "),
    "usher-gate: exceptions/1\nexceptions: []   # none yet\n", "usher-gate: exceptions/1\nexceptions:\n", None,
])  # fmt: skip
def test_adding_and_ending_leave_the_rest_of_the_file_as_it_was(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, text: str | None
) -> None:
    monkeypatch.chdir(write_tiny(tmp_path, {"exceptions.yaml": text}))
    assert "X9 covers nothing today" in call(*ADD).err
    path = tmp_path / "exceptions.yaml"
    listed = json.loads(call("exceptions", "--format", "json").out)["exceptions"]
    added = next(each for each in listed if each["exception"] == "X9")
    assert (added["reason"], added["approved_by"], added["until"], added["state"]) == (
        'Eve: "later", #1',
        "captain",
        "2026-12-24",
        "idle",
    )
    for line in (text or "").splitlines():
        if "[]" not in line:
            assert line in path.read_text().splitlines()
    before = path.read_text()
    assert call("exceptions", "end", "X9").status == 0
    assert path.read_text() == before.replace("2026-12-24", "2026-11-19")
    assert (
        next(
            each
            for each in json.loads(call("exceptions", "--format", "json").out)["exceptions"]
            if each["exception"] == "X9"
        )["state"]
        == "expired"
    )


@pytest.mark.parametrize(("change", "message"), [
    (("--until", "soon"), "--until 'soon' is not a day"), (("--rule", "R77"), "there is no rule 'R77'"), (("--who", "group=nobody"), "there is no group 'nobody'"),
    (("--who", "eve"), "--who 'eve' is no KEY=VALUE"), (("--partner", "a.example"), "an exception has either who (people) or partners (domains)"),
    (("--reason", " "), "an exception without --reason is refused"),
])  # fmt: skip
def test_what_is_not_whole_is_refused_and_changes_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, change: tuple[str, str], message: str
) -> None:
    monkeypatch.chdir(write_tiny(tmp_path))
    if change[0] == "--partner":
        monkeypatch.setattr("usher_gate.files.written.edit_exceptions.Draft.lines", lambda _, indent: [
            f"{indent}- {{id: X9, rules: [R2], who: {{any: true}}, partners: [a.example], reason: r, approved_by: a, until: 2026-12-01}}\n"])  # fmt: skip
    done = call(*ADD, *change)
    assert done.status == 2
    assert message in done.err
    assert (tmp_path / "exceptions.yaml").read_text() == tiny.EXCEPTIONS
    assert [path.name for path in tmp_path.glob(".*")] == []


def test_a_named_set_of_settings_is_one_thing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Three settings at two places: ada has both by the group; ben one by himself.

    The organisation's pin hides one from everyone.
    """
    monkeypatch.chdir(tmp_path)
    rows = """\
service,control,scope,value,pinned,note,set
tidecall,door.waiting-room,group:g1,everyone,,,Watch
tidecall,door.host-first,group:g1,off,,,Watch
tidecall,door.fresh-id,person:P2,off,,Watch,
tidecall,door.host-first,organisation,on,true,,
"""
    tiny.write_tiny(tmp_path, {"snapshot/settings.csv": rows})
    monkeypatch.setenv("COLUMNS", "120")
    done = call("why", "--set", "watch")
    first = "Watch (3 settings at 2 places) reaches 2 people; it counts in whole for 1 and in part for 1."
    assert (done.status, done.out.splitlines()[0]) == (0, first)
    shown = json.loads(call("why", "--set", "Watch", "--format", "json").out)
    assert [(each["control"], each["reached"], each["counts"]) for each in shown["settings"]] == [
        ("door.fresh-id", ["P2"], ["P2"]), ("door.host-first", ["P1"], []), ("door.waiting-room", ["P1"], ["P1"]),
    ]  # fmt: skip
    [hidden] = shown["settings"][1]["hidden"]
    assert (hidden["scope"], hidden["value"], hidden["people"], hidden["at"]) == (
        "organisation",
        "on",
        ["P1"],
        "settings.csv:5",
    )
    assert [(each["id"], each["ways"], each["controls"], each["counts"]) for each in shown["people"]] == [
        ("P2", ["person:P2"], 1, 1), ("P1", ["group:g1"], 2, 1),
    ]  # fmt: skip
    assert [
        each["id"] for each in json.loads(call("why", "P1", "--set", "Watch", "--format", "json").out)["people"]
    ] == ["P1"]
    assert "there is no set of settings called 'Wach'; did you mean 'Watch'?" in call("why", "--set", "Wach").err
    assert "leave everything else out" in call("why", "--set", "Watch", "--rule", "R1").err
