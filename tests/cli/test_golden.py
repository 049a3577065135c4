"""Expected outputs, as text: of calls on the demo, and on organisations made by hand (tests/golden/NAME/input).

tests/golden/NAME/calls has a line for each call: the exit status, the width of the terminal and the arguments.
`python -m tests.cli.test_golden` writes the outputs anew; read the difference before you commit it.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import sys
import tempfile
from pathlib import Path
from unittest import mock

import pytest

from tests.page import Page
from tests.program import Done, call, lines_of, process
from usher_gate.demo.write import write_demo

GOLDEN = Path(__file__).resolve().parent.parent / "golden"
WEEKS = GOLDEN / "demo-history"  # the last link of the demo's twelve weeks


CALLS = lines_of(GOLDEN / "demo" / "calls")
BY_HAND = [
    (path.parent.name, line)
    for path in sorted(GOLDEN.glob("*/calls"))
    if path.parent.name != "demo"
    for line in lines_of(path)
]


def called(line: str) -> str:
    """Return the arguments of a line of `calls`."""
    return line.split(maxsplit=2)[2]


def expected(folder: str, line: str) -> Path:
    """Return the file of what a call prints."""
    _, width, arguments = line.split(maxsplit=2)
    name = re.sub(r"[^A-Za-z0-9.]+", "-", arguments)
    return GOLDEN / folder / (name if width == "100" else f"{name}-at-{width}")


def made(line: str, folder: Path) -> Done:
    """Make a call in a folder, or (as FOLDER/VERB) in one below it."""
    _, width, verb, *arguments = shlex.split(line)
    below, _, verb = verb.rpartition("/")
    with mock.patch.dict(os.environ, COLUMNS=width):
        done = call(verb, *arguments, cwd=folder / below)
    if verb == "report":  # the texts of the page
        return Done(done.status, "\n".join(Page((folder / "report.html").read_text()).texts) + "\n", done.err)
    return done


@pytest.mark.parametrize("line", CALLS)
def test_calls_on_the_demo(line: str, demo: Path, demo_history: Path) -> None:
    if called(line).startswith(("history", "report")):
        shutil.copy(demo_history, demo)
    done = made(line, demo)
    assert (done.out, done.status) == (expected("demo", line).read_text(), int(line.split()[0]))


@pytest.mark.parametrize(("name", "line"), BY_HAND)
def test_organisations_by_hand(name: str, line: str, tmp_path: Path) -> None:
    shutil.copytree(GOLDEN / name / "input", tmp_path, dirs_exist_ok=True)
    done = made(line, tmp_path)
    assert (done.out, done.status) == (expected(name, line).read_text(), int(line.split()[0]))


def _write(folder: str, line: str, done: Done) -> None:
    path = expected(folder, line)
    path.write_text(done.out)
    sys.stdout.write(f"{path}: {done.status}{'' if done.status == int(line.split()[0]) else ' INSTEAD'}\n")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        process("demo", cwd=Path(temporary))
        history, copy = Path(temporary) / "northmere" / "history.db", Path(temporary) / "copy"
        WEEKS.write_text(process("history", "--link", cwd=history.parent).out)
        for each, one in [*BY_HAND, *(("demo", one) for one in CALLS)]:
            if each != "demo":
                shutil.copytree(GOLDEN / each / "input", copy)
            else:
                write_demo(copy)
                if called(one).startswith(("history", "report")):
                    shutil.copy(history, copy)
            _write(each, one, made(one, copy))
            shutil.rmtree(copy)
