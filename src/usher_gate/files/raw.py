"""A file whose errors in writing name it.

Imports nothing that is slow to load: standard output is one before anything else is known.
"""

from __future__ import annotations

import io

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path
    from typing import Any


class RawFile(io.FileIO):
    """A file to write to. What the system says against it cannot be mistaken for an error of what is read meanwhile.

    `shown` is its name in errors, `name` a path, or a descriptor that stays open.
    """

    def __init__(self, shown: Path | str, name: str | int, opener: Callable[[str, int], int] | None = None) -> None:
        self._shown = shown
        super().__init__(name, "w", closefd=not isinstance(name, int), opener=opener)

    def write(self, data: Any) -> int:
        try:
            return super().write(data) or 0
        except BrokenPipeError:
            raise
        except OSError as error:
            from .faults import write_error

            raise write_error(self._shown, error) from None
