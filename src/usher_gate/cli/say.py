"""What goes to standard error: one line for each thing that is wrong."""

from __future__ import annotations

import sys


def say_error(text: str) -> None:
    """Says in one line what is wrong."""
    from ..outputs.safe import for_terminal

    print(f"usher-gate: error: {for_terminal(text)}", file=sys.stderr)
