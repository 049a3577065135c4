"""Golden cases: a folder of input files (or the demo), a command line, the expected output and exit status.

Each case is a folder in tests/golden with `call` (one line: the exit status, then the arguments), `out`, and `input`, unless it
speaks of the demo. `python -m tests.cli.test_golden` writes the outputs anew; read the difference before you commit it.
"""

from __future__ import annotations

import shlex
import shutil
import sys
import tempfile
from pathlib import Path

import pytest

from tests.program import Done, process
from usher_gate.demo.write import write_demo

GOLDEN = Path(__file__).resolve().parent.parent / "golden"
WEEKS = GOLDEN / "demo-history"  # the last link of the demo's twelve weeks
CASES = sorted(path.parent for path in GOLDEN.glob("*/call"))


def run_case(case: Path, folder: Path, demo: Path) -> tuple[Done, int]:
    """Runs a case in a copy of its input, or of the demo; returns what came out, and the expected status."""
    status, *arguments = shlex.split((case / "call").read_text())
    given = case / "input"
    shutil.copytree(given if given.exists() else demo, folder, dirs_exist_ok=True)
    width = int(arguments.pop(0)) if arguments[0].isdigit() else 100
    return process(*arguments, cwd=folder, width=width), int(status)


@pytest.mark.parametrize("case", CASES, ids=[case.name for case in CASES])
def test_golden(case: Path, tmp_path: Path, demo_made: Path) -> None:
    done, status = run_case(case, tmp_path, demo_made)
    assert done.out == (case / "out").read_text()
    assert done.status == status


if __name__ == "__main__":
    for each in CASES:
        with tempfile.TemporaryDirectory() as name, tempfile.TemporaryDirectory() as made:
            write_demo(Path(made))
            found, expected = run_case(each, Path(name), Path(made))
        (each / "out").write_text(found.out)
        sys.stdout.write(
            f"{each.name}: {found.status}{'' if found.status == expected else f' INSTEAD OF {expected}'}\n"
        )
    with tempfile.TemporaryDirectory() as name:
        process("demo", cwd=Path(name))
        WEEKS.write_text(process("history", "--link", cwd=Path(name) / "northmere").out)
