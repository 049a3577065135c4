"""Who uses a hole: the past sign-ins that went through it.

Spec: sign-in 4.4.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from ..organisation.columns import MISSING, Bools, Longs
from ..organisation.proofs import proofs_of, with_implied
from ..words.record import record
from ..words.vocabulary import CONDITION_WORDS, DEVICES, DIMENSIONS
from .holes import WayIn
from .possible import ProofDemand
from .rehearsal import RESULTS
from .replay import Events, Replay

_ALLOWED = RESULTS.index("allowed")


@record
class HoleUse:
    """The past sign-ins that went through a hole.

    How many, by which active people (by number) how often, and when last (microseconds, None for never). `perhaps`
    counts those of which the log does not say enough.
    """

    sign_ins: int
    by: tuple[tuple[int, int], ...]
    last: int | None
    perhaps: int


@dataclass
class _Count:
    by: Counter[int] = field(default_factory=Counter)
    last: int | None = None
    perhaps: int = 0


class HoleUses:
    """Counts, for each hole in a proof, the sign-ins that got in by it without having shown that proof."""

    def __init__(self, replay: Replay, unseen: Bools, holes: Sequence[tuple[ProofDemand, WayIn]]) -> None:
        """`unseen` says of each person whether their device counts as unknown.

        `holes` are pairs of what is asked for and the hole.
        """
        self._replay, self._unseen, self._holes = replay, unseen, holes
        self._counts = [_Count() for _ in holes]

    def add(self, events: Events, time: Longs, result: np.ndarray) -> None:
        """Counts some sign-ins.

        When each was (microseconds), and its result (a number of RESULTS, MISSING where that is not said).
        """
        device = np.where(self._unseen[events.person], DEVICES.index("unknown"), events.device)
        for (asked, hole), count in zip(self._holes, self._counts, strict=True):
            inside = np.zeros(len(self._unseen), bool)
            inside[list(hole.people)] = True
            through = (
                inside[events.person]
                & ((result == _ALLOWED) | (result == MISSING))
                & ~self._shown(asked.proof)[events.shown]
            )
            unsure = result == MISSING
            for name, values in zip(DIMENSIONS, hole.values, strict=True):
                some = self._asked_values(name, asked) if values is None else values
                if some is None:
                    continue
                column = device if name == "device" else getattr(events, name)
                through &= (column == MISSING) | self._among(name, some)[column]
                unsure |= column == MISSING
            count.perhaps += int(np.count_nonzero(through & unsure))
            rows = np.flatnonzero(through & ~unsure)
            if len(rows):
                count.by.update(events.person[rows].tolist())
                count.last = max(count.last or 0, int(time[rows].max()))

    def _asked_values(self, name: str, asked: ProofDemand) -> Sequence[str] | None:
        """Return the values of a dimension that the proof is asked for; None for all."""
        snapshot, when = self._replay.snapshot, asked.when
        if name == "resource":
            return None if asked.on.any else asked.resources(snapshot.resources)
        if name == "network":
            limited = when.networks_in is not None or when.networks_out
            return [place.text for place in snapshot.networks.classes if when.network(place.names)] if limited else None
        words = when.words(name)
        return None if len(words) == len(CONDITION_WORDS[name]) else list(words)

    def _among(self, name: str, values: Sequence[str]) -> Bools:
        """Return mask of the values of a dimension (by number) that are among these; the last is for MISSING."""
        if name == "network":
            words = ["+".join(sorted(names)) or "elsewhere" for names in self._replay.networks]
        else:
            words = self._replay.resources if name == "resource" else list(CONDITION_WORDS[name])
        return np.array([*(word in values for word in words), False], bool)

    def _shown(self, proof: str) -> Bools:
        """Return mask of the sets of shown types (by number) that give a proof.

        The last is for MISSING, of which nothing is known to be shown.
        """
        return np.array([*(proof in with_implied(proofs_of(types)) for types in self._replay.shown), False], bool)

    def found(self) -> list[HoleUse]:
        """Return what was counted, hole by hole; the people who used one most first."""
        return [
            HoleUse(sum(count.by.values()), tuple(sorted(count.by.items(), key=_most_first)), count.last, count.perhaps)
            for count in self._counts
        ]


def _most_first(entry: tuple[int, int]) -> tuple[int, int]:
    person, number = entry
    return -number, person
