"""The bytes of a file, or what keeps them from being read."""

from __future__ import annotations

from pathlib import Path

from ..core.words.faults import Faults


def read_bytes(path: Path, shown: str, faults: Faults, largest: int) -> bytes | None:
    """A file's bytes; None, with a fault, where there is none to read or it is too large."""
    try:
        if path.is_dir():
            faults.add(shown, 0, "is a folder where a file is due; name a file")
            return None
        if path.stat().st_size > largest:
            faults.add(
                shown,
                0,
                f"is larger than {largest // (1024 * 1024)} MiB; files that people write are smaller: keep bulk in tables",
            )
            return None
        return path.read_bytes()
    except FileNotFoundError:
        faults.add(shown, 0, "does not exist; write it, or name another")
    except OSError as error:
        faults.add(shown, 0, f"cannot be read ({error.strerror}); make it readable")
    return None
