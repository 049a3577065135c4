"""How code is written, read from its syntax trees: records by name, small answers, plain conditions, public names."""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

SRC = Path(__file__).resolve().parent.parent / "src" / "usher_gate"
MOST_POSITIONAL = 4
MOST_LINES = 15  # of a function without a sentence that says what it does
MOST_WHOLE = 60  # of any function


def trees(src: Path) -> dict[str, ast.Module]:
    return {str(path.relative_to(src)): ast.parse(path.read_text("utf-8")) for path in sorted(src.rglob("*.py"))}


def fields_of(tree: ast.Module) -> Iterator[tuple[str, int]]:
    """Yield each record of a module with how many fields it has."""
    for node in ast.walk(tree):
        if isinstance(node, ast.ClassDef):
            calls = (each.func if isinstance(each, ast.Call) else each for each in node.decorator_list)
            names = {each.id for each in [*calls, *node.bases] if isinstance(each, ast.Name)}
            if names & {"record", "dataclass", "NamedTuple"}:
                yield node.name, sum(isinstance(each, ast.AnnAssign) for each in node.body)


def is_mixed_tuple(returns: ast.expr | None) -> bool:
    """Tell whether an annotation is a tuple of more than two values that are not all of one type."""
    return (
        isinstance(returns, ast.Subscript)
        and ast.unparse(returns.value) == "tuple"
        and isinstance(returns.slice, ast.Tuple)
        and len(returns.slice.elts) > 2
        and len({ast.unparse(each) for each in returns.slice.elts}) > 1
    )


def lines_of(function: ast.FunctionDef) -> int:
    return (function.end_lineno or 0) - function.lineno + 1


def faults(src: Path) -> Iterator[str]:
    found = trees(src)
    sizes = dict(pair for tree in found.values() for pair in fields_of(tree))
    public = Counter(
        node.name
        for tree in found.values()
        for node in ast.walk(tree)
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
    )
    yield from (f"the class {name} is there {count} times" for name, count in sorted(public.items()) if count > 1)
    for file, tree in found.items():
        for node in ast.walk(tree):
            where = f"{file}:{getattr(node, 'lineno', 0)}"
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                if len(node.args) > MOST_POSITIONAL < sizes.get(node.func.id, 0):
                    yield f"{where}: {node.func.id} is not built by name"
            elif isinstance(node, ast.FunctionDef):
                if lines_of(node) > MOST_WHOLE:
                    yield f"{where}: {node.name} has more than {MOST_WHOLE} lines"
                if lines_of(node) > MOST_LINES and not node.name.startswith("__") and not ast.get_docstring(node):
                    yield f"{where}: {node.name} is long, and no sentence says what it does"
                if is_mixed_tuple(node.returns) and not node.name.endswith("key"):
                    yield f"{where}: {node.name} returns more than two values; return a record"
            elif isinstance(node, ast.IfExp):
                inner = (each for each in ast.walk(node) if each is not node)
                if any(isinstance(each, ast.IfExp) for each in inner):
                    yield f"{where}: a conditional expression within another"
            elif isinstance(node, ast.ImportFrom) and node.level:
                private = [each.name for each in node.names if each.name.startswith("_") and each.name[1:2] != "_"]
                yield from (f"{where}: imports {name}, which is private" for name in private)


def test_code_is_written_as_agreed() -> None:
    assert list(faults(SRC)) == []


@pytest.mark.parametrize(("code", "fault"), [
    ("@record\nclass A:\n    a: int\n    b: int\n    c: int\n    d: int\n    e: int\nA(1, 2, 3, 4, 5)", "a.py:8: A is not built by name"),
    ("def f() -> tuple[int, str, bool]: ...", "a.py:1: f returns more than two values; return a record"),
    ("def _f():\n    a = 1" + "\n    a = 2" * 14, "a.py:1: _f is long, and no sentence says what it does"),
    ("def f():\n    'Has a sentence.'" + "\n    a = 2" * 59, "a.py:1: f has more than 60 lines"),
    ("a = 1 if b else 2 if c else 3", "a.py:1: a conditional expression within another"),
    ("from .b import _c", "a.py:1: imports _c, which is private"),
    ("class A: ...\nclass A: ...", "the class A is there 2 times"),
    ("def sort_key() -> tuple[int, str, bool]: ...\nfrom .b import __version__\nx = (1 if b else 2, 1 if c else 2)", None),
])  # fmt: skip
def test_each_fault_is_found(tmp_path: Path, code: str, fault: str | None) -> None:
    (tmp_path / "a.py").write_text(code)
    assert list(faults(tmp_path)) == ([fault] if fault else [])
