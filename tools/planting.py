"""Copies of the tree in which faults are planted."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from queue import Queue

ROOT = Path(__file__).resolve().parent.parent
_PYTEST = (sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider")


class Tree:
    """A copy of the tree with a program of its own; in `made` lies what tests would make without any fault."""

    def __init__(self, folder: Path, made: Path) -> None:
        self._folder, self.top, self._made = folder, folder / "src" / "usher_gate", made
        for part in ("src", "tests", "docs"):
            ignored = shutil.ignore_patterns("__pycache__", "*.png", "screenshots")
            shutil.copytree(ROOT / part, folder / part, ignore=ignored)
        shutil.copy(ROOT / "pyproject.toml", folder)
        (folder / "bin").mkdir()
        program = folder / "bin" / "python"
        program.write_text(f'#!/bin/sh\nexec "{sys.executable}" "$@"\n')
        self._script = folder / "bin" / "usher-gate"
        self._script.write_text(f"#!{sys.executable}\nfrom usher_gate.cli.main import main\nmain()\n")
        program.chmod(0o755)
        self._script.chmod(0o755)

    def make(self) -> None:
        """Make the folders that many tests share."""
        test = ["tests/cli/test_golden.py::test_calls_on_the_demo[0 100 history --verify]", "--setup-only"]
        self.run([*_PYTEST, *test], None, makes=self._made).check_returncode()

    def run(
        self, command: Sequence[str], seconds: float | None, *modules: str, makes: Path | None = None
    ) -> subprocess.CompletedProcess[str]:
        """Run a command in the copy, with these folders of modules beside its own; raises TimeoutExpired."""
        environment = {
            **os.environ,
            "PYTHONPATH": ":".join([str(self._folder / "src"), *modules]),
            "PYTHONDONTWRITEBYTECODE": "1",
            "USHER_GATE_PROGRAM": str(self._script),
            "USHER_GATE_IN_ORDER": "1",
        }
        if makes is not None:
            environment["USHER_GATE_MADE"] = str(makes)
        return subprocess.run(
            command, cwd=self._folder, env=environment, capture_output=True, text=True, check=False, timeout=seconds
        )

    def notices(self, file: str, text: str, tests: Sequence[str], seconds: float) -> str:
        """Return which of the tests fails first with another text of a file, or what else notices it; "" for nothing.

        Tests that do not end in so many seconds have noticed it, too.
        """
        path = self.top / file
        before = path.read_text("utf-8")
        path.write_text(text, "utf-8")
        try:
            made = None if "history" in file else self._made  # a fault there changes what the weeks hold
            done = self.run([*_PYTEST, "-x", *tests], seconds, makes=made)
        except subprocess.TimeoutExpired:
            return "they do not end"
        finally:
            path.write_text(before, "utf-8")
        is_missing = done.returncode == 4 and "ERROR: not found" in done.stdout + done.stderr
        is_missing = is_missing or "file or directory not found" in done.stdout + done.stderr
        if is_missing or done.returncode not in (0, 1, 2, 4):  # 4: what the tests import fails
            raise SystemExit(f"{file}: pytest ended with {done.returncode}\n{done.stdout[-2000:]}{done.stderr[-2000:]}")
        failed = re.search(r"(?m)^(?:FAILED|ERROR) (\S+\.py(?:::\w+)*)", done.stdout)
        return "" if not done.returncode else failed[1] if failed else "pytest itself"


@contextmanager
def trees(count: int) -> Iterator[Queue[Tree]]:
    """Provide copies of the tree, to be taken and given back."""
    with tempfile.TemporaryDirectory() as name:
        found: Queue[Tree] = Queue()
        made = Path(name) / "made"
        made.mkdir()
        for number in range(count):
            (Path(name) / str(number)).mkdir()
            tree = Tree(Path(name) / str(number), made)
            if not number:
                tree.make()
            found.put(tree)
        yield found
