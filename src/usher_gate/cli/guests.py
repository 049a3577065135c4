"""Reviews guests: who has to be asked about which guests, worksheets for them, and their answers read back.

Reads the snapshot and [guests] of usher-gate.toml. --ask writes worksheets and drafts of messages into a folder,
--read takes the answers from there, --write makes a file of changes of them. Sends nothing, removes no one."""

from __future__ import annotations

import argparse
from dataclasses import replace
from datetime import UTC, date, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.words.faults import quoted
from ..files.faults import UsherError
from .common import add_output, add_places, add_rows, chosen_people, read_folder, say_notes, working, write

if TYPE_CHECKING:
    from ..core.guests.policy import Policy
    from ..core.guests.states import Guest
    from ..core.organisation.columns import Bools
    from ..core.organisation.snapshot import Snapshot
    from ..files.snapshot.folder import ReadSnapshot
    from ..outputs.results.guests import GuestsAnswer

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate guests
  usher-gate guests --ask asked --on 2026-11-20
  usher-gate guests --read review --on 2026-11-30 --write changes/guests.yaml"""
WAITING = 1


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{quoted(text)} is no date; write it as 2027-01-31") from None


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    from ..core.guests.states import STATES

    what = parser.add_mutually_exclusive_group()
    what.add_argument(
        "--ask", type=Path, metavar="DIR", help="write worksheets and drafts of messages into this folder"
    )
    what.add_argument("--read", type=Path, metavar="DIR", help="read the answers back from this folder")
    parser.add_argument("--all", action="store_true", help="with --ask: ask about guests that are fine, too")
    parser.add_argument(
        "--as",
        dest="sheets",
        choices=("xlsx", "csv"),
        default="csv",
        help="with --ask: worksheets as xlsx, whose cells stay text in every spreadsheet, or as csv (default)",
    )
    parser.add_argument("--on", type=_day, metavar="DATE", help="the day on which this is done (default: today, UTC)")
    parser.add_argument(
        "--write", type=Path, metavar="FILE", help="with --read: write what follows as a file of changes"
    )
    add_rows(parser, "guests")
    group = parser.add_argument_group("narrowing (repeatable)")
    group.add_argument(
        "--state", action="append", choices=STATES, metavar="WORD", help=f"only guests that are {', '.join(STATES)}"
    )
    group.add_argument(
        "--all-states", type=_states, metavar="WORD,WORD", help="only guests that are all of these at once"
    )
    group.add_argument("--domain", action="append", metavar="DOMAIN", help="only guests from there")
    group.add_argument("--person", action="append", metavar="WHO", help="only these guests (login or id)")
    group.add_argument("--group", action="append", metavar="ID", help="only guests in these groups")
    group.add_argument("--unit", action="append", metavar="PATH", help="only guests in these units and below")
    add_places(parser, baseline=False)
    add_output(parser, "guests")


def _states(text: str) -> list[str]:
    """States joined by commas; raises ArgumentTypeError for a word that is none."""
    from ..core.guests.states import STATES

    words = [word.strip() for word in text.split(",")]
    for word in words:
        if word not in STATES:
            raise argparse.ArgumentTypeError(f"{quoted(word)} is no state; write one of {', '.join(STATES)}")
    return words


def run(arguments: argparse.Namespace) -> int:
    """Lists, asks or reads; raises UsherError for options that do not go together."""
    for name in ("write",):
        if getattr(arguments, name) is not None and arguments.read is None:
            raise UsherError(f"--{name} writes what follows from answers; name their folder with --read")
    if arguments.all and arguments.ask is None:
        raise UsherError("--all asks about everyone; name a folder with --ask")
    with working("reading"):
        read = read_folder(arguments, arguments.read is not None)
    on = arguments.on or datetime.now(UTC).date()
    if arguments.read is not None:
        return _read(arguments, read, on)
    return _list(arguments, read.snapshot, on)


def _policy(snapshot: Snapshot) -> Policy:
    from ..files.written.policy import read_policy

    return read_policy(Path(), snapshot)


def _list(arguments: argparse.Namespace, snapshot: Snapshot, on: date) -> int:
    """List the guests by state and, with --ask, write the worksheets for those who have to be asked."""
    from ..core.guests.asking import Asking
    from ..core.guests.states import FINE
    from ..files.written.messages import no_address_note
    from ..files.written.worksheets import write_worksheets
    from ..outputs.results.guests import GuestsAnswer

    policy = _policy(snapshot)
    every = _narrowed(arguments, snapshot, policy)
    asking = Asking(snapshot, policy)
    some = [guest for guest in every if arguments.all or guest.states[0] != FINE]
    questions = asking.questions(some, arguments.ask is not None)
    sent = None
    if arguments.ask is not None:
        if not questions:
            raise UsherError("there is no one to ask about; --all asks about guests that are fine, too")
        sent = write_worksheets(arguments.ask, snapshot, policy, questions, on, arguments.sheets)
    notes = tuple(dict.fromkeys(asking.notes))
    if sent is not None and sent.without_address:
        notes += (no_address_note(sent.without_address, "hand the worksheet over yourself"),)
    write(
        arguments,
        "guests",
        GuestsAnswer(
            snapshot=snapshot, policy=policy, guests=tuple(every), questions=tuple(questions), sent=sent, notes=notes
        ),
        arguments.rows,
    )
    if arguments.format not in ("json", "markdown"):
        say_notes(notes)
    return 0


def guests_of(snapshot: Snapshot, policy: Policy, people: Bools) -> GuestsAnswer:
    """Return the guests among some people, and who has to be asked about them."""
    from ..core.guests.asking import Asking
    from ..core.guests.states import FINE, chosen, guests
    from ..outputs.results.guests import GuestsAnswer

    every, asking = chosen(guests(snapshot, policy), people), Asking(snapshot, policy)
    questions = asking.questions([guest for guest in every if guest.states[0] != FINE], False)
    return GuestsAnswer(
        snapshot=snapshot,
        policy=policy,
        guests=tuple(every),
        questions=tuple(questions),
        sent=None,
        notes=tuple(dict.fromkeys(asking.notes)),
    )


def _narrowed(arguments: argparse.Namespace, snapshot: Snapshot, policy: Policy) -> list[Guest]:
    """Return the guests that are listed."""
    from ..core.guests.states import chosen, guests

    every = chosen(guests(snapshot, policy), chosen_people(arguments, snapshot))
    if arguments.state:
        every = [guest for guest in every if set(guest.states) & set(arguments.state)]
    if arguments.all_states:
        every = [guest for guest in every if set(guest.states) >= set(arguments.all_states)]
    if arguments.domain:
        domains = snapshot.guest_domains
        known = {word.casefold() for word in domains.words}
        for domain in arguments.domain:
            if domain.casefold() not in known:
                raise UsherError(
                    f"there is no guest from {quoted(domain)}; known: {', '.join(sorted(known)[:8]) or 'none'}"
                )
        wanted = {domain.casefold() for domain in arguments.domain}
        every = [
            guest
            for guest in every
            if domains.codes[guest.person] >= 0 and domains.words[int(domains.codes[guest.person])].casefold() in wanted
        ]
    return every


def _read(arguments: argparse.Namespace, read: ReadSnapshot, on: date) -> int:
    """Read the worksheets that came back, say what follows, and write it as changes with --write."""
    from ..core.guests.deciding import decide, outcome, pending
    from ..files.written.plan import write_plan
    from ..files.written.worksheets import changes_of, read_review
    from ..outputs.results.review import ReviewAnswer

    snapshot = read.snapshot
    review = read_review(arguments.read, snapshot, on)
    decided = tuple(decide(row, answers, on, review.due, review.on_silence) for row, answers in review.rows)
    follows = outcome(decided, snapshot, on, review.keep_for_days)
    notes = list(review.notes)
    if review.taken_at != snapshot.taken_text:
        notes.append(
            f"the review was asked of the snapshot of {review.taken_at}; what follows is for that of "
            f"{snapshot.taken_text}"
        )
    columns = frozenset(read.tables["people"].columns)
    lacking = [name for name in ("active", "reviewed_at", "expires_at") if name not in columns]
    lacking += ["sponsor"] if follows.sponsors and "sponsor" not in columns else []
    if lacking:
        notes.append(
            f"the table people has no column {', '.join(lacking)}: what would stand there is not among the changes"
        )
    answer = ReviewAnswer(
        snapshot=snapshot, read=review, on=on, decided=decided, outcome=follows, written="", notes=tuple(notes)
    )
    if arguments.write is not None:
        changes = [*changes_of(follows.ended, follows.kept, follows.removed, follows.sponsors, on, columns)]
        if changes:
            write_plan(arguments.write, f"The review of guests {review.id}", changes)
            answer = replace(answer, written=str(arguments.write))
        else:
            notes.append(f"{arguments.write} is not written: nothing follows from the answers yet")
            answer = replace(answer, notes=tuple(notes))
    arguments.format = arguments.format or "table"
    write(arguments, "review", answer, arguments.rows)
    if arguments.format not in ("json", "markdown"):
        say_notes(tuple(notes))
    return WAITING if any(pending(decided)) else 0
