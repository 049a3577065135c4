"""What became of findings between two checks, asked subject by subject and check by check."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from usher_gate.core.history.intervals import Changed, Interval, IntervalKey

NOT_KNOWN = ("unknown", "unavailable", "settling", "not-judged")


def open_at(mine: Iterable[Interval], check: int) -> tuple[int, str] | None:
    """Of one subject the check in which the finding began that is open at a check, and the verdict then.

    None if none is.
    """
    began, verdict = None, ""
    for number in range(1, check + 1):
        verdict = next((interval.verdict for interval in mine if _holds(interval, number)), "")
        if verdict == "drifts":
            began = number if began is None else began
        elif verdict not in (*NOT_KNOWN, "excepted"):
            began = None
    return None if began is None else (began, verdict)


def since(
    intervals: Iterable[Interval], then: int, now: int, rules_then: frozenset[str], rules_now: frozenset[str]
) -> Iterator[Changed]:
    """What became of every finding from one check to a later one, by rule, service and subject."""
    by_key: dict[IntervalKey, list[Interval]] = {}
    for interval in intervals:
        by_key.setdefault(interval.key, []).append(interval)
    for key, mine in sorted(by_key.items()):
        before, after = open_at(mine, then), open_at(mine, now)
        if after is not None:
            began, verdict = after
            if verdict in NOT_KNOWN:
                what = "not-known-now"
            elif verdict == "excepted":
                what = "excepted"
            elif before is not None:
                what = "still"
            elif key.rule not in rules_then:
                what = "new-rule"
            else:
                drifted = any(interval.verdict == "drifts" and interval.first <= then for interval in mine)
                what = "back" if drifted else "new"
            yield Changed(key, what, began)
        elif before is not None:
            # What is loose ends the finding; who leaves afterwards has nothing to do with it.
            mine = [interval for interval in mine if interval.left and interval.verdict != "loose"]
            left = any(interval.last is not None and then <= interval.last < now for interval in mine)
            yield Changed(key, "left" if left else "gone" if key.rule in rules_now else "no-rule", before[0])


def _holds(interval: Interval, check: int) -> bool:
    return interval.first <= check and (interval.last is None or interval.last >= check)
