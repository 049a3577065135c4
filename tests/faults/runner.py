"""Runs the program's calls that come on standard input, one JSON object a line, each in a fork.

Gives the exit status of each.
"""

from __future__ import annotations

import importlib
import json
import os
import sys


def main() -> None:
    for name in sys.argv[1:]:
        importlib.import_module(name)
    for line in sys.stdin:
        call = json.loads(line)
        child = os.fork()
        if not child:
            _run(call)
        _, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)


def _run(call: dict) -> None:  # type: ignore[type-arg]
    from usher_gate.cli import main as program

    os.chdir(call["cwd"])
    for number, ending in ((1, "out"), (2, "err")):
        os.dup2(os.open(f"{call['said']}.{ending}", os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), number)
    os.environ.update(call["environment"])
    sys.argv = ["usher-gate", *call["arguments"]]
    try:
        program.main()
    finally:
        os._exit(99)  # main ends the process itself


main()
