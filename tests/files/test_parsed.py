"""A snapshot kept as it was read: the same answers from it, and none from anything that is not just that."""

from __future__ import annotations

import io
import json
import os
import shutil
from pathlib import Path
from random import Random

import msgspec
import pytest
from hypothesis import given, settings

from tests.compared import many
from tests.organisations import organisations, write_org
from tests.program import process
from tests.reference import Org
from usher_gate.core.verdicts.check import check
from usher_gate.core.verdicts.run import Narrowing
from usher_gate.files.faults import BadInput
from usher_gate.files.snapshot import parsed
from usher_gate.files.snapshot.folder import READ_FILES, ReadSnapshot, read_snapshot
from usher_gate.files.snapshot.frozen import CannotSerialise, deserialise, serialise
from usher_gate.files.written.baseline import read_baseline
from usher_gate.outputs.forms import writer
from usher_gate.outputs.render_options import RenderOptions


@pytest.fixture
def small_too(monkeypatch: pytest.MonkeyPatch) -> None:
    """Small snapshots are kept as well."""
    monkeypatch.setattr(parsed, "WORTH_BYTES", 0)


def answer(folder: Path) -> tuple[str, ReadSnapshot]:
    """A whole check as JSON, with the line and the note of every setting."""
    read = read_snapshot(folder / "snapshot")
    baseline, _ = read_baseline(folder / "baseline.yaml", read.snapshot.catalogue, read.snapshot)
    stream = io.StringIO()
    writer("check", "json")(check(read.snapshot, baseline, (), Narrowing()), stream, RenderOptions())
    rows = 0 if read.settings is None else len(read.settings.lines)
    beside = [(read.setting_line(row), read.setting_note(row)) for row in range(rows)]
    return stream.getvalue() + json.dumps([beside, read.snapshot.notes, read.snapshot.missing]), read


def kept(folder: Path) -> Path:
    return parsed.parsed_path(folder / "snapshot")


COMPARED = many(60)


def test_random_organisations_give_the_same_answers(small_too: None, tmp_path_factory: pytest.TempPathFactory) -> None:
    believed = 0

    @settings(max_examples=COMPARED, deadline=None)
    @given(organisations())
    def compare(drawn: tuple[Org, Random]) -> None:
        nonlocal believed
        folder = tmp_path_factory.mktemp("org")
        write_org(drawn[0], folder, drawn[1])
        first, _ = answer(folder)
        assert kept(folder).is_file()
        before = kept(folder).stat().st_mtime_ns
        again, _ = answer(folder)
        assert again == first
        believed += kept(folder).stat().st_mtime_ns == before  # it was read, not written anew
        shutil.rmtree(folder)

    compare()
    assert believed >= COMPARED


def test_the_demo_too_and_where_it_was_looked_for(small_too: None, demo: Path) -> None:
    first, read = answer(demo)
    assert read.setting_note(1) == "so that the bridge need not let people in"
    again, other = answer(demo)
    assert again == first and other.snapshot is not read.snapshot
    assert kept(demo).stat().st_mode & 0o777 == 0o600
    assert answer(demo)[1].tables == {}


