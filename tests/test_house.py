"""The house has floors: an import goes down only, and nowhere in a circle.

Imports for typing and inside functions count too.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator, Mapping
from pathlib import Path

import pytest

from tests.mutants import MUTANTS

SRC = Path(__file__).resolve().parent.parent / "src"
PACKAGE = "usher_gate"
CORE = (
    "words", "organisation", "settings", "sign_in", "door", "verdicts", "changes", "mend", "guests", "history",
)  # fmt: skip
_BESIDE = {("settings", "sign_in"), ("mend", "guests")}  # neighbours on one floor, which do not know of each other
# What each room outside core may use.
MAY_USE = {
    "files": {"core"},
    "sources": {"files", "core"},
    "stand_in": {"files", "core"},
    "engine": {"files", "core"},
    "outputs": {"files", "core"},
    "demo": {"files", "core", "baselines"},
    "baselines": set(),  # data
    "cli": {"outputs", "sources", "stand_in", "engine", "files", "demo", "baselines", "core"},
}

Graph = Mapping[str, frozenset[str]]


def module_of(path: Path, src: Path) -> str:
    parts = path.relative_to(src).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


def imported(path: Path, src: Path, modules: frozenset[str]) -> Iterator[str]:
    here = module_of(path, src)
    package = here.split(".") if path.name == "__init__.py" else here.split(".")[:-1]
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names if alias.name in modules)
        elif isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            module = ".".join([*base, *(node.module.split(".") if node.module else [])])
            for alias in node.names:
                whole = f"{module}.{alias.name}"
                yield whole if whole in modules else module


def imports(src: Path) -> Graph:
    """Each module of the package with the modules that it imports.

    A package's own `__init__` is a module of its name.
    """
    paths = {module_of(path, src): path for path in sorted((src / PACKAGE).rglob("*.py"))}
    modules = frozenset(paths)
    return {name: frozenset(imported(path, src, modules)) & modules - {name} for name, path in paths.items()}


def circle(graph: Graph) -> list[str]:
    """The path of a circle, its first module again at the end; empty where there is none."""
    done: set[str] = set()
    for start in graph:
        path, waiting = [start], [iter(sorted(graph[start]))]
        while path:
            module = next(waiting[-1], None)
            if module is None:
                done.add(path.pop())
                waiting.pop()
            elif module in path:
                return [*path[path.index(module) :], module]
            elif module not in done:
                path.append(module)
                waiting.append(iter(sorted(graph[module])))
    return []


def goes_up(module: str, other: str) -> bool:
    """Whether an import is one of a higher floor, or of a neighbour."""
    ours, theirs = module.split(".")[1:], other.split(".")[1:]
    if not ours or not theirs or ours[0] == theirs[0] != "core":
        return False
    if ours[0] != "core":
        return ours[0] in MAY_USE and theirs[0] in {*MAY_USE, "core"} and theirs[0] not in MAY_USE[ours[0]]
    if theirs[0] != "core":
        return True
    if len(ours) < 2 or len(theirs) < 2 or ours[1] == theirs[1]:
        return False
    return CORE.index(theirs[1]) > CORE.index(ours[1]) or (theirs[1], ours[1]) in _BESIDE


def arrows_up(graph: Graph) -> list[str]:
    return sorted(
        f"{module} -> {other}" for module, found in graph.items() for other in found if goes_up(module, other)
    )


def test_no_circle_anywhere() -> None:
    found = circle(imports(SRC))
    assert not found, " -> ".join(found)


def test_arrows_go_down_only() -> None:
    assert arrows_up(imports(SRC)) == []


def test_every_room_of_the_package_has_its_floor() -> None:
    rooms = {path.name for path in (SRC / PACKAGE).iterdir() if (path / "__init__.py").exists()} - {"core"}
    assert rooms <= MAY_USE.keys()
    assert {path.name for path in (SRC / PACKAGE / "core").iterdir() if (path / "__init__.py").exists()} <= set(CORE)


@pytest.mark.parametrize(("files", "path", "up"), [
    ({"core/words/a.py": "from .b import x", "core/words/b.py": "def f():\n    from . import a"},
     "usher_gate.core.words.a -> usher_gate.core.words.b -> usher_gate.core.words.a", []),
    ({"core/words/a.py": "if TYPE_CHECKING:\n    from ..sign_in.b import x", "core/sign_in/b.py": ""},
     "", ["usher_gate.core.words.a -> usher_gate.core.sign_in.b"]),
    ({"core/settings/a.py": "from ..sign_in import b", "core/sign_in/b.py": ""}, "", ["usher_gate.core.settings.a -> usher_gate.core.sign_in.b"]),
    ({"core/sign_in/a.py": "from ..settings import b", "core/settings/b.py": ""}, "", ["usher_gate.core.sign_in.a -> usher_gate.core.settings.b"]),
    ({"stand_in/a.py": "from ..sources.b import x", "sources/b.py": "import usher_gate.files.c", "files/c.py": ""},
     "", ["usher_gate.stand_in.a -> usher_gate.sources.b"]),
    ({"core/words/a.py": "from ...files.b import x", "files/b.py": ""}, "", ["usher_gate.core.words.a -> usher_gate.files.b"]),
])  # fmt: skip
def test_a_circle_and_an_arrow_up_are_found(tmp_path: Path, files: dict[str, str], path: str, up: list[str]) -> None:
    for name, text in files.items():
        (tmp_path / PACKAGE / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / PACKAGE / name).write_text(text)
    graph = imports(tmp_path)
    assert " -> ".join(circle(graph)) == path
    assert arrows_up(graph) == up


def test_every_fault_that_is_planted_by_hand_has_its_place() -> None:
    lost = [one.what for one in MUTANTS if (SRC / PACKAGE / one.file).read_text().count(one.old) != 1]
    assert lost == []
