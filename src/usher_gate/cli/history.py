"""Shows the checks that were kept: how it has gone, what is new, gone, back and old, and that the record holds.

Reads the history that 'check --keep' writes: history.db of the working folder, or the place that [history]
of usher-gate.toml names."""

from __future__ import annotations

import argparse
import re
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ..core.words.faults import quoted
from ..files.faults import UsherError
from .common import (
    add_narrowing,
    add_output,
    add_places,
    add_rows,
    age_text,
    chosen_people,
    find_person,
    known_names,
    places,
    read_inputs,
    read_state,
    remember_doubts,
    say_notes,
    working,
    write,
)

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from ..core.history.intervals import IntervalKey
    from ..core.organisation.snapshot import Snapshot
    from ..files.history.store import Check, Store
    from ..outputs.results.history import HistoryAnswer, HistoryStep, Known, RootMoved

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate history
  usher-gate history --since 4 --unit /Fleet
  usher-gate history --verify"""
WORSE = 1
_NARROWING = ("rule", "service", "severity", "group", "unit")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    what = parser.add_mutually_exclusive_group()
    what.add_argument(
        "--since", metavar="WHEN", help="what is new, gone and back since: a date, so many checks ago, or a check as #3"
    )
    what.add_argument(
        "--person", metavar="WHO", help="what was found about this person (login or id), from when to when"
    )
    what.add_argument(
        "--verify", action="store_true", help="whether the record holds: every digest and link computed again"
    )
    parser.add_argument(
        "--link",
        nargs="?",
        const="",
        metavar="VALUE|FILE",
        help="print the last link, to be kept elsewhere; with --verify: check that this link is in the chain",
    )
    parser.add_argument("--figure", type=Path, metavar="FILE", help="draw it into a .png or .svg file, too")
    add_narrowing(parser, verdicts=False, person=False, of=" of --since")
    add_places(parser, exceptions=False)
    add_rows(parser, "history")
    add_output(parser, "history")


def run(arguments: argparse.Namespace) -> int:
    """Shows the history; status 1 with --since if it got worse, with --verify if the record does not hold;
    raises UsherError without a history, or for what it does not hold."""
    from .keeping import open_store

    store = open_store()
    checks = store.checks(as_they_are=arguments.verify) if store.there else []
    if not checks:
        raise UsherError(f"there is no history yet in {store.shown}; keep a check with: usher-gate check --keep")
    if arguments.verify:
        return _verify(store, checks, arguments.link)
    if arguments.link is not None:
        if arguments.link or arguments.since is not None or arguments.person is not None:
            raise UsherError("--link prints the last link; to look for one write --verify --link VALUE")
        print(checks[-1].digests["link"])
        return 0
    narrowed = any(getattr(arguments, name) for name in _NARROWING)
    if narrowed and arguments.since is None:
        raise UsherError("narrowing goes with --since: what was kept of each check is kept of the whole of it")
    remember_doubts(arguments, filter(None, [age_text(arguments, "the last check kept", checks[-1].taken_at)]))
    answer = _answer(arguments, store, checks)
    if arguments.figure is not None:
        _draw(arguments.figure, answer)
    write(arguments, "history", answer, arguments.rows)
    if arguments.format not in ("json", "markdown"):
        say_notes(answer.notes)
    from ..core.history.intervals import WORSE as WORSE_WORDS

    return WORSE if answer.since is not None and any(one.what in WORSE_WORDS for one in answer.since[2]) else 0


def _draw(path: Path, answer: HistoryAnswer) -> None:
    from importlib.util import find_spec

    from ..outputs.results.history_figure import ENDINGS, write_figure

    if path.suffix[1:].lower() not in ENDINGS:
        raise UsherError(f"{path} ends neither in .png nor in .svg; name a file that does")
    if not path.parent.is_dir():
        raise UsherError(f"there is no folder {path.parent}; make it, or name another")
    if find_spec("matplotlib") is None:
        raise UsherError("a figure needs Matplotlib; install it with: pip install 'usher-gate[history]'")
    write_figure(answer, path)


_LINK = re.compile(r"[0-9a-f]{64}")


def _link(text: str) -> str:
    """Return a link that was kept elsewhere: the text itself, or the first one in a file.

    Raises UsherError where there is none.
    """
    from ..files.binary import read_text

    if _LINK.fullmatch(text):
        return text
    path = Path(text)
    if not path.is_file():
        raise UsherError(f"{quoted(text)} is neither a link (64 hexadecimal digits) nor a file that holds one")
    found = _LINK.search(read_text(path))
    if found is None:
        raise UsherError(f"{path} holds no link; write what usher-gate history --link printed")
    return found.group()


def _verify(store: Store, checks: list[Check], kept: str | None) -> int:
    """Verifies the record; with a link that was kept elsewhere also that it is in the chain."""
    if kept == "":
        raise UsherError("--verify --link needs the link that was kept elsewhere, or a file that holds it")
    wanted = None if kept is None else _link(kept)
    from ..files.history.store import verify
    from ..outputs.safe import for_terminal

    with working("verifying") as progress:
        faults = verify(store, progress)
    for fault in faults:
        print(for_terminal(fault))
    if not faults:
        many = f"{len(checks)} checks hold" if len(checks) > 1 else "1 check holds"
        print(f"{many}, from {checks[0].time} to {checks[-1].time}; the last link is {checks[-1].digests['link']}")
    if wanted is None:
        print(
            "A record that was rewritten as a whole, or cut off at its end, cannot be recognised from inside: --link "
            "checks it."
        )
        return int(bool(faults))
    found = next((check for check in checks if check.digests["link"] == wanted), None)
    if found is None:
        print(f"the link {wanted} is in no check: the record was rewritten, or cut off, since that link was kept")
        return 1
    after = len(checks) - checks.index(found) - 1
    kept_at = f", kept at {found.digests['kept_at']}" if found.digests["kept_at"] else ""
    more = f"{after} more followed" if after else "it is the last"
    print(f"the link is that of check {found.number} ({found.time}{kept_at}); {more}")
    return int(bool(faults))


def history_of(store: Store, checks: list[Check]) -> HistoryAnswer:
    """Return every check beside the one before it, and nothing besides."""
    from ..outputs.results.history import HistoryAnswer

    return HistoryAnswer(tuple(_steps(store, checks)))


def _answer(arguments: argparse.Namespace, store: Store, checks: list[Check]) -> HistoryAnswer:
    """Compose the answer of `history`: check by check, of one person, or since a day, as the options ask."""
    from ..outputs.results.history import HistoryAnswer

    answer = HistoryAnswer(tuple(_steps(store, checks)))
    if arguments.person is not None:
        return _of_person(arguments, store, answer, checks[-1])
    if arguments.since is None:
        return answer
    from .keeping import changed_since

    then, now = _then(arguments.since, checks), checks[-1]
    changed, roots = changed_since(store, then, now), list(_roots(answer.steps, then.number, now.number))
    if any(getattr(arguments, name) for name in _NARROWING):
        part = _part(arguments, answer.steps)
        changed, roots = [one for one in changed if part(one.key)], []
        words = (f"{name} {' or '.join(getattr(arguments, name))}" for name in _NARROWING if getattr(arguments, name))
        answer = replace(answer, part=", ".join(words))
    known, notes = _known(arguments, checks[-1])
    return replace(answer, since=(then, now, tuple(changed)), roots=tuple(roots), known=known, notes=notes)


def _of_person(arguments: argparse.Namespace, store: Store, answer: HistoryAnswer, last: Check) -> HistoryAnswer:
    """Return the intervals of one person: by id as it was kept, else by what the present snapshot knows of them."""
    from ..core.history.intervals import decisions_of

    who, is_known = arguments.person, False
    name = who
    intervals, notes = tuple(store.intervals(subject=("person", who))), tuple[str, ...]()
    if places(arguments).snapshot is not None:
        try:
            people = _same(read_state(arguments), last)
            person = np.array([find_person(who, people)])
        except UsherError as fault:
            # people that only the history knows are shown all the same: they have left, or the snapshot cannot be read
            if not intervals:
                raise
            notes = (f"by id alone: {str(fault).splitlines()[0]}",)
        else:
            (name,), (key,) = people.people.logins.take(person), people.people.ids.take(person)
            intervals = tuple(store.intervals(subject=("person", key)))
            who, is_known = key, True
    if not intervals and not is_known:
        raise UsherError(f"nothing was ever found about {quoted(who)}; name a person by id")
    decisions = decisions_of(store.count_rows(), intervals[0].key.id if intervals else who)
    return replace(answer, person=(name, intervals), decisions=tuple(decisions), notes=notes)


def _part(arguments: argparse.Namespace, steps: Sequence[HistoryStep]) -> Callable[[IntervalKey], bool]:
    """Return what narrowing leaves: of rules also one that the baseline has lost.

    Of the rest by the snapshot and the baseline as they are now.
    """
    ever = sorted({name for step in steps for kind, name in step.counts if kind == "rule"})
    named = known_names(arguments.rule, ever, "rule")
    if not any(getattr(arguments, name) for name in _NARROWING if name != "rule"):
        return lambda key: named is None or key.rule in named
    inputs = read_inputs(arguments, exceptions_too=False)
    snapshot, rules = _same(inputs.snapshot, steps[-1].check), inputs.baseline.rules
    services = known_names(arguments.service, [service.id for service in snapshot.services or ()], "service")
    severe = None if arguments.severity is None else {rule.id for rule in rules if rule.severity in arguments.severity}
    chosen = chosen_people(arguments, snapshot)
    people = None if chosen is None else frozenset(snapshot.people.ids.take(np.flatnonzero(chosen)))
    return lambda key: (
        (named is None or key.rule in named)
        and (severe is None or key.rule in severe)
        and (services is None or key.service in services)
        and (people is None or (key.type == "person" and key.id in people))
    )


def _same(snapshot: Snapshot, last: Check) -> Snapshot:
    """Return the snapshot, if it is of the organisation that the history belongs to; raises UsherError."""
    if snapshot.name != last.organisation:
        raise UsherError(
            f"the history belongs to {quoted(last.organisation)}, the snapshot to {quoted(snapshot.name)}; name another"
        )
    return snapshot


def _known(arguments: argparse.Namespace, last: Check) -> tuple[Known | None, tuple[str, ...]]:
    """Logins and units as the snapshot has them; where none can be read, why people are shown by id."""
    from ..outputs.results.history import Known

    if arguments.format in ("json", "csv") or places(arguments).snapshot is None:
        return None, ()
    try:
        people = _same(read_state(arguments), last).people
    except UsherError as fault:
        return None, (f"people are shown by id, because the snapshot cannot be read: {fault}",)
    every = np.arange(len(people), dtype=np.int32)
    ids = people.ids.take(every)
    units = ["", *(people.unit.words if people.unit is not None else ())]
    codes = people.unit.codes.tolist() if people.unit is not None else []
    of = zip(ids, (units[code + 1] for code in codes), strict=True) if codes else ()
    return Known(dict(zip(ids, people.logins.take(every), strict=True)), dict(of)), ()


def _roots(steps: Sequence[HistoryStep], then: int, now: int) -> Iterator[RootMoved]:
    """Yield the causes from which more or fewer drifts came at one check than at another."""
    from ..core.history.intervals import roots_of
    from ..outputs.results.history import RootMoved

    before, after = (roots_of(next(step.counts for step in steps if step.check.number == each)) for each in (then, now))
    for root in {**before, **after}:
        if before.get(root, 0) != after.get(root, 0):
            yield RootMoved(root, before.get(root, 0), after.get(root, 0))


def _steps(store: Store, checks: list[Check]) -> list[HistoryStep]:
    """Return every check beside the one before it."""
    from ..core.history.trend import course
    from ..outputs.results.history import HistoryStep

    counts = store.counts()
    taken = {check.number: check.taken_at for check in checks}
    rules = {number: frozenset(name for kind, name in some if kind == "rule") for number, some in counts.items()}
    data_points = course(store.runs(), taken, rules)
    return [
        HistoryStep(check, counts.get(check.number, {}), data_point)
        for check, data_point in zip(checks, data_points, strict=True)
    ]


def _then(word: str, checks: list[Check]) -> Check:
    """Return the check that is meant: of a day (the last one up to it), so many before the last, or by its number."""
    if word.startswith("#") and word[1:].isdigit():
        for check in checks:
            if check.number == int(word[1:]):
                return check
        raise UsherError(f"there is no check {word}; there are #{checks[0].number} to #{checks[-1].number}")
    if word.isascii() and word.isdecimal() and len(word) < 6:
        if int(word) >= len(checks):
            raise UsherError(f"there are only {len(checks)} checks, so none was {word} before the last")
        return checks[len(checks) - 1 - int(word)]
    try:
        day = date.fromisoformat(word).isoformat()
    except ValueError:
        raise UsherError(f"{quoted(word)} is no date, number of checks or check; write 2026-11-13, 3, or #3") from None
    found = [check for check in checks if check.time[:10] <= day]
    if not found:
        raise UsherError(f"no check was kept up to {word}; the first is of {checks[0].time[:10]}")
    return found[-1]
