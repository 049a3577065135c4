"""A large table as a folder of Parquet files.

The same answers as in one file, and every fault with its file and row.
"""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest

from tests.program import call
from usher_gate.files.history.digests import snapshot_digest


def pieces(snapshot: Path, name: str, count: int = 2) -> Path:
    """Makes a table a folder of Parquet files."""
    path = snapshot / f"{name}.csv"
    columns = path.read_text().splitlines()[0].split(",")
    table = pacsv.read_csv(
        path,
        convert_options=pacsv.ConvertOptions(
            column_types=dict.fromkeys(columns, pa.string()), strings_can_be_null=True, null_values=[""]
        ),
    )
    path.unlink()
    folder = snapshot / name
    folder.mkdir()
    for number in range(count):
        first, last = table.num_rows * number // count, table.num_rows * (number + 1) // count
        pq.write_table(table.slice(first, last - first), folder / f"part-{number}.parquet")
    return folder


def rows_of(path: Path) -> int:
    return int(pq.read_metadata(path).num_rows)


def test_tables_in_pieces_give_the_answers_of_tables_in_one_file(demo: Path) -> None:
    (demo / "snapshot" / "manifest.json").unlink(missing_ok=True)
    before = {verb: call(verb, "--format", "json").out for verb in ("door", "holes")}
    settings = json.loads(call("check", "--format", "json").out)
    lines = (demo / "snapshot" / "settings.csv").read_text().splitlines()
    for name in ("people", "members", "settings", "observations", "authenticators", "passes"):
        pieces(demo / "snapshot", name, 3)
    assert {verb: call(verb, "--format", "json").out for verb in before} == before
    after = json.loads(call("check", "--format", "json").out)
    assert after["rules"] == settings["rules"]
    assert after["summary"] == settings["summary"]
    first = rows_of(demo / "snapshot" / "settings" / "part-0.parquet")
    where = {root["where"] for root in after["roots"] if root.get("where")}
    assert where
    for one in where:  # each leads to its row
        file, _, row = one.partition(":")
        assert file.startswith("settings/part-")
        assert 0 < int(row) <= rows_of(demo / "snapshot" / file)
    assert first < len(lines)


def doubled(folder: Path) -> None:
    shutil.copy(folder / "part-0.parquet", folder / "part-2.parquet")


def other_columns(folder: Path) -> None:
    table = pq.read_table(folder / "part-1.parquet")
    pq.write_table(table.drop_columns(["unit"]), folder / "part-1.parquet")


def wrong_kind(folder: Path) -> None:
    table = pq.read_table(folder / "part-1.parquet")
    kinds = ["ghost", *table["kind"].to_pylist()[1:]]
    pq.write_table(
        table.set_column(table.column_names.index("kind"), "kind", pa.array(kinds)), folder / "part-1.parquet"
    )


def damaged(folder: Path) -> None:
    (folder / "part-1.parquet").write_bytes(b"PAR1 and no more")


def emptied(folder: Path) -> None:
    for path in folder.iterdir():
        path.unlink()


@pytest.mark.parametrize(
    ("spoil", "said"),
    [
        (doubled, "people/part-2.parquet:1: the id 'N1001' occurs here and in row 1 of part-0.parquet;"),
        (other_columns, "people/part-1.parquet:1: has the columns "),
        (wrong_kind, "people/part-1.parquet:1: kind: 'ghost' "),
        (damaged, "people/part-1.parquet: is not a whole Parquet file; write it anew"),
        (emptied, "people: is empty; write people into it as Parquet files"),
        (lambda folder: (folder / "part.csv").write_text("id\n"), "people/part.csv: is no Parquet file; a table in several"),
        (lambda folder: (folder.parent / "people.csv").write_text("id\n"), "people: is beside people.csv; keep one file"),
    ],
    ids=["twice", "columns", "kind", "damaged", "empty", "csv inside", "csv beside"],
)  # fmt: skip
def test_what_is_wrong_is_told_with_its_file_and_row(demo: Path, spoil: Callable[[Path], object], said: str) -> None:
    (demo / "snapshot" / "manifest.json").unlink(missing_ok=True)
    spoil(pieces(demo / "snapshot", "people"))
    done = call("check")
    assert (done.status, done.out) == (2, "")
    assert f"snapshot/{said}" in done.err


def test_what_is_kept_of_a_snapshot_knows_the_pieces(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("usher_gate.files.snapshot.parsed.WORTH_BYTES", 0)
    (demo / "snapshot" / "manifest.json").unlink(missing_ok=True)
    folder = pieces(demo / "snapshot", "settings")
    before = call("check", "--format", "json")
    assert (demo / ".snapshot.parsed").exists()
    assert call("check", "--format", "json") == before
    path = folder / "part-1.parquet"
    table = pq.read_table(path)
    pq.write_table(table.slice(0, 1), path)
    assert call("check", "--format", "json").out != before.out


def test_a_snapshot_after_changes_takes_its_pieces_along(demo: Path) -> None:
    (demo / "snapshot" / "manifest.json").unlink(missing_ok=True)
    folder = pieces(demo / "snapshot", "people")
    done = call("rehearse", "--changes", "changes/waiting-rooms.yaml", "--write-snapshot", "after")
    assert done.status in (0, 1), done.err
    for path in folder.iterdir():
        assert (demo / "after" / "people" / path.name).read_bytes() == path.read_bytes()
    assert call("check", "--snapshot", "after").status in (0, 1)


def test_a_kept_check_is_tied_to_the_pieces_too(demo: Path) -> None:
    snapshot = demo / "snapshot"
    plain = {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in snapshot.iterdir()}
    expected = "".join(f"{name}={plain[name]}\n" for name in sorted(plain))
    assert snapshot_digest(snapshot) == hashlib.sha256(expected.encode()).hexdigest()
    folder = pieces(snapshot, "people")
    before = snapshot_digest(snapshot)
    one, other = (folder / f"part-{number}.parquet" for number in range(2))
    whole = one.read_bytes()
    one.write_bytes(other.read_bytes())
    assert snapshot_digest(snapshot) != before
    one.write_bytes(whole)
    assert snapshot_digest(snapshot) == before
