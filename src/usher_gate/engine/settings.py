"""The table [cluster] of usher-gate.toml: the scheduler to which large work is given."""

from __future__ import annotations

import re
from pathlib import Path

from ..core.words.faults import Fault, nearest, quoted
from ..files.faults import BadInput
from ..files.written.workfolder import CLUSTER, NAME, read_toml

NOT_AT_ALL = "none"
LOCAL = re.compile(r"local:([1-9]\d{0,2})")
_ADDRESS = re.compile(r"(tcp|tls|ws|wss)://[^\s/@]+:\d+/?")
_KEYS = ("scheduler",)


def scheduler(text: str) -> str:
    """The address of a scheduler, local:N, or none, as somebody wrote it; raises ValueError with what would be right."""
    if text == NOT_AT_ALL or LOCAL.fullmatch(text) or _ADDRESS.fullmatch(text):
        return text
    raise ValueError(
        "write the address of a scheduler, such as tcp://192.0.2.7:8786, or local:2 for two processes here"
    )


def scheduler_of(folder: Path) -> str | None:
    """The scheduler that a working folder names; None for none; raises BadInput."""
    path = folder / NAME
    text, data = read_toml(path)
    table = data.get(CLUSTER, {})
    faults = []
    for key, value in table.items():
        line = next(
            (n for n, row in enumerate(text.splitlines(), 1) if re.match(rf"\s*\"?{re.escape(key)}\"?\s*=", row)), 1
        )
        if key not in _KEYS:
            faults.append(Fault(str(path), line, f"{CLUSTER}.{key}: unknown key {quoted(key)}; {nearest(key, _KEYS)}"))
            continue
        try:
            scheduler(value if isinstance(value, str) else "")
        except ValueError as error:
            faults.append(Fault(str(path), line, f"{CLUSTER}.{key}: {error}"))
    if faults:
        raise BadInput(faults)
    found = table.get("scheduler")
    return None if found in (None, NOT_AT_ALL) else str(found)
