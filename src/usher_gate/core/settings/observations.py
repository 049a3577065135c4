"""What was really seen: the observations of a service and control that count."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from ..organisation.columns import Bools, Ints, Longs
from ..organisation.settings import Observations
from ..organisation.snapshot import Snapshot


@dataclass(slots=True)
class ObservedValues:
    """The observations of one service and control that count: for each person with any, the values seen last.

    `people` ascending, without repeats; those of person i are `values[starts[i]:starts[i + 1]]` into `words`, in the
    order of choice (least strict, then smallest text); `at` is when.
    """

    people: Ints
    starts: Longs
    values: Ints
    at: Longs
    words: tuple[str, ...] = field(default=())


def observed(snapshot: Snapshot, service: str, control: str) -> ObservedValues | None:
    """Return what was seen last of one service and control, up to the time of the snapshot; None where nothing was."""
    table: Observations | None = snapshot.observations
    names = [one_service.id for one_service in snapshot.services or ()]
    if table is None or control not in table.controls or service not in names:
        return None
    rows = np.flatnonzero(
        (table.service == names.index(service))
        & (table.control == table.controls.index(control))
        & (table.seen <= snapshot.taken_at)
    )
    if not len(rows):
        return None
    kind = snapshot.catalogue.index[control].kind
    # Number the values from the weakest to the strictest.
    used = sorted(
        {int(value) for value in table.value[rows].tolist()},
        key=lambda value: (kind.strictness(table.values[value]), table.values[value]),
    )
    place = np.zeros(len(table.values), np.int32)
    place[used] = np.arange(len(used))
    # Sort by person, then the latest first, then the weakest first.
    rows = rows[np.lexsort((place[table.value[rows]], -table.seen[rows], table.person[rows]))]
    person, seen = table.person[rows], table.seen[rows]
    # Keep what was seen at each person's latest time, and where each person's rows begin.
    people, first, inverse = np.unique(person, return_index=True, return_inverse=True)
    rows = rows[seen == seen[first][inverse]]
    starts = np.searchsorted(table.person[rows], np.append(people, np.iinfo(np.int32).max)).astype(np.int64)
    return ObservedValues(
        people=people.astype(np.int32),
        starts=starts,
        values=place[table.value[rows]],
        at=table.seen[rows][starts[:-1]],
        words=tuple(table.values[value] for value in used),
    )


def seen_later(seen: ObservedValues, moved: Bools, taken_at: int) -> ObservedValues | None:
    """Return what was seen, without the people whose setting moved after they were looked at."""
    kept = ~(moved[seen.people] & (seen.at < taken_at))
    if np.all(kept):
        return seen
    if not np.any(kept):
        return None
    lengths = np.diff(seen.starts)
    return replace(
        seen,
        people=seen.people[kept],
        starts=np.concatenate(([0], np.cumsum(lengths[kept]))).astype(np.int64),
        values=seen.values[np.repeat(kept, lengths)],
        at=seen.at[kept],
    )
