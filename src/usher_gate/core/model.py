"""What a snapshot holds, as columns: people, groups, units, services and settings, ready to be judged all at once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from .accessrules import AccessRule
from .catalogue import Catalogue
from .networks import Networks
from .record import record
from .select import Selector

Ints = NDArray[np.int32]
Longs = NDArray[np.int64]
Bools = NDArray[np.bool_]

# An empty cell: of a coded column, and of a column of times (microseconds since 1970-01-01T00:00Z).
MISSING = -1
NO_TIME = np.iinfo(np.int64).min
NO_RANK = np.iinfo(np.int64).max  # a blank rank comes last
DAY = 86_400_000_000
HOUR = 3_600_000_000

# The scopes that a setting can have.
ORGANISATION, UNIT, GROUP, PERSON, MEETING = range(5)
LEVELS = ("organisation", "unit", "group", "person")


class Texts(Protocol):
    """Many texts, perhaps not as Python objects; position by position."""

    def __len__(self) -> int: ...

    def take(self, rows: Ints | Longs) -> list[str]:
        """The texts at these rows; an empty cell as the empty text."""

    def find(self, text: str) -> list[int]:
        """The rows that hold just this text."""


@record
class Coded:
    """A column of texts with few distinct ones: `codes` (int32, MISSING for an empty cell) into `words`."""

    codes: Ints
    words: tuple[str, ...]

    def where(self, wanted: Sequence[bool]) -> Bools:
        """The rows whose word is wanted; `wanted` has one answer for each word. Empty cells are never wanted."""
        return np.array([*wanted, False], dtype=bool)[self.codes]


@record
class People:
    """The active people, sorted by id. A column that the snapshot does not have is None."""

    ids: Texts
    logins: Texts
    names: Texts | None
    kind: Coded
    unit: Coded | None
    roles: Coded | None
    licences: Coded | None
    break_glass: Bools | None
    home_domain: Coded | None  # as the column says; see Snapshot.guest_domains
    sponsor: Bools | None
    mfa: Coded | None
    protection: Coded | None
    times: Mapping[str, Longs]
    attributes: Mapping[str, Coded]
    inactive: frozenset[str] = frozenset()

    def __len__(self) -> int:
        return len(self.ids)


@record
class Spans:
    """For each of n owners a run of numbers: those of owner i are `items[starts[i]:starts[i + 1]]`, ascending."""

    starts: Longs
    items: Ints

    def of(self, owner: int) -> Ints:
        """The run of one owner."""
        return self.items[int(self.starts[owner]) : int(self.starts[owner + 1])]

    def gather(self, owners: Longs | Ints) -> Ints:
        """The runs of many owners, one after another."""
        lengths = self.starts[owners + 1] - self.starts[owners]
        step = np.arange(int(lengths.sum())) - np.repeat(np.cumsum(lengths) - lengths, lengths)
        items: Ints = self.items[np.repeat(self.starts[owners], lengths) + step]
        return items

    def count(self, mask: Bools) -> Longs:
        """For each owner, how many of its items the mask holds."""
        sums = np.concatenate(([0], np.cumsum(mask[self.items], dtype=np.int64)))
        counted: Longs = sums[self.starts[1:]] - sums[self.starts[:-1]]
        return counted


def distinct(numbers: Longs) -> Longs:
    """The distinct numbers, ascending; sorts the array that it is given.

    (`np.unique` would import masked arrays for it, which costs 20 ms at every start.)
    """
    numbers.sort()
    return numbers[np.append(True, numbers[1:] != numbers[:-1])] if len(numbers) else numbers


def spans(owners: Longs | Ints, items: Ints, count: int, item_count: int) -> Spans:
    """Spans from pairs in any order; repeated pairs count once."""
    keys = distinct(owners.astype(np.int64) * max(item_count, 1) + items)
    starts = np.searchsorted(keys, np.arange(count + 1, dtype=np.int64) * max(item_count, 1))
    return Spans(starts.astype(np.int64), (keys % max(item_count, 1)).astype(np.int32))


@dataclass(frozen=True)
class Units:
    """The tree of units: every unit with somebody in or below it, in the order of a walk through the tree."""

    paths: tuple[str, ...]
    codes: Ints  # of each active person, MISSING in no unit

    @cached_property
    def index(self) -> Mapping[str, int]:
        """Where each path stands."""
        return {path: number for number, path in enumerate(self.paths)}

    @cached_property
    def ends(self) -> tuple[int, ...]:
        """For each unit, the place after the last unit below it."""
        ends = list(range(1, len(self.paths) + 1))
        for number in range(len(self.paths) - 1, -1, -1):
            above = parent(self.paths[number])
            if above is not None:
                ends[self.index[above]] = max(ends[self.index[above]], ends[number])
        return tuple(ends)

    @cached_property
    def _ordered(self) -> tuple[Ints, Longs]:
        order = np.argsort(self.codes, kind="stable").astype(np.int32)
        return order, np.searchsorted(self.codes[order], np.arange(len(self.paths) + 1)).astype(np.int64)

    def members(self, unit: int) -> Ints:
        """The active people in a unit and below it."""
        order, starts = self._ordered
        return order[starts[unit] : starts[self.ends[unit]]]

    def count(self, mask: Bools) -> Longs:
        """For each unit, how many people in it and below it the mask holds."""
        return self.count_of(np.flatnonzero(mask))

    def count_of(self, people: Longs) -> Longs:
        """For each unit, how many of these people are in it and below it."""
        codes = self.codes[people]
        here = np.bincount(codes[codes >= 0], minlength=len(self.paths))
        sums = np.concatenate(([0], np.cumsum(here)))
        counted: Longs = sums[np.asarray(self.ends, dtype=np.int64)] - sums[:-1]
        return counted

    def path_of(self, person: int) -> list[str]:
        """The units on the way from `/` down to the person's, widest first; empty for somebody in no unit."""
        code = int(self.codes[person])
        return [] if code == MISSING else lineage(self.paths[code])


