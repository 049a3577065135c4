"""Finds the fewest changes of settings that end the drift and hurt no one, and proves that there are no fewer.

Reads what 'check' reads, and past sign-ins. --write writes changes to rehearse. Changes no service."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.words.plural import plural
from ..files.faults import UsherError
from .common import (
    add_narrowing,
    add_output,
    add_places,
    add_rows,
    narrowing,
    need_snapshot,
    read_inputs,
    say_notes,
    working,
    write,
)
from .parser import positive_number, whole

if TYPE_CHECKING:
    from ..core.mend.constraints import MendingConstraints
    from ..core.mend.mending import MadeEdit, Membership, MendingResult
    from ..core.mend.sign_in_side import RulePlan
    from ..outputs.results.mending import Suggested
    from .common import Inputs

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate mend
  usher-gate mend --service quaychat --write changes/quaychat.yaml"""
LEFT = 1
_MOST_PLANS = 5  # for each hole and lock-out that are listed


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    group = parser.add_argument_group("the plan")
    group.add_argument("--edits", type=whole(0), metavar="N", help="the best plan of at most N edits, and what is left")
    group.add_argument("--hold", action="store_true", help="what is right but not held must be held as well")
    group.add_argument("--weaken", action="store_true", help="values may get weaker for people with nothing to mend")
    group.add_argument("--through-exceptions", action="store_true", help="what an exception covers may change too")
    group.add_argument("--memberships", action="store_true", help="people may be taken out of groups, too")
    group.add_argument("--turn-away", action="store_true", help="people invited to planned meetings may be turned away")
    group.add_argument(
        "--seconds", type=positive_number, default=60.0, metavar="S", help="how long to look for a proof (60)"
    )
    group.add_argument(
        "--write", type=Path, metavar="FILE", help="write the plan as a file of changes (form changes/1)"
    )
    add_rows(parser, "mend")
    add_places(parser)
    add_narrowing(parser)
    add_output(parser, "mended")


def run(arguments: argparse.Namespace) -> int:
    """Finds the plan, writes it and says by the exit status whether something cannot be mended;
    raises UsherError where SciPy is missing, or for what it cannot mend by."""
    from importlib.util import find_spec

    if find_spec("scipy") is None:
        raise UsherError("mend needs SciPy's optimiser; install it with: pip install 'usher-gate[mend]'")
    import numpy as np

    from ..core.mend.constraints import MendingConstraints
    from ..core.mend.memberships import mend_with_memberships
    from ..core.mend.mending import MendingRequest, mend
    from ..outputs.results.mending import MendAnswer

    if arguments.verdict:
        raise UsherError("--verdict narrows what is listed; a plan mends what drifts")
    inputs = read_inputs(arguments, keep_tables=True)
    chosen = narrowing(arguments, inputs.snapshot, inputs.baseline)
    everybody = np.ones(len(inputs.snapshot.people), bool)
    terms = MendingConstraints(
        keeps=chosen.keeps,
        chosen=everybody if chosen.people is None else chosen.people,
        hold=arguments.hold,
        weaken=arguments.weaken,
        through_exceptions=arguments.through_exceptions,
        turn_away=arguments.turn_away,
    )
    asked = MendingRequest(inputs.baseline, inputs.exceptions, terms, arguments.edits)
    until = time.monotonic() + arguments.seconds
    with working("finding the fewest changes") as progress:
        find = mend_with_memberships if arguments.memberships else mend
        mending = find(inputs.snapshot, inputs.read.tables, asked, time.monotonic, arguments.seconds, progress)
    suggested = _suggested(arguments, inputs, terms, until) if arguments.edits is None else ()
    written = ""
    notes = tuple(sorted({*mending.notes, *inputs.notes}))
    if arguments.write is not None and mending.many:
        _write_plan(arguments.write, mending)
        written = str(arguments.write)
    elif arguments.write is not None:
        why = "nothing drifts" if not mending.drifting else "no setting mends it"
        notes += (f"{arguments.write} is not written: there is no edit to write ({why})",)
    write(arguments, "mended", MendAnswer(mending, suggested, written, notes), arguments.rows)
    if arguments.format not in ("json", "markdown"):
        say_notes(notes)
    return LEFT if mending.left else 0


def _write_plan(path: Path, mending: MendingResult) -> None:
    from ..files.written.plan import write_plan
    from ..outputs.results.mending import edit_object, membership_object

    changes = [(membership_object(one), _why_out(one)) for one in mending.memberships]
    changes += [(edit_object(edit), _why(edit)) for edit in mending.edits]
    write_plan(path, mending.changes.title, changes)


def _why_out(one: Membership) -> str:
    ends = f"ends {plural(one.ended, 'finding')} of {one.login}"
    also = f"; changes {plural(len(one.also), 'other value')} of theirs" if one.also else ""
    return ends + also


def _why(edit: MadeEdit) -> str:
    ends = f"ends {plural(edit.ended, 'finding')}"
    need = f", {edit.without:,} of them with nothing to mend there" if edit.without else ""
    return f"{ends}; changes {plural(edit.touched, 'value')}{need}"


def _suggested(
    arguments: argparse.Namespace, inputs: Inputs, terms: MendingConstraints, until: float
) -> tuple[Suggested, ...]:
    """Return what ends lock-outs and closes holes, each with what it would have done to the sign-ins of the log.

    As far as the time suffices.
    """
    from ..core.mend.deadline import Deadline
    from ..core.mend.sign_in_side import sign_in_side
    from ..core.verdicts.checker import Checker
    from ..outputs.results.mending import Suggested

    checker = Checker(inputs.snapshot, inputs.baseline, inputs.exceptions)
    made: list[Suggested] = []
    known: dict[tuple[str, ...], tuple[int, int] | None] = {}
    deadline = Deadline(time.monotonic, until)
    with working("looking at the access rules"):
        for repair in sign_in_side(checker, terms, deadline):
            plans = repair.plans[:_MOST_PLANS]
            for plan in plans:
                if plan.edits not in known:
                    known[plan.edits] = None if deadline.has_passed else _stopped(arguments, inputs, plan)
            made.append(Suggested(repair, tuple((plan, known[plan.edits]) for plan in plans)))
    return tuple(made)


def _stopped(arguments: argparse.Namespace, inputs: Inputs, plan: RulePlan) -> tuple[int, int] | None:
    """Return how many sign-ins of the log that got in would be denied or stuck, and of how many people."""
    from ..core.sign_in.evaluator import AccessPolicyEvaluator
    from ..core.sign_in.replay import Replay
    from ..engine.replaying import tally_all
    from ..files.sign_ins import sign_in_table

    table = sign_in_table(need_snapshot(arguments))
    if table is None:
        return None
    present = AccessPolicyEvaluator(inputs.snapshot)
    tally, _ = tally_all([table], Replay(present, present.with_rules(plan.rules)), lambda _: None)
    done = tally.done()
    people = [each for each in done.people if each.sign_ins[1] + each.sign_ins[2]]
    return done.hurt[1] + done.hurt[2], len(people)
