"""JSON as every form has it: one head, one entry a line."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, TextIO

from ..core.organisation.sign_ins import SignIn
from ..core.organisation.snapshot import Snapshot
from ..core.sign_in.lockout import Lockout
from ..core.verdicts.codes import SHOWN_ORDER, VERDICTS, verdict_name
from ..core.verdicts.condition import Leaf
from ..core.verdicts.outcome import Outcome
from ..core.words.compare import shown
from ..core.words.times import rfc3339

_ENCODER = json.JSONEncoder(
    ensure_ascii=False, separators=(", ", ": ")
)  # made once: making it costs more than most entries


def text(value: object) -> str:
    """Return a value as JSON, on one line, control characters escaped."""
    return _ENCODER.encode(value)


def write_form(
    stream: TextIO,
    form: str,
    snapshot: Snapshot | None,
    fields: Sequence[Mapping[str, Any]],
    lists: Iterable[tuple[str, Iterable[str]]] = (),
) -> None:
    """Writes one object.

    The head (`form`, organisation and time; null without a snapshot), then `fields`, some on a line, then `lists`,
    whose entries are JSON already (or pieces of it that a comma may stand between), one on a line.
    """
    whose = {
        "organisation": snapshot.name if snapshot is not None else None,
        "taken_at": snapshot.taken_text if snapshot is not None else None,
    }
    first, *rest = fields or ({},)
    stream.write(f'{{"usher-gate": {text(form)}')
    for group in ({**whose, **first}, *rest):
        stream.write(f",\n {text(group)[1:-1]}")
    for name, entries in lists:
        stream.write(f',\n "{name}": [')
        before = "\n  "
        for entry in entries:
            stream.write(before + entry)
            before = ",\n  "
        stream.write("]" if before == "\n  " else "\n ]")
    stream.write("}\n")


def shown_or_none(value: str | None) -> str | None:
    """Return a value as it is shown; None stays None."""
    return None if value is None else shown(value)


_CODES = tuple(VERDICTS.index(name) for name in SHOWN_ORDER)


def counts(by_code: Sequence[int]) -> dict[str, int]:
    """Verdict counts by name, in the order of results."""
    return {name: by_code[code] for name, code in zip(SHOWN_ORDER, _CODES, strict=True)}


def leaf_object(leaf: Leaf, outcome: Outcome) -> dict[str, Any]:
    """Return one leaf of a finding as JSON."""
    visit = outcome.visit
    about: object = leaf.name
    if leaf.about == "door":
        words = ("kind", "standing", "holding", "way", "moment")
        about = None if visit is None else {**{name: getattr(visit, name) for name in words}, "outcome": outcome.met}
    made: dict[str, Any] = {
        leaf.about: about,
        "actual": shown_or_none(outcome.actual),
        "expected": leaf.expected,
        "verdict": verdict_name(outcome.verdict),
    }
    if leaf.about == "proof":
        made["hole"] = None if outcome.hole is None else hole_object(outcome.hole)
    else:
        cause = outcome.cause
        made["cause"] = (
            None
            if cause is None
            else {
                "scope": cause.scope,
                "value": shown_or_none(cause.value),
                "pinned": cause.pinned,
            }
        )
    return made


def hole_object(sign_in: SignIn) -> dict[str, Any]:
    """Return one concrete sign-in as JSON."""
    return {
        "resource": sign_in.resource,
        "address": sign_in.network.address,
        "network": sorted(sign_in.network.names),
        "client": sign_in.client,
        "platform": sign_in.platform,
        "device": sign_in.device,
        "risk": sign_in.risk,
    }


def lockout_object(lockout: Lockout) -> dict[str, Any]:
    """Return who is locked out of a resource, and by which rules."""
    rules = [
        {"id": rule.id, "changed_at": None if rule.changed is None else rfc3339(rule.changed)} for rule in lockout.rules
    ]
    return {
        "resource": lockout.resource,
        "people": list(lockout.people),
        "of": lockout.of,
        "all": lockout.all,
        "rules": rules,
    }
