"""Tries a change before it is made: on verdicts, doors and planned meetings (--changes), and on past sign-ins.

Tries a file of changes, a --draft of access rules, a --baseline in place of the one that usher-gate.toml reads,
or else the observed rules as if they were enforced. Reads what 'check' reads, and the sign-ins (the table sign_ins,
or OCSF 1.x Authentication events). Changes nothing in any service."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.words.faults import Faults
from ..files.faults import UsherError
from ..files.place import place
from ..files.written.workfolder import read_workfolder
from .common import (
    add_output,
    add_places,
    add_rows,
    add_scheduler,
    job_for,
    need_folder,
    need_snapshot,
    places,
    read_folder,
    read_inputs,
    say_notes,
    scheduler_for,
    working,
    write,
)

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from ..core.changes.compare import ChangeComparison, Compared
    from ..core.organisation.access_rules import AccessRule
    from ..core.organisation.snapshot import Snapshot
    from ..core.sign_in.evaluator import AccessPolicyEvaluator
    from ..core.sign_in.lockout import Lockout
    from ..core.sign_in.replay import Replay
    from ..core.verdicts.rules import AgreedException, Baseline
    from ..engine.interface import Executor
    from ..files.place import Place
    from ..files.sign_ins.interface import Unread
    from ..outputs.results.sign_in_rehearsal import RehearsalAnswer, UnusedEvents
    from .common import Inputs

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate rehearse
  usher-gate rehearse --changes changes/waiting-rooms.yaml
  usher-gate rehearse --changes changes/own-organisation-only.yaml --notices notices
  usher-gate rehearse --draft drafts/cargo-portal.yaml
  usher-gate rehearse --sign-ins logs/2026-11-19.ocsf.jsonl --format json"""


HURTS = 1  # a finding begins, or someone is newly locked out, stranded, turned away, or loses what a rule leaves them
GAPS = 3  # less than half of the log could be used


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "--sign-ins",
        type=place,
        metavar="PATH",
        help="a file, a folder or a URL: .csv, .jsonl, .ndjson, .parquet (default: the snapshot's table sign_ins)",
    )
    parser.add_argument("--changes", type=Path, metavar="FILE", help="a file of changes to try (form changes/1)")
    parser.add_argument(
        "--write-snapshot",
        type=Path,
        metavar="DIR",
        help="with --changes: write the snapshot as it would be after them",
    )
    parser.add_argument(
        "--notices", type=Path, metavar="DIR", help="with --changes: draft messages about what people must know"
    )
    parser.add_argument(
        "--draft",
        type=Path,
        metavar="FILE",
        help="access rules to try instead of the observed ones (form access-rules/1)",
    )
    add_rows(parser, "rehearse")
    add_scheduler(parser)
    add_places(parser)
    add_output(parser, "changed")


def run(arguments: argparse.Namespace) -> int:
    """Rehearses; raises UsherError for options that do not go together."""
    from ..core.sign_in.evaluator import AccessPolicyEvaluator

    baseline = _tried_baseline(arguments)
    if arguments.changes is not None or (baseline is not None and arguments.draft is None):
        if arguments.scheduler is not None:
            raise UsherError("--changes and --baseline are rehearsed on this machine; leave --scheduler out")
        return _changed(arguments, baseline)
    for name in ("write_snapshot", "notices"):
        if getattr(arguments, name) is not None:
            raise UsherError(f"--{name.replace('_', '-')} is about a file of changes; name one with --changes")
    if arguments.format == "markdown":
        raise UsherError("sign-ins alone are shown as table, json or csv; markdown is for --changes")
    folder = need_snapshot(arguments)
    snapshot = read_folder(arguments).snapshot
    if snapshot.access_rules is None:
        raise UsherError("the snapshot has no access-rules.yaml, so nothing is known about what a sign-in meets")
    present = AccessPolicyEvaluator(snapshot)
    answer, tried = _on_sign_ins(arguments, folder, present, _draft(arguments.draft, present), None)
    write(arguments, "rehearsal", answer, arguments.rows)
    notes = present.notes | tried.notes
    hurts = arguments.draft is not None and _draft_hurts(arguments, tried, notes)
    say_notes(tuple(sorted(notes)))
    if hurts:
        return HURTS
    return 0 if answer.readable else GAPS


