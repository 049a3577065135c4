"""The argument parser of every verb."""

from __future__ import annotations

import argparse
from typing import NoReturn

WRONG = 2


class Parser(argparse.ArgumentParser):
    """An argument parser whose errors look like all others."""

    def __init__(self, verb: str, description: str | None, examples: str, takes: str = "") -> None:
        prog = f"usher-gate {verb}"
        super().__init__(
            prog=prog,
            usage=f"{prog} {takes + ' ' if takes else ''}[options]",
            formatter_class=lambda prog: argparse.RawDescriptionHelpFormatter(prog, max_help_position=28),
            description=description,
            epilog=examples,
            allow_abbrev=False,
        )

    def error(self, message: str) -> NoReturn:
        """Says in one line what is wrong with the call."""
        from ..outputs.safe import for_terminal

        self.exit(WRONG, f"usher-gate: error: {for_terminal(message)}; see {self.prog} --help\n")
