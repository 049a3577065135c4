"""Calls of the program on a disk that is full, read-only or broken.

Each in a process of its own, forked from one that has everything loaded.

The disk is `inject.c`, which lets the system's own calls fail.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from tests.program import Done

_HERE = Path(__file__).resolve().parent
_MODULES = (
    "usher_gate.cli.main", "usher_gate.cli.check", "usher_gate.cli.gather", "usher_gate.cli.guests", "usher_gate.cli.rehearse",
    "usher_gate.cli.mend", "usher_gate.cli.exceptions", "usher_gate.cli.baseline", "usher_gate.cli.history", "usher_gate.cli.report",
    "usher_gate.cli.demo", "usher_gate.files.history.store", "usher_gate.files.snapshot.folder", "usher_gate.files.written.baseline",
    "usher_gate.files.written.worksheets", "usher_gate.files.written.messages", "usher_gate.files.written.snapshot_out",
    "usher_gate.outputs.check.table", "usher_gate.sources.gather", "usher_gate.core.mend.mending", "usher_gate.demo.write",
    "usher_gate.outputs.report.html", "usher_gate.outputs.report.figures", "matplotlib.backends.backend_svg", "matplotlib.figure",
)  # fmt: skip


# What each writes; where the old file is there already, it must still be the same.
VERBS = {
    "check a table": ("check", "--out", "out.txt"),
    "check JSON": ("check", "--format", "json", "--out", "out.json"),
    "check kept": ("check", "--keep"),
    "report": ("report", "--out", "page.html"),
    "worksheets": ("guests", "--ask", "asked/review"),
    "answers": ("guests", "--read", "review", "--write", "answers.yaml"),
    "notices": ("rehearse", "--changes", "changes.yaml", "--notices", "notices"),
    "changed snapshot": ("rehearse", "--changes", "changes.yaml", "--write-snapshot", "after"),
    "plan": ("mend", "--write", "plan.yaml"),
    "exception": ("exceptions", "add", "X2", "--rule", "R2", "--person", "P3", "--reason", "r", "--approved-by", "a", "--until", "2026-12-20"),
    "exception ended": ("exceptions", "end", "X1"),
    "baseline": ("baseline", "--start", "every-organisation", "--out", "new.yaml"),
    "gather": ("gather",),
    "history": ("history", "--out", "history.txt"),
}  # fmt: skip


class FaultyDisk:
    """Runs calls while the disk below a folder fails."""

    def __init__(self, scratch: Path) -> None:
        library = scratch / "inject.so"
        subprocess.run(
            ["gcc", "-shared", "-fPIC", "-O1", "-o", library, _HERE / "inject.c", "-ldl"],
            check=True,
            capture_output=True,
        )
        environment = {**os.environ, "LD_PRELOAD": str(library), "PYTHONPATH": str(_HERE.parents[1])}
        self._runner = subprocess.Popen(
            [sys.executable, "-m", "tests.faults.runner", *_MODULES],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env=environment,
        )
        self._log = scratch / "calls"

    def call(self, arguments: Sequence[object], cwd: Path, fault: Mapping[str, str] | None = None) -> tuple[Done, str]:
        """What a call printed, and what it did to the disk.

        A letter for each call of the system below its folder (write, fsync, rename, mkdir, create).
        """
        assert self._runner.stdin is not None and self._runner.stdout is not None
        self._log.unlink(missing_ok=True)
        shown = {
            "arguments": list(map(str, arguments)),
            "cwd": str(cwd),
            "environment": {
                "FAULT_UNDER": f"{cwd}/",
                "FAULT_LOG": str(self._log),
                "MPLCONFIGDIR": str(self._log.parent),
                **(fault or {}),
            },
            "said": str(self._log.parent / "said"),
        }
        self._runner.stdin.write(json.dumps(shown).encode() + b"\n")
        self._runner.stdin.flush()
        status: Any = json.loads(self._runner.stdout.readline())
        said = self._log.parent / "said"
        done = Done(status, said.with_suffix(".out").read_text(), said.with_suffix(".err").read_text())
        return done, self._log.read_text() if self._log.exists() else ""

    def close(self) -> None:
        """Ends the process that runs the calls."""
        self._runner.communicate()
