"""Writing files whole or not at all: beside their place, then renamed."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO

from ..core.words.faults import Fault
from .faults import BadInput


@contextmanager
def whole_file(path: Path) -> Iterator[TextIO]:
    """A text file to write to, which takes its place only when everything is written."""
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent or Path())
    except OSError as error:
        raise BadInput(
            [
                Fault(
                    str(path),
                    0,
                    f"cannot be written ({error.strerror}); name a file in a folder that exists and may be written to",
                )
            ]
        ) from None
    try:
        with os.fdopen(handle, "w", encoding="utf-8", newline="") as stream:
            yield stream
        if path.is_dir():
            raise BadInput([Fault(str(path), 0, "is a folder where a file is to be written; name a file")])
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~_umask()
        os.chmod(name, mode)
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def _umask() -> int:
    mask = os.umask(0o077)
    os.umask(mask)
    return mask
