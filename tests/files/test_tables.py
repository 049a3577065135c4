"""The fast readers give what the careful ones give."""

from __future__ import annotations

import csv
import json
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.compared import many
from tests.program import call
from tests.tiny import BASELINE, ORGANISATION
from usher_gate.core.organisation.build.listcolumn import ListColumn
from usher_gate.core.organisation.build.people import PEOPLE
from usher_gate.core.words.faults import Faults
from usher_gate.files.tables import csv_, jsonl, read_table
from usher_gate.files.tables.arrowcolumn import ArrowColumn

COLUMNS = ("id", "login", "kind", "name", "unit", "roles", "active", "created_at", "attr.site")


def rows(count: int) -> list[dict[str, str]]:
    return [{"id": f"P{number * 7919 % count:06}", "login": f"p{number}@northmere.example", "kind": "member" if number % 3 else "guest",
             "name": f'Name, "{number}"\nof two lines' if number % 50 == 1 else f"Näme {number}", "unit": ["", "/a", "/a/b"][number % 3],
             "roles": ["", "one", "one;two"][number % 3], "active": ["", "true", "false"][number % 3],
             "created_at": ["", "2024-02-01T08:00:00Z", "2024-02-01T10:00:00.5+02:00"][number % 3],
             "attr.site": "north" if number % 2 else ""}
            for number in range(count)]  # fmt: skip


def write(folder: Path, form: str, made: list[dict[str, str]]) -> None:
    if form == "csv":
        with (folder / "people.csv").open("w", newline="") as stream:
            writer = csv.DictWriter(stream, COLUMNS)
            writer.writeheader()
            writer.writerows(made)
        return
    with (folder / "people.jsonl").open("w") as lines:
        for row in made:
            cells: dict[str, object] = {key: cell for key, cell in row.items() if cell}
            if "roles" in cells:
                cells["roles"] = row["roles"].split(";")
            if "active" in cells:
                cells["active"] = row["active"] == "true"
            lines.write(json.dumps(cells, ensure_ascii=False) + "\n")


def as_read(text: str, form: str, small: int) -> object:
    """What a file of people is read as, where one of so many bytes is large: its cells and lines, or its faults."""
    faults = Faults()
    with TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        patch.setattr({"csv": csv_, "jsonl": jsonl}[form], "SMALL", small)
        (Path(folder) / f"people.{form}").write_bytes(text.encode())
        table = read_table(Path(folder), PEOPLE, faults)
        if table is None:
            return [str(fault).replace(folder, "") for fault in faults.found]
        every = np.arange(table.rows)
        return [table.line_of(row) for row in every.tolist()], {
            name: [times.tolist() for times in column.times()] if name == "created_at" else column.texts().take(every)
            for name, column in table.columns.items()
        }


CELL = st.text(st.sampled_from('"a,\n\r é'), max_size=5) | st.sampled_from(
    ("", "x", '""', '"a"', '"a""b"', '"a,b"', '"a\nb"', '"a"b', '"a""b"c', 'a"b', ' "a"', '"a" ', "\ufeff", '\r"a"b')
)


@settings(max_examples=many(300))
@given(
    st.lists(st.lists(CELL, min_size=4, max_size=4), max_size=5), st.sampled_from(("\n", "\r\n", "\r")), st.booleans()
)
@example([["P1", "ada@northmere.example", 'a"b', '"']], "\n", False)  # a quote within a cell, and one without an end
@example([["P1", "ada@northmere.example", "member", '"a""b"c']], "\n", True)
@example([["P1", "ada@northmere.example", "member", 'x\r"P"2', "x", "", ""]], "\n", True)
def test_a_large_csv_file_is_believed_only_where_the_careful_reader_says_the_same(
    made: list[list[str]], end: str, ended: bool
) -> None:
    text = end.join(["id,login,kind,name", *map(",".join, made)]) + end * ended
    assert as_read(text, "csv", 0) == as_read(text, "csv", 1 << 40)


