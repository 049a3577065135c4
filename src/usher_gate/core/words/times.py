"""Times as RFC 3339 writes them (with an offset), as microseconds since 1970-01-01T00:00Z."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

RFC3339 = r"[0-9]{4}-[0-9]{2}-[0-9]{2}[Tt ][0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{1,9})?([Zz]|[+-][0-9]{2}:[0-9]{2})"
_PATTERN = re.compile(RFC3339, re.ASCII)
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_MICROSECOND = timedelta(microseconds=1)


def parse_time(text: str) -> int | None:
    """Return microseconds since the epoch; None for a text that is no such time.

    Digits below a microsecond do not count.
    """
    if not _PATTERN.fullmatch(text):
        return None
    try:
        return (datetime.fromisoformat(text.upper().replace(" ", "T")) - _EPOCH) // _MICROSECOND
    except (ValueError, OverflowError):
        return None


def parse_epoch(text: str) -> int | None:
    """Return microseconds of a time that is written as seconds or milliseconds since 1970 (from 2001 on).

    None for anything else.
    """
    if not re.fullmatch(r"[0-9]{10}(\.[0-9]{1,9})?|[0-9]{13}", text, re.ASCII):
        return None
    if len(text) == 13 and "." not in text:
        return int(text) * 1000
    whole, _, fraction = text.partition(".")
    return int(whole) * 1_000_000 + int((fraction + "000000")[:6])


def rfc3339(micros: int) -> str:
    """Return a time for programs, as RFC 3339 writes it, in UTC."""
    return (_EPOCH + timedelta(microseconds=micros)).isoformat().replace("+00:00", "Z")


def show_time(micros: int) -> str:
    """Return a time for people: UTC, to the minute."""
    return (_EPOCH + timedelta(microseconds=micros)).strftime("%Y-%m-%d %H:%M UTC")
