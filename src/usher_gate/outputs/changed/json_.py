"""What a file of changes would do, as JSON (form rehearsal/2)."""

from __future__ import annotations

from typing import Any, TextIO

import numpy as np

from ...core.changes.access import AccessMoved
from ...core.changes.compare import WORDS, BaselineMoved, LockedOut, NewlyMet, VerdictMoved
from ...core.organisation.columns import MISSING
from ...core.words.times import rfc3339
from ..json_text import counts, text, write_form
from ..rehearsal.json_ import body
from ..render_options import RenderOptions
from .answer import ChangedAnswer
from .values import value_object


def _subject(moved: VerdictMoved) -> dict[str, str]:
    kind, name, login = moved.subject
    return {"type": kind, "id": name, **({"login": login} if kind == "person" else {})}


def _moved(moved: VerdictMoved, both: bool = False) -> dict[str, Any]:
    made: dict[str, Any] = {"rule": moved.rule, "service": moved.service, "subject": _subject(moved)}
    return {**made, "from": WORDS[moved.before], "to": WORDS[moved.after]} if both else made


def _meeting(new: NewlyMet) -> dict[str, Any]:
    lists = {
        "turned_away": new.turned_away,
        "waiting": new.waiting,
        "walking_in": new.walking_in,
        "need_account": new.need_account,
    }
    opened = {"before": new.was_open, "after": new.meeting.open}
    return {
        "id": new.meeting.id,
        "label": new.meeting.label,
        "open": opened,
        **{name: list(some) for name, some in lists.items()},
    }


def _locked(each: LockedOut) -> dict[str, str]:
    return {"resource": each.resource, "of": each.of, "person": each.person}


def _baseline(moved: BaselineMoved) -> dict[str, Any]:
    sides = ({"name": name, "version": version} for name, version in (moved.before, moved.after))
    rules = [
        {
            "id": each.id,
            "what": each.what,
            "severity": each.severity,
            "direction": each.direction or None,
            "fields": [{"field": field, "before": was, "after": then} for field, was, then in each.fields],
        }
        for each in moved.rules
    ]
    return {**dict(zip(("before", "after"), sides, strict=True)), "rules": rules, "idle_exceptions": list(moved.idle)}


def _access(each: AccessMoved) -> dict[str, Any]:
    return {"resource": each.resource, "what": each.what, "people": list(each.people), "always": list(each.always)}


def write_changed_json(answer: ChangedAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes everything that is other."""
    made = answer.comparison
    start = made.changes.start
    verdicts = {
        "before": counts(made.counts[0]),
        "after": counts(made.counts[1]),
        "moves": [
            {"from": WORDS[before], "to": WORDS[after], "count": count} for (before, after), count in made.moves.items()
        ],
        "drifting_people": {"before": made.drifting[0], "after": made.drifting[1]},
        "begun": [_moved(each) for each in made.begun],
        "ended": [_moved(each) for each in made.ended],
        "worse": [_moved(each, True) for each in made.worse],
        "rules": [{"id": rule, "begun": begun, "ended": ended} for rule, (begun, ended) in made.rules.items()],
    }
    doors = None
    if made.open_doors is not None:
        before, after = made.open_doors
        doors = {
            "open": {"before": before.open, "after": after.open},
            "unknown": {"before": before.unknown, "after": after.unknown},
        }
    fields: list[dict[str, Any]] = [
        {"title": made.changes.title, "from": None if start is None or start == MISSING else rfc3339(start)},
        {"verdicts": verdicts},
        {"doors": doors},
        {"baseline": None if made.baseline is None else _baseline(made.baseline)},
        {"sign_ins": None if answer.sign_ins is None else body(answer.sign_ins)},
        {
            "lockouts": {
                "begun": [_locked(each) for each in made.locked_begun],
                "ended": [_locked(each) for each in made.locked_ended],
            }
        },
    ]
    stranded = [
        {"resource": resource, "id": person, "helps": answer.helps.get(person) or None}
        for resource, people in made.stranded
        for person in people
    ]
    reach = [{"change": each.change, "people": each.people, "without_need": each.without_need} for each in made.reach]
    lists = (
        ("meetings", [text(_meeting(each)) for each in made.meetings]),
        ("stranded", [text(each) for each in stranded]),
        ("reach", [text(each) for each in reach]),
        ("access", [text(_access(each)) for each in made.access]),
        ("affected", [text(value_object(each)) for each in made.affected]),
        ("weaker", [text(value_object(each)) for each in made.weaker]),
        ("protected", [text(value_object(each)) for each in made.protected]),
        ("newly_drifting", [text({"id": name, "login": login}) for name, login in made.newly]),
        ("notes", [text(note) for note in answer.notes]),
    )
    write_form(stream, "rehearsal/2", made.before, fields, lists)


def logins_of(answer: ChangedAnswer, ids: tuple[str, ...]) -> list[str]:
    """Return the logins of some people of the snapshot after."""
    people = answer.comparison.after.people
    every = dict(zip(people.ids.take(np.arange(len(people))), people.logins.take(np.arange(len(people))), strict=True))
    return [every.get(one, one) for one in ids]
