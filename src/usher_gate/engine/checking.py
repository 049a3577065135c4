"""A check shared out by ranges of people."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from threading import Lock
from typing import Any

from ..core.organisation.part import part_of
from ..core.organisation.snapshot import Snapshot
from ..core.verdicts.check import Workers
from ..core.verdicts.checker import Checker
from ..core.verdicts.found import PartialResult
from ..core.verdicts.parts import PeoplePart, ranges
from ..core.verdicts.rules import AgreedException, Baseline
from ..core.verdicts.run import Narrowing, Pair
from ..core.words.record import record
from .interface import Executor, ProgressCallback
from .messages import Messages

Inputs = tuple[Snapshot, Baseline, Sequence[AgreedException]]


class ToCheck:
    """Describes what a checker of ranges shares: how to get the people of one range, the baseline and the exceptions.

    And the ranges judged already.
    """

    def __init__(self, inputs: Callable[[int, int], Inputs]) -> None:
        """`inputs` gives the people from one number to before another, and what is asked of them."""
        self._inputs = inputs
        self._parts: dict[tuple[int, int], tuple[PeoplePart, Messages]] = {}
        self._locks: dict[tuple[int, int], Lock] = {}

    @contextmanager
    def part(self, some: Range) -> Iterator[tuple[PeoplePart, Messages]]:
        """A range, judged already if it was asked for before, and what writes its messages.

        No one else has it meanwhile.

        A task that an engine has given up may still run in another thread when the same range is asked for again.
        """
        key = some.first, some.last
        with self._locks.setdefault(key, Lock()):
            if key not in self._parts:
                mine, baseline, exceptions = self._inputs(some.first, some.last)
                part = PeoplePart(mine, baseline, exceptions, some.narrowing, some.first)
                self._parts[key] = part, Messages(baseline, mine)
            yield self._parts[key]


def to_check(whole: Snapshot, baseline: Baseline, exceptions: Sequence[AgreedException]) -> ToCheck:
    """Ranges of a snapshot that is at hand."""
    return ToCheck(lambda first, last: (part_of(whole, first, last), baseline, exceptions))


@record
class Range:
    """The people from `first` to before `last`, and what the report is to speak of, of them alone."""

    first: int
    last: int
    narrowing: Narrowing

    def named(self) -> str:
        """Return what it is, in words."""
        return f"people {self.first + 1:,} to {self.last:,} in the order of their ids"


def judge(held: ToCheck, some: Range, report: ProgressCallback) -> bytes:
    """Return what is found of a range, as a message."""
    with held.part(some) as (part, messages):
        return messages.written(part.judge(lambda done, _: report(done)))


@record
class EffectsQuestion:
    """A question to a range: a method of Mending, and what it is asked."""

    some: Range
    method: str
    asked: Any

    def named(self) -> str:
        """Return what it is about, in words."""
        return self.some.named()


def ask(held: ToCheck, question: EffectsQuestion, _: ProgressCallback) -> bytes:
    """Return what a range says to a question to its Mending, as a message."""
    with held.part(question.some) as (part, messages):
        return messages.written(part.ask(question.method, question.asked))


def shared_by(executor: Executor) -> Callable[[Checker, Narrowing], Workers]:
    """Return the workers of a check, who are this executor."""
    return partial(_Shared, executor)


class _Shared(Workers):
    """Ranges of people, each judged by one of a executor."""

    def __init__(self, executor: Executor, checker: Checker, narrowing: Narrowing) -> None:
        self._executor, self._messages = executor, Messages(checker.baseline, checker.snapshot)
        size = len(checker.snapshot.people)
        self._ranges = [Range(first, last, narrowing.part(first, last)) for first, last in ranges(size, executor.size)]

    def judge(self, asked: Sequence[Pair], progress: Callable[[int, int], None] | None) -> list[PartialResult]:
        """Return what each has found, in the order of the people."""
        whole = len(asked) * len(self._ranges)

        def report(done: int) -> None:
            if progress is not None:
                progress(done, whole)

        said = self._executor.run(judge, self._ranges, report)
        return [self._messages.read(message) for message in said]

    def somewhere(self, method: str, asked: Any) -> list[Any]:
        """Return what each says to a question to its Mending."""
        said = self._executor.run(ask, [EffectsQuestion(some, method, asked) for some in self._ranges], lambda _: None)
        return [self._messages.read(message) for message in said]
