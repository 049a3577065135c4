"""A replay shared out by files, lines of files and row groups: each counts for itself, and the counts are added up."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise

from ..core.sign_in.rehearsal import Tally, TallyState
from ..core.sign_in.replay import Replay
from ..core.words.record import record
from ..files.place import Place, size_of
from ..files.sign_ins import LogPart, Unread, read_sign_ins
from .interface import Executor, ProgressCallback

SMALL = 48 * 1024 * 1024  # bytes in all that are not worth a second process
_SMALL_PARQUET = 12 * 1024 * 1024  # which holds several times as much in as many bytes


@record
class LogShare:
    """Some of a log."""

    parts: tuple[LogPart, ...]

    def named(self) -> str:
        """Return what it is, in words."""
        more = f" and {len(self.parts) - 1} more" if len(self.parts) > 1 else ""
        return f"{self.parts[0].path}{more}"


def large(files: Sequence[Place]) -> bool:
    """Return whether these files are worth several processes."""
    sizes = [(path.suffix == ".parquet", size_of(path)) for path in files]
    packed = sum(size for parquet, size in sizes if parquet)
    return packed >= min(_SMALL_PARQUET, SMALL) or sum(size for _, size in sizes) - packed >= SMALL


def shares(files: Sequence[Place], count: int) -> list[LogShare]:
    """Return the files in so many shares; a large one is split where its format allows."""
    sizes = [(path, size_of(path)) for path in files]
    fair = max(1, sum(size for _, size in sizes) // count)
    parts: list[tuple[int, LogPart]] = []
    for path, size in sizes:
        pieces = min(count, -(-size // fair)) if size > fair // 2 else 1
        parts += [(size // pieces, part) for part in _split(path, size, pieces)]
    loads: list[tuple[int, list[LogPart]]] = [(0, []) for _ in range(count)]
    for size, part in sorted(parts, key=lambda one_part: -one_part[0]):
        least = min(range(count), key=lambda number: loads[number][0])
        loads[least] = (loads[least][0] + size, [*loads[least][1], part])
    order = {path: number for number, path in enumerate(files)}  # so that the first of anything is found first
    return [LogShare(tuple(sorted(mine, key=lambda part: (order[part.path], part.first)))) for _, mine in loads if mine]


def _split(path: Place, size: int, pieces: int) -> list[LogPart]:
    if pieces < 2 or path.suffix == ".csv":
        return [LogPart(path)]
    if path.suffix == ".parquet":
        from ..files.sign_ins.columns import row_groups

        groups = row_groups(path)
        cuts = [groups * number // pieces for number in range(pieces + 1)]
        return [LogPart(path, first, last) for first, last in pairwise(cuts) if first < last] or [LogPart(path)]
    cuts = [size * number // pieces for number in range(pieces)]
    return [LogPart(path, first, last) for first, last in zip(cuts, [*cuts[1:], None], strict=True)]


def tally_all(
    files: Sequence[Place], replay: Replay, progress: ProgressCallback, executor: Callable[[], Executor] | None = None
) -> tuple[Tally, Unread]:
    """Decides and counts everything in these files, by a executor if there is one.

    The answer is the same in either case.
    """
    tally, unread = Tally(replay), Unread()
    if executor is None:
        _count(replay, [LogPart(path) for path in files], progress, tally, unread)
        return tally, unread
    with executor() as some:
        for state, missed in some.run(count, shares(files, some.size * some.shares_each), progress):
            tally.merge(state)
            unread.merge(missed)
    return tally, unread


def _count(replay: Replay, parts: Sequence[LogPart], report: ProgressCallback, tally: Tally, unread: Unread) -> None:
    for batch in read_sign_ins(parts, replay, unread):
        tally.add(batch.events, batch.time, batch.result)
        report(unread.read)


def count(replay: Replay, share: LogShare, report: ProgressCallback) -> tuple[TallyState, Unread]:
    """Return what is counted in a share, as it travels."""
    tally, unread = Tally(replay), Unread()
    _count(replay, share.parts, report, tally, unread)
    return tally.state(), unread
