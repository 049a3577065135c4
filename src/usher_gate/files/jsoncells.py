"""A JSON value as the text of a cell, wherever one is read: the one place that says how."""

from __future__ import annotations

import json
from typing import Any


def cell_text(value: Any) -> str | None:
    """Return the text that would stand in CSV: flags as true and false, lists as words joined by `;`; None for null.

    A null in a list is the word `null`, which no one knows: left out, what is not known would be taken for nothing.
    """
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list):
        return ";".join("null" if word is None else cell_text(word) or "" for word in value)
    return str(value) if isinstance(value, int | float) else json.dumps(value, ensure_ascii=False)
