"""Runs the program's calls that come on standard input, one JSON object a line, each in a fork; gives the exit status of each."""

from __future__ import annotations

import importlib
import json
import os
import sys


def main() -> None:
    for name in sys.argv[1:]:
        importlib.import_module(name)
    for line in sys.stdin:
        told = json.loads(line)
        child = os.fork()
        if not child:
            _call(told)
        _, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)


def _call(told: dict) -> None:  # type: ignore[type-arg]
    from usher_gate.cli import main as program

    os.chdir(told["cwd"])
    for number, ending in ((1, "out"), (2, "err")):
        os.dup2(os.open(f"{told['said']}.{ending}", os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), number)
    os.environ.update(told["environment"])
    sys.argv = ["usher-gate", *told["arguments"]]
    try:
        program.main()
    finally:
        os._exit(99)  # main ends the process itself


main()
