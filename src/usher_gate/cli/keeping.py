"""Keeping a check in the history, and what a check says of the checks before it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from ..core.words.record import record
from ..files.faults import BadInput, UsherError

if TYPE_CHECKING:
    from ..core.history.course import Leg
    from ..core.history.spells import Changed
    from ..core.organisation.snapshot import Snapshot
    from ..core.verdicts.result import CheckResult
    from ..files.history.store import Check, Store, ToKeep

_NEEDS = ("sqlalchemy", "alembic")
_Told = TypeVar("_Told")


def open_store(folder: Path = Path()) -> Store:
    """The history of a working folder; raises UsherError where what it needs is not installed."""
    if any(find_spec(name) is None for name in _NEEDS):
        raise UsherError(
            "the history needs SQLAlchemy and Alembic; install them with: pip install 'usher-gate[history]'"
        )
    from ..files.history.settings import read_history_settings
    from ..files.history.store import Store

    return Store(read_history_settings(folder).url)


def keeps_always() -> bool:
    """Whether the working folder says that every check is kept."""
    from ..files.written.workfolder import HISTORY, NAME, read_toml

    table = read_toml(Path(NAME))[1].get(HISTORY)
    return isinstance(table, dict) and table.get("keep") is True


def reviews_decided(folder: Path, snapshot: Snapshot) -> tuple[dict[tuple[str, str], int], tuple[str, ...]]:
    """What the reviews of guests in a working folder have decided by the day of a snapshot, as it is counted in the history; and which of
    them cannot be read."""
    from datetime import date

    from ..core.guests.deciding import OPEN, decide
    from ..core.history.spells import DECIDED, decision_name
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
    """A check with all that is kept of it: its findings, what else is counted, who is there, and the digests of what it was made of.

    `kept_at` is when it is kept, by default now.
    """
    from datetime import UTC, datetime

    from ..core.door.doors import Doors
    from ..core.door.hosts import hosts_of
    from ..core.door.visitors import kinds_of
    from ..core.history.spells import counted, kept_findings, there
    from ..core.settings.resolver import Resolver
    from ..files.history.digests import Digesting, file_digest, snapshot_digest
    from ..files.history.store import ToKeep
    from ..outputs.check.json_ import write_json
    from ..outputs.look import Look
    from ..outputs.safe import harmless

    with Digesting() as whole:
        write_json(result, harmless(whole, "json"), Look(100, False, 0))
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
        result.snapshot.name,
        result.snapshot.taken_text,
        result.snapshot.taken_at,
        result.baseline.name,
        result.baseline.version,
        digests,
        kept_findings(result),
        counts,
        there(result.snapshot, [rule.id for rule in result.rules]),
        kept_at or datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
    )


def rules_at(store: Store, number: int) -> frozenset[str]:
    """The rules of the baseline at a check."""
    return frozenset(name for (kind, name) in store.counts(("rule",)).get(number, {}) if kind == "rule")


def changed_since(store: Store, then: Check, now: Check) -> list[Changed]:
    """What became of every drift between two kept checks."""
    rules = rules_at(store, then.number), rules_at(store, now.number)
    return store.between(then.number, now.number, *rules).changed()


def kept_before(snapshot: Snapshot) -> tuple[Store, list[Check]] | None:
    """The checks of this organisation that are as old as a snapshot or older; None without any (or without what reads them)."""
    if not _may_be_there() or any(find_spec(name) is None for name in _NEEDS):
        return None
    store = open_store()
    checks = [check for check in store.checks() if check.organisation == snapshot.name] if store.there else []
    before = [check for check in checks if check.taken_at <= snapshot.taken_at]
    return (store, before) if before else None


@record
class Moved:
    """A check that is not kept beside the one kept before it: what drifts, and what became of every drift since."""

    then: Check
    leg: Leg


def moved_since(result: CheckResult) -> Moved | None:
    """What became of every drift since the last check kept that is older than this one; None without a history (or what reads one)."""
    kept = kept_before(result.snapshot)
    before = [check for check in kept[1] if check.taken_at < result.snapshot.taken_at] if kept is not None else []
    if kept is None or not before:
        return None
    from ..core.history.course import unkept_leg
    from ..core.history.spells import beside, kept_findings, there

    store, then = kept[0], before[-1]
    now, rules = then.number + 1, frozenset(rule.id for rule in result.rules)
    kept_then = store.between(then.number, None, rules_at(store, then.number), rules)
    between = beside(kept_then, kept_findings(result), now, there(result.snapshot, rules))
    taken = {**{check.number: check.taken_at for check in before}, now: result.snapshot.taken_at}
    return Moved(then, unkept_leg(between, taken))


def if_usable(tell: Callable[[], _Told]) -> tuple[_Told | None, str]:
    """What is told of the history; where it cannot be used, nothing, and why. Raises BadInput where the settings are wrong."""
    try:
        return tell(), ""
    except BadInput:
        raise
    except UsherError as fault:
        return None, str(fault)


def since_of(result: CheckResult) -> dict[str, str | int | None] | None:
    """The same, as a check tells it of itself."""
    from ..core.history.spells import WHAT

    moved = moved_since(result)
    if moved is None:
        return None
    told: dict[str, str | int | None] = {"from": moved.then.time}
    told |= {name: (moved.leg.changed or {}).get(name, 0) for name in WHAT}
    return {**told, "oldest_age_days": moved.leg.oldest_age}


def _may_be_there() -> bool:
    """Whether the working folder has, or names, a history; asked before anything heavy is loaded."""
    from ..files.written.workfolder import HISTORY, NAME, read_toml

    return Path("history.db").exists() or HISTORY in read_toml(Path(NAME))[1]
