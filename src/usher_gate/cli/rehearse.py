"""Tries a change of the access rules on sign-ins that happened: what would be decided otherwise, who would be hurt, by which rules.

Reads the snapshot and the sign-ins (the table sign_ins, or OCSF 1.x Authentication events). Tried is --draft, or without it the
observed rules as if they were enforced."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.words.faults import Faults
from ..files.faults import UsherError
from .common import add_output, need, places, say_notes, working, write

if TYPE_CHECKING:
    from ..core.organisation.access_rules import AccessRule
    from ..core.organisation.snapshot import Snapshot
    from ..core.sign_in.gatekeeper import Gatekeeper
    from ..core.sign_in.lockout import Lockout
    from ..files.sign_ins.interface import Unread
    from ..outputs.rehearsal.answer import Missed

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate rehearse
  usher-gate rehearse --draft drafts/cargo-portal.yaml
  usher-gate rehearse --sign-ins logs/2026-11-19.ocsf.jsonl --format json"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "--sign-ins",
        type=Path,
        metavar="PATH",
        help="a file, or a folder of files: .csv, .jsonl, .ndjson, .parquet (default: the snapshot's table sign_ins)",
    )
    parser.add_argument(
        "--draft",
        type=Path,
        metavar="FILE",
        help="access rules to try instead of the observed ones (form access-rules/1)",
    )
    parser.add_argument(
        "--rows", type=int, default=None, metavar="N", help="rows of each kind in a table; 0: all (default: up to 10)"
    )
    parser.add_argument_group("files").add_argument("--snapshot", type=Path, metavar="DIR", help="the snapshot folder")
    add_output(parser, "rehearsal")


def run(arguments: argparse.Namespace) -> int:
    """Rehearses."""
    from ..core.sign_in.gatekeeper import Gatekeeper
    from ..core.sign_in.replay import Replay
    from ..files.sign_ins import sign_in_files
    from ..files.sign_ins.workers import tally_all
    from ..files.snapshot.folder import read_snapshot
    from ..outputs.rehearsal.answer import RehearsalAnswer

    folder = need(places(arguments).snapshot, "snapshot")
    snapshot = read_snapshot(folder).snapshot
    if snapshot.access_rules is None:
        raise UsherError("the snapshot has no access-rules.yaml, so nothing is known about what a sign-in meets")
    files = sign_in_files(arguments.sign_ins or _table(folder))
    present = Gatekeeper(snapshot)
    draft = _draft(arguments.draft, present)
    replay = Replay(present, draft)
    with working("rehearsing", "events") as progress:
        tally, unread = tally_all(files, replay, lambda read: progress(read, 0) if progress is not None else None)
    tried = draft or present.with_rules(_enforced(snapshot))
    answer = RehearsalAnswer(
        snapshot,
        f"the draft {arguments.draft}" if draft is not None else _observed(snapshot),
        replay.rules,
        tally.done(),
        len(files),
        unread.read,
        _missed(unread),
        _new(present, tried),
    )
    write(arguments, "rehearsal", answer, arguments.rows)
    say_notes(tuple(sorted(present.notes | tried.notes)))
    return 0


def _table(folder: Path) -> Path:
    """The snapshot's own table."""
    found = [path for ending in (".csv", ".jsonl", ".parquet") if (path := folder / f"sign_ins{ending}").exists()]
    if len(found) == 1:
        return found[0]
    if found:
        raise UsherError(f"{found[1]} stands beside {found[0].name}; keep one file for each table")
    raise UsherError(f"{folder} has no table sign_ins; write --sign-ins PATH")


def _draft(path: Path | None, present: Gatekeeper) -> Gatekeeper | None:
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
    """The rules, the observed ones enforced."""
    rules = snapshot.access_rules or ()
    return tuple(replace(rule, mode="enforce") if rule.mode == "observe" else rule for rule in rules)


def _observed(snapshot: Snapshot) -> str:
    names = [rule.id for rule in snapshot.access_rules or () if rule.mode == "observe"]
    return f"enforcing what is only observed ({', '.join(names) or 'no rule is'})"


def _new(present: Gatekeeper, tried: Gatekeeper) -> tuple[Lockout, ...]:
    """Who would be locked out of a resource for administrators; only where somebody is who is not now."""
    from ..core.sign_in.lockout import lockouts

    after = lockouts(tried).found
    if not after:
        return ()
    before = {(lockout.resource, lockout.of): set(lockout.people) for lockout in lockouts(present).found}
    return tuple(
        lockout for lockout in after if set(lockout.people) - before.get((lockout.resource, lockout.of), set())
    )


def _missed(unread: Unread) -> tuple[Missed, ...]:
    from ..outputs.rehearsal.answer import Missed

    found = []
    for (why, value), number in unread.counts.items():
        path, line = unread.places[why, value]
        found.append(Missed(why, value, number, f"{path}:{line}" if line else path))
    return tuple(sorted(found, key=lambda missed: (-missed.count, missed.why, missed.value)))
