"""The standard streams of the program: what cannot be written is said once, as what it is. Imports nothing that is
slow to load."""

from __future__ import annotations

import io
import os
import sys

from ..files.raw import RawFile


def replace_streams() -> None:
    """Replaces standard output, and whichever stream is closed, lest the next file that is opened be taken for it."""
    for number, mode in enumerate(
        (os.O_RDONLY, os.O_RDONLY, os.O_WRONLY)
    ):  # what is written to the second one then fails
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, mode)
    raw = io.BufferedWriter(RawFile("standard output", 1))
    sys.stdout = io.TextIOWrapper(raw, "utf-8", "backslashreplace", line_buffering=os.isatty(1))
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w")  # noqa: SIM115, PTH123
