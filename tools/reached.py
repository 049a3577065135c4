"""Which tests reach which lines of the program: recorded once with the library coverage, processes included.

As a plugin of pytest (`-p reached`) this tells the library which test is running, and how long each takes.
"""

from __future__ import annotations

import difflib
import json
import os
import shutil
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import pytest

if TYPE_CHECKING:
    from planting import Tree

ROOT = Path(__file__).resolve().parent.parent
FOLDER = ROOT / ".mutants"
TEST = "USHER_GATE_TEST"  # the test that is running, for processes that it starts
_SETTINGS = f"""\
[run]
source_pkgs = usher_gate
parallel = true
patch = _exit, subprocess, fork
context = ${{{TEST}-}}
data_file = {FOLDER}/coverage
"""


@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_protocol(item: pytest.Item) -> Iterator[None]:
    """Record under the name of a test what it reaches, and how long it takes, if it passes."""
    from coverage import Coverage

    current = Coverage.current()
    if current is None:
        yield
        return
    current.switch_context(item.nodeid)
    os.environ[TEST] = item.nodeid
    failed, start = item.session.testsfailed, time.monotonic()
    yield
    current.switch_context("")
    if item.session.testsfailed == failed:
        with (FOLDER / f"durations.{os.getpid()}").open("a") as stream:
            stream.write(json.dumps([item.nodeid, round(time.monotonic() - start, 3)]) + "\n")


def record(tree: Tree, *chosen: str) -> None:
    """Run all tests, or some, in a copy of the tree; write which lines each that passes reaches.

    Takes about three times as long as the tests. A test that fails without a fault would notice everything.
    """
    from coverage import CoverageData

    shutil.rmtree(FOLDER, ignore_errors=True)
    FOLDER.mkdir()
    settings = FOLDER / "coveragerc"
    settings.write_text(_SETTINGS)
    coverage = [sys.executable, "-m", "coverage"]
    options = ["-q", "-n", "auto", "-p", "reached", "-p", "no:cacheprovider"]
    tree.run([*coverage, "run", f"--rcfile={settings}", "-m", "pytest", *options, *chosen], None, str(ROOT / "tools"))
    tree.run([*coverage, "combine", "-q", f"--rcfile={settings}"], None)
    data = CoverageData(basename=str(FOLDER / "coverage"))
    data.read()
    durations = dict(json.loads(line) for path in FOLDER.glob("durations.*") for line in path.read_text().splitlines())
    tests = sorted(durations)
    numbers = {test: number for number, test in enumerate(tests)}
    files = {
        str(Path(file).relative_to(tree.top)): {
            "text": Path(file).read_text("utf-8"),
            "lines": {
                line: sorted({numbers[test] for context in contexts for test in context.split("|") if test in numbers})
                for line, contexts in data.contexts_by_lineno(file).items()
            },
        }
        for file in sorted(data.measured_files())
        if Path(file).is_relative_to(tree.top)
    }
    (FOLDER / "reached.json").write_text(json.dumps({"durations": durations, "tests": tests, "files": files}))
    for leftover in FOLDER.glob("coverage*"):
        leftover.unlink()


class Reached:
    """What was recorded. Of files that have changed since, lines are found again by their text."""

    def __init__(self) -> None:
        found = json.loads((FOLDER / "reached.json").read_text())
        self.durations: dict[str, float] = found["durations"]
        self._tests, self._files = found["tests"], found["files"]
        self._lines: dict[str, dict[int, int]] = {}

    def tests(self, file: str, line: int | None, text: str) -> list[str]:
        """Return the tests that reach a line of a file (with its text now), or (None) any; the quickest first."""
        known = self._files.get(file)
        if known is None:
            return []
        if file not in self._lines:
            self._lines[file] = _moved(known["text"].splitlines(), text.splitlines())
        lines: dict[str, list[int]] = known["lines"]
        before = 0 if line is None else self._lines[file].get(line, 0)
        numbers = next((found for each in range(before, max(before - 8, 0), -1) if (found := lines.get(str(each)))), [])
        if line is None:
            numbers = sorted({number for each in lines.values() for number in each})
        return sorted((self._tests[number] for number in numbers), key=lambda test: (self.durations[test], test))


def _moved(before: list[str], now: list[str]) -> dict[int, int]:
    """Return for each line now (from 1) which line it was, or the nearest one above that was there."""
    found, last = dict[int, int](), 1
    blocks = difflib.SequenceMatcher(None, before, now, autojunk=False).get_matching_blocks()
    same = {b + offset + 1: a + offset + 1 for a, b, size in blocks for offset in range(size)}
    for line in range(1, len(now) + 1):
        last = same.get(line, last)
        found[line] = last
    return found
