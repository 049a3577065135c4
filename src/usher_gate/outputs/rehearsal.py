"""What a change would have done to sign-ins that happened: as JSON (form rehearsal/1) and as CSV."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any, TextIO

import numpy as np

from ..core.organisation.snapshot import Snapshot
from ..core.sign_in.decide import OWN
from ..core.sign_in.lockout import Lockout
from ..core.sign_in.rehearsal import HARD, Rehearsal
from ..core.sign_in.replay import OUTCOMES, PARTNER, TriedRule
from ..core.words.record import record
from ..core.words.times import show_time
from .json_ import text

FATES = tuple(OUTCOMES[fate] for fate in HARD)  # challenged, stuck, denied, unknown


@record
class Missed:
    """Events that could not be used: why, what stood there, how many, and the first place."""

    why: str
    value: str
    count: int
    place: str


@record
class RehearsalAnswer:
    """The counts, what was tried (`change` in words, and the rules that take part), and what could not be read."""

    snapshot: Snapshot
    change: str
    rules: Sequence[TriedRule]
    rehearsal: Rehearsal
    files: int
    read: int
    missed: tuple[Missed, ...]
    lockouts: tuple[Lockout, ...]


def date(day: int) -> str:
    """A day as it is written."""
    return (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(days=day)).strftime("%Y-%m-%d")


def titles(answer: RehearsalAnswer) -> Mapping[str, str]:
    """What the rules that take part in the change are called."""
    found = {each.rule.id: each.rule.title for each in answer.rules if each.then}
    return {**found, OWN: "the person must show a second factor", PARTNER: "the partner's guests_in is off"}


def users(answer: RehearsalAnswer) -> list[str]:
    """The logins of the uses of break-glass accounts."""
    who = np.array([each.person for each in answer.rehearsal.uses], np.int64)
    return answer.snapshot.people.logins.take(who)


def logins(answer: RehearsalAnswer) -> list[str]:
    """The logins of the people who would be hurt."""
    return answer.snapshot.people.logins.take(np.array(answer.rehearsal.rows, np.int64))


def _fates(numbers: Sequence[int]) -> dict[str, int]:
    return dict(zip(FATES, numbers, strict=True))


def write_rehearsal_json(answer: RehearsalAnswer, stream: TextIO) -> None:
    """Writes the answer as JSON."""
    done, named = answer.rehearsal, titles(answer)
    names = logins(answer)
    parts: dict[str, list[Any]] = {
        "changes": [
            {"now": OUTCOMES[now], "then": OUTCOMES[then], "sign_ins": number, "got_in": done.got_in[now][then]}
            for now, row in enumerate(done.outcomes)
            for then, number in enumerate(row)
            if number
        ],
        "days": [
            {"day": date(each.day), "sign_ins": each.sign_ins, "got_in": each.got_in, **_fates(each.hurt)}
            for each in done.days
        ],
        "rules": [
            {"id": each.name, "title": named.get(each.name, ""), **_fates(each.sign_ins), "people": each.people}
            for each in done.rules
        ],
        "resources": [{"name": each.name, **_fates(each.sign_ins), "people": each.people} for each in done.resources],
        "people": [
            {"id": each.name, "login": login, **_fates(each.sign_ins)}
            for each, login in zip(done.people, names, strict=True)
        ],
        "lockouts": [
            {"resource": each.resource, "people": list(each.people), "of": each.of, "all": each.all}
            for each in answer.lockouts
        ],
        "break_glass": [
            {"time": show_time(each.time), "login": login, "resource": each.resource, "result": each.result or None}
            | {"network": None if each.networks is None else sorted(each.networks)}
            for each, login in zip(done.uses, users(answer), strict=True)
        ],
        "unused": [
            {"why": each.why, "value": each.value, "events": each.count, "first": each.place} for each in answer.missed
        ],
    }
    unused = sum(each.count for each in answer.missed)
    events = {
        "files": answer.files,
        "read": answer.read,
        "decided": done.sign_ins,
        "unused": unused,
        "got_in": done.inside,
    }
    summary = {**_fates(done.hurt), "people": len(done.people), "changed": done.changed, "eased": done.eased}
    stream.write(
        f'{{"usher-gate": "rehearsal/1",\n "organisation": {text(answer.snapshot.name)}, "tried": {text(answer.change)},\n'
    )
    stream.write(f' "events": {text(events)},\n "would_be": {text({**summary, "denied_now": done.denied_now})}')
    for name, rows in parts.items():
        lines = ",\n  ".join(text(row) for row in rows)
        stream.write(f',\n "{name}": [' + (f"\n  {lines}\n " if lines else "") + "]")
    stream.write("}\n")


def write_rehearsal_csv(answer: RehearsalAnswer, stream: TextIO) -> None:
    """Writes a row for each person who would be hurt."""
    import csv

    from .safe import for_spreadsheet

    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(("person", "login", *FATES))
    people = answer.rehearsal.people
    for each, login in zip(people, logins(answer), strict=True):
        writer.writerow((for_spreadsheet(each.name), for_spreadsheet(login), *each.sign_ins))
