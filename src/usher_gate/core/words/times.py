"""Times as RFC 3339 writes them (with an offset), as microseconds since 1970-01-01T00:00Z."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

RFC3339 = r"[0-9]{4}-[0-9]{2}-[0-9]{2}[Tt ][0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{1,9})?([Zz]|[+-][0-9]{2}:[0-9]{2})"
_PATTERN = re.compile(RFC3339, re.ASCII)
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_MICROSECOND = timedelta(microseconds=1)


def parse_time(text: str) -> int | None:
    """Microseconds since the epoch; None for a text that is no such time. Digits below a microsecond do not count."""
    if not _PATTERN.fullmatch(text):
        return None
    try:
        return (datetime.fromisoformat(text.upper().replace(" ", "T")) - _EPOCH) // _MICROSECOND
    except (ValueError, OverflowError):
        return None


def show_time(micros: int) -> str:
    """A time for people: UTC, to the minute."""
    return (_EPOCH + timedelta(microseconds=micros)).strftime("%Y-%m-%d %H:%M UTC")
