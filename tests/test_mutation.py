"""The faults that tools/mutation.py generates, from a few lines that have one of each kind."""

from __future__ import annotations

import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.append(str(ROOT / "tools"))

from mutation import faults, sample  # noqa: E402 - it is found by the line above

TEXT = """
from typing import TypeVar
T = TypeVar("T", int, float)
def f(a, b, rows):
    # é counts as two bytes
    é = "é" if a < b and not rows else 7
    if a:
        return max(a, b)
    for row in sorted((row for row in rows if row), key=lambda row: (row.b, row.a)):
        continue
    return rows.get("x", "").strip() + quoted(é), zip(a, b, strict=True), a & b
"""
EXPECTED = {
    ("comparison", "<", "<="), ("and/or", "and", "or"), ("a part dropped", "a < b and ", ""),
    ("not dropped", "not rows", "rows"), ("constant", "7", "8"), ("early end dropped", "a", "False"),
    ("opposite", "max", "min"), ("neighbours swapped", "a, b", "b, a"),
    ("filter dropped", "row", "True"), ("sort key dropped", "row.b, ", ""), ("early end", "continue", "break"),
    ("another default", '""', '"x"'), ("cleaning dropped", 'rows.get("x", "").strip()', 'rows.get("x", "")'),
    ("operator", "+", "-"), ("escape dropped", "quoted(é)", "é"), ("operator", "&", "|"),
    ("operand dropped", "a & b", "a"),
    ("operand dropped", 'rows.get("x", "").strip() + quoted(é)', 'rows.get("x", "").strip()'),
}  # fmt: skip


def test_each_kind_of_fault_is_generated_at_its_place() -> None:
    found = list(faults("core/door/x.py", TEXT))
    assert {(fault.kind, fault.old, fault.new) for fault in found} == EXPECTED
    for fault in found:
        assert TEXT[fault.start : fault.end] == fault.old and fault.planted(TEXT) != TEXT
        assert fault.function == "f" and not fault.runs_once


def test_a_sample_is_the_same_each_time_and_takes_of_every_room() -> None:
    top = ROOT / "src" / "usher_gate"
    files = [*sorted((top / "core" / "door").glob("*.py")), *sorted((top / "sources").glob("*.py"))]
    drawn = sample(files, top, 10, 3)
    assert drawn == sample(files, top, 10, 3) != sample(files, top, 10, 4)
    assert [fault.file.split("/")[0] for fault in drawn].count("sources") == 5
    for fault in drawn:
        compile(fault.planted((top / fault.file).read_text("utf-8")), fault.file, "exec")
