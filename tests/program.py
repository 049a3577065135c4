"""Calling the program: inside this process where speed counts, as a process of its own where the real thing counts."""

from __future__ import annotations

import contextlib
import io
import os
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

from usher_gate.cli.main import run

# The built program; `make mutants` names another one.
PROGRAM = Path(os.environ.get("USHER_GATE_PROGRAM") or Path(sys.executable).with_name("usher-gate"))


@dataclass(frozen=True)
class Done:
    """What a call printed, and its exit status."""

    status: int
    out: str
    err: str


def call(*arguments: object, cwd: Path | None = None) -> Done:
    """Calls the program inside this process."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.chdir(cwd or "."), contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            status = run([str(argument) for argument in arguments])
        except SystemExit as ended:
            status = int(ended.code or 0)
    return Done(status, out.getvalue(), err.getvalue())


def process(*arguments: object, cwd: Path | None = None, width: int = 100, **environment: str) -> Done:
    """Calls the built program as a process of its own."""
    done = subprocess.run(
        [PROGRAM, *map(str, arguments)],
        cwd=cwd,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "COLUMNS": str(width), **environment},
    )
    return Done(done.returncode, done.stdout, done.stderr)
