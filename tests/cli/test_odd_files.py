"""What is found where a file is due, what the names of things may hold, and where results go.

One line each, and nothing hangs.
"""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from tests import tiny
from tests.program import call, forked
from tests.tiny import check, write_tiny
from usher_gate.files.binary import LIMIT
from usher_gate.files.write import whole_file

RULES = "usher-gate: access-rules/1\nrules: []\n"
BAD = "\x1b]52;c;aGk=\x07\u202egnp\r\n\x9b31m"  # writes the clipboard, turns the text around, begins a line, colours


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(write_tiny(tmp_path))
    return tmp_path


def one_line(text: str) -> str:
    lines = text.splitlines()
    assert len(lines) == 1, text
    assert lines[0].startswith("usher-gate: error: ")
    assert "this is a bug" not in text
    return lines[0]


FILES = ("snapshot/organisation.yaml", "snapshot/people.csv", "snapshot/settings.csv", "snapshot/services.yaml", "baseline.yaml", "exceptions.yaml",
         "usher-gate.toml", "snapshot/manifest.json", "snapshot/partners.jsonl", "snapshot/passes.parquet")  # fmt: skip


@pytest.mark.parametrize("name", FILES)
def test_a_pipe_where_a_file_is_due_is_not_waited_for(folder: Path, name: str) -> None:
    (folder / name).unlink(missing_ok=True)
    os.mkfifo(folder / name)
    done = forked("check", cwd=folder)
    assert done.status == 2
    assert f"{name}: is a pipe where a file is due" in one_line(done.err)


@pytest.mark.parametrize("name", ["baseline.yaml", "snapshot/people.csv", "snapshot/manifest.json"])
@pytest.mark.parametrize(
    ("target", "what"), [("/dev/zero", "a device"), ("/dev/tty", "device"), ("/", "is a folder"), ("self", "cannot be")]
)
def test_devices_folders_and_circles_are_not_read(folder: Path, name: str, target: str, what: str) -> None:
    (folder / name).unlink(missing_ok=True)
    (folder / name).symlink_to(Path(name).name if target == "self" else target)
    done = forked("check", cwd=folder)
    assert done.status == 2
    assert what in done.err or (target == "self" and "does not exist" in done.err) or "leads nowhere" in done.err
    assert "bug" not in done.err


@pytest.mark.parametrize("name", ["log.jsonl", "log.csv", "log.parquet"])
def test_a_pipe_is_no_log(folder: Path, name: str) -> None:
    (folder / "snapshot/access-rules.yaml").write_text(RULES)
    os.mkfifo(folder / name)
    done = forked("rehearse", "--sign-ins", name, cwd=folder)
    assert done.status == 2
    assert "is a pipe" in one_line(done.err)