def _draft_hurts(arguments: argparse.Namespace, tried: AccessPolicyEvaluator, notes: set[str]) -> bool:
    """Return whether a finding begins by the draft, or someone is newly locked out or stranded.

    As --changes says of the same rules.
    """
    from ..core.changes.apply import Applied
    from ..core.changes.compare import Compared
    from ..core.changes.model import Changes, Rules
    from ..core.verdicts.rules import Baseline

    if places(arguments).baseline is None:
        notes.add("no baseline is named, so it is not known whether a finding begins")
        before, baseline = tried.snapshot, Baseline("", "", ())
        exceptions: tuple[AgreedException, ...] = ()
    else:
        inputs = read_inputs(arguments)
        before, exceptions, baseline = inputs.snapshot, inputs.exceptions, inputs.baseline
    rules = tried.rules
    changes = Changes("", None, (Rules(rules, f"the access rules of {arguments.draft}"),), (0,))
    applied = Applied(
        snapshot=replace(before, access_rules=rules), tables={}, places={}, real=frozenset((1,)), notes=()
    )
    return Compared(before, applied, changes, baseline, exceptions).comparison().hurts


def _tried_baseline(arguments: argparse.Namespace) -> Path | None:
    """Return the baseline that is tried.

    One that --baseline names in place of the one that the working folder reads.
    """
    present = read_workfolder(Path()).baseline
    tried: Path | None = arguments.baseline
    return tried if present is not None and tried is not None and tried.resolve() != present.resolve() else None


def _on_sign_ins(
    arguments: argparse.Namespace,
    folder: Place,
    present: AccessPolicyEvaluator,
    draft: AccessPolicyEvaluator | None,
    what: str | None,
) -> tuple[RehearsalAnswer, AccessPolicyEvaluator]:
    """Return what past sign-ins would meet; and the rules that were tried."""
    from ..core.sign_in.replay import Replay
    from ..engine.replaying import tally_all
    from ..files.sign_ins import sign_in_files
    from ..outputs.results.sign_in_rehearsal import RehearsalAnswer

    snapshot = present.snapshot
    files = sign_in_files(arguments.sign_ins or _table(folder))
    replay = Replay(present, draft)
    executor = _executor(arguments, replay, files)
    with working("rehearsing", "events") as progress:
        tally, unread = tally_all(
            files, replay, lambda read: progress(read, 0) if progress is not None else None, executor
        )
    tried = draft or present.with_rules(_enforced(snapshot))
    answer = RehearsalAnswer(
        snapshot=snapshot,
        change=what or (f"the draft {arguments.draft}" if draft is not None else _observed(snapshot)),
        rules=replay.rules,
        rehearsal=tally.done(),
        files=len(files),
        read=unread.read,
        missed=_missed(unread),
        lockouts=_new(present, tried),
        spelled=dict(sorted(unread.spelled.items())),
    )
    return answer, tried


def _executor(arguments: argparse.Namespace, replay: Replay, files: Sequence[Place]) -> Callable[[], Executor] | None:
    """Return who shares the log: a scheduler's workers if one is named, the processors here where it is large.

    None for this process alone.
    """
    from ..engine.processes import Processes, at_hand
    from ..engine.replaying import large

    cluster = None if arguments.changes is not None else scheduler_for(arguments)
    if cluster is None:
        return (lambda: Processes(replay, at_hand())) if at_hand() > 1 and large(files) else None
    from ..engine.cluster import Cluster
    from ..engine.job import REPLAY

    return lambda: Cluster(cluster, job_for(arguments, REPLAY, replay.snapshot.content))