def test_a_changed_bit_a_cut_or_another_file_is_not_believed(small_too: None, demo: Path) -> None:
    first, _ = answer(demo)
    snapshot = demo / "snapshot"
    key = parsed.key_of(snapshot, READ_FILES)
    assert key is not None
    whole, rnd = kept(demo).read_bytes(), Random(4)
    assert parsed.read_parsed(snapshot, key) is not None
    for _ in range(200):
        spoilt = bytearray(whole)
        spoilt[rnd.randrange(len(whole))] ^= 1 << rnd.randrange(8)
        kept(demo).write_bytes(spoilt)
        assert parsed.read_parsed(snapshot, key) is None
    for content in (b"", whole[: len(whole) // 2], whole[:90] + b"ARROW1\0\0" + whole[100:], os.urandom(3000)):
        kept(demo).write_bytes(content)
        assert parsed.read_parsed(snapshot, key) is None
    assert answer(demo)[0] == first
    kept(demo).unlink()
    kept(demo).mkdir()  # where nothing can be written nothing is kept, and no draft stays behind
    assert answer(demo)[0] == first
    assert [path.name for path in demo.iterdir() if "parsed" in path.name] == [".snapshot.parsed"]


def test_whatever_changes_is_read_anew(small_too: None, demo: Path) -> None:
    first, _ = answer(demo)
    settings_file = demo / "snapshot" / "settings.csv"
    text, stat = settings_file.read_text(), settings_file.stat()
    settings_file.write_text(text.replace("need not let people in", "need not let PEOPLE in", 1))
    os.utime(settings_file, ns=(stat.st_atime_ns, stat.st_mtime_ns))  # same time, same length
    changed, _ = answer(demo)
    assert changed != first
    settings_file.write_text(text)
    assert answer(demo)[0] == first
    (demo / "snapshot" / "peopel.csv").write_text("id\n")
    assert "peopel.csv is no table of a snapshot" in answer(demo)[0]
    (demo / "snapshot" / "people.csv").write_text("id\n")
    with pytest.raises(BadInput):
        answer(demo)


def test_nothing_is_kept_that_nobody_wants(small_too: None, demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(parsed.SWITCH, "off")
    first, _ = answer(demo)
    assert not kept(demo).exists()
    monkeypatch.delenv(parsed.SWITCH)
    monkeypatch.setattr(parsed, "WORTH_BYTES", 1 << 40)
    assert answer(demo)[0] == first and not kept(demo).exists()


def test_what_somebody_else_wrote_is_not_believed(small_too: None, demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    answer(demo)
    key = parsed.key_of(demo / "snapshot", READ_FILES)
    assert key is not None
    parsed.keep_parsed(demo / "snapshot", key, ["a value"])
    assert parsed.read_parsed(demo / "snapshot", key) == ["a value"]
    assert parsed.read_parsed(demo / "snapshot", bytes(32)) is None
    monkeypatch.setattr("os.geteuid", lambda: 12345)
    assert parsed.read_parsed(demo / "snapshot", key) is None


def test_only_records_of_the_core_come_back(tmp_path: Path) -> None:
    for value in (object(), Path("x"), {"a": lambda: 0}):
        with pytest.raises(CannotSerialise):
            serialise([value])
    shown, _ = serialise([1, 2.5, float("inf"), 1 << 100, -(1 << 70), None, "ä", (True, frozenset({"a"})), {"k": [()]}])
    assert deserialise(shown, []) == [
        1,
        2.5,
        float("inf"),
        1 << 100,
        -(1 << 70),
        None,
        "ä",
        (True, frozenset({"a"})),
        {"k": [()]},
    ]
    for name in ("os:system", "usher_gate.core.words.values:BadValue", "usher_gate.cli.main:run"):
        with pytest.raises(ValueError, match=name):
            deserialise(msgspec.msgpack.encode([[name], ["r", 0]]), [])


def test_a_large_snapshot_is_kept_by_the_program_and_told_by_nobody(tmp_path: Path) -> None:
    snapshot = tmp_path / "snapshot"
    snapshot.mkdir()
    (snapshot / "organisation.yaml").write_text(
        "usher-gate: snapshot/1\nname: Northmere Ferries\ntaken_at: 2026-11-20T06:00:00Z\n"
    )
    rows = "".join(f"P{number:06},p{number:06}@northmere.example,{'x' * 60},member\n" for number in range(50_000))
    (snapshot / "people.csv").write_text("id,login,name,kind\n" + rows)
    (tmp_path / "baseline.yaml").write_text(
        "usher-gate: baseline/1\nname: B\nversion: '1'\nrules:\n"
        "  - {id: R-1, title: T, severity: low, expect: {person: days-since-sign-in, no_weaker_than: 90}}\n"
    )
    call = ("check", "--snapshot", "snapshot", "--baseline", "baseline.yaml", "--format", "json")
    first = process(*call, cwd=tmp_path)
    assert (tmp_path / ".snapshot.parsed").is_file() and first.status == 3
    second = process(*call, cwd=tmp_path)
    assert (second.out, second.err, second.status) == (first.out, first.err, first.status)