VALUES = {
    "name": ('"x"', '""', "null", '" x"', '"é"', '"\\n"', '"a\\"b"', '"}{"', '"\t"', "1"),
    "roles": ('["a", "b"]', "[]", '["a;b"]', "null", '[""]', '"a;b"', '["a", null]'),
    "active": ("true", "false", "null", '"true"'),
    "created_at": ('"2024-02-01T08:00:00Z"', '"2024-02-01T10:00:00.5+02:00"', "null", '"2024-02-30T08:00:00Z"'),
    "attr.site": ('"north"', "null", '["a"]', "2"),
}
OBJECT = st.lists(st.sampled_from(sorted(VALUES)), max_size=4, unique=True).flatmap(
    lambda names: st.tuples(*(st.sampled_from(VALUES[name]).map(f'"{name}": {{}}'.format) for name in names))
)
WHO = '"id": "P1", "login": "x", "kind": "guest"'
PERSON = OBJECT.map(lambda cells: f"{{{', '.join((WHO, *cells))}}}")
ODD_LINE = st.sampled_from(("", " ", "[]", "1", "{", "}", "{} {}", "{} {", "\t"))


@settings(max_examples=many(300))
@given(
    st.lists(PERSON, min_size=1, max_size=5) | st.lists(PERSON | ODD_LINE, min_size=1, max_size=5),
    st.sampled_from(("\n", "\r\n")),
    st.booleans(),
)
@example([f'{{{WHO}, "roles": ["a", null]}}'], "\n", True)
@example([f"{{{WHO}}} {{{WHO}}}"], "\n", True)
@example([f"{{{WHO}}} {{", f"{WHO}}}"], "\n", False)
def test_large_json_lines_are_believed_only_where_the_careful_reader_says_the_same(
    made: list[str], end: str, ended: bool
) -> None:
    text = end.join(made) + end * ended
    assert as_read(text, "jsonl", 0) == as_read(text, "jsonl", 1 << 40)


@pytest.mark.parametrize("form", ["csv", "jsonl"])
def test_large_files_are_read_as_small_ones_are(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, form: str) -> None:
    write(tmp_path, form, rows(2_000))
    careful = read_table(tmp_path, PEOPLE, Faults())
    for module in (csv_, jsonl):
        monkeypatch.setattr(module, "SMALL", 0)
    fast = read_table(tmp_path, PEOPLE, Faults())
    assert careful is not None and fast is not None
    assert type(fast.columns["id"]) is not type(careful.columns["id"])
    assert (fast.rows, set(fast.columns)) == (careful.rows, set(careful.columns))
    every = np.arange(fast.rows)
    for name, column in careful.columns.items():
        other = fast.columns[name]
        assert column.texts().take(every) == other.texts().take(every)
        assert (column.coded().codes == other.coded().codes).all()
        assert column.coded().words == other.coded().words
        assert column.empty_rows().tolist() == other.empty_rows().tolist()
        assert column.index_in(careful.columns["id"]).tolist() == other.index_in(fast.columns["id"]).tolist()
        assert other.index_in(careful.columns["id"]).tolist() == column.index_in(fast.columns["id"]).tolist()
    assert [careful.line_of(row) for row in (0, 1, 1_999)] == [fast.line_of(row) for row in (0, 1, 1_999)]
    first, second = careful.columns["id"].order(), fast.columns["id"].order()
    assert first is not None and second is not None
    assert first.tolist() == second.tolist()
    times, wrong = careful.columns["created_at"].times()
    assert (times == fast.columns["created_at"].times()[0]).all()
    assert not len(wrong)


