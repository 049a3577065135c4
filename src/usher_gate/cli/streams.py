"""The standard streams of the program: what cannot be written is said once, as what it is. Imports nothing that is slow to load."""

from __future__ import annotations

import io
import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any


class _StandardOutput(io.FileIO):
    """Standard output, whose errors cannot be mistaken for those of a file that is read meanwhile."""

    def write(self, data: Any) -> int:
        try:
            return super().write(data) or 0
        except BrokenPipeError:
            raise
        except OSError as error:
            from ..files.write import write_error

            raise write_error("standard output", error) from None


def replace_streams() -> None:
    """Replaces standard output, and whichever stream is closed, lest the next file that is opened be taken for it."""
    for number, mode in enumerate(
        (os.O_RDONLY, os.O_RDONLY, os.O_WRONLY)
    ):  # what is written to the second one then fails
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, mode)
    raw = _StandardOutput(1, "w", closefd=False)
    sys.stdout = io.TextIOWrapper(io.BufferedWriter(raw), "utf-8", "backslashreplace", line_buffering=os.isatty(1))
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w")  # noqa: SIM115, PTH123
