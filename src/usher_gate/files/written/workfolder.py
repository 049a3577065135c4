"""usher-gate.toml: where the snapshot, the baseline and the exceptions of a working folder lie."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

from ...core.words.faults import Fault, nearest, quoted
from ...core.words.record import record
from ..binary import LARGEST_WRITTEN, open_file
from ..faults import BadInput
from ..place import Place, place

NAME = "usher-gate.toml"
MAX_AGE, OBSERVED_DAYS = "max_age_hours", "observed_days"
NUMBERS = (MAX_AGE, OBSERVED_DAYS)
KEYS = ("snapshot", "baseline", "exceptions", "history", "sign_ins", *NUMBERS)
GATHER = "gather"  # a table of its own, read by sources/settings.py
HISTORY = "history"  # a table of its own, read by history/settings.py; or the path of a SQLite file
GUESTS = "guests"  # a table of its own, read by policy.py
CLUSTER = "cluster"  # a table of its own, read by engine/settings.py


@record
class WorkFolder:
    """The places that a working folder names, None where it names none.

    And its limits: the oldest that a snapshot may be (in hours), and after how many days a rule that is only observed
    is called old. `sign_ins` is a log of past sign-ins, or a folder of logs.
    """

    snapshot: Place | None = None
    baseline: Path | None = None
    exceptions: Path | None = None
    sign_ins: Path | None = None
    max_age_hours: float | None = None
    observed_days: float | None = None


def read_toml(path: Path) -> tuple[str, dict[str, Any]]:
    """Return the text of the settings file and what it says, both empty where there is none; raises BadInput."""
    shown = str(path)
    if not path.exists():
        return "", {}
    try:
        with open_file(path, LARGEST_WRITTEN, shown) as stream:
            text = stream.read().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = error.object.count(b"\n", 0, error.start) + 1
        raise BadInput([Fault(shown, line, "is not UTF-8 text; save it as UTF-8")]) from None
    try:
        return text, tomllib.loads(text)
    except RecursionError:
        raise BadInput([Fault(shown, 1, "nests too deeply; nothing here needs that")]) from None
    except ValueError as error:  # TOMLDecodeError, and what Python says of a number of 5,000 digits
        place = re.search(r"line (\d+)", str(error))
        raise BadInput(
            [Fault(shown, int(place[1]) if place else 1, 'is not TOML here; write lines such as snapshot = "snapshot"')]
        ) from None


def _may_be_path(text: str) -> bool:
    """Return whether a text could name a file on any system."""
    return (
        "\0" not in text
        and all(len(part.encode("utf-8", "surrogatepass")) < 256 for part in text.split("/"))
        and len(text) < 4096
    )


def read_workfolder(folder: Path) -> WorkFolder:
    """Return the working folder's places, relative ones counted from the folder; raises BadInput."""
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
        if key in (GATHER, GUESTS, HISTORY, CLUSTER) and isinstance(value, dict):
            continue
        if key not in KEYS:
            faults.append(Fault(shown, line, f"unknown key {quoted(key)}; {nearest(key, KEYS)}"))
        elif key in NUMBERS:
            if isinstance(value, bool) or not isinstance(value, int | float) or not 0 < value < 1e9:
                faults.append(Fault(shown, line, f"{key} is not a number greater than 0; write {key} = 24"))
        elif not isinstance(value, str) or not value or not _may_be_path(value):
            faults.append(Fault(shown, line, f'{key} is not a path; write {key} = "{key}"'))
    if faults:
        raise BadInput(faults)
    snapshot = place(data["snapshot"]) if "snapshot" in data else None
    return WorkFolder(
        folder / snapshot if isinstance(snapshot, Path) else snapshot,
        *(folder / data[key] if key in data else None for key in ("baseline", "exceptions", "sign_ins")),
        *(float(data[key]) if key in data else None for key in NUMBERS),
    )
