"""Keeping a check in the history, and what a check says of the checks before it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from ..core.words.record import record
from ..files.faults import BadInput, UsherError

if TYPE_CHECKING:
    from ..core.history.intervals import Changed
    from ..core.history.trend import DataPoint
    from ..core.organisation.snapshot import Snapshot
    from ..core.verdicts.result import CheckResult
    from ..files.history.store import Check, Store, ToKeep

_NEEDS = ("sqlalchemy", "alembic")
_Answer = TypeVar("_Answer")


def open_store(folder: Path = Path()) -> Store:
    """Return the history of a working folder; raises UsherError where what it needs is not installed."""
    if any(find_spec(name) is None for name in _NEEDS):
        raise UsherError(
            "the history needs SQLAlchemy and Alembic; install them with: pip install 'usher-gate[history]'"
        )
    from ..files.history.settings import read_history_settings
    from ..files.history.store import Store

    return Store(read_history_settings(folder).url)


def keeps_always() -> bool:
    """Return whether the working folder says that every check is kept."""
    from ..files.written.workfolder import HISTORY, NAME, read_toml

    table = read_toml(Path(NAME))[1].get(HISTORY)
    return isinstance(table, dict) and table.get("keep") is True


def reviews_decided(folder: Path, snapshot: Snapshot) -> tuple[dict[tuple[str, str], int], tuple[str, ...]]:
    """Return what the reviews of guests in a working folder have decided by the day of a snapshot, as it is counted in
    the history; and which of them cannot be read.
    """
    from datetime import date

    from ..core.guests.deciding import OPEN, decide
    from ..core.history.intervals import DECIDED, decision_name
    from ..core.words.times import rfc3339
    from ..files.written.worksheets import REVIEW, read_review

    found: dict[tuple[str, str], int] = {}
    notes = []
    day = date.fromisoformat(rfc3339(snapshot.taken_at)[:10])
    for place in sorted(folder.glob(f"*/{REVIEW}")):
        try:
            review = read_review(place.parent, snapshot, date.min)
        except UsherError as fault:
            notes.append(f"what the review in {place.parent} has decided is not kept: {str(fault).splitlines()[0]}")
            continue
        for row, answers in review.rows:
            decided = decide(row, answers, day, review.due, review.on_silence)
            if decided.fate not in OPEN:
                found[DECIDED, decision_name(review.id, row.guest, row.place, decided.fate)] = 1
    return found, tuple(notes)


def to_keep(
    result: CheckResult,
    snapshot: Path,
    baseline: Path,
    exceptions: Path | None,
    reviews: Mapping[tuple[str, str], int] | None = None,
    kept_at: str = "",
) -> ToKeep:
    """Return a check with all that is kept of it.

    Its findings, what else is counted, who is there, and the digests of what it was made of.

    `kept_at` is when it is kept, by default now.
    """
    from datetime import UTC, datetime

    from ..core.door.doors import Doors
    from ..core.door.hosts import hosts_of
    from ..core.door.visitors import kinds_of
    from ..core.history.intervals import counted, kept_findings, there
    from ..core.settings.resolver import Resolver
    from ..files.history.digests import Digesting, file_digest, snapshot_digest
    from ..files.history.store import ToKeep
    from ..outputs.forms import writer
    from ..outputs.render_options import RenderOptions

    with Digesting() as whole:
        writer("check", "json")(result, whole, RenderOptions())
    counts, resolver = counted(result), Resolver(result.snapshot)
    for service in result.snapshot.services or ():
        for door in Doors(hosts_of(resolver, service)).doors() if kinds_of(service) else ():
            counts["door", f"{door.service}\t{door.kind}"] = door.open
    counts |= reviews or {}
    digests = {
        "snapshot": snapshot_digest(snapshot),
        "baseline": file_digest(baseline),
        "exceptions": file_digest(exceptions),
        "result": whole.digest,
    }
    return ToKeep(
        organisation=result.snapshot.name,
        time=result.snapshot.taken_text,
        taken_at=result.snapshot.taken_at,
        baseline_name=result.baseline.name,
        baseline_version=result.baseline.version,
        digests=digests,
        findings=kept_findings(result),
        counts=counts,
        there=there(result.snapshot, [rule.id for rule in result.rules]),
        kept_at=kept_at or datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
    )


def rules_at(store: Store, number: int) -> frozenset[str]:
    """Return the rules of the baseline at a check."""
    return frozenset(name for (kind, name) in store.counts(("rule",)).get(number, {}) if kind == "rule")


def changed_since(store: Store, then: Check, now: Check) -> list[Changed]:
    """Return what became of every finding between two kept checks."""
    rules = rules_at(store, then.number), rules_at(store, now.number)
    return store.between(then.number, now.number, *rules).changed()


def kept_before(snapshot: Snapshot) -> tuple[Store, list[Check]] | None:
    """Return the checks of this organisation that are as old as a snapshot or older.

    None without any (or without what reads them).
    """
    if not _may_be_there() or any(find_spec(name) is None for name in _NEEDS):
        return None
    store = open_store()
    checks = [check for check in store.checks() if check.organisation == snapshot.name] if store.there else []
    before = [check for check in checks if check.taken_at <= snapshot.taken_at]
    return (store, before) if before else None


@record
class SinceLastCheck:
    """A check that is not kept beside the one kept before it: what drifts, and what became of every finding since."""

    then: Check
    data_point: DataPoint


def moved_since(result: CheckResult) -> SinceLastCheck | None:
    """Return what became of every finding since the last check kept that is older than this one.

    None without a history (or what reads one).
    """
    kept = kept_before(result.snapshot)
    before = [check for check in kept[1] if check.taken_at < result.snapshot.taken_at] if kept is not None else []
    if kept is None or not before:
        return None
    from ..core.history.intervals import beside, kept_findings, there
    from ..core.history.trend import unkept_leg

    store, then = kept[0], before[-1]
    now, rules = then.number + 1, frozenset(rule.id for rule in result.rules)
    kept_then = store.between(then.number, None, rules_at(store, then.number), rules)
    between = beside(kept_then, kept_findings(result), now, there(result.snapshot, rules))
    taken = {**{check.number: check.taken_at for check in before}, now: result.snapshot.taken_at}
    return SinceLastCheck(then, unkept_leg(between, taken))


def if_usable(ask: Callable[[], _Answer]) -> tuple[_Answer | None, str]:
    """Return what the history says; if it cannot be used, nothing, and why.

    Raises BadInput if the settings are wrong.
    """
    try:
        return ask(), ""
    except BadInput:
        raise
    except UsherError as fault:
        return None, str(fault)


def since_of(result: CheckResult) -> dict[str, str | int | None] | None:
    """Return the same, as a check shows it."""
    from ..core.history.intervals import WHAT

    moved = moved_since(result)
    if moved is None:
        return None
    since: dict[str, str | int | None] = {"from": moved.then.time}
    since |= {name: (moved.data_point.changed or {}).get(name, 0) for name in WHAT}
    return {**since, "oldest_age_days": moved.data_point.oldest_age}


def _may_be_there() -> bool:
    """Return whether the working folder has, or names, a history; asked before anything heavy is loaded."""
    from ..files.written.workfolder import HISTORY, NAME, read_toml

    return Path("history.db").exists() or HISTORY in read_toml(Path(NAME))[1]
