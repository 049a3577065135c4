"""The argument parser of every verb."""

from __future__ import annotations

import argparse
import re
from collections.abc import Callable, Sequence
from typing import NoReturn

WRONG = 2
_ENDINGS = {".json": "json", ".csv": "csv", ".md": "markdown", ".markdown": "markdown"}


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

    def read(self, words: Sequence[str]) -> argparse.Namespace:
        """Return the call; without --format, the form is the one of the ending of --out."""
        found = self.parse_args(words)
        if getattr(found, "format", "") is None:
            if found.out is not None and found.out.suffix.lower() in (".yaml", ".yml") and hasattr(found, "write"):
                self.error(
                    f"--out {found.out} would hold a table; --write {found.out} writes the changes (or name a --format)"
                )
            forms = self._option_string_actions["--format"].choices or ()
            named = _ENDINGS.get(found.out.suffix.lower(), "table") if found.out is not None else "table"
            found.format = named if named in forms else "table"
        return found

    def error(self, message: str) -> NoReturn:
        """Says in one line what is wrong with the call."""
        from ..outputs.safe import for_terminal

        hint = self._hint(message)
        self.exit(WRONG, f"usher-gate: error: {for_terminal(message)}{hint}; see {self.prog} --help\n")

    def _hint(self, message: str) -> str:
        """Return for an option that there is not, the nearest one that there is."""
        import difflib

        wrong = re.search(r"unrecognized arguments: .*?(--[A-Za-z][\w-]*)", message)
        close = difflib.get_close_matches(wrong[1], self._option_string_actions, 1) if wrong else []
        return f"; did you mean {close[0]}?" if close else ""


def whole(least: int, most: int = 10**9) -> Callable[[str], int]:
    """Reads a whole number that is not too small (or too large)."""

    def read(text: str) -> int:
        try:
            number = int(text)
        except ValueError:
            raise argparse.ArgumentTypeError(f"'{text[:40]}' is no whole number") from None
        if not least <= number <= most:
            raise argparse.ArgumentTypeError(
                f"{number} is too {'small' if number < least else 'large'}; write {least} or more"
            )
        return number

    return read


def positive_number(text: str) -> float:
    """Reads a number greater than 0; raises ArgumentTypeError."""
    try:
        number = float(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is no number") from None
    if not 0 < number < 1e12:
        raise argparse.ArgumentTypeError(f"{text[:40]} is not a number greater than 0")
    return number
