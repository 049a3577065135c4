"""Shows every way in that a required proof does not cover, who is locked out, and defects of the access rules.

Reads the snapshot and the baseline; looks at the baseline's rules that ask for a proof
(or at --proof, for everyone)."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from ..core.words.faults import nearest, quoted
from ..core.words.record import record
from ..core.words.vocabulary import DIMENSIONS
from ..files.faults import UsherError
from ..files.place import place
from .common import (
    add_output,
    add_places,
    add_rows,
    find_person,
    known_names,
    need_snapshot,
    places,
    read_inputs,
    read_state,
    say_notes,
    working,
    write,
)

if TYPE_CHECKING:
    from ..core.organisation.columns import Bools
    from ..core.organisation.snapshot import Snapshot
    from ..core.sign_in.holes import WayIn
    from ..core.sign_in.possible import ProofDemand
    from ..core.verdicts.rules import Rule
    from ..outputs.results.holes import HolesAnswer
    from .common import Inputs

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate holes
  usher-gate holes --rule SIGN-10 --rows 0
  usher-gate holes --log logs/2026-11-19.ocsf.jsonl
  usher-gate holes --network elsewhere --format csv
  usher-gate holes --proof mfa --format json"""


@record
class AskedProof:
    """A proof that a rule asks for, and from which people; `rule` and `severity` are "" where the call asks for it."""

    rule: str
    title: str
    severity: str
    asked: ProofDemand
    audience: Bools


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--rule", metavar="ID", action="append", help="only these rules (repeatable)")
    which.add_argument(
        "--proof", metavar="PROOF", help="instead of the baseline's rules: this proof, from everyone, everywhere"
    )
    parser.add_argument("--person", metavar="WHO", action="append", help="only the holes of these people (repeatable)")
    parser.add_argument(
        "--network", metavar="NAME", help="only the holes that are open from this network (or elsewhere)"
    )
    add_rows(parser, "holes")
    parser.add_argument(
        "--log",
        type=place,
        nargs="+",
        metavar="FILE",
        help="count for each hole the past sign-ins that went through it (default: sign_ins in usher-gate.toml, "
        "else the snapshot's table sign_ins)",
    )
    add_places(parser)
    add_output(parser, "holes")


def run(arguments: argparse.Namespace) -> int:
    """Finds and writes; raises UsherError for a proof or a rule that is not there."""
    import numpy as np

    from ..core.sign_in.possible import ProofDemand
    from ..core.words.vocabulary import PROOFS

    if arguments.proof is not None and arguments.proof not in PROOFS:
        raise UsherError(f"there is no proof {quoted(arguments.proof)}; {nearest(arguments.proof, PROOFS)}")
    inputs = read_inputs(arguments) if arguments.proof is None else None
    snapshot = inputs.snapshot if inputs is not None else read_state(arguments)
    if snapshot.access_rules is None:
        raise UsherError("the snapshot has no access-rules.yaml, so nothing is known about what a sign-in must show")
    chosen = np.zeros(len(snapshot.people), bool)
    chosen[[find_person(who, snapshot) for who in arguments.person or ()]] = True
    mask = chosen if arguments.person else ~chosen
    if inputs is not None:
        wanted = _of_rules(arguments, inputs)
    else:
        everyone = np.ones(len(mask), bool)
        title, asked = f"{arguments.proof} from everyone", ProofDemand(arguments.proof)
        wanted = [AskedProof(rule="", title=title, severity="", asked=asked, audience=everyone)]
    days = places(arguments).observed_days
    answer = holes_of(snapshot, wanted, mask, _network(arguments, snapshot), days)
    answer = _with_uses(arguments, replace(answer, network=arguments.network or ""))
    write(arguments, "holes", answer, arguments.rows)
    say_notes(answer.notes)
    return 0


