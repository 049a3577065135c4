"""What a change of the access rules would have done to sign-ins that happened.

Counted by outcome, day, rule, resource and person.
"""

from __future__ import annotations

import numpy as np

from ..organisation.columns import DAY, Bools, Ints, Longs, distinct
from ..words.record import record
from .decide import OUTCOMES
from .replay import ALLOWED, CHALLENGED, DENIED, STUCK, UNKNOWN, Events, OutcomeCodes, Replay

RESULTS = ("allowed", "challenged", "stuck", "denied", "failed")
_GOT_IN = RESULTS.index("allowed")
HARD = (CHALLENGED, STUCK, DENIED, UNKNOWN)  # what can become of a sign-in that got in, other than that it still does
_SIZE = len(OUTCOMES)
_CELLS = 2 * _SIZE * _SIZE
_USES = 100  # uses of break-glass accounts that are kept
_NARROW = 4000  # days between the first and the last of a batch, up to which they are counted in one go


@record
class AffectedPerson:
    """Sign-ins that got in and would not any more, by what would become of them, and how many people these are (or
    whose).
    """

    name: str
    sign_ins: tuple[int, int, int, int]  # challenged, stuck, denied, unknown
    people: int


@record
class DayCounts:
    """One day (UTC, as days since 1970-01-01).

    How many sign-ins there were, how many got in, and what would become of those.
    """

    day: int
    sign_ins: int
    got_in: int
    hurt: tuple[int, int, int, int]


@record
class BreakGlassUse:
    """A sign-in of a break-glass account.

    When (microseconds), who (a number), to what, from which networks (None: not said), with what result ("" where that
    is not said).
    """

    time: int
    person: int
    resource: str
    networks: frozenset[str] | None
    result: str


@record
class KeptOutToday:
    """Sign-ins of a person (`row` is their number) that got in although the rules as they are would have challenged
    them, or kept them out (denied or stuck).
    """

    row: int
    challenged: int
    kept_out: int


@record
class Rehearsal:
    """The whole answer.

    `outcomes[now][then]` counts sign-ins, `got_in` those of them that got in; `eased` would be let in or challenged
    where they are denied or stuck now; `denied_now` got in although the rules as they are would not let them.
    """

    outcomes: tuple[tuple[int, ...], ...]
    got_in: tuple[tuple[int, ...], ...]
    days: tuple[DayCounts, ...]
    rules: tuple[AffectedPerson, ...]
    resources: tuple[AffectedPerson, ...]
    people: tuple[AffectedPerson, ...]  # one entry for each person, by id
    rows: tuple[int, ...]  # the numbers of these people
    uses: tuple[BreakGlassUse, ...]  # of break-glass accounts, the latest first
    used: int  # how many there were, though only the latest are kept
    against: tuple[
        KeptOutToday, ...
    ]  # who got in although the rules as they are would not have let them, or would have asked for more

    @property
    def sign_ins(self) -> int:
        """Return how many were decided."""
        return sum(map(sum, self.outcomes))

    @property
    def inside(self) -> int:
        """Return how many of them got in."""
        return sum(map(sum, self.got_in))

    @property
    def changed(self) -> int:
        """Return how many would be decided otherwise."""
        return sum(self.outcomes[now][then] for now in range(_SIZE) for then in range(_SIZE) if now != then)

    @property
    def hurt(self) -> tuple[int, ...]:
        """Return how many that got in would be decided otherwise: challenged, stuck, denied, unknown."""
        return tuple(sum(self.got_in[now][then] for now in range(_SIZE) if now != then) for then in HARD)

    @property
    def eased(self) -> int:
        """Return how many that are denied or stuck now would be allowed or challenged."""
        return sum(self.outcomes[now][then] for now in (STUCK, DENIED) for then in (ALLOWED, CHALLENGED))

    @property
    def denied_now(self) -> int:
        """Return how many got in although the rules as they are would deny them or leave them stuck."""
        return sum(sum(self.got_in[now]) for now in (STUCK, DENIED))

    @property
    def challenged_now(self) -> int:
        """Return how many got in although the rules as they are would have asked for more than was shown."""
        return sum(self.got_in[CHALLENGED])


# By name: what was counted, and which people it was counted of.
Travelling = dict[str, tuple[Longs, Longs]]


# Rows of a table of people that are not all nought, and these rows.
Sparse = tuple[Longs, Longs]


