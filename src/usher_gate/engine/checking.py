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
from ..core.verdicts.found import Found
from ..core.verdicts.parts import Part, ranges
from ..core.verdicts.rules import AgreedException, Baseline
from ..core.verdicts.run import Narrowing, Pair
from ..core.words.record import record
from .interface import Crew, Tell
from .messages import Messages

Inputs = tuple[Snapshot, Baseline, Sequence[AgreedException]]


class ToCheck:
    """What whoever checks ranges holds: how to come by the people of one, the baseline and the exceptions; and those judged already."""

    def __init__(self, inputs: Callable[[int, int], Inputs]) -> None:
        """`inputs` gives the people from one number to before another, and what is asked of them."""
        self._inputs = inputs
        self._parts: dict[tuple[int, int], tuple[Part, Messages]] = {}
        self._locks: dict[tuple[int, int], Lock] = {}

    @contextmanager
    def part(self, some: Range) -> Iterator[tuple[Part, Messages]]:
        """A range, judged already if it was asked for before, and what writes its messages; nobody else has it meanwhile.

        A task that an engine has given up may still run in another thread when the same range is asked for again.
        """
        key = some.first, some.last
        with self._locks.setdefault(key, Lock()):
            if key not in self._parts:
                mine, baseline, exceptions = self._inputs(some.first, some.last)
                part = Part(mine, baseline, exceptions, some.narrowing, some.first)
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
        """What it is, in words."""
        return f"people {self.first + 1:,} to {self.last:,} in the order of their ids"


def judge(held: ToCheck, some: Range, tell: Tell) -> bytes:
    """What is found of a range, as a message."""
    with held.part(some) as (part, messages):
        return messages.written(part.judge(lambda done, _: tell(done)))


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
    with held.part(question.some) as (part, messages):
        return messages.written(part.ask(question.method, question.asked))


def shared_by(crew: Crew) -> Callable[[Checker, Narrowing], Workers]:
    """The workers of a check, who are this crew."""
    return partial(_Shared, crew)


class _Shared(Workers):
    """Ranges of people, each judged by one of a crew."""

    def __init__(self, crew: Crew, checker: Checker, narrowing: Narrowing) -> None:
        self._crew, self._messages = crew, Messages(checker.baseline, checker.snapshot)
        size = len(checker.snapshot.people)
        self._ranges = [Range(first, last, narrowing.part(first, last)) for first, last in ranges(size, crew.size)]

    def judge(self, asked: Sequence[Pair], progress: Callable[[int, int], None] | None) -> list[Found]:
        """What each has found, in the order of the people."""
        whole = len(asked) * len(self._ranges)

        def tell(done: int) -> None:
            if progress is not None:
                progress(done, whole)

        said = self._crew.run(judge, self._ranges, tell)
        return [self._messages.read(message) for message in said]

    def somewhere(self, method: str, asked: Any) -> list[Any]:
        """What each says to a question to its Mending."""
        said = self._crew.run(ask, [Question(some, method, asked) for some in self._ranges], lambda _: None)
        return [self._messages.read(message) for message in said]