def holes_of(
    snapshot: Snapshot,
    wanted: Sequence[AskedProof],
    chosen: Bools,
    near: frozenset[str] | None = None,
    observed_days: float | None = None,
) -> HolesAnswer:
    """Return every way past what some rules ask for, for the chosen people.

    `near` are the networks from which it is open (None: any).

    `observed_days` says after how many days a rule that is only observed is called old.
    """
    import numpy as np

    from ..core.sign_in.coverage import Coverage
    from ..core.sign_in.evaluator import AccessPolicyEvaluator
    from ..core.sign_in.health import OBSERVED_LONG_DAYS, defects
    from ..core.sign_in.holes import holes
    from ..core.sign_in.lockout import lockouts
    from ..outputs.results.holes import HolesAnswer, RuleHoles

    evaluator = AccessPolicyEvaluator(snapshot)
    coverage, found = Coverage(evaluator), list[RuleHoles]()
    for each in wanted:
        mine, known = each.audience & chosen, coverage.of(each.asked)
        ways = (way for way in holes(evaluator, each.asked, mine, known) if near is None or _reaches(way, near))
        unknown = tuple(np.flatnonzero(mine & known.are(str)).tolist())
        found.append(
            RuleHoles(
                rule=each.rule,
                title=each.title,
                severity=each.severity,
                asked=each.asked,
                holes=tuple(ways),
                people=int(np.count_nonzero(mine)),
                unknown=unknown,
            )
        )
    locked = lockouts(evaluator)
    notes = tuple(sorted(evaluator.notes | locked.notes))
    ailing = tuple(defects(evaluator, OBSERVED_LONG_DAYS if observed_days is None else observed_days))
    every = tuple(found)
    return HolesAnswer(
        snapshot=snapshot,
        rules=every,
        lockouts=locked.found,
        stranded=locked.stranded,
        defects=ailing,
        evaluator=evaluator,
        notes=notes,
        conditional=locked.conditional,
    )


def _with_uses(arguments: argparse.Namespace, answer: HolesAnswer) -> HolesAnswer:
    """Return the answer with who used each hole, if there is a log."""
    from ..core.sign_in.replay import Replay
    from ..core.sign_in.uses import HoleUses
    from ..files.sign_ins import LogPart, Unread, read_sign_ins, sign_in_files, sign_in_table

    logs = arguments.log or [places(arguments).sign_ins or sign_in_table(need_snapshot(arguments))]
    files = [file for log in logs if log is not None for file in sign_in_files(log)]
    if not files:
        return answer
    every = [(rule.asked, hole) for rule in answer.rules for hole in rule.holes]
    replay, unread = Replay(answer.evaluator), Unread()
    uses = HoleUses(replay, answer.evaluator.unseen_devices, every)
    with working("reading sign-ins", "events") as progress:
        for batch in read_sign_ins([LogPart(file) for file in files], replay, unread):
            uses.add(batch.events, batch.time, batch.result)
            if progress is not None:
                progress(unread.read, 0)
    used = {id(hole): use for (_, hole), use in zip(every, uses.found(), strict=True)}
    lost = f"; {unread.total:,} of them could not be used" if unread.total else ""
    said = f"{unread.read:,} sign-ins of {', '.join(map(str, files[:3]))}{' …' if len(files) > 3 else ''}{lost}"
    return replace(answer, uses=used, log=said)


def _network(arguments: argparse.Namespace, snapshot: Snapshot) -> frozenset[str] | None:
    """Return the classes of addresses that lie in a network, by name; None where none is asked for."""
    if arguments.network is None:
        return None
    from ..core.words.vocabulary import ELSEWHERE

    known = (*snapshot.networks.spans, ELSEWHERE)
    if arguments.network not in known:
        raise UsherError(f"there is no network {quoted(arguments.network)}; {nearest(arguments.network, known)}")
    return frozenset(
        place.text
        for place in snapshot.networks.classes
        if arguments.network in (place.names or frozenset((ELSEWHERE,)))
    )


def _reaches(hole: WayIn, near: frozenset[str]) -> bool:
    """Return whether a hole is open from one of these classes of addresses."""
    values = dict(zip(DIMENSIONS, hole.values, strict=True))["network"]
    return values is None or bool(near & set(values))


def _of_rules(arguments: argparse.Namespace, inputs: Inputs) -> list[AskedProof]:
    """Return the proof leaves of the baseline, each with the people that its rule is for."""
    rules = [rule for rule in inputs.baseline.rules if any(leaf.about == "proof" for leaf in rule.leaves)]
    chosen = known_names(arguments.rule, [rule.id for rule in rules], "rule that asks for a proof called")
    if not rules:
        raise UsherError(
            "no rule of the baseline asks for a proof; write --proof mfa, or see usher-gate baseline --start"
        )
    return proofs_asked(inputs.snapshot, [rule for rule in rules if chosen is None or rule.id in chosen])


def proofs_asked(snapshot: Snapshot, rules: Sequence[Rule]) -> list[AskedProof]:
    """Return what some rules ask for, and the people that each is for."""
    from ..core.settings.resolver import Resolver
    from ..core.verdicts.scope import Scopes

    scopes = Scopes(Resolver(snapshot))
    return [
        AskedProof(
            rule=rule.id,
            title=rule.title,
            severity=rule.severity,
            asked=leaf.asked,
            audience=~scopes.of(rule, None).outside,
        )
        for rule in rules
        for leaf in rule.leaves
        if leaf.asked is not None
    ]
