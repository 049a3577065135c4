"""Shows every way in that a required proof does not cover, who is locked out, what ails the access rules, and whom each reaches.

Reads the snapshot and the baseline; looks at the baseline's rules that ask for a proof (or at --proof, for everybody)."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..core.words.faults import nearest, quoted
from ..files.faults import UsherError
from .common import add_output, add_places, read_inputs, say_notes, write

if TYPE_CHECKING:
    from ..core.organisation.columns import Bools
    from ..core.sign_in.possible import Asked
    from .common import Inputs

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate holes
  usher-gate holes --rule SIGN-10 --rows 0
  usher-gate holes --proof mfa --format json"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--rule", metavar="ID", action="append", help="only these rules (repeatable)")
    which.add_argument(
        "--proof", metavar="PROOF", help="instead of the baseline's rules: this proof, from everybody, everywhere"
    )
    parser.add_argument(
        "--rows",
        type=int,
        default=10,
        metavar="N",
        help="how many holes of each rule a table shows (default: 10; 0: all)",
    )
    add_places(parser)
    add_output(parser, "holes")


def run(arguments: argparse.Namespace) -> int:
    """Finds and writes."""
    import numpy as np

    from ..core.sign_in.gatekeeper import Gatekeeper
    from ..core.sign_in.health import ailments
    from ..core.sign_in.holes import holes
    from ..core.sign_in.lockout import lockouts
    from ..core.sign_in.possible import Asked
    from ..core.words.vocabulary import PROOFS
    from ..outputs.holes.answer import HolesAnswer, RuleHoles

    inputs = read_inputs(arguments)
    if inputs.snapshot.access_rules is None:
        raise UsherError("the snapshot has no access-rules.yaml, so nothing is known about what a sign-in must show")
    keeper = Gatekeeper(inputs.snapshot)
    if arguments.proof is None:
        wanted = _of_rules(arguments, inputs)
    else:
        if arguments.proof not in PROOFS:
            raise UsherError(f"there is no proof {quoted(arguments.proof)}; {nearest(arguments.proof, PROOFS)}")
        everybody = np.ones(len(inputs.snapshot.people), bool)
        wanted = [("", f"{arguments.proof} from everybody", Asked(arguments.proof), everybody)]
    found = tuple(
        RuleHoles(rule, title, asked, tuple(holes(keeper, asked, audience)), int(audience.sum()))
        for rule, title, asked, audience in wanted
    )
    locked = lockouts(keeper)
    answer = HolesAnswer(inputs.snapshot, found, locked.found, tuple(ailments(keeper)), keeper)
    write(arguments, "holes", answer, arguments.rows)
    say_notes(tuple(sorted(keeper.notes | locked.notes)))
    return 0


def _of_rules(arguments: argparse.Namespace, inputs: Inputs) -> list[tuple[str, str, Asked, Bools]]:
    """The proof leaves of the baseline, each with whom its rule is for."""
    from ..core.settings.resolver import Resolver
    from ..core.verdicts.scope import Scopes

    rules = [rule for rule in inputs.baseline.rules if any(leaf.about == "proof" for leaf in rule.leaves)]
    for name in arguments.rule or ():
        if name not in {rule.id for rule in rules}:
            raise UsherError(
                f"there is no rule {quoted(name)} that asks for a proof; {nearest(name, [rule.id for rule in rules])}"
            )
    if not rules:
        raise UsherError(
            "no rule of the baseline asks for a proof; write --proof mfa, or see usher-gate baseline --start"
        )
    scopes = Scopes(Resolver(inputs.snapshot))
    return [
        (rule.id, rule.title, leaf.asked, ~scopes.of(rule, None).outside)
        for rule in rules
        if not arguments.rule or rule.id in arguments.rule
        for leaf in rule.leaves
        if leaf.asked is not None
    ]
