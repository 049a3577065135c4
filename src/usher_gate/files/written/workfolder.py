"""usher-gate.toml: where the snapshot, the baseline and the exceptions of a working folder lie."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

from ...core.words.faults import Fault, nearest, quoted
from ...core.words.record import record
from ..faults import BadInput

NAME = "usher-gate.toml"
KEYS = ("snapshot", "baseline", "exceptions", "history")
GATHER = "gather"  # a table of its own, read by sources/settings.py


@record
class WorkFolder:
    """The places that a working folder names; None where it names none."""

    snapshot: Path | None = None
    baseline: Path | None = None
    exceptions: Path | None = None


def read_toml(path: Path) -> tuple[str, dict[str, Any]]:
    """The text of the settings file and what it says, both empty where there is none; raises BadInput."""
    shown = str(path)
    try:
        text = path.read_text("utf-8-sig")
    except FileNotFoundError:
        return "", {}
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(
            [Fault(shown, 0, f"cannot be read ({error.__class__.__name__}); make it a readable UTF-8 file")]
        ) from None
    try:
        return text, tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        place = re.search(r"line (\d+)", str(error))
        raise BadInput(
            [Fault(shown, int(place[1]) if place else 1, 'is not TOML here; write lines such as snapshot = "snapshot"')]
        ) from None


def read_workfolder(folder: Path) -> WorkFolder:
    """The working folder's places, relative ones counted from the folder; raises BadInput."""
    path = folder / NAME
    shown = str(path)
    text, data = read_toml(path)
    faults = []
    for key, value in data.items():
        line = next(
            (
                number
                for number, row in enumerate(text.splitlines(), 1)
                if re.match(rf"\s*\[?\s*\"?{re.escape(key)}\b", row)
            ),
            1,
        )
        if key == GATHER and isinstance(value, dict):
            continue
        if key not in KEYS:
            faults.append(Fault(shown, line, f"unknown key {quoted(key)}; {nearest(key, KEYS)}"))
        elif not isinstance(value, str) or not value:
            faults.append(Fault(shown, line, f'{key} is not a path; write {key} = "{key}"'))
    if faults:
        raise BadInput(faults)
    return WorkFolder(*(folder / data[key] if key in data else None for key in KEYS[:3]))