def _changed(arguments: argparse.Namespace, tried: Path | None) -> int:
    """Return what a file of changes would do, and another baseline after them."""
    from ..core.changes.apply import apply_changes, descriptions
    from ..core.changes.compare import Compared
    from ..core.changes.model import Changes, Rules
    from ..core.sign_in.evaluator import AccessPolicyEvaluator
    from ..files.faults import stop_if_any
    from ..files.written.changes import read_changes
    from ..outputs.results.change_rehearsal import ChangedAnswer

    if tried is not None:
        arguments.baseline = None  # today's, which the working folder reads
    inputs = read_inputs(arguments, keep_tables=True)
    before, faults = inputs.snapshot, Faults()
    then, notes_then = _judged_then(tried, inputs)
    if arguments.changes is None:
        changes = Changes(f"the baseline {tried}", None, (), ())
    else:
        changes = read_changes(arguments.changes, before, inputs.read.tables, faults)
    if arguments.draft is not None:
        draft = _draft(arguments.draft, AccessPolicyEvaluator(before))
        rules = Rules(draft.rules if draft is not None else (), f"the access rules of {arguments.draft}")
        changes = Changes(changes.title, changes.start, (*changes.changes, rules), (*changes.lines, 0))
    applied = apply_changes(before, inputs.read.tables, changes, str(arguments.changes), faults)
    stop_if_any(faults)
    assert applied is not None
    compared = Compared(before, applied, changes, inputs.baseline, inputs.exceptions, then)
    with working("judging before and after", "pairs"):
        made = compared.comparison()
    notes = [*faults.notes, *applied.notes, *notes_then]
    sign_ins = None
    if any(isinstance(change, Rules) for change in changes.changes):
        sign_ins = _signed(arguments, before, applied.snapshot, notes)
    helps = _helps(made.stranded, applied.snapshot)
    drafted = _draft_notices(arguments, compared, made, helps, notes)
    if arguments.write_snapshot is not None:
        from ..files.written.snapshot_out import write_snapshot

        folder = need_folder(arguments, "--write-snapshot")
        write_snapshot(folder, arguments.write_snapshot, before, applied.snapshot, inputs.read.tables, applied.tables)
    write(
        arguments,
        "changed",
        ChangedAnswer(
            comparison=made,
            descriptions=tuple(descriptions(changes)),
            sign_ins=sign_ins,
            helps=helps,
            notices=drafted,
            notes=tuple(notes),
        ),
        arguments.rows,
    )
    say_notes(tuple(notes))
    return HURTS if made.hurts else 0


def _judged_then(
    tried: Path | None, inputs: Inputs
) -> tuple[tuple[Baseline, Sequence[AgreedException]] | None, tuple[str, ...]]:
    """Return the baseline that is tried, with what the exceptions still mean under it; and notes.

    None where none is tried.
    """
    if tried is None:
        return None, ()
    from ..files.written.baseline import read_baseline

    baseline, notes = read_baseline(tried, inputs.snapshot.catalogue, inputs.snapshot)
    known = {rule.id for rule in baseline.rules}
    kept = [
        replace(exception, rules=tuple(rule for rule in exception.rules if rule in known))
        for exception in inputs.exceptions
        if known.intersection(exception.rules)
    ]
    return (baseline, kept), notes


def _signed(
    arguments: argparse.Namespace, before: Snapshot, after: Snapshot, notes: list[str]
) -> RehearsalAnswer | None:
    """Return the sign-ins of the log, if there is one, under the access rules as they would be."""
    from ..core.sign_in.evaluator import AccessPolicyEvaluator
    from ..files.sign_ins import sign_in_table

    folder = need_snapshot(arguments)
    if arguments.sign_ins is None and sign_in_table(folder) is None:
        notes.append("there is no log of sign-ins, so the access rules were tried on none")
        return None
    if before.access_rules is None:
        notes.append("the snapshot has no access rules now, so past sign-ins cannot be compared")
        return None
    present = AccessPolicyEvaluator(before)
    if replace(after, access_rules=before.access_rules) != before:
        notes.append("the sign-ins of the log were tried with the rules as they would be, and everything else as it is")
    answer, _ = _on_sign_ins(
        arguments, folder, present, present.with_rules(after.access_rules or ()), f"the changes {arguments.changes}"
    )
    return answer


