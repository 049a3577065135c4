"""Which tests reach which lines of the program: recorded once with the library coverage, processes included.

As a plugin of pytest (`-p reached`) this tells the library which test is running, and how long each takes.
"""

from __future__ import annotations

import difflib
import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from planting import Tree

ROOT = Path(__file__).resolve().parent.parent
FOLDER = ROOT / ".mutants"
_FOUND, _RECORDING = FOLDER / "reached.json", FOLDER / "recording"
PROCESSES = "COVERAGE_PROCESS_CONFIG"  # how the library records processes that are started
TEST = "USHER_GATE_TEST"  # the test that is running, for processes that the tests' own server forks
_SETTINGS = f"""\
[run]
source_pkgs = usher_gate
parallel = true
patch = _exit, subprocess, fork
data_file = {_RECORDING}/coverage
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
    current.config.context = item.nodeid  # of processes that it starts
    os.environ[PROCESSES], os.environ[TEST] = current.config.serialize(), item.nodeid
    failed, start = item.session.testsfailed, time.monotonic()
    yield
    current.switch_context("")
    if item.session.testsfailed == failed:
        with (_RECORDING / f"durations.{os.getpid()}").open("a") as stream:
            stream.write(json.dumps([item.nodeid, round(time.monotonic() - start, 3)]) + "\n")


def record(tree: Tree, chosen: Sequence[str] = ()) -> None:
    """Run all tests, or add some, in a copy of the tree; write which lines each that passes reaches.

    Takes about three times as long as the tests. A test that fails without a fault would notice everything.
    """
    from coverage import CoverageData

    shutil.rmtree(_RECORDING, ignore_errors=True)
    _RECORDING.mkdir(parents=True)
    settings = _RECORDING / "coveragerc"
    settings.write_text(_SETTINGS)
    coverage = [sys.executable, "-m", "coverage"]
    options = ["-q", "-n", "auto", "-p", "reached", "-p", "no:cacheprovider"]
    tree.run([*coverage, "run", f"--rcfile={settings}", "-m", "pytest", *options, *chosen], None, str(ROOT / "tools"))
    tree.run([*coverage, "combine", "-q", f"--rcfile={settings}"], None)
    data = CoverageData(basename=str(_RECORDING / "coverage"))
    data.read()
    lines = (line for path in _RECORDING.glob("durations.*") for line in path.read_text().splitlines())
    durations: dict[str, float] = dict(json.loads(line) for line in lines)
    found = json.loads(_FOUND.read_text()) if chosen else {"durations": {}, "tests": [], "files": {}}
    numbers = {test: number for number, test in enumerate(sorted(durations), len(found["tests"]))}
    for file in sorted(data.measured_files()):
        if Path(file).is_relative_to(tree.top):
            known = _now(found["files"], str(Path(file).relative_to(tree.top)), Path(file).read_text("utf-8"))
            for line, contexts in data.contexts_by_lineno(file).items():
                tests = {numbers[test] for context in contexts for test in context.split("|") if test in numbers}
                known.setdefault(str(line), []).extend(sorted(tests))
    found["failed"] = sorted({*found.get("failed", ()), *chosen} - durations.keys())
    found["tests"] += numbers
    found["durations"] |= durations
    _FOUND.write_text(json.dumps(found))
    shutil.rmtree(_RECORDING)


def _now(files: dict[str, Any], file: str, text: str) -> dict[str, list[int]]:
    """Return the tests that reach each line of a file as it is now, by what was recorded before."""
    known = files.setdefault(file, {"text": text, "lines": {}})
    lines: dict[str, list[int]] = known["lines"]
    if known["text"] != text:
        moved = _moved(known["text"].splitlines(), text.splitlines())
        lines = {str(line): list(lines[str(was)]) for line, was in moved.items() if str(was) in lines}
        files[file] = {"text": text, "lines": lines}
    return lines


def _collected() -> set[str]:
    """Return the names of all tests that there are now."""
    command = [sys.executable, "-m", "pytest", "--collect-only", "-q"]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=True)
    return {line for line in done.stdout.splitlines() if "::" in line}


class Reached:
    """What was recorded. Lines of changed files are found by their text; tests that no longer exist are left out."""

    def __init__(self) -> None:
        found = json.loads(_FOUND.read_text())
        self.durations: dict[str, float] = found["durations"]
        self._tests, self._files, self._there = found["tests"], found["files"], _collected()
        self._failed = set(found.get("failed", ()))
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
        tests = (self._tests[number] for number in numbers)
        return sorted((test for test in tests if test in self._there), key=lambda test: (self.durations[test], test))

    def new(self) -> list[str]:
        """Return the tests that were not recorded, nor failed when they were tried."""
        return sorted(self._there - set(self._tests) - self._failed)

    def lines(self) -> dict[str, set[tuple[str, str]]]:
        """Return the lines that each test reaches, as (file, number)."""
        found: dict[str, set[tuple[str, str]]] = {test: set() for test in self._tests if test in self._there}
        for file, known in self._files.items():
            for line, numbers in known["lines"].items():
                for number in numbers:
                    if self._tests[number] in found:
                        found[self._tests[number]].add((file, line))
        return found


def _moved(before: list[str], now: list[str]) -> dict[int, int]:
    """Return for each line now (from 1) which line it was, or the nearest one above that was there."""
    found, last = dict[int, int](), 1
    blocks = difflib.SequenceMatcher(None, before, now, autojunk=False).get_matching_blocks()
    same = {b + offset + 1: a + offset + 1 for a, b, size in blocks for offset in range(size)}
    for line in range(1, len(now) + 1):
        last = same.get(line, last)
        found[line] = last
    return found
