"""Loaded into each worker process that a call starts here.

Ctrl-C reaches it too, and is for the process that waits for it.
"""

from __future__ import annotations

import signal
from typing import Any


def dask_setup(_: Any) -> None:
    """Called by the engine when a worker starts."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
