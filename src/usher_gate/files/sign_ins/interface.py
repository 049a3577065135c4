"""What every reader of sign-ins gives, and what the words of an event mean to a snapshot."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ...core.organisation.build.table import LIST, TIME, Spec
from ...core.organisation.columns import MISSING, NO_TIME, Bools, Ints, Longs
from ...core.organisation.proofs import TYPES
from ...core.sign_in.rehearsal import RESULTS
from ...core.sign_in.replay import Events, Replay
from ...core.words.record import record
from ...core.words.spellings import RESULTS as OTHER_RESULTS
from ...core.words.spellings import TYPES as OTHER_TYPES
from ...core.words.spellings import ours
from ...core.words.vocabulary import CONDITION_WORDS, ELSEWHERE
from ..place import Place

SIGN_INS = Spec(
    "sign_ins",
    ("time", "person", "resource"),
    ("address", "network", "client", "platform", "device", "risk", "shown", "result"),
    {"time": TIME, "shown": LIST},
)
COLUMNS = ("person", "resource", "address", "network", "client", "platform", "device", "risk", "shown", "result")
BAD = -2
EPOCH = "seconds or milliseconds since 1970"
_KEPT = 10_000  # distinct things that are wrong
_OTHERS = "…"  # the rest of them


@record
class LogPart:
    """A file, or a share of one.

    In JSON Lines the lines that begin in these bytes, in Parquet these row groups, in CSV all of it. `last` None is the
    end.
    """

    path: Place
    first: int = 0
    last: int | None = None


@record
class Batch:
    """Some sign-ins that can be decided.

    When each was (microseconds), and its result (MISSING where that is not said).
    """

    events: Events
    time: Longs
    result: Ints

    def pieces(self, rows: int) -> Iterator[Batch]:
        """Yield the same, some rows at a time."""
        for start in range(0, len(self.time), rows):
            some = slice(start, start + rows)
            yield Batch(self.events.at(some), self.time[some], self.result[some])


@dataclass
class Unread:
    """Describes what could not be read: how many events, why, what stood there, and the first place of each.

    Of very many distinct things only some are named, the others are counted together as "…"; which are named depends on
    nothing but what they are, so that shares of a log add up to what the log at once would give.
    """

    read: int = 0
    spelled: dict[tuple[str, str], str] = field(default_factory=dict)  # by column and word: what it was read as
    _counts: dict[tuple[str, str], int] = field(default_factory=dict)
    places: dict[tuple[str, str], tuple[str, int]] = field(default_factory=dict)

    @property
    def counts(self) -> dict[tuple[str, str], int]:
        """Return how many events by why and what stood there."""
        self._fold(_KEPT)
        return self._counts

    def add(self, why: str, value: str, count: int, path: Place, line: Callable[[], int]) -> None:
        """Counts events that cannot be read for one reason; `line` finds the first of them."""
        key = (why, value)
        if key not in self._counts:
            self.places[key] = (str(path), line())
        self._counts[key] = self._counts.get(key, 0) + count
        if len(self._counts) > 2 * _KEPT:
            self._fold(_KEPT)

    def merge(self, other: Unread) -> None:
        """Adds what another reader could not read."""
        self.read += other.read
        self.spelled |= other.spelled
        for key, count in other._counts.items():
            self._counts[key] = self._counts.get(key, 0) + count
            self.places[key] = min(self.places.get(key, other.places[key]), other.places[key])
        self._fold(_KEPT)

    def _fold(self, kept: int) -> None:
        """Leaves so many distinct things named, those of the least digest.

        Whatever is folded once would be folded again.
        """
        named = [key for key in self._counts if key[1] != _OTHERS]
        if len(named) <= kept:
            return
        for why, value in sorted(named, key=_digest)[kept:]:
            count, where = self._counts.pop((why, value)), self.places.pop((why, value))
            others = why, _OTHERS
            self._counts[others] = self._counts.get(others, 0) + count
            self.places[others] = min(self.places.get(others, where), where)

    @property
    def total(self) -> int:
        """Return how many events these are."""
        return sum(self._counts.values())


def _digest(key: tuple[str, str]) -> bytes:
    return hashlib.blake2b("\0".join(key).encode(errors="surrogatepass"), digest_size=16).digest()


# What stood in some rows of a column: each distinct text with how often, and the first row.
CellCounts = Callable[[str, Longs], Iterable[tuple[str, int, int]]]


def counted_by(value: Callable[[str, int], str]) -> CellCounts:
    """Return the same from single cells."""

    def counted(column: str, rows: Longs) -> Iterable[tuple[str, int, int]]:
        found: dict[str, list[int]] = {}
        for row in rows.tolist():
            found.setdefault(value(column, row), []).append(row)
        return [(word, len(every), every[0]) for word, every in found.items()]

    return counted


class Coder(dict[Hashable, int]):
    """Numbers what a column can hold; each distinct thing is looked up once.

    Nothing (None, "") is MISSING, nonsense BAD.
    """

    def __init__(self, number: Callable[[str], int], others: Mapping[str, str] | None = None) -> None:
        """`others` are other words for ours: what was read by them is in `spelled`."""
        super().__init__({None: MISSING, "": MISSING})
        self._number, self._others = number, others or {}
        self.spelled: dict[str, str] = {}

    def __missing__(self, key: Hashable) -> int:
        text = str(key)
        found = self._number(text)
        if found == BAD and self._others:
            parts = [part.strip() for part in text.split(";")]
            right = ";".join(ours(part, self._others) or part.casefold() for part in parts)
            found = self._number(right)
            if found != BAD:
                self.spelled[text] = right
        self[key] = found
        return found


class Meanings:
    """Describes what the words of each column mean: numbers for a Replay."""

    def __init__(self, replay: Replay) -> None:
        self.replay = replay
        self.coders: Mapping[str, Coder] = {
            "person": Coder(self._person),
            "resource": _words(replay.resources),
            "address": Coder(self._address),
            "network": Coder(self._network),
            **{name: _words(words) for name, words in CONDITION_WORDS.items()},
            "shown": Coder(self._shown, OTHER_TYPES),
            "result": _words(RESULTS, OTHER_RESULTS),
        }
        ids = replay.snapshot.people.ids.take(np.arange(len(replay.snapshot.people)))
        self.coders["person"].update(zip(ids, range(len(ids)), strict=True))

    @cached_property
    def _inactive(self) -> frozenset[str]:
        inactive = self.replay.snapshot.inactive
        return frozenset(inactive.ids.take(np.arange(len(inactive))))

    @cached_property
    def _by_login(self) -> dict[str, int]:
        people = self.replay.snapshot.people
        logins = [login.casefold() for login in people.logins.take(np.arange(len(people)))]
        return dict(zip(logins, range(len(logins)), strict=True))  # two people with one are an error of the snapshot

    def _person(self, word: str) -> int:
        """Someone whose id it is not: perhaps their login."""
        return self._by_login.get(word.casefold(), BAD)

    def _address(self, word: str) -> int:
        names = self.replay.snapshot.networks.at(word)
        return BAD if names is None else self.replay.network(names)

    def _network(self, word: str) -> int:
        networks = self.replay.snapshot.networks
        if word == ELSEWHERE:
            return self.replay.network(frozenset())
        return self.replay.network(networks.around(word)) if word in networks.spans else BAD

    def _shown(self, word: str) -> int:
        types = [part.strip() for part in word.split(";") if part.strip()]
        return BAD if any(kind not in TYPES for kind in types) else self.replay.types_shown(types)

    def why(self, column: str, value: str) -> tuple[str, str]:
        """Return what is wrong with a value, and the value; "" where there is none."""
        if not value:
            return f"says no {column}", ""
        if column == "person" and value in self._inactive:
            return "names a person who is not active", value
        if column in _WRONG:
            return _WRONG[column], value
        return (
            f"says a {column} that is none of {', '.join(RESULTS if column == 'result' else CONDITION_WORDS[column])}",
            value,
        )

    def batch(
        self,
        columns: Mapping[str, Ints],
        time: Longs,
        wrong_time: Bools | None,
        counted: CellCounts,
        line: Callable[[int], int],
        path: Place,
        unread: Unread,
    ) -> Batch:
        """Return the sign-ins of some rows, without those that cannot be read: they are counted.

        `columns` holds numbers by the coders; `counted` what stood in some cells, `line(row)` where.
        """
        unread.read += len(time)
        for name in ("shown", "result"):
            unread.spelled.update({(name, word): right for word, right in self.coders[name].spelled.items()})
        bad: dict[str, Bools] = {"time": time == NO_TIME}
        if wrong_time is not None:
            bad["time"] |= wrong_time
        for name in COLUMNS:
            if name in columns:
                bad[name] = columns[name] <= MISSING if name in ("person", "resource") else columns[name] == BAD
        lost = np.zeros(len(time), bool)
        for name, mask in bad.items():
            if not mask.any():
                continue
            for word, count, row in counted(name, np.flatnonzero(mask & ~lost)):
                why, shown = self.why(name, word)
                unread.add(why, shown, count, path, lambda row=row: line(row))  # type: ignore[misc]
            lost |= mask
        none = np.full(len(time), MISSING, np.int32)
        network = columns.get("network", none)
        if "address" in columns:
            network = (
                np.where(columns["address"] >= 0, columns["address"], network)
                if network is not none
                else columns["address"]
            )
        kept = [columns[name] for name in ("person", "resource")] + [network]
        kept += [columns.get(name, none) for name in ("client", "platform", "device", "risk", "shown")]
        events, result = Events(*kept), columns.get("result", none)
        if not lost.any():
            return Batch(events, time, result)
        rows = np.flatnonzero(~lost)
        return Batch(events.at(rows), time[rows], result[rows])


def _words(words: Iterable[str], others: Mapping[str, str] | None = None) -> Coder:
    numbers = {word: number for number, word in enumerate(words)}
    return Coder(lambda word: numbers.get(word, BAD), others)


_WRONG = {
    "time": "says no time with an offset",
    "person": "names a person who does not exist",
    "resource": "names a resource that does not exist",
    "address": "names no IPv4 or IPv6 address",
    "network": "names a network that does not exist",
    "shown": "shows what is no authenticator type",
}
