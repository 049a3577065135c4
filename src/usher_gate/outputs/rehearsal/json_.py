"""What a change would have done to sign-ins that happened, as JSON (form rehearsal/1)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, TextIO

import numpy as np

from ...core.sign_in.decide import OUTCOMES
from ...core.words.times import show_time
from ..json_text import lockout_object, text, write_form
from ..render_options import RenderOptions
from .answer import FATES, RehearsalAnswer, against, date, logins, titles, users


def _fates(numbers: Sequence[int]) -> dict[str, int]:
    return dict(zip(FATES, numbers, strict=True))


def _ids(answer: RehearsalAnswer) -> list[str]:
    return answer.snapshot.people.ids.take(np.array([each.row for each in answer.rehearsal.against], np.int64))


def write_rehearsal_json(answer: RehearsalAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the answer as JSON."""
    whole = body(answer)
    fields = [{name: whole[name]} for name in ("tried", "events", "would_be")]
    lists = ((name, map(text, rows)) for name, rows in whole.items() if isinstance(rows, list))
    write_form(stream, "rehearsal/1", answer.snapshot, fields, lists)


def body(answer: RehearsalAnswer) -> dict[str, Any]:
    """Return the answer without its head."""
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
            {"day": date(day.day), "sign_ins": day.sign_ins, "got_in": day.got_in, **_fates(day.hurt)}
            for day in done.days
        ],
        "rules": [
            {"id": hurt.name, "title": named.get(hurt.name, ""), **_fates(hurt.sign_ins), "people": hurt.people}
            for hurt in done.rules
        ],
        "resources": [{"name": hurt.name, **_fates(hurt.sign_ins), "people": hurt.people} for hurt in done.resources],
        "people": [
            {"id": one_hurt.name, "login": login, **_fates(one_hurt.sign_ins)}
            for one_hurt, login in zip(done.people, names, strict=True)
        ],
        "against": [
            {"id": name, "login": login, "kept_out": each.kept_out, "challenged": each.challenged}
            for name, login, each in zip(_ids(answer), against(answer), done.against, strict=True)
        ],
        "lockouts": [lockout_object(lockout) for lockout in answer.lockouts],
        "break_glass": [
            {"time": show_time(use.time), "login": login, "resource": use.resource, "result": use.result or None}
            | {"network": None if use.networks is None else sorted(use.networks)}
            for use, login in zip(done.uses, users(answer), strict=True)
        ],
        "unused": [
            {"why": miss.why, "value": miss.value, "events": miss.count, "first": miss.place} for miss in answer.missed
        ],
    }
    unused = sum(miss.count for miss in answer.missed)
    events = {
        "files": answer.files,
        "read": answer.read,
        "decided": done.sign_ins,
        "unused": unused,
        "got_in": done.inside,
    }
    summary = {**_fates(done.hurt), "people": len(done.people), "changed": done.changed, "eased": done.eased}
    would_be = {**summary, "denied_now": done.denied_now, "challenged_now": done.challenged_now}
    return {"tried": answer.change, "events": events, "would_be": would_be, **parts}
