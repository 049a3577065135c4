"""Damaged snapshots: never a traceback, never a hang, never a verdict that got better because data went missing."""

from __future__ import annotations

import csv
import json
import os
import shutil
import tempfile
from pathlib import Path
from random import Random
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.compared import many
from tests.organisations import organisations, write_org
from tests.program import Done, call
from tests.reference import Org
from tests.tiny import write_tiny

RUBBISH = (
    b"\0",
    b"\xff",
    b'"',
    b"\r",
    b"\n",
    b",",
    b";",
    b":",
    b"[",
    b"{",
    b"&a",
    b"- ",
    b"\t",
    b"\xef\xbb\xbf",
    b"-1",
    b"TRUE",
    b"1e9",
    b"'",
    b"#",
)
HOPEFUL = ("meets", "loose", "settling", "exempt")


def run_check(folder: Path) -> Done:
    return call("check", "--snapshot", folder / "snapshot", "--baseline", folder / "baseline.yaml", "--exceptions", folder / "exceptions.yaml",
                "--format", "json")  # fmt: skip


def assert_sound(done: Done) -> None:
    assert "this is a bug" not in done.err, done.err
    assert "Traceback" not in done.err
    assert done.status in (0, 1, 2, 3)
    if done.status == 2:
        assert done.out == ""
        assert all(line.startswith("usher-gate: ") for line in done.err.splitlines())
    else:
        json.loads(done.out)


def damage(data: bytes, rnd: Random) -> bytes:
    place, length = rnd.randrange(len(data) + 1), rnd.choice((1, 1, 3, 40))
    how = rnd.randrange(6)
    if how == 0:
        return data[:place]
    if how == 1:
        return data[:place] + data[place + length :]
    if how == 2:
        return data[:place] + rnd.choice(RUBBISH) + data[place:]
    if how == 3:
        return data[:place] + data[place : place + length] * 2 + data[place + length :]
    if how == 4:
        return data[:place] + bytes(rnd.randrange(256) for _ in range(length)) + data[place + length :]
    lines = data.splitlines(keepends=True)
    rnd.shuffle(lines)
    return b"".join(lines)


@settings(max_examples=many(150), suppress_health_check=[HealthCheck.too_slow])
@given(organisations(), st.integers(1, 3))
def test_damaged_files_give_an_answer_or_one_line_for_each_fault(made: tuple[Org, Random], times: int) -> None:
    org, rnd = made
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd)
        for _ in range(times):
            path = rnd.choice(sorted(path for path in folder.rglob("*") if path.is_file()))
            path.write_bytes(damage(path.read_bytes(), rnd))
        assert_sound(run_check(folder))


def verdicts(done: Done) -> dict[tuple[str, str | None, str], str]:
    """Subjects with a verdict; others meet or are exempt."""
    return {
        (each["rule"], each["service"], each["subject"]["id"]): each["would_be"] or each["verdict"]
        for each in json.loads(done.out)["findings"]
    }


def lose(org: Org, folder: Path, rnd: Random) -> str:
    """Takes a table, or a column of people, away."""
    snapshot = folder / "snapshot"
    tables = [name for name in ("settings", "members", "groups") if (snapshot / f"{name}.csv").exists()]
    columns = sorted(
        org.columns
        & {"unit", "roles", "licences", "mfa", "protection", "sponsor", "home_domain", "break_glass", "attr.site"}
    )
    lost = rnd.choice((*tables, *columns)) if tables or columns else ""
    if lost in tables:
        (snapshot / f"{lost}.csv").unlink()
    elif lost:
        rows = list(csv.DictReader((snapshot / "people.csv").read_text().splitlines()))
        with (snapshot / "people.csv").open("w", newline="") as stream:
            writer = csv.DictWriter(stream, [name for name in rows[0] if name != lost], extrasaction="ignore")
            writer.writeheader()
            writer.writerows(rows)
    return lost


@settings(max_examples=many(120), suppress_health_check=[HealthCheck.too_slow])
@given(organisations())
def test_no_verdict_gets_better_because_data_went_missing(made: tuple[Org, Random]) -> None:
    org, rnd = made
    org.exceptions = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(org, folder, rnd, ("csv",))
        before = verdicts(run_check(folder))
        lost = lose(org, folder, rnd)
        done = run_check(folder)
        if done.status == 2:  # a rule about a group that is not known any more, say
            assert_sound(done)
            return
        after = verdicts(done)
    for key, verdict in before.items():
        if verdict not in HOPEFUL:
            assert after.get(key, "meets") not in HOPEFUL, (lost, key, verdict)


@pytest.mark.parametrize(
    "name", ["snapshot/people.csv", "snapshot/organisation.yaml", "baseline.yaml", "snapshot/settings.csv"]
)
def test_a_folder_where_a_file_is_due(tmp_path: Path, name: str) -> None:
    folder = write_tiny(tmp_path)
    (folder / name).unlink()
    (folder / name).mkdir()
    done = run_check(folder)
    assert_sound(done)
    assert f"{name}: is a folder where a file is due; name a file" in done.err


@pytest.mark.parametrize("ending", ["\n", "\r\n"])
@pytest.mark.parametrize("mark", [b"", b"\xef\xbb\xbf"])
def test_a_byte_order_mark_and_either_line_ending_change_nothing(tmp_path: Path, ending: str, mark: bytes) -> None:
    plain, other = write_tiny(tmp_path / "plain"), tmp_path / "other"
    shutil.copytree(plain, other)
    for path in (*other.rglob("*.csv"), *other.rglob("*.yaml")):
        path.write_bytes(mark + path.read_bytes().replace(b"\n", ending.encode()))
    assert run_check(other).out == run_check(plain).out


def test_a_file_that_may_not_be_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = write_tiny(tmp_path)

    opened = os.open

    def refuse(path: Path | str, *more: Any) -> int:
        if Path(path).name == "organisation.yaml":
            raise PermissionError(13, "Permission denied", str(path))
        return opened(path, *more)

    monkeypatch.setattr(os, "open", refuse)  # root may read everything, so a mode would not do
    done = run_check(folder)
    assert_sound(done)
    assert "organisation.yaml: cannot be read (Permission denied); make it readable" in done.err