def parent(path: str) -> str | None:
    """The unit above; None for `/`."""
    if path == "/":
        return None
    return path.rpartition("/")[0] or "/"


def lineage(path: str) -> list[str]:
    """A unit's path and all above it, widest first."""
    found = [path]
    while (above := parent(found[-1])) is not None:
        found.append(above)
    return found[::-1]


def depth(path: str) -> int:
    """How far below `/` a unit is."""
    return 0 if path == "/" else path.count("/")


@record
class Groups:
    """Groups, sorted by id; `people` holds each group's active members, nested ones included; `above` each group's
    containing groups, itself included."""

    ids: tuple[str, ...]
    names: tuple[str | None, ...]
    people: Spans
    of_person: Spans
    above: Spans

    def count(self, mask: Bools) -> Longs:
        """For each group, how many of its members the mask holds."""
        return self.people.count(mask)

    def count_of(self, people: Longs) -> Longs:
        """For each group, how many of these people are its members; for few people much faster than `count`."""
        return np.bincount(self.of_person.gather(people), minlength=len(self.ids))


def close_groups(
    ids: Sequence[str],
    names: Sequence[str | None],
    people: tuple[Ints, Ints],
    nested: tuple[Ints, Ints],
    person_count: int,
) -> Groups:
    """Groups with membership through nested groups; loops are legal.

    `people` is (group, person) pairs, `nested` (containing group, contained group) pairs.
    """
    containers: dict[int, list[int]] = {}
    for container, contained in zip(nested[0].tolist(), nested[1].tolist(), strict=True):
        containers.setdefault(contained, []).append(container)
    inner: list[int] = []
    outer: list[int] = []
    for group in range(len(ids)):
        seen = {group}
        waiting = list(containers.get(group, ()))
        while waiting:
            each = waiting.pop()
            if each not in seen:
                seen.add(each)
                waiting.extend(containers.get(each, ()))
        inner.extend([group] * len(seen))
        outer.extend(seen)
    above = spans(np.array(inner, np.int64), np.array(outer, np.int32), len(ids), len(ids))
    groups, persons = people
    wide, deep = above.gather(groups), np.repeat(persons, np.diff(above.starts)[groups])
    return Groups(
        tuple(ids),
        tuple(names),
        spans(wide, deep.astype(np.int32), len(ids), person_count),
        spans(deep, wide, person_count, len(ids)),
        above,
    )


@record
class Need:
    """What a control needs on a service: any one of `licences`; without one it has the value `without`, or none."""

    pattern: str
    licences: frozenset[str]
    without: str | None


@record
class Service:
    """One collaboration service and its way of resolving settings. `self_service` None means: not said."""

    id: str
    title: str
    accounts: Selector | None
    precedence: tuple[str, ...]
    settle: int  # microseconds
    controls: frozenset[str]
    factory: Mapping[str, str]
    self_service: frozenset[str] | None
    needs: Mapping[str, Need]


@record
class Settings:
    """The active settings, one a row, in any order.

    `service` and `control` number the services and `controls`; `target` is the unit's, group's or person's number, MISSING
    where there is none such; `value` points into `values` (canonical texts), each of which belongs to the control of that
    place in `value_controls`. `rank` is NO_RANK where it is blank. `timed` says whether the snapshot has the column
    changed_at; `row` is the row in the file.
    """

    service: Ints
    control: Ints
    kind: Ints
    target: Ints
    scope: Coded
    value: Ints
    pinned: Bools
    rank: Longs
    changed: Longs
    row: Ints
    controls: tuple[str, ...]
    values: tuple[str, ...]
    value_controls: tuple[int, ...]
    timed: bool

    def __len__(self) -> int:
        return len(self.service)


