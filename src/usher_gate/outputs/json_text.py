"""JSON on one line, as every result has it."""

from __future__ import annotations

import json

_ENCODER = json.JSONEncoder(
    ensure_ascii=False, separators=(", ", ": ")
)  # made once: making it costs more than most entries


def text(value: object) -> str:
    """Return a value as JSON, on one line, control characters escaped."""
    return _ENCODER.encode(value)
