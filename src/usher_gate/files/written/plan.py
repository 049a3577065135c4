"""A plan written as a file of changes, each edit with a comment that says why it is there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import yaml

from ..write import whole_file


def write_plan(path: Path, title: str, changes: Iterable[tuple[Mapping[str, Any], str]]) -> None:
    """Writes a file of changes (form changes/1): each change with why it is there."""
    with whole_file(path) as stream:
        stream.write(f"usher-gate: changes/1\ntitle: {_scalar(title)}\nchanges:\n")
        for change, why in changes:
            stream.write(f"  # {_one_line(why)}\n")
            (kind, what), *_ = change.items()
            text = yaml.safe_dump(
                {kind: dict(what)}, default_flow_style=None, sort_keys=False, allow_unicode=True, width=10**6
            )
            lines = text.rstrip("\n").split("\n")
            stream.write(f"  - {lines[0]}\n" + "".join(f"    {line}\n" for line in lines[1:]))


def _scalar(text: str) -> str:
    return yaml.safe_dump(text, allow_unicode=True, width=10**6).split("\n")[0]


def _one_line(text: str) -> str:
    return " ".join("".join(letter if letter.isprintable() else " " for letter in text).split())