@record
class TallyState:
    """Describes what a tally has counted, small enough to travel: only people with something counted."""

    days: dict[int, Longs]
    rules: Travelling
    resources: Travelling
    people: Sparse
    uses: tuple[BreakGlassUse, ...]
    used: int
    against: Sparse


class _By:
    """Counts by some name: sign-ins by what becomes of them, and the people concerned."""

    def __init__(self, people: int) -> None:
        self._people, self._counts, self._whose = people, dict[str, Longs](), dict[str, Bools]()

    def add(self, name: str, fate: Longs, person: Ints) -> None:
        """Counts some sign-ins; `fate` is their place in HARD."""
        if name not in self._counts:
            self._counts[name], self._whose[name] = np.zeros(len(HARD), np.int64), np.zeros(self._people, bool)
        self._counts[name] += np.bincount(fate, minlength=len(HARD))
        self._whose[name][person] = True

    def state(self) -> Travelling:
        """Return what was counted, to be added elsewhere."""
        return {name: (counts, np.flatnonzero(self._whose[name])) for name, counts in self._counts.items()}

    def merge(self, other: Travelling) -> None:
        """Adds what was counted elsewhere."""
        for name, (counts, people) in other.items():
            if name not in self._counts:
                self._counts[name], self._whose[name] = np.zeros(len(HARD), np.int64), np.zeros(self._people, bool)
            self._counts[name] += counts
            self._whose[name][people] = True

    def rows(self) -> tuple[AffectedPerson, ...]:
        """Return what was counted, most first."""
        found = [
            AffectedPerson(name, _four(counts), int(np.count_nonzero(self._whose[name])))
            for name, counts in self._counts.items()
        ]
        return tuple(sorted(found, key=lambda hurt: (-sum(hurt.sign_ins), hurt.name)))


