"""A check shared out by ranges of people."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

from ..core.organisation.part import part_of
from ..core.organisation.snapshot import Snapshot
from ..core.verdicts.check import Workers
from ..core.verdicts.checker import Checker
from ..core.verdicts.found import Found
from ..core.verdicts.parts import Part, ranges
from ..core.verdicts.rules import AgreedException, Baseline
from ..core.verdicts.run import Narrowing, Pair
from ..core.words.record import record
from .interface import Crew, Tell
from .messages import Messages


class ToCheck:
    """What whoever checks ranges holds: where their people come from, the baseline, the exceptions; and the ranges that are judged."""

    def __init__(
        self,
        people: Callable[[int, int], Snapshot],
        baseline: Baseline,
        exceptions: Sequence[AgreedException],
        messages: Messages,
    ) -> None:
        self.messages = messages
        self._people, self._baseline, self._exceptions = people, baseline, exceptions
        self._parts: dict[tuple[int, int], Part] = {}

    def part(self, some: Range) -> Part:
        """A range, judged already if it was asked for before."""
        key = some.first, some.last
        if key not in self._parts:
            mine = self._people(some.first, some.last)
            self._parts[key] = Part(mine, self._baseline, self._exceptions, some.narrowing, some.first)
        return self._parts[key]


def to_check(whole: Snapshot, baseline: Baseline, exceptions: Sequence[AgreedException]) -> ToCheck:
    """Ranges of a snapshot that is at hand."""
    return ToCheck(partial(part_of, whole), baseline, exceptions, Messages(baseline, whole))


@record
class Range:
    """The people from `first` to before `last`, and what the report is to speak of, of them alone."""

    first: int
    last: int
    narrowing: Narrowing

    def named(self) -> str:
        """What it is, in words."""
        return f"people {self.first + 1:,} to {self.last:,} in the order of their ids"


def judge(held: ToCheck, some: Range, tell: Tell) -> bytes:
    """What is found of a range, as a message."""
    return held.messages.written(held.part(some).judge(lambda done, _: tell(done)))


@record
class Question:
    """A question to a range: a method of Mending, and what it is asked."""

    some: Range
    method: str
    asked: Any

    def named(self) -> str:
        """What it is about, in words."""
        return self.some.named()


def ask(held: ToCheck, question: Question, _: Tell) -> bytes:
    """What a range says to a question to its Mending, as a message."""
    return held.messages.written(held.part(question.some).ask(question.method, question.asked))


def shared_by(crew: Crew, held: ToCheck) -> Callable[[Checker, Narrowing], Workers]:
    """The workers of a check, who are this crew."""
    return lambda checker, narrowing: _Shared(crew, held, len(checker.snapshot.people), narrowing)


class _Shared(Workers):
    """Ranges of people, each judged by one of a crew."""

    def __init__(self, crew: Crew, held: ToCheck, size: int, narrowing: Narrowing) -> None:
        self._crew, self._held = crew, held
        self._ranges = [Range(first, last, narrowing.part(first, last)) for first, last in ranges(size, crew.size)]

    def judge(self, asked: Sequence[Pair], progress: Callable[[int, int], None] | None) -> list[Found]:
        """What each has found, in the order of the people."""
        whole = len(asked) * len(self._ranges)

        def tell(done: int) -> None:
            if progress is not None:
                progress(done, whole)

        said = self._crew.run(judge, self._ranges, tell)
        return [self._held.messages.read(message) for message in said]

    def somewhere(self, method: str, asked: Any) -> list[Any]:
        """What each says to a question to its Mending."""
        said = self._crew.run(ask, [Question(some, method, asked) for some in self._ranges], lambda _: None)
        return [self._held.messages.read(message) for message in said]
