"""Agreed exceptions: when one is in force, and which verdicts it covers."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta

import numpy as np

from ..organisation.columns import Bools
from ..organisation.snapshot import Snapshot
from .codes import LOOSE, SETTLING, VerdictCodes
from .rules import AgreedException, Rule


def taken_day(snapshot: Snapshot) -> date:
    """Return the day of the snapshot, in UTC."""
    return (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=snapshot.taken_at)).date()


def in_force(exception: AgreedException, snapshot: Snapshot) -> bool:
    """Return whether the snapshot was taken on or before the exception's last day."""
    return taken_day(snapshot) <= exception.until


def may_be_covered(verdict: VerdictCodes | int) -> Bools:
    """Return which verdicts an exception may cover: what drifts, is loose, unavailable or unknown."""
    codes = np.asarray(verdict)
    covered: Bools = (codes <= LOOSE) & (codes != SETTLING)
    return covered


def applying(
    exceptions: Iterable[AgreedException], rule: Rule, service: str | None, snapshot: Snapshot
) -> list[AgreedException]:
    """Return the exceptions in force from a rule on a service (None: a rule without services), in their order.

    One with services covers no rule without a service.
    """
    return [
        exception
        for exception in exceptions
        if rule.id in exception.rules
        and in_force(exception, snapshot)
        and (exception.services is None or (service is not None and service in exception.services))
    ]
