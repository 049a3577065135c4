"""A check as JSON (form check/1), one finding a line, written as it is made."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from typing import Any, TextIO

import numpy as np
from numpy.typing import NDArray

from ..core.organisation.columns import Longs
from ..core.organisation.sign_ins import SignIn
from ..core.verdicts.codes import SHOWN_ORDER, VERDICTS, verdict_name
from ..core.verdicts.condition import Leaf
from ..core.verdicts.outcome import Outcome, Tail
from ..core.verdicts.result import Block, CheckResult, OtherFinding, Shares
from ..core.verdicts.rules import Rule

_CODES = tuple(VERDICTS.index(name) for name in SHOWN_ORDER)
_PIECE = 20_000


def text(value: object) -> str:
    """A value as JSON, on one line, control characters escaped."""
    return json.dumps(value, ensure_ascii=False, separators=(", ", ": "))


def counts(by_code: Sequence[int]) -> dict[str, int]:
    """Verdict counts by name, in the order of results."""
    return {name: by_code[code] for name, code in zip(SHOWN_ORDER, _CODES, strict=True)}


def leaf_object(leaf: Leaf, outcome: Outcome) -> dict[str, Any]:
    """One leaf of a finding."""
    made: dict[str, Any] = {
        leaf.about: leaf.name,
        "actual": outcome.actual,
        "expected": leaf.expected,
        "verdict": verdict_name(outcome.verdict),
    }
    if leaf.about == "proof":
        made["hole"] = None if outcome.hole is None else hole_object(outcome.hole)
    else:
        cause = outcome.cause
        made["cause"] = None if cause is None else {"scope": cause.scope, "value": cause.value, "pinned": cause.pinned}
    return made


def hole_object(sign_in: SignIn) -> dict[str, Any]:
    """One concrete sign-in."""
    return {
        "resource": sign_in.resource,
        "address": sign_in.network.address,
        "network": sorted(sign_in.network.names),
        "client": sign_in.client,
        "platform": sign_in.platform,
        "device": sign_in.device,
        "risk": sign_in.risk,
    }


def _head(rule: Rule) -> str:
    return f'{{"rule": {text(rule.id)}, "severity": {text(rule.severity)}, "subject": '


def _tail(tail: Tail, service: str | None) -> str:
    rest = {
        "service": service,
        "verdict": verdict_name(tail.verdict),
        "reason": tail.reason,
        "leaves": [leaf_object(leaf, outcome) for leaf, outcome in tail.leaves],
        "exception": tail.exception,
        "would_be": None if tail.would_be is None else verdict_name(tail.would_be),
    }
    return ", " + text(rest)[1:]


class _Subjects:
    """The JSON of people, made once for each person that is needed."""

    def __init__(self, result: CheckResult) -> None:
        self._people, self._made = result.snapshot.people, np.full(len(result.snapshot.people), -1, np.int64)
        self._texts: list[str] = []

    def of(self, people: Any) -> list[str]:
        """The subjects of these people."""
        new = people[self._made[people] < 0]
        if len(new):
            self._made[new] = np.arange(len(self._texts), len(self._texts) + len(new))
            self._texts += [
                f'{{"type": "person", "id": {name}, "login": {login}}}'
                for name, login in zip(
                    _texts(self._people.ids.take(new)), _texts(self._people.logins.take(new)), strict=True
                )
            ]
        texts = self._texts
        return [texts[place] for place in self._made[people].tolist()]


def _texts(values: list[str]) -> Iterable[str]:
    return map(json.encoder.encode_basestring, values)


def _block(block: Block, subjects: _Subjects) -> Iterator[str]:
    head = _head(block.rule)
    tails = [_tail(tail, block.service) for tail in block.tails]
    for start in range(0, len(block.people), _PIECE):
        piece = slice(start, start + _PIECE)
        yield ",\n  ".join(
            [
                head + subject + tails[which]
                for subject, which in zip(subjects.of(block.people[piece]), block.tail[piece].tolist(), strict=True)
            ]
        )


def _other(finding: OtherFinding) -> str:
    subject = {"type": finding.subject[0], "id": finding.subject[1]}
    return _head(finding.rule) + text(subject) + _tail(finding.tail, finding.service)


def findings(result: CheckResult) -> Iterator[str]:
    """All findings, in pieces of JSON that a comma may stand between: by rule, then service, then person."""
    subjects = _Subjects(result)
    made: list[tuple[tuple[str, str], Block | OtherFinding]] = [
        ((block.rule.id, block.service or ""), block) for block in result.blocks
    ]
    made += [((other.rule.id, other.service or ""), other) for other in result.others]
    for _, each in sorted(made, key=lambda entry: entry[0]):
        if isinstance(each, Block):
            yield from _block(each, subjects)
        else:
            yield _other(each)


def _shares(shares: Shares, keys: tuple[str, ...]) -> Iterator[str]:
    """Rows of groups or units, in pieces of JSON that a comma may stand between."""
    heads = [
        "{" + ", ".join(f'"{key}": {text(cell)}' for key, cell in zip(keys, named, strict=False)) + ', "rule": '
        for named in zip(shares.ids, shares.names, strict=True)
    ]
    rules = [f'{text(rule)}, "judged": ' for rule in shares.rules]
    ends = (', "as_a_whole": false}', ', "as_a_whole": true}')
    columns = (shares.owner, shares.rule, *map(_numerals, (shares.judged, shares.drifting)), shares.as_a_whole)
    for start in range(0, len(shares.owner), _PIECE):
        rows = zip(*(column[start : start + _PIECE].tolist() for column in columns), strict=True)
        yield ",\n  ".join(
            [
                f'{heads[o]}{rules[r]}{judged}, "drifting": {drifting}{ends[whole]}'
                for o, r, judged, drifting, whole in rows
            ]
        )


def _numerals(numbers: Longs) -> NDArray[np.object_]:
    """Whole numbers as texts, each distinct one made once."""
    known, which = np.unique(numbers, return_inverse=True)
    return np.array([str(number) for number in known.tolist()], object)[which]


def _list(stream: TextIO, name: str, entries: Iterable[str], last: bool = False) -> None:
    stream.write(f' "{name}": [')
    first = True
    for entry in entries:
        stream.write("\n  " if first else ",\n  ")
        stream.write(entry)
        first = False
    stream.write(("]" if first else "\n ]") + ("}\n" if last else ",\n"))


def write_json(result: CheckResult, stream: TextIO) -> None:
    """Writes the whole result; the same snapshot gives the same bytes."""
    snapshot, baseline = result.snapshot, result.baseline
    summary = {
        "people": int(result.chosen.sum()),
        "drifting_people": result.drifting_people,
        "groups_drifting_as_a_whole": result.groups.whole,
        "units_drifting_as_a_whole": result.units.whole,
        "verdicts": counts(result.counts),
        "contradicting_people": result.clashing_people,
    }
    stream.write('{"usher-gate": "check/1",\n')
    stream.write(
        f' "organisation": {text(snapshot.name)}, "taken_at": {text(snapshot.taken_text)}, '
        f'"baseline": {text({"name": baseline.name, "version": baseline.version})},\n "summary": {text(summary)},\n'
    )
    _list(
        stream,
        "rules",
        (
            text(
                {
                    "id": rule.id,
                    "title": rule.title,
                    "severity": rule.severity,
                    "verdicts": counts(result.rule_counts[rule.id]),
                }
            )
            for rule in result.rules
        ),
    )
    _list(stream, "groups", _shares(result.groups, ("id", "name")))
    _list(stream, "units", _shares(result.units, ("path",)))
    _list(
        stream,
        "roots",
        (
            text(
                {
                    "service": row.root.service,
                    "control": row.root.control,
                    "scope": row.root.scope,
                    "value": row.root.value,
                    "rules": list(row.rules),
                    "people": row.people,
                    "verdicts": row.verdicts,
                    "freed": row.freed,
                }
            )
            for row in result.roots
        ),
    )
    _list(stream, "findings", findings(result))
    _list(
        stream,
        "lockouts",
        (
            text({"resource": each.resource, "people": list(each.people), "of": each.of, "all": each.all})
            for each in result.lockouts
        ),
    )
    _list(
        stream,
        "exceptions",
        (
            text(
                {
                    "id": each.id,
                    "state": each.state,
                    "covers": each.covers,
                    "until": each.until,
                    "days_left": each.days_left,
                }
            )
            for each in result.exceptions
        ),
    )
    _list(
        stream,
        "contradictions",
        (
            text(
                {
                    "service": each.service,
                    "controls": [each.first[0], each.second[0]],
                    "values": [each.first[1], each.second[1]],
                    "people": each.people,
                }
            )
            for each in result.clashes
        ),
    )
    _list(stream, "notes", map(text, result.notes), last=True)
