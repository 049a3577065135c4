"""Several processes for large logs: each takes its share of the files, and what they count is added up."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise
from pathlib import Path

from ...core.sign_in.rehearsal import State, Tally
from ...core.sign_in.replay import Replay
from ..parallel import cores, share_out
from . import read_sign_ins
from .interface import Part, Unread

SMALL = 48 * 1024 * 1024  # bytes in all that are not worth a second process


def shares(files: Sequence[Path], count: int) -> list[list[Part]]:
    """The files for so many workers; a large one is split where its format allows."""
    sizes = {path: path.stat().st_size for path in files}
    fair = max(1, sum(sizes.values()) // count)
    parts: list[tuple[int, Part]] = []
    for path, size in sizes.items():
        pieces = min(count, -(-size // fair)) if size > fair // 2 else 1
        parts += [(size // pieces, part) for part in _split(path, size, pieces)]
    loads: list[tuple[int, list[Part]]] = [(0, []) for _ in range(count)]
    for size, part in sorted(parts, key=lambda one_part: -one_part[0]):
        least = min(range(count), key=lambda number: loads[number][0])
        loads[least] = (loads[least][0] + size, [*loads[least][1], part])
    return [mine for _, mine in loads if mine]


def _split(path: Path, size: int, pieces: int) -> list[Part]:
    if pieces < 2 or path.suffix == ".csv":
        return [Part(path)]
    if path.suffix == ".parquet":
        import pyarrow.parquet as pq

        try:
            groups = int(pq.read_metadata(path).num_row_groups)
        except (OSError, ValueError):
            return [Part(path)]  # whoever reads it says what is wrong
        cuts = [groups * number // pieces for number in range(pieces + 1)]
        return [Part(path, first, last) for first, last in pairwise(cuts) if first < last]
    cuts = [size * number // pieces for number in range(pieces)]
    return [Part(path, first, last) for first, last in zip(cuts, [*cuts[1:], None], strict=True)]


def tally_all(files: Sequence[Path], replay: Replay, progress: Callable[[int], None]) -> tuple[Tally, Unread]:
    """Decides and counts everything in these files; the answer is the same with any number of processes."""
    # Parquet is read by Arrow, which uses every core as it is.
    large = sum(path.stat().st_size for path in files if path.suffix != ".parquet") >= SMALL
    work = shares(files, min(cores(), 8)) if large and cores() > 1 else [[Part(path) for path in files]]
    if len(work) == 1:
        return _tally(replay, work[0], progress)
    tally, unread = Tally(replay), Unread()
    for state, missed in share_out(_state, replay, work, progress):
        tally.merge(state)
        unread.merge(missed)
    return tally, unread


def _tally(replay: Replay, parts: Sequence[Part], tell: Callable[[int], None]) -> tuple[Tally, Unread]:
    tally, unread = Tally(replay), Unread()
    for batch in read_sign_ins(parts, replay, unread):
        tally.add(batch.events, batch.time, batch.result)
        tell(unread.read)
    return tally, unread


def _state(replay: Replay, parts: Sequence[Part], tell: Callable[[int], None]) -> tuple[State, Unread]:
    """The same, as it travels between processes."""
    tally, unread = _tally(replay, parts, tell)
    return tally.state(), unread
