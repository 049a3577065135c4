"""The argument parser of every verb."""

from __future__ import annotations

import argparse
from typing import NoReturn

WRONG = 2


class Parser(argparse.ArgumentParser):
    """An argument parser whose errors look like all others."""

    def __init__(self, prog: str, description: str | None, examples: str) -> None:
        super().__init__(
            prog=prog,
            formatter_class=argparse.RawDescriptionHelpFormatter,
            description=description,
            epilog=examples,
            allow_abbrev=False,
        )

    def error(self, message: str) -> NoReturn:
        """Says in one line what is wrong with the call."""
        self.exit(WRONG, f"usher-gate: error: {message}; see {self.prog} --help\n")
