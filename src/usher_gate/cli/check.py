"""Checks a snapshot against a baseline: who drifts, from what, by which value, set where, and what to change first.

Reads a snapshot folder, a baseline and exceptions; writes the answer to standard output or --out."""

from __future__ import annotations

import argparse
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.words.faults import quoted
from ..core.words.plural import plural
from ..core.words.vocabulary import FAIL_WORDS, SEVERITIES
from ..files.faults import UsherError
from .common import (
    add_narrowing,
    add_output,
    add_places,
    add_rows,
    add_scheduler,
    judged,
    narrowing,
    need,
    need_folder,
    places,
    read_inputs,
    say_notes,
    write,
)
from .say import say_error

if TYPE_CHECKING:
    from ..core.verdicts.result import CheckResult
    from ..core.verdicts.rules import Baseline
    from ..core.verdicts.run import Narrowing
    from ..files.history.store import Store
    from .common import Inputs

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate check
  usher-gate check --severity critical --severity high --unit /Fleet
  usher-gate check --format json --out drift.json"""
DRIFTS, GAPS, LOST = 1, 3, 4


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    add_places(parser)
    add_narrowing(parser)
    add_output(parser, "check")
    parser.add_argument(
        "--compare",
        action="append",
        metavar="KIND:NAME",
        help="parts side by side: unit:/PATH, group:ID, person:WHO, service:ID",
    )
    parser.add_argument("--keep", action="store_true", help="keep this check in the history (see usher-gate history)")
    parser.add_argument(
        "--by",
        metavar="WORD",
        help="add a table by the numbers of a framework, such as nist",
    )
    parser.add_argument(
        "--fail-on",
        action="append",
        type=str.lower,
        choices=FAIL_WORDS,
        metavar="WORD",
        help=f"what makes the status 1 (drifts): {', '.join(FAIL_WORDS)}",
    )
    parser.add_argument(
        "--fail-at",
        type=str.lower,
        choices=SEVERITIES,
        metavar="WORD",
        default="low",
        help="... of a rule of this severity or worse",
    )
    add_rows(parser, "check")
    add_scheduler(parser)


def _framework(word: str | None, baseline: Baseline) -> str | None:
    """Return the framework that a part of its name means; raises UsherError."""
    if word is None:
        return None
    known = sorted({name for rule in baseline.rules for name in rule.maps})
    found = [name for name in known if word.casefold() in name.casefold()]
    if len(found) != 1:
        means = f"{quoted(word)} may be {' or '.join(found)}" if found else f"no rule maps to {quoted(word)}"
        raise UsherError(f"{means}; write one of {', '.join(known) or 'none that there is'}")
    return found[0]


def _narrowed(arguments: argparse.Namespace) -> bool:
    """Return whether the check speaks of a part only."""
    names = ("rule", "service", "person", "group", "unit", "severity", "verdict", "compare")
    return any(getattr(arguments, name) for name in names)


def _to_keep_in(arguments: argparse.Namespace) -> Store | None:
    """Return where the check is to be kept, if that is asked for.

    Raises UsherError for what is known to be wrong before anything is judged.
    """
    from .keeping import keeps_always, open_store

    narrowed = _narrowed(arguments)
    if arguments.keep and narrowed:
        raise UsherError("only whole checks are kept; leave the narrowing out, or --keep")
    return open_store() if arguments.keep or (keeps_always() and not narrowed) else None


def _keep(arguments: argparse.Namespace, result: CheckResult, store: Store) -> tuple[str, ...]:
    """Keeps the check; what to say of it."""
    from .keeping import reviews_decided, to_keep

    where = places(arguments)
    reviews, notes = reviews_decided(Path(), result.snapshot)
    snapshot, baseline = need_folder(arguments, "keeping a check"), need(where.baseline, "baseline")
    made = store.keep(to_keep(result, snapshot, baseline, where.exceptions, reviews))
    if made is None:
        return (
            f"the last check kept in {store.shown} is of the same snapshot, baseline and exceptions: nothing is added",
        )
    return *notes, f"kept as check {made.number} in {store.shown}"


def _beside_the_last(result: CheckResult) -> CheckResult:
    """Return the result, with what became of everything since the last check kept.

    Where the history cannot be used, a note says so.
    """
    from .keeping import if_usable, since_of

    since, why = if_usable(lambda: since_of(result))
    not_known = (f"what changed since the last check kept is not known: {why}",) if why else ()
    return replace(result, since=since, notes=(*result.notes, *not_known))


def _hint(inputs: Inputs, chosen: Narrowing, result: CheckResult) -> str:
    """Return what mending would do, as far as that is cheap to know."""
    import numpy as np

    from ..core.mend.constraints import MendingConstraints
    from ..core.mend.hint import hint
    from ..core.verdicts.codes import DRIFTS as VERDICT
    from ..core.verdicts.trial import Remembered

    people = np.ones(len(inputs.snapshot.people), bool) if chosen.people is None else chosen.people
    base = Remembered(inputs.snapshot, inputs.baseline, inputs.exceptions)
    return hint(
        base, MendingConstraints(chosen.keeps, people), sum(counted[VERDICT] for counted in result.rule_counts.values())
    )


_SIDES = ("unit", "group", "person", "service")


def _compared(arguments: argparse.Namespace) -> int:
    """Return the check of each part that is named, as if it had been asked for alone, side by side."""
    from ..core.verdicts.threshold import Threshold
    from ..outputs.forms import forms_of
    from ..outputs.results.sides import SidesAnswer

    named = [side.partition(":") for side in arguments.compare]
    for side, (kind, colon, name) in zip(arguments.compare, named, strict=True):
        if kind not in _SIDES or not colon or not name:
            raise UsherError(f"--compare {side}: write one of {', '.join(f'{word}:NAME' for word in _SIDES)}")
        if getattr(arguments, kind):
            raise UsherError(f"--compare {side} names the {kind} itself; leave --{kind} out")
    if len(named) < 2:
        raise UsherError("--compare needs at least two parts; for one of them write, for example, check --unit /PATH")
    if arguments.format not in forms_of("sides"):
        raise UsherError(f"parts side by side are shown as {', '.join(forms_of('sides'))}")
    if arguments.verdict or arguments.by:
        raise UsherError("--verdict and --by are for one check; leave them out beside --compare")
    inputs = read_inputs(arguments)
    threshold = Threshold(frozenset(arguments.fail_on or ("drifts",)), arguments.fail_at)
    results = []
    for side, (kind, _, name) in zip(arguments.compare, named, strict=True):
        mine = argparse.Namespace(**{**vars(arguments), kind: [name]})
        result = judged(mine, inputs, narrowing(mine, inputs.snapshot, inputs.baseline))
        results.append((side, replace(result, threshold=threshold)))
    notes = tuple(sorted({*inputs.notes, *(note for _, result in results for note in result.notes)}))
    write(arguments, "sides", SidesAnswer(tuple(results), notes), arguments.rows)
    if arguments.format not in ("json", "markdown"):
        say_notes(notes)
    if any(result.fails() for _, result in results):
        return DRIFTS
    return GAPS if any(result.gaps() for _, result in results) else 0


def _count_notes(notes: tuple[str, ...]) -> None:
    """Says how many notes there are, and how to see them."""
    if notes:
        print(f"usher-gate: {plural(len(notes), 'note')} (--show all, or --format json)", file=sys.stderr)


def run(arguments: argparse.Namespace) -> int:
    """Checks, writes, and says by the exit status what was found."""
    from ..core.verdicts.threshold import Threshold

    store = _to_keep_in(arguments)
    if arguments.compare:
        return _compared(arguments)
    if "settling" in (arguments.show or ()):
        others = () if set(arguments.show) == {"settling"} else ("drifts",)
        arguments.verdict = [*(arguments.verdict or others), "settling"]
    inputs = read_inputs(arguments)
    chosen = narrowing(arguments, inputs.snapshot, inputs.baseline)
    result = judged(arguments, inputs, chosen)
    threshold = Threshold(frozenset(arguments.fail_on or ("drifts",)), arguments.fail_at)
    days = places(arguments).observed_days
    observed_days = result.observed_days if days is None else days
    by = _framework(arguments.by, inputs.baseline)
    result = replace(result, by=by, threshold=threshold, observed_days=observed_days)
    result = replace(result, line_of=inputs.read.setting_line, notes=tuple(sorted({*result.notes, *inputs.notes})))
    kept, lost = tuple[str, ...](), ""
    if store is not None:
        try:
            kept = _keep(arguments, result, store)
        except UsherError as fault:  # the answer is shown all the same
            lost = f"the check is not kept: {fault}"
    if not lost and not _narrowed(arguments):
        result = _beside_the_last(result)
    if arguments.format in ("table", "markdown") and not arguments.verdict:
        result = replace(result, hint=_hint(inputs, chosen, result))
    write(arguments, "check", result, arguments.rows)
    if arguments.format == "table" and not arguments.show and arguments.out is None and sys.stdout.isatty():
        _count_notes(result.notes)  # all of them would push the answer off the screen
    elif arguments.format not in ("json", "markdown"):
        say_notes(result.notes)
    say_notes(kept)
    if lost:
        say_error(lost)
        return LOST
    if result.fails():
        return DRIFTS
    return GAPS if result.gaps() else 0
