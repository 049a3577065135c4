"""The long lists of a check as JSON, written in pieces: findings, and the shares of groups and units.

The fields are declared in results.check.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...core.organisation.columns import MISSING, Longs, Texts
from ...core.verdicts.outcome import VerdictDetail
from ...core.verdicts.result import CheckResult, FindingBlock, OtherFinding, Shares
from ...core.verdicts.rules import Rule
from ..fields import reader_of
from ..json_text import text
from ..results.common import DETAIL

_PIECE = 20_000
_read_detail = reader_of(DETAIL)


def _head(rule: Rule) -> str:
    return f'{{"rule": {text(rule.id)}, "severity": {text(rule.severity)}, "subject": '


def _detail(detail: VerdictDetail, service: str | None) -> str:
    return ", " + text(_read_detail((detail, service)))[1:]


class _Subjects:
    """The JSON of people, made once for each person that is needed."""

    def __init__(self, result: CheckResult) -> None:
        self._people, self._made = result.snapshot.people, np.full(len(result.snapshot.people), -1, np.int64)
        self._texts: list[str] = []

    def of(self, people: Any) -> list[str]:
        """Return the subjects of these people."""
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


def _block(block: FindingBlock, subjects: _Subjects) -> Iterator[str]:
    head = _head(block.rule)
    details = [_detail(detail, block.service) for detail in block.details]
    for start in range(0, len(block.people), _PIECE):
        piece = slice(start, start + _PIECE)
        yield ",\n  ".join(
            [
                head + subject + details[which]
                for subject, which in zip(subjects.of(block.people[piece]), block.detail[piece].tolist(), strict=True)
            ]
        )


def _other(finding: OtherFinding, ids: Texts) -> str:
    subject = {"type": finding.subject[0], "id": finding.subject[1]}
    if finding.organiser != MISSING:
        subject |= {"label": finding.label, "organiser": ids.take(np.array([finding.organiser]))[0]}
    return _head(finding.rule) + text(subject) + _detail(finding.detail, finding.service)


def findings(result: CheckResult) -> Iterator[str]:
    """Yield all findings, in pieces of JSON that a comma may stand between: by rule, then service, then person."""
    subjects = _Subjects(result)
    for finding in result.findings():
        if isinstance(finding, FindingBlock):
            yield from _block(finding, subjects)
        else:
            yield _other(finding, result.snapshot.people.ids)


def _shares(shares: Shares, keys: tuple[str, ...]) -> Iterator[str]:
    """Yield rows of groups or units, in pieces of JSON that a comma may stand between."""
    heads = [
        "{" + ", ".join(f'"{key}": {text(cell)}' for key, cell in zip(keys, named, strict=False)) + ', "rule": '
        for named in zip(shares.ids, shares.names, strict=True)
    ]
    rules = [f'{text(rule)}, "judged": ' for rule in shares.rules]
    ends = (', "as_a_whole": false', ', "as_a_whole": true')
    own_ends = (', "own_setting": false}', ', "own_setting": true}')
    numerals = map(_numerals, (shares.judged, shares.drifting))
    columns = (shares.owner, shares.rule, *numerals, shares.as_a_whole, shares.own_setting)
    for start in range(0, len(shares.owner), _PIECE):
        rows = zip(*(column[start : start + _PIECE].tolist() for column in columns), strict=True)
        yield ",\n  ".join(
            [
                f'{heads[o]}{rules[r]}{judged}, "drifting": {drifting}{ends[whole]}{own_ends[own]}'
                for o, r, judged, drifting, whole, own in rows
            ]
        )


def group_shares(result: CheckResult) -> Iterator[str]:
    """Yield the shares of groups as JSON."""
    return _shares(result.groups, ("id", "name"))


def unit_shares(result: CheckResult) -> Iterator[str]:
    """Yield the shares of units as JSON."""
    return _shares(result.units, ("path",))


def _numerals(numbers: Longs) -> NDArray[np.object_]:
    """Whole numbers as texts, each distinct one made once."""
    known, which = np.unique(numbers, return_inverse=True)
    return np.array([str(number) for number in known.tolist()], object)[which]
