"""The errors of reading.

UsherError                what the program says in one line (or a few), with its exit status
+-- BadInput              files or a call that are wrong: holds every Fault
"""

from __future__ import annotations

from collections.abc import Iterable

from ..core.words.faults import Fault, Faults

SHOWN = 50


class UsherError(Exception):
    """Anything the person at the terminal is told instead of an answer."""

    status = 2


class BadInput(UsherError):
    """Files that cannot be used as they are; `faults` in the order of file and line."""

    def __init__(self, faults: Iterable[Fault]) -> None:
        self.faults = tuple(sorted(set(faults)))
        super().__init__("\n".join(str(fault) for fault in self.faults))


def stop_if_any(faults: Faults) -> None:
    """Raises BadInput if anything is wrong so far."""
    if faults.found:
        raise BadInput(faults.found)
