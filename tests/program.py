"""Calling the program: inside this process where speed counts, as a process of its own where the real thing counts."""

from __future__ import annotations

import contextlib
import io
import multiprocessing
import os
import subprocess
import sys
import tempfile
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

    @property
    def answer(self) -> str:
        """What is printed below the line that says what the answer is about."""
        return self.out.partition(" UTC\n")[2]


def lines_of(path: Path) -> list[str]:
    """Return the lines of a table of calls, without comments and empty lines."""
    return [line for line in path.read_text().splitlines() if line and not line.startswith("#")]


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


# Processes whose modules are loaded already: for tests of what a call does, where starting it would be most of the
# time.
_FORKS = multiprocessing.get_context("forkserver")
_FORKS.set_forkserver_preload(
    [
        "usher_gate.cli.check",
        "usher_gate.cli.gather",
        "usher_gate.core.verdicts.check",
        "usher_gate.files.history.store",
        "usher_gate.files.snapshot.folder",
        "usher_gate.files.written.baseline",
        "usher_gate.outputs.check.answer",
        "usher_gate.sources.gather",
        "pyarrow",
        "rich.table",
    ]
)


def started(*arguments: object, cwd: Path, said: Path | None = None) -> multiprocessing.process.BaseProcess:
    """Starts the program as a process of its own, with its modules loaded.

    What it says goes to `said`.out and `said`.err.
    """
    child = _FORKS.Process(
        target=_program, args=([*map(str, arguments)], str(cwd), dict(os.environ), str(said) if said else "")
    )
    child.start()
    return child


def forked(*arguments: object, cwd: Path) -> Done:
    """Calls the program as a process of its own, with its modules loaded."""
    with tempfile.TemporaryDirectory() as name:
        said = Path(name) / "said"
        child = started(*arguments, cwd=cwd, said=said)
        child.join()
        assert child.exitcode is not None
        return Done(child.exitcode, said.with_suffix(".out").read_text(), said.with_suffix(".err").read_text())


def _program(arguments: list[str], folder: str, environment: dict[str, str], said: str) -> None:
    """What such a process does: all that the program's script does."""
    from usher_gate.cli.main import main

    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
    for number, ending in ((1, "out"), (2, "err")):
        os.dup2(os.open(f"{said}.{ending}" if said else os.devnull, os.O_WRONLY | os.O_CREAT, 0o600), number)
    sys.argv = [str(PROGRAM), *arguments]
    if "USHER_GATE_TEST" in environment:  # tools/reached.py records which lines each test reaches
        from coverage import Coverage

        current = Coverage.current()
        if current is not None:
            current.switch_context(environment["USHER_GATE_TEST"])
    main()