class Tally:
    """Decides and counts sign-ins batch by batch; what it holds does not grow with their number."""

    def __init__(self, replay: Replay) -> None:
        self.replay = replay
        size = len(replay.snapshot.people)
        self._days: dict[int, Longs] = {}
        self._rules, self._resources = _By(size), _By(size)
        self._people = np.zeros((0, len(HARD)), np.int64)
        self._uses: list[BreakGlassUse] = []
        self._used = 0
        self._against = np.zeros((size, 2), np.int64)  # got in although now challenged; although now stuck or denied

    def add(self, events: Events, time: Longs, result: Ints) -> None:
        """Counts a batch.

        When each was (microseconds), and its result (a number of RESULTS, MISSING where that is not said).
        """
        if not len(events):
            return
        # Count the outcomes by day, in one cell for each (got in, now, then).
        now, then = self.replay.decide(events)
        got_in = (result == _GOT_IN) | ((result < 0) & (now == ALLOWED))
        cell = (got_in * np.int8(_SIZE) + now) * np.int8(_SIZE) + then
        self._count_days(time // DAY, cell)
        sealed = self.replay.snapshot.people.break_glass
        if sealed is not None and len(used := np.flatnonzero(sealed.take(events.person))):
            self._count_uses(events.at(used), time[used], result[used])
        # Sign-ins that got in although the rules as they are would not have let them.
        odd = np.flatnonzero(got_in & (now != ALLOWED) & (now != UNKNOWN))
        if len(odd):
            key = events.person[odd].astype(np.int64) * 2 + (now[odd] != CHALLENGED)
            self._against += np.bincount(key, minlength=self._against.size).reshape(-1, 2)
        # Sign-ins that got in, and that the change would stop or challenge.
        rows = np.flatnonzero(got_in & (now != then) & (then != ALLOWED))
        if len(rows):
            self._count_hurt(events.at(rows), np.array([0, 0, 1, 2, 3])[then[rows]])

    def _count_days(self, day: Longs, cell: OutcomeCodes) -> None:
        first = int(day.min())
        if int(day.max()) - first < _NARROW:
            counted = np.bincount((day - first) * _CELLS + cell, minlength=_CELLS)
            counted = np.append(counted, np.zeros(-len(counted) % _CELLS, np.int64)).reshape(-1, _CELLS)
            found = {first + place: counted[place] for place in np.flatnonzero(counted.any(1)).tolist()}
        else:
            found = {one_day: np.bincount(cell[day == one_day], minlength=_CELLS) for one_day in distinct(day).tolist()}
        for one_day, cells in found.items():
            self._days[one_day] = self._days.get(one_day, 0) + cells

    def _count_uses(self, events: Events, time: Longs, result: Ints) -> None:
        """Count uses of break-glass accounts and keep the latest of them."""
        replay = self.replay
        self._used += len(events)
        columns = (time, events.person, events.resource, events.network, result)
        for when, person, resource, network, said in zip(*(column.tolist() for column in columns), strict=True):
            networks = None if network < 0 else replay.networks[network]
            self._uses.append(
                BreakGlassUse(
                    time=when,
                    person=person,
                    resource=replay.resources[resource],
                    networks=networks,
                    result="" if said < 0 else RESULTS[said],
                )
            )
        self._uses = sorted(self._uses, key=_latest)[:_USES]

    def _count_hurt(self, events: Events, fate: Longs) -> None:
        size = len(self.replay.snapshot.people)
        if not len(self._people):
            self._people = np.zeros((size, len(HARD)), np.int64)
        self._people += np.bincount(events.person * np.int64(len(HARD)) + fate, minlength=size * len(HARD)).reshape(
            size, -1
        )
        for number in distinct(events.resource).tolist():
            here = events.resource == number
            self._resources.add(self.replay.resources[number], fate[here], events.person[here])
        known = np.flatnonzero(fate != HARD.index(UNKNOWN))
        if len(known):
            certain = events.at(known)
            for name, mask in self.replay.causes(certain):
                self._rules.add(name, fate[known][mask], certain.person[mask])

    def state(self) -> TallyState:
        """Return what was counted, to be added elsewhere."""
        return TallyState(
            days=self._days,
            rules=self._rules.state(),
            resources=self._resources.state(),
            people=_sparse(self._people),
            uses=tuple(self._uses),
            used=self._used,
            against=_sparse(self._against),
        )

    def merge(self, other: TallyState) -> None:
        """Adds what another tally counted."""
        for day, cells in other.days.items():
            self._days[day] = self._days.get(day, 0) + cells
        self._rules.merge(other.rules)
        self._resources.merge(other.resources)
        people, counted = other.people
        if len(people):
            if not len(self._people):
                self._people = np.zeros((len(self._against), len(HARD)), np.int64)
            self._people[people] += counted
        self._uses = sorted([*self._uses, *other.uses], key=_latest)[:_USES]
        self._used += other.used
        self._against[other.against[0]] += other.against[1]

    def done(self) -> Rehearsal:
        """Return the answer so far."""
        cells = np.zeros(_CELLS, np.int64)
        for counted in self._days.values():
            cells = cells + counted
        outside, inside = cells.reshape(2, _SIZE, _SIZE)
        hurt = np.flatnonzero(self._people.any(1))
        ids = self.replay.snapshot.people.ids.take(hurt)
        people = [
            AffectedPerson(name, _four(self._people[row]), 1) for row, name in zip(hurt.tolist(), ids, strict=True)
        ]
        order = sorted(range(len(people)), key=lambda number: (-sum(people[number].sign_ins), people[number].name))
        return Rehearsal(
            outcomes=_table(outside + inside),
            got_in=_table(inside),
            days=tuple(_day(day, self._days[day]) for day in sorted(self._days)),
            rules=self._rules.rows(),
            resources=self._resources.rows(),
            people=tuple(people[one_row] for one_row in order),
            rows=tuple(hurt[order].tolist()),
            uses=tuple(self._uses),
            used=self._used,
            against=self._odd_ones(),
        )

    def _odd_ones(self) -> tuple[KeptOutToday, ...]:
        rows = np.flatnonzero(self._against.any(1))
        found = [KeptOutToday(row, *self._against[row].tolist()) for row in rows.tolist()]
        return tuple(sorted(found, key=lambda each: (-each.kept_out, -each.challenged, each.row)))


def _sparse(table: Longs) -> Sparse:
    rows = np.flatnonzero(table.any(1))
    return rows, table[rows]


def _latest(use: BreakGlassUse) -> tuple[object, ...]:
    return -use.time, use.person, use.resource, sorted(use.networks or ()), use.result


def _four(counts: Longs) -> tuple[int, int, int, int]:
    challenged, stuck, denied, unknown = counts.tolist()
    return challenged, stuck, denied, unknown


def _table(cells: Longs) -> tuple[tuple[int, ...], ...]:
    return tuple(tuple(row) for row in cells.tolist())


def _day(day: int, cells: Longs) -> DayCounts:
    inside = cells.reshape(2, _SIZE, _SIZE)[1]
    changed = inside.sum(0) - inside.diagonal()
    return DayCounts(day, int(cells.sum()), int(inside.sum()), _four(changed[list(HARD)]))
