"""Plants the faults of tests/mutants.py, one at a time in a copy of the tree, and names those that no test notices."""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from tests.mutants import MUTANTS, Mutant  # noqa: E402 - it is found by the line above


def survives(mutant: Mutant) -> bool:
    """Whether its tests pass although the fault is there."""
    with tempfile.TemporaryDirectory() as name:
        tree = Path(name)
        for part in ("src", "tests", "docs"):
            shutil.copytree(
                ROOT / part, tree / part, ignore=shutil.ignore_patterns("__pycache__", "*.png", "screenshots")
            )
        shutil.copy(ROOT / "pyproject.toml", tree)
        path = tree / "src" / "usher_gate" / mutant.file
        text = path.read_text("utf-8")
        if text.count(mutant.old) != 1:
            raise SystemExit(
                f"{mutant.file}: {mutant.old!r} stands there {text.count(mutant.old)} times; mend tests/mutants.py"
            )
        path.write_text(text.replace(mutant.old, mutant.new), "utf-8")
        # The program that tests start as a process is a script of the copy's own.
        (tree / "bin").mkdir()
        program = tree / "bin" / "python"
        program.write_text(f'#!/bin/sh\nexec "{sys.executable}" "$@"\n')
        script = tree / "bin" / "usher-gate"
        script.write_text(f"#!{sys.executable}\nfrom usher_gate.cli.main import main\nmain()\n")
        program.chmod(0o755)
        script.chmod(0o755)
        environment = {
            **os.environ,
            "PYTHONPATH": str(tree / "src"),
            "PYTHONDONTWRITEBYTECODE": "1",
            "USHER_GATE_PROGRAM": str(script),
        }
        run = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", mutant.tests]
        done = subprocess.run(run, cwd=tree, env=environment, capture_output=True, text=True, check=False)
        if done.returncode not in (0, 1, 2):
            raise SystemExit(
                f"{mutant.what}: pytest ended with {done.returncode}\n{done.stdout[-2000:]}{done.stderr[-2000:]}"
            )
        return done.returncode == 0


def main() -> int:
    """Plants all, or those whose name holds a word."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("word", nargs="?", default="", help="only the faults whose name or file holds this")
    word = parser.parse_args().word
    chosen = [mutant for mutant in MUTANTS if word in mutant.what or word in mutant.file]
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        found = []
        for number, (mutant, alive) in enumerate(zip(chosen, pool.map(survives, chosen), strict=True), 1):
            print(
                f"{number}/{len(chosen)} {'SURVIVES' if alive else 'noticed '} {mutant.what} ({mutant.file})",
                flush=True,
            )
            found += [mutant] if alive else []
    print(f"{len(found)} of {len(chosen)} survive")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
