"""Checks a snapshot against a baseline: who drifts, from what, by which value, set where, and what to change first.

Reads the snapshot folder, the baseline and the exceptions; writes the answer to standard output or --out."""

from __future__ import annotations

import argparse
from dataclasses import replace

from ..core.words.vocabulary import SEVERITIES
from .common import add_narrowing, add_output, add_places, narrowing, read_inputs, say_notes, working, write

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate check
  usher-gate check --severity critical --severity high --unit /Fleet
  usher-gate check --format json --out drift.json"""
DRIFTS, GAPS = 1, 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    add_places(parser)
    add_narrowing(parser)
    add_output(parser, "check")
    parser.add_argument(
        "--fail-at",
        choices=SEVERITIES,
        metavar="WORD",
        default="low",
        help="exit with 1 only for drift of this severity or worse",
    )
    parser.add_argument(
        "--rows",
        type=int,
        default=None,
        metavar="N",
        help="rows of each kind in a table; 0: all (default: up to 10)",
    )


def run(arguments: argparse.Namespace) -> int:
    """Checks, writes, and says by the exit status what was found."""
    from ..core.verdicts.run import check

    inputs = read_inputs(arguments)
    chosen = narrowing(arguments, inputs.snapshot, inputs.baseline)
    with working("judging") as progress:
        result = check(inputs.snapshot, inputs.baseline, inputs.exceptions, chosen, progress)
    result = replace(result, notes=tuple(sorted({*result.notes, *inputs.notes})))
    write(arguments, "check", result, arguments.rows)
    if arguments.format not in ("json", "markdown"):
        say_notes(result.notes)
    if result.drifts(arguments.fail_at):
        return DRIFTS
    return GAPS if result.gaps(arguments.fail_at) else 0
