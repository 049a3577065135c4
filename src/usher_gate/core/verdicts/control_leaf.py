"""Judging one leaf about a control on one service."""

from __future__ import annotations

import numpy as np

from ..organisation.columns import MISSING, NO_TIME, Ints, Longs
from ..organisation.services import Service
from ..settings.effective import Cause, Effective
from ..settings.observations import ObservedValues
from ..words.compare import Comparison
from .codes import DRIFTS, LOOSE, MEETS, SETTLING, UNAVAILABLE, UNKNOWN, VerdictCodes
from .condition import Leaf
from .outcome import Judged, Outcome, Root


class ControlJudge:
    """Judges one leaf about a control on one service."""

    def __init__(
        self,
        leaf: Leaf,
        pinned: str,
        service: Service,
        effective: Effective,
        seen: ObservedValues | None,
        settled: bool = False,
    ) -> None:
        """With `settled` no change is young, and people who lack the licence have an unknown value (as at a door)."""
        assert leaf.comparison is not None
        self._as_at_a_door = settled
        self.leaf, self.pinned, self.service, self.effective, self.seen = leaf, pinned, service, effective, seen
        self._comparison: Comparison = leaf.comparison
        self._changeable = service.changeable(leaf.name)
        self._passed: dict[str, bool] = {}
        self._settled = self._settled_verdicts()
        young = effective.young & (self._settled >= LOOSE) & (not settled)
        self._plain = np.where(young, SETTLING, self._settled).astype(np.uint8)
        self._extra: list[Outcome] = []

    def _passes(self, value: str) -> bool:
        if value not in self._passed:
            self._passed[value] = self._comparison.passes(value)
        return self._passed[value]

    def _settled_verdicts(self) -> VerdictCodes:
        """Return the verdict of each place as if every change had arrived and nothing had been observed."""
        values = self.effective.values
        of_value = {word: MEETS if word is not None and self._passes(word) else DRIFTS for word in set(values)}
        if None in of_value:
            of_value[None] = UNKNOWN
        verdicts = np.array([of_value[value] for value in values], np.uint8)
        if (self.pinned == "true" and self._changeable) or self.pinned == "strict":
            verdicts[(verdicts == MEETS) & ~self.effective.pinned] = LOOSE
        return verdicts

    def organisation(self) -> Outcome:
        """Return what the organisation's own step says: its winner alone, or the service default."""
        own = np.flatnonzero(self.effective.kinds == 0)
        return self._at(int(own[-1]) if len(own) else 0)

    def _root(self, cause: Cause | None, reason: str) -> Root:
        if cause is None or reason == "observed":
            return Root(self.service.id, self.leaf.name, None, None)
        return Root(self.service.id, self.leaf.name, cause.scope, cause.value)

    def _at(
        self, place: int, verdict: int | None = None, reason: str | None = None, seen: str | None = None
    ) -> Outcome:
        """Return the outcome at a place; where an observation decided, with its reason and what was seen."""
        verdict = int(self._plain[place]) if verdict is None else verdict
        cause = self.effective.cause(place)
        usual = {DRIFTS: "fails", SETTLING: "young", LOOSE: "changeable", UNKNOWN: "no-value", MEETS: ""}[verdict]
        reason = usual if reason is None else reason
        shown = cause if cause.scope is not None else None
        return Outcome(
            verdict=verdict,
            reason=reason,
            actual=cause.value if seen is None else seen,
            cause=shown,
            root=self._root(shown, reason) if verdict == DRIFTS else None,
        )

    def _code(self, outcome: Outcome) -> int:
        self._extra.append(outcome)
        return len(self.effective) + len(self._extra) - 1

    def outcome(self, code: int) -> Outcome:
        """Return what a code means."""
        return self._at(code) if code < len(self.effective) else self._extra[code - len(self.effective)]

    def judge(self) -> Judged:
        """Return all active people, those without an account included."""
        effective = self.effective
        if effective.licence_unknown:
            code = self._code(Outcome(UNKNOWN, "no-fact"))
            return self._finish(np.full(len(effective.places), code, np.int32))
        contested = self._comparison.kind.name == "set" and effective.contestable
        codes = (effective.worst_places(self._plain) if contested else effective.places).copy()
        if self.seen is not None:
            codes[self.seen.people] = (
                self._with_contest()
                if contested
                else self._look(effective.places[self.seen.people], np.arange(len(self.seen.people)))
            )
        if effective.unlicensed and effective.lacking is not None:
            lacks = Outcome(UNKNOWN, "no-value") if self._as_at_a_door else Outcome(UNAVAILABLE, "no-licence")
            codes[effective.lacking] = self._code(lacks)
        return self._finish(codes)

    def _finish(self, codes: Ints) -> Judged:
        verdicts = np.concatenate((self._plain, np.array([outcome.verdict for outcome in self._extra], np.uint8)))
        return Judged(self.leaf, codes, verdicts, self.outcome)

    def _look(self, places: Ints, which: Longs) -> Ints:
        """VerdictCodes for the observed people numbered `which`, if their values come from `places`."""
        seen, effective = self.seen, self.effective
        assert seen is not None
        failing = np.array([not self._passes(word) for word in seen.words])
        rows = np.where(failing[seen.values], np.arange(len(seen.values)), len(seen.values))
        first = np.minimum.reduceat(rows, seen.starts[:-1])[which]  # the first failing one in the order of choice
        counts = seen.at[which] >= effective.changed[places]
        fails = counts & (first < len(rows))
        values = np.where(fails, seen.values[np.minimum(first, len(rows) - 1)], MISSING)
        settled, codes = self._settled[places], places.astype(np.int32).copy()
        decided = (fails & ((settled == UNKNOWN) | (settled >= LOOSE))) | (
            counts & ~fails & effective.young[places] & (settled >= LOOSE)
        )
        if not np.any(decided):
            return codes
        changed = effective.changed[places]
        # subtracted only where there is a time: what is changed in no time is as old as can be
        early = (changed != NO_TIME) & (seen.at[which] - np.where(changed == NO_TIME, 0, changed) < self.service.settle)
        seen_there = np.stack((places[decided], values[decided], early[decided]))
        triples, inverse = np.unique(seen_there, axis=1, return_inverse=True)
        made = [self._code(self._observed_outcome(*triple)) for triple in triples.T.tolist()]
        codes[decided] = np.array(made, np.int32)[inverse.reshape(-1)]
        return codes

    def _observed_outcome(self, place: int, value: int, early: int) -> Outcome:
        """Return what an observation makes of a place.

        `early` says that it was made before the setting had time to arrive.
        """
        assert self.seen is not None
        settled = int(self._settled[place])
        if value == MISSING:  # what passes was seen: the change has arrived
            return self._at(place, settled)
        word = self.seen.words[value]
        if settled == UNKNOWN:
            return self._at(place, DRIFTS, "observed", word)
        if self.effective.young[place]:
            return self._at(place, SETTLING, "young", word)
        if early:
            return self._at(place, SETTLING, "not-seen-since", word)
        return self._at(place, DRIFTS, "not-applied", word)

    def _with_contest(self) -> Ints:
        """Verdict codes of the observed people if values of equal precedence differ.

        Each is judged, and the worst counts.
        """
        seen, effective = self.seen, self.effective
        assert seen is not None
        which: list[int] = []
        places: list[int] = []
        for number, person in enumerate(seen.people.tolist()):
            values: set[str | None] = set()
            for place in effective.rivals(person, int(effective.places[person])):
                if effective.value(place) not in values:
                    values.add(effective.value(place))
                    which.append(number)
                    places.append(place)
        codes = self._look(np.array(places, np.int32), np.array(which, np.int64))
        verdicts = self._finish(codes).verdicts[codes]
        best: dict[int, tuple[int, int]] = {}
        for number, code, verdict in zip(which, codes.tolist(), verdicts.tolist(), strict=True):
            if number not in best or verdict < best[number][0]:
                best[number] = verdict, code
        return np.array([best[number][1] for number in range(len(seen.people))], np.int32)
