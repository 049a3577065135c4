"""What `check` promises beyond its verdicts: narrowing, exit statuses, order, widths, harmless names, whole files."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import signal
import subprocess
import sys
from pathlib import Path
from random import Random
from typing import Any

import pytest

from tests import tiny
from tests.program import PROGRAM, call, process
from tests.tiny import check, write_tiny
from usher_gate.engine.processes import Processes


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(write_tiny(tmp_path))
    return tmp_path


def result(*options: object) -> dict[str, Any]:
    made: dict[str, Any] = json.loads(check("--format", "json", *options).out)
    return made


@pytest.mark.parametrize(("options", "status"), [
    ((), 3), (("--rule", "R1"), 0), (("--rule", "R2"), 0), (("--exceptions", "none.yaml"), 1), (("--exceptions", "none.yaml", "--fail-at", "high"), 3),
    (("--exceptions", "none.yaml", "--unit", "/Shore"), 0), (("--exceptions", "none.yaml", "--person", "P2", "--severity", "medium"), 1),
])  # fmt: skip
def test_exit_statuses(folder: Path, options: tuple[str, ...], status: int) -> None:
    (folder / "none.yaml").write_text("usher-gate: exceptions/1\nexceptions: []\n")
    unknown = (
        tiny.BASELINE
        + "  - {id: R3, title: t, severity: high, audience: {login: 'dag@*'}, expect: {person: mfa, is: required}}\n"
    )
    (folder / "baseline.yaml").write_text(unknown)
    assert check(*options).status == status


def test_narrowing_reports_less_and_counts_groups_and_exceptions_whole(demo: Path) -> None:
    whole, narrow = result(), result("--unit", "/Fleet/Deck", "--severity", "high", "--verdict", "drifts")
    assert narrow["summary"]["people"] == 52
    assert {each["severity"] for each in narrow["findings"]} == {"high"}
    assert {each["verdict"] for each in narrow["findings"]} == {"drifts"}
    assert narrow["exceptions"] == whole["exceptions"]
    shares = {(each["id"], each["rule"]): each for each in whole["groups"]}
    assert narrow["groups"]
    assert all(shares[each["id"], each["rule"]] == each for each in narrow["groups"])
    drifting = [each for each in whole["findings"] if each["verdict"] == "drifts" and each["severity"] == "high"]
    deck = set((demo / "snapshot" / "people.csv").read_text().splitlines())
    ids = {row.split(",")[0] for row in deck if "/Fleet/Deck" in row}
    assert narrow["findings"] == [each for each in drifting if each["subject"]["id"] in ids]


def test_the_roots_of_a_rule_account_for_all_its_drifts(demo: Path) -> None:
    made = result()
    for rule in made["rules"][::5]:
        alone = result("--rule", rule["id"])
        assert sum(root["verdicts"] for root in alone["roots"]) == rule["verdicts"]["drifts"]


def test_neither_the_order_of_rows_nor_of_rules_changes_a_byte(demo: Path) -> None:
    before, rnd = check("--format", "json").out, Random(5)
    for path in (demo / "snapshot").glob("*.csv"):
        header, *rows = path.read_text().splitlines(keepends=True)
        rnd.shuffle(rows)
        path.write_text(header + "".join(rows))
    head, *rules = re.split(r"(?m)^(?=  - id: )", (demo / "baseline.yaml").read_text())
    rnd.shuffle(rules)
    (demo / "baseline.yaml").write_text(head + "".join(rules))
    after = check("--format", "json").out
    place = r'"?[a-z]+.csv(?::[0-9]+|", "line": [0-9]+)'
    assert re.sub(place, '"there"', after) == re.sub(place, '"there"', before)


def test_neither_the_clock_nor_the_time_zone_changes_a_byte(demo: Path) -> None:
    plain = process("check", "--format", "json", cwd=demo)
    assert (
        process("check", "--format", "json", cwd=demo, TZ="Pacific/Kiritimati", PYTHONHASHSEED="7", LC_ALL="C").out
        == plain.out
    )


@pytest.mark.parametrize("width", [60, 80, 120, 160])
def test_tables_keep_to_the_width(demo: Path, width: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    for arguments in (
        ("check",),
        ("check", "--rows", "0"),
        ("why", "N1001", "door.waiting-room"),
        ("exceptions",),
        ("baseline",),
    ):
        done = call(*arguments)
        assert max(map(len, done.out.splitlines())) <= width
        assert "\x1b" not in done.out


HARMFUL = ("=1+1", "+1", "-1", "@SUM(A1)", "\tx", " =1")


def test_names_do_nothing_in_a_spreadsheet(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    rows = "".join(f'P{number},"{name}",member,,offered,\n' for number, name in enumerate(HARMFUL))
    monkeypatch.chdir(write_tiny(tmp_path, {"snapshot/people.csv": tiny.PEOPLE.splitlines(keepends=True)[0] + rows,
                                            "snapshot/members.csv": "group,member\n", "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n"}))  # fmt: skip
    cells = [cell for row in csv.reader(io.StringIO(check("--format", "csv").out)) for cell in row]
    assert not [cell for cell in cells if cell.strip()[:1] in ("=", "+", "-", "@") or cell[:1] in ("\t", "\r")]
    shown = [name.replace("\t", "<U+0009>").replace("\r", "<U+000D>").replace("\n", "<U+000A>") for name in HARMFUL]
    assert {name if name[:1] == "<" else f"'{name}" for name in shown} <= set(cells)


def test_names_do_nothing_in_a_terminal(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    evil = "eve\x1b]0;owned\x07\x1b[31m\u202e@x.example"
    monkeypatch.chdir(
        write_tiny(tmp_path, {"snapshot/people.csv": tiny.PEOPLE + f"P9,{evil},member,/Fleet,offered,\n"})
    )
    for arguments in (
        ("check", "--show", "all"),
        ("why", "P9", "--rule", "R2"),
        ("check", "--format", "markdown", "--show", "all"),
    ):
        out = call(*arguments).out
        assert "eve<U+001B>" in out.replace("\\", "")
        assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f\u202e]", out)
    assert "\x1b" not in check("--format", "json").out


def test_a_file_is_written_whole_or_not_at_all(folder: Path) -> None:
    out = folder / "out.json"
    out.write_text("before")
    (folder / "baseline.yaml").write_text("nonsense")
    assert check("--out", out).status == 2
    assert out.read_text() == "before"
    (folder / "baseline.yaml").write_text(tiny.BASELINE)
    assert check("--format", "json", "--out", out).status == 0
    assert json.loads(out.read_text())["summary"]["people"] == 5
    assert not [path for path in folder.iterdir() if path.name.startswith(".out")]


def test_an_interrupted_check_leaves_nothing_behind(demo: Path) -> None:
    program = PROGRAM
    for delay in (0.05, 0.15, 0.3, 0.4):
        child = subprocess.Popen(
            [program, "check", "--format", "json", "--out", "o.json"], cwd=demo, stderr=subprocess.PIPE, text=True
        )
        try:
            child.wait(delay)
        except subprocess.TimeoutExpired:
            child.send_signal(signal.SIGINT)
        _, err = child.communicate()
        assert child.returncode in (1, 130, -signal.SIGINT), err
        assert not list(demo.glob(".o.json*"))
        if (demo / "o.json").exists():
            json.loads((demo / "o.json").read_text())


def test_an_interrupt_that_becomes_something_else_on_its_way_is_one_all_the_same(demo: Path, tmp_path: Path) -> None:
    """A module in C that is just being loaded lets Ctrl-C through as an error of its own."""
    (tmp_path / "numpy.py").write_text(
        "import os, signal, time\n"
        "try:\n    os.kill(os.getpid(), signal.SIGINT)\n    time.sleep(9)\n"
        "except KeyboardInterrupt:\n    raise ImportError('half loaded') from None\n"
    )
    done = subprocess.run(
        [PROGRAM, "check"],
        cwd=demo,
        env={**os.environ, "PYTHONPATH": str(tmp_path)},
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
    )
    assert (done.returncode, done.stderr) == (130, "usher-gate: interrupted\n")


def test_a_closed_pipe_is_no_error(demo: Path) -> None:
    program = PROGRAM
    done = subprocess.run(
        f"{program} check --format csv | head -1", shell=True, cwd=demo, capture_output=True, text=True, check=False
    )
    assert done.stdout.startswith("rule,severity,")
    assert "error" not in done.stderr


def test_a_bug_is_told_in_one_line_with_the_place_of_its_traceback(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: object) -> None:
        raise ZeroDivisionError("made up")

    monkeypatch.setattr("usher_gate.core.verdicts.check._conclude", broken)
    done = check()
    assert done.status == 2
    place = Path(done.err.rpartition(" ")[2].strip())
    assert done.err == f"usher-gate: error: this is a bug in usher-gate; the place in its code is written in {place}\n"
    assert "builtins.ZeroDivisionError" in place.read_text()
    assert "made up" not in place.read_text()
    place.unlink()


NOTES = [
    ({"snapshot/members.csv": tiny.MEMBERS + "g1,nobody\ng7,P1\n"}, "members.csv:3: 1 row names a person who does not exist; it is ignored"),
    ({"snapshot/members.csv": tiny.MEMBERS + "g7,P1\n"}, "members.csv:3: 1 row names a group that does not exist; it is ignored"),
    ({"snapshot/settings.csv": tiny.SETTINGS + "tidecall,door.close,person:P99,on,\n"},
     "settings.csv:4: 1 setting for a unit, group or person that does not exist (here 'person:P99'); ignored"),
    ({"snapshot/setings.csv": "a,b\n"}, "setings.csv is no table of a snapshot, and is not read; did you mean 'settings'?"),
    ({"snapshot/services.yaml": None}, "settings.csv cannot be used without services.yaml"),
    ({"snapshot/settings.csv": tiny.SETTINGS}, "settings has no column changed_at: nothing is known to have settled, so no setting counts as young"),
    ({"baseline.yaml": tiny.BASELINE.replace("{kind: member}", "{licence: plus}")},
     "the audience of rule R2 asks for the column licences, which the snapshot does not have: the rule is unknown for everyone"),
    ({"baseline.yaml": tiny.BASELINE.replace("{kind: member}", "{unit: /Flet}")}, "baseline.yaml:12: no one is in the unit '/Flet'; it chooses no one"),
    ({"snapshot/services.yaml": tiny.SERVICES + "    precedence: [organisation]\n",
      "snapshot/settings.csv": tiny.SETTINGS + "tidecall,door.close,unit:/Fleet,on,\n"},
     "1 settings of service tidecall at the level unit are ignored: the service has no such level"),
    ({"snapshot/services.yaml": tiny.SERVICES + "    accounts: {licence: plus}\n"},
     "the key accounts of service tidecall asks for the column licences, which the snapshot does not have: everyone is taken to have an account"),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "note"), NOTES, ids=range(len(NOTES)))
def test_notes(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, changes: dict[str, str | bytes | None], note: str
) -> None:
    monkeypatch.chdir(write_tiny(tmp_path, changes))
    done = check("--format", "json")
    assert done.status in (0, 1, 3), done.err
    assert note in json.loads(done.out)["notes"]


def test_without_services_every_control_is_unknown_for_its_audience(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(write_tiny(tmp_path, {"snapshot/services.yaml": None}))
    found = list(result("--rule", "R1")["findings"])
    assert [(each["service"], each["verdict"], each["reason"]) for each in found] == [(None, "unknown", "no-value")] * 5
    assert check("--rule", "R1").status == 3


def test_members_without_groups_are_groups_by_id(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(
        write_tiny(
            tmp_path, {"snapshot/groups.csv": None, "snapshot/members.csv": "group,member,type\ng1,P2,\ng0,g1,group\n"}
        )
    )
    made = result("--group", "g0", "--exceptions", "snapshot/../exceptions.yaml")
    assert made["summary"]["people"] == 1
    assert {(each["id"], each["name"]) for each in made["groups"]} <= {("g0", None), ("g1", None)}


def test_a_small_check_loads_nothing_that_it_does_not_need(demo: Path) -> None:
    heavy = {"numpy.ma", "pyarrow", "pandas", "scipy", "matplotlib", "rich", "jinja2", "sqlalchemy", "httpx2", "dask"}
    code = (
        "import sys\nfrom usher_gate.cli.main import run\n"
        "assert run(['check', '--format', 'json', '--out', 'o.json']) == 1\n"
        f"print(sorted({heavy!r} & set(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=demo, capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"


def test_people_are_shared_among_processes_where_there_is_much_to_judge_of_them(
    demo: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    begun: list[int] = []

    class Counted(Processes):
        def __init__(self, held: Any, size: int) -> None:
            begun.append(size)
            super().__init__(held, size)

    monkeypatch.setattr("usher_gate.engine.processes.Processes", Counted)
    monkeypatch.setattr("usher_gate.engine.processes.LARGE", 10)
    monkeypatch.setenv("USHER_GATE_PROCESSES", "2")
    alone = call("check", "--format", "json")
    assert begun == []
    monkeypatch.setattr("usher_gate.engine.processes.LARGE_WORK", 5_000)
    assert call("check", "--format", "json") == alone
    assert begun == [2]
    assert call("check", "--rule", "DOOR-17").status == 1
    assert begun == [2]


def test_parts_side_by_side_are_each_the_check_of_that_part_alone(demo: Path) -> None:
    sides = ("unit:/Fleet", "group:board", "person:N1171", "service:tidecall")
    options = [word for side in sides for word in ("--compare", side)]
    made = result(*options)
    assert [side["name"] for side in made["sides"]] == list(sides)
    for side in made["sides"]:
        kind, _, name = side["name"].partition(":")
        alone = result(f"--{kind}", name)
        assert (side["people"], side["drifting_people"]) == (
            alone["summary"]["people"],
            alone["summary"]["drifting_people"],
        )
        received = {each["rule"]: each["verdicts"] for each in made["rules"] if each["side"] == side["name"]}
        assert received == {each["id"]: each["verdicts"] for each in alone["rules"]}
    done = check(*options)
    assert done.status == 1
    first = "unit:/Fleet: 92 of 114 people drift, group:board: 4 of 4 people drift, person:N1171: 1 of 1 person drifts"
    assert first in " ".join(done.out.split()) and done.out.startswith("1 of the break-glass accounts is locked out")
    rows = list(csv.DictReader(io.StringIO(check(*options, "--format", "csv").out)))
    assert len(rows) == len(made["rules"])
    for wrong, why in (
        (("--compare", "unit:/Fleet"), "needs at least two parts"),
        (("--compare", "unit:/Fleet", "--compare", "/Shore"), "--compare /Shore: write one of unit:NAME"),
        (("--compare", "unit:/Fleet", "--compare", "unit:/x"), "there is no unit '/x'"),
        (("--compare", "unit:/Fleet", "--compare", "unit:/Shore", "--unit", "/"), "leave --unit out"),
        (
            ("--compare", "unit:/Fleet", "--compare", "unit:/Shore", "--format", "sarif"),
            "parts side by side are shown as table",
        ),
        (("--compare", "unit:/Fleet", "--compare", "unit:/Shore", "--keep"), "only whole checks are kept"),
    ):
        done = check(*wrong)
        assert (done.status, done.out) == (2, "") and why in done.err, done.err