def test_the_size_of_a_file_is_bounded_and_the_bound_is_told_and_can_be_set(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv(LIMIT, "1")
    (folder / "snapshot/people.csv").write_text(
        tiny.PEOPLE + "".join(f"Q{n},q{n}@northmere.example,member,/,,\n" for n in range(30_000))
    )
    assert f"people.csv: is larger than 1 MiB; or set {LIMIT} to more" in one_line(check().err)
    monkeypatch.setenv(LIMIT, "2")
    assert check("--format", "json").status in (1, 3)


@pytest.mark.parametrize("broken", ["is_dir", "iterdir", "stat"])
def test_a_folder_that_may_not_be_read_is_one_line(folder: Path, monkeypatch: pytest.MonkeyPatch, broken: str) -> None:
    true = getattr(Path, broken)

    def denied(path: Path, *args: object, **more: object) -> object:
        if path.name == "snapshot":
            raise PermissionError(13, "Permission denied", str(path))
        return true(path, *args, **more)

    monkeypatch.setattr(Path, broken, denied)
    done = check()
    assert done.status == 2
    assert "snapshot: cannot be used (Permission denied)" in one_line(done.err)


@pytest.mark.parametrize(("text", "said"), [
    ('snapshot = "snap\\u0000shot"', "usher-gate.toml:1: snapshot is not a path"), (f'snapshot = "{"x" * 100_000}"', "usher-gate.toml:1: snapshot is not a path"),
    ("x = " + "[" * 5_000 + "]" * 5_000, "usher-gate.toml:1: "), ("a = 1\nb = \udcff", "usher-gate.toml:2: is not UTF-8"),
])  # fmt: skip
def test_odd_settings_files_are_one_line(folder: Path, text: str, said: str) -> None:
    (folder / "usher-gate.toml").write_bytes(text.encode("utf-8", "surrogateescape"))
    done = check()
    assert done.status == 2
    assert said in one_line(done.err)


def test_a_column_without_a_name_is_named_with_its_place(folder: Path) -> None:
    (folder / "snapshot/settings.csv").write_text(
        "service,control,scope,value,\ntidecall,door.host-first,organisation,on,\n"
    )
    assert "snapshot/settings.csv:1: the column 5 has no name" in one_line(check().err)


@pytest.mark.parametrize("ends", ["\r", "\r\n", "\n"])
def test_a_log_with_any_line_ends_is_read(folder: Path, ends: str) -> None:
    (folder / "snapshot/access-rules.yaml").write_text(RULES)
    row = "2026-11-19T08:00:00Z,P1,console"
    (folder / "log.csv").write_bytes(ends.join(["time,person,resource", row, row, ""]).encode())
    done = call("rehearse", "--sign-ins", "log.csv", "--format", "json")
    assert done.status == 0, done.err
    assert json.loads(done.out)["events"]["decided"] == 2


def test_bytes_that_are_not_utf_8_in_a_log_are_counted_with_their_place(folder: Path) -> None:
    (folder / "snapshot/access-rules.yaml").write_text(RULES)
    row = b"2026-11-19T08:00:00Z,P1,console\n"
    (folder / "log.csv").write_bytes(
        b"time,person,resource\n" + row + row.replace(b"P1", b"P\xff") + row.replace(b"2026", b"\xfe026")
    )
    found = json.loads(call("rehearse", "--sign-ins", "log.csv", "--format", "json").out)
    assert found["events"]["decided"] == 1
    assert {each["first"].rpartition(":")[2] for each in found["unused"]} == {"3", "4"}


def harmless(text: str) -> None:
    assert not [char for char in text if not char.isprintable() and char != "\n"], repr(text)


def test_names_that_a_terminal_would_obey_are_shown_escaped_everywhere(folder: Path) -> None:
    name = json.dumps(BAD)
    (folder / "snapshot/people.csv").write_text(
        f'id,login,name,kind,unit,mfa,roles\n"P1{BAD}","ada{BAD}@x","{BAD}",member,"/Fleet{BAD}",offered,admin\n'
    )
    (folder / "snapshot/organisation.yaml").write_text(
        tiny.ORGANISATION.replace("name: Tiny", f"name: {name}").replace(
            "resources: {", f"resources: {{{name}: [admin], "
        )
    )
    (folder / "snapshot/groups.csv").write_text(f'id,name\n"g{BAD}","{BAD}"\n')
    (folder / "snapshot/members.csv").write_text(f'group,member\n"g{BAD}","P1{BAD}"\n')
    (folder / "snapshot/access-rules.yaml").write_text(
        f"usher-gate: access-rules/1\nrules:\n  - id: {json.dumps('A' + BAD)}\n    title: {name}\n    mode: enforce\n    people: {{include: {{any: true}}}}\n"
        "    resources: {include: any}\n    outcome: {deny: true}\n")  # fmt: skip
    (folder / "baseline.yaml").write_text(tiny.BASELINE.replace("Outsiders wait", "x").replace("title: x", f"title: {name}").replace("Tiny baseline", "b")
                                          + f"  - id: {json.dumps('Z' + BAD)}\n    title: {name}\n    because: {name}\n    mend: {name}\n    expect: {{proof: mfa, on: any}}\n")  # fmt: skip
    (folder / "exceptions.yaml").write_text(
        tiny.EXCEPTIONS.replace("captain", name).replace("id: X1", f"id: {json.dumps('X' + BAD)}")
    )
    person = f"P1{BAD}"
    calls: list[tuple[str, ...]] = [
        ("check",), ("check", "--format", "markdown"), ("check", "--rows", "0"), ("why", person, "door.waiting-room"), ("why", person, "--rule", "R1"),
        ("sign-in", person, "--resource", "console"), ("sign-in", person, "--resource", BAD), ("holes",), ("baseline",), ("baseline", "--rule", f"Z{BAD}"),
        ("exceptions",), ("check", "--rule", BAD), ("check", "--person", BAD), ("why", BAD, "x"), (BAD,), ("check", f"--{BAD}"), ("check", "--group", "nobody"),
        ("check", "--unit", "/x"), ("sign-in", person, "--resource", "x"), ("check", "--baseline", f"{BAD}.yaml"),
    ]  # fmt: skip
    for line in calls:
        done = call(*line)
        assert "bug" not in done.err, (line, done.err)
        harmless(done.out)
        harmless(done.err)
        if done.status == 2:
            one_line(done.err)


def test_out_follows_links_keeps_the_mode_and_writes_through_to_what_is_no_file(folder: Path) -> None:
    (folder / "real.json").write_text("old")
    (folder / "real.json").chmod(0o640)
    (folder / "link.json").symlink_to("real.json")
    assert check("--format", "json", "--out", "link.json").status == 0
    assert (folder / "link.json").is_symlink()
    assert json.loads((folder / "real.json").read_text())["usher-gate"] == "check/1"
    assert stat.S_IMODE((folder / "real.json").stat().st_mode) == 0o640
    os.mkfifo(folder / "pipe")
    read: list[str] = []
    reader = threading.Thread(target=lambda: read.append((folder / "pipe").read_text()))
    reader.start()
    assert check("--format", "json", "--out", "pipe").status == 0
    reader.join()
    assert read == [(folder / "real.json").read_text()]
    assert stat.S_ISFIFO((folder / "pipe").stat().st_mode)
    assert check("--out", os.devnull).status == 0
    assert stat.S_ISCHR(Path(os.devnull).stat().st_mode)
    (folder / "lost.json").symlink_to("nowhere/x.json")
    assert "lost.json: cannot be written (No such file" in one_line(check("--out", "lost.json").err)
    assert not [path for path in folder.iterdir() if path.name.startswith(".")]


def test_a_new_file_gets_the_mode_that_the_process_gives(folder: Path) -> None:
    for mask, mode in ((0o022, 0o644), (0o077, 0o600), (0o002, 0o664)):
        subprocess.run(
            [
                "sh",
                "-c",
                f"umask {mask:o}; exec {Path(sys.executable).with_name('usher-gate')} check --out new{mask}.txt",
            ],
            cwd=folder,
            check=False,
        )
        assert stat.S_IMODE((folder / f"new{mask}.txt").stat().st_mode) == mode


def test_what_is_written_is_on_the_disk_before_it_takes_its_place(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    done: list[str] = []
    sync, replace = os.fsync, Path.replace

    def synced(handle: int) -> None:
        done.append("folder" if stat.S_ISDIR(os.fstat(handle).st_mode) else "file")
        sync(handle)

    def named(path: Path, target: Path) -> Path:
        done.append("named")
        return replace(path, target)

    monkeypatch.setattr(os, "fsync", synced)
    monkeypatch.setattr(Path, "replace", named)
    with whole_file(folder / "a.txt") as stream:
        stream.write("whole")
    assert done == ["file", "named", "folder"]


def test_a_crash_file_is_its_owners_and_holds_no_row_of_data(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object) -> None:
        raise ValueError("ada@northmere.example has the secret sesame")

    monkeypatch.setattr("usher_gate.core.verdicts.check._conclude", broken)
    done = check("--person", "ada@northmere.example")
    path = Path(done.err.strip().rpartition(" ")[2])
    text = path.read_text()
    assert stat.S_IMODE(path.stat().st_mode) == 0o600
    assert "builtins.ValueError" in text
    assert "test_odd_files.py" in text
    assert "sesame" not in text
    assert "ada" not in text
    path.unlink()


def test_sources_that_need_no_http_do_not_ask_for_it(tmp_path: Path) -> None:
    code = ("import sys; sys.modules['httpx2'] = None\n"
            "from usher_gate.sources import mapped, ldif, ldap_, copied, entries, settings, gather\n"
            "try:\n    from usher_gate.sources import web\nexcept Exception as error:\n    print(error)")  # fmt: skip
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert (done.stdout.strip(), done.stderr) == ("sources over HTTP need httpx2; pip install 'usher-gate[gather]'", "")