def _helps(stranded: tuple[tuple[str, tuple[str, ...]], ...], after: Snapshot) -> dict[str, str]:
    """Return what would help people who newly get in nowhere, by id.

    Found by deciding a sign-in from elsewhere by browser again.
    """
    from ..core.organisation.sign_ins import SignIn
    from ..core.sign_in.decide import Decider
    from ..core.sign_in.evaluator import AccessPolicyEvaluator
    from ..core.sign_in.help import helps

    evaluator, found = AccessPolicyEvaluator(after), dict[str, str]()
    elsewhere = next((network for network in after.networks.classes if not network.names), after.networks.classes[0])
    for resource, people in stranded:
        for name in people:
            if not found.get(name):
                decider = Decider(evaluator, after.people.ids.find(name)[0])
                found[name] = "; or ".join(
                    helps(
                        decider,
                        SignIn(
                            resource=resource,
                            network=elsewhere,
                            client="browser",
                            platform="other",
                            device="unknown",
                            risk="none",
                        ),
                    )
                )
    return found


def _draft_notices(
    arguments: argparse.Namespace, compared: Compared, made: ChangeComparison, helps: dict[str, str], notes: list[str]
) -> tuple[int, int] | None:
    """Drafts the messages; how many, and for how many people. Notes who has no address."""
    if arguments.notices is None:
        return None
    import numpy as np

    from ..core.changes.notices import invitations, notices
    from ..files.written.messages import no_address_note, write_messages

    drafts = notices(made, compared.checkers, helps)
    people = made.after.people
    rows = [np.array(draft.people, np.int64) for draft in drafts]
    without = write_messages(
        arguments.notices,
        [
            (draft.subject, draft.text, people.logins.take(mine), people.ids.take(mine))
            for draft, mine in zip(drafts, rows, strict=True)
        ],
        [
            (one.subject, one.text, people.ids.take(np.array([one.organiser]))[0], one.address)
            for one in invitations(made, made.after)
        ],
    )
    if without:
        notes.append(no_address_note(without, "inform them yourself"))
    return len(drafts), sum(map(len, rows))


def _table(snapshot: Place) -> Place:
    """Return the snapshot's own table."""
    from ..files.sign_ins import sign_in_table

    found = sign_in_table(snapshot)
    if found is None:
        raise UsherError(f"{snapshot} has no table sign_ins; write --sign-ins PATH")
    return found


def _draft(path: Path | None, present: AccessPolicyEvaluator) -> AccessPolicyEvaluator | None:
    from ..files.snapshot.access_rules import read_access_rules

    if path is None:
        return None
    if not path.exists():
        raise UsherError(f"{path} does not exist; name a file of access rules, such as a copy of the snapshot's")
    from ..files.faults import stop_if_any

    faults = Faults()
    snapshot = present.snapshot
    rules = read_access_rules(path, snapshot, snapshot.networks, snapshot.resources, faults)
    stop_if_any(faults)
    return present.with_rules(rules or ())


def _enforced(snapshot: Snapshot) -> tuple[AccessRule, ...]:
    """Return the rules, the observed ones enforced."""
    rules = snapshot.access_rules or ()
    return tuple(replace(rule, mode="enforce") if rule.mode == "observe" else rule for rule in rules)


def _observed(snapshot: Snapshot) -> str:
    names = [rule.id for rule in snapshot.access_rules or () if rule.mode == "observe"]
    return f"enforcing what is only observed ({', '.join(names) or 'no rule is'})"


def _new(present: AccessPolicyEvaluator, tried: AccessPolicyEvaluator) -> tuple[Lockout, ...]:
    """Return who would be locked out of a resource for administrators; only where someone is who is not now."""
    from ..core.sign_in.lockout import lockouts

    after = lockouts(tried, False).found
    if not after:
        return ()
    before = {(lockout.resource, lockout.of): set(lockout.people) for lockout in lockouts(present, False).found}
    return tuple(
        lockout for lockout in after if set(lockout.people) - before.get((lockout.resource, lockout.of), set())
    )


def _missed(unread: Unread) -> tuple[UnusedEvents, ...]:
    from ..outputs.results.sign_in_rehearsal import UnusedEvents

    found = []
    for (why, value), number in unread.counts.items():
        path, line = unread.places[why, value]
        found.append(UnusedEvents(why, value, number, f"{path}:{line}" if line else path))
    return tuple(sorted(found, key=lambda missed: (-missed.count, missed.why, missed.value)))