@pytest.mark.parametrize("form", ["csv", "jsonl"])
@pytest.mark.parametrize(
    ("key", "cell"), [("kind", "gast"), ("created_at", "yesterday"), ("unit", "a"), ("id", "P000000"), ("login", "")]
)
def test_faults_in_large_files_have_their_line(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, form: str, key: str, cell: str
) -> None:
    for module in (csv_, jsonl):
        monkeypatch.setattr(module, "SMALL", 0)
    made = rows(900)
    made[700][key] = cell
    (tmp_path / "organisation.yaml").write_text(ORGANISATION)
    (tmp_path / "b.yaml").write_text(BASELINE)
    write(tmp_path, form, made)
    done = call("check", "--snapshot", tmp_path, "--baseline", tmp_path / "b.yaml")
    line = 701 if form == "jsonl" else 702 + sum("\n" in row["name"] for row in made[:700])
    assert done.status == 2
    assert f"people.{form}:{line}: " in done.err


TIMES = (
    "2024-02-01T08:00:00Z",
    "2024-02-01 08:00:00.5+02:00",
    "2024-02-29T23:59:59.123456-11:30",
    "yesterday",
    "1706774400",
    "2024-02-01T08:00",
    "",
    None,
)
ODD = ("2024-02-30T08:00:00Z", "2024-02-01t08:00:00z", "2024-02-01T08:00:00.123456789Z")  # not read by Arrow


@given(st.lists(st.sampled_from(TIMES)), st.lists(st.sampled_from(TIMES + ODD)), st.randoms())
def test_times_among_what_is_none_are_read_as_one_by_one(
    right: list[str | None], odd: list[str | None], rnd: Random
) -> None:
    import pyarrow as pa

    for texts in (right, rnd.sample([*right, *odd], len(right) + len(odd))):
        times, wrong = ArrowColumn(pa.array(texts, pa.string())).times()
        alone, none = ListColumn(texts).times()
        assert (times.tolist(), wrong.tolist()) == (alone.tolist(), none.tolist())


def parquet(folder: Path, **columns: object) -> Path:
    import pyarrow as pa
    import pyarrow.parquet as pq

    made = {"id": ["P1"], "login": ["ada@northmere.example"], "kind": ["member"], **columns}
    pq.write_table(
        pa.table({name: pa.array(cells) if isinstance(cells, list) else cells for name, cells in made.items()}),
        folder / "people.parquet",
    )
    return folder


@pytest.mark.parametrize(("columns", "message"), [
    ({"id": [1]}, "the column id holds int64; text is due"), ({"active": [1]}, "the column active holds int64; booleans, or text is due"),
    ({"created_at": [1.5]}, "the column created_at holds double; timestamps with a time zone, or text is due"),
    ({"roles": [[1]]}, "the column roles holds list<element: int64>; lists of text, or text is due"),
    ({"unti": ["/a"]}, "unknown column 'unti'; did you mean 'unit'?"), ({"kind": ["gast"]}, "people.parquet:1: kind: 'gast' is none of member"),
])  # fmt: skip
def test_parquet_with_other_types_is_told(tmp_path: Path, columns: dict[str, object], message: str) -> None:
    (tmp_path / "organisation.yaml").write_text(ORGANISATION)
    (tmp_path / "b.yaml").write_text(BASELINE)
    done = call("check", "--snapshot", parquet(tmp_path, **columns), "--baseline", tmp_path / "b.yaml")
    assert done.status == 2
    assert message in done.err


def test_a_null_in_a_list_of_parquet_is_a_fault_of_its_row(tmp_path: Path) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    made = {"id": ["P1", "P2", "P3"], "login": ["a", "b", "c"], "kind": ["member"] * 3}
    for roles, shown in (
        ([None, [], ["one", "two"]], None),
        (
            [None, ["one"], ["admin", None]],
            "people.parquet:3: roles: a list with a null in it; lists of text, or text are due",
        ),
    ):
        pq.write_table(pa.table({**made, "roles": pa.array(roles, pa.list_(pa.string()))}), tmp_path / "people.parquet")
        faults = Faults()
        table = read_table(tmp_path, PEOPLE, faults)
        assert (table is None) == (shown is not None)
        assert [str(fault).replace(f"{tmp_path}/", "") for fault in faults.found] == ([shown] if shown else [])