@record
class Observations:
    """What was really seen, one a row; `value` into `values` (canonical texts)."""

    person: Ints
    service: Ints
    control: Ints
    value: Ints
    seen: Longs
    controls: tuple[str, ...]
    values: tuple[str, ...]


@record
class Partner:
    """One row of partners; a flag is None where the table has no such column."""

    domain: str
    flags: Mapping[str, str | None]


# A partner's columns, each with what an empty cell means.
PARTNER_COLUMNS = {"guests_in": "true", "guests_out": "true", "home_mfa_counts": "false", "home_device_counts": "false"}


@dataclass(frozen=True)
class Authenticators:
    """What people have registered, one a row; `kind` points into `kinds`, the types of NIST SP 800-63B."""

    person: Ints
    kind: Ints
    kinds: tuple[str, ...]
    lists_memorized: bool  # whether memorized secrets are listed for anybody at all

    @cached_property
    def _ordered(self) -> tuple[Ints, Ints]:
        order = np.argsort(self.person, kind="stable")
        return self.person[order], self.kind[order]

    def of(self, person: int) -> frozenset[str]:
        """The types that a person has registered."""
        people, kinds = self._ordered
        first, after = np.searchsorted(people, (person, person + 1)).tolist()
        return frozenset(self.kinds[kind] for kind in kinds[first:after].tolist())


@record
class Passes:
    """Bootstrap passes of active people: how many of each person's are live, the longest life of those in microseconds, how many of
    them work more than once, and how many the person issued for themself (MISSING where not all say who did).

    The last two are None where the table has no such column.
    """

    live: Ints
    longest: Longs
    reusable: Ints | None = None
    self_issued: Ints | None = None


@dataclass(frozen=True)
class Snapshot:
    """Everything known about the organisation at one time. None stands for what the snapshot does not have."""

    name: str
    taken_at: int
    taken_text: str
    catalogue: Catalogue
    people: People
    units: Units | None
    groups: Groups | None
    privileged: frozenset[str] | None
    services: tuple[Service, ...] | None
    settings: Settings | None
    observations: Observations | None = None
    partners: tuple[Partner, ...] | None = None
    authenticators: Authenticators | None = None
    passes: Passes | None = None
    networks: Networks = field(default_factory=lambda: Networks({}))
    resources: Mapping[str, frozenset[str]] = field(default_factory=dict)  # name to tags
    second_factor_default: bool = False
    access_rules: tuple[AccessRule, ...] | None = None
    notes: tuple[str, ...] = field(default=())
    people_whole: bool = True  # whether everybody is there; where not, nobody can be counted
    unit_paths: frozenset[str] = frozenset()  # also those in which only inactive people are
    group_ids: tuple[str, ...] = ()  # also where there are groups, but no members
    group_titles: tuple[str | None, ...] = ()
    group_names_known: bool = False  # whether a group that is not listed is known not to exist

    @cached_property
    def guest_domains(self) -> Coded:
        """Where each guest comes from: the column, or where it says nothing the part of the login after the @."""
        column, guests = (
            self.people.home_domain,
            self.people.kind.where([word == "guest" for word in self.people.kind.words]),
        )
        codes, known = np.full(len(self.people), MISSING, np.int32), dict[str, int]()
        if column is not None:
            codes, known = column.codes.copy(), {word: number for number, word in enumerate(column.words)}
        empty = np.flatnonzero((codes == MISSING) & guests)
        for row, login in zip(empty.tolist(), self.people.logins.take(empty), strict=True):
            domain = login.rpartition("@")[2] if "@" in login else ""
            if domain:
                codes[row] = known.setdefault(domain, len(known))
        return Coded(codes, tuple(known))

    def registered(self, person: int) -> frozenset[str]:
        """The types that a person has, with the memorized secret that a member is taken to have and a guest has at home."""
        assert self.authenticators is not None
        kind = self.people.kind.words[int(self.people.kind.codes[person])]
        taken = kind == "guest" or (kind == "member" and not self.authenticators.lists_memorized)
        return self.authenticators.of(person) | ({"memorized-secret"} if taken else set())

    @cached_property
    def group_index(self) -> Mapping[str, int]:
        """Where each group stands, by id."""
        groups = self.groups.ids if self.groups is not None else self.group_ids
        return {group: number for number, group in enumerate(groups)}
