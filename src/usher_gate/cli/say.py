"""What goes to standard error: one line for each thing that is wrong."""

from __future__ import annotations

import sys
from contextlib import suppress


def say_error(text: str) -> None:
    """Says in one line what is wrong."""
    from ..outputs.safe import for_terminal

    with suppress(OSError):  # where standard error cannot be written to, the exit status is all that is left
        print(f"usher-gate: error: {for_terminal(text)}", file=sys.stderr, flush=True)
