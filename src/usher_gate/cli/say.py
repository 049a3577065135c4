"""What goes to standard error: one line for each thing that is wrong."""

from __future__ import annotations

import sys


def say_error(text: str) -> None:
    """Says in one line what is wrong."""
    from ..outputs.safe import for_terminal

    try:  # noqa: SIM105 (contextlib is slow to load)
        print(f"usher-gate: error: {for_terminal(text)}", file=sys.stderr, flush=True)
    except OSError:  # where standard error cannot be written to, the exit status is all that is left
        pass
