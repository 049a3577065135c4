"""A check as JSON (form check/1), one finding a line, written as it is made."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any, TextIO

import numpy as np
from numpy.typing import NDArray

from ...core.organisation.columns import MISSING, Longs, Texts
from ...core.settings.clashes import Clash
from ...core.settings.contests import Contest
from ...core.sign_in.health import observed_rules
from ...core.verdicts.codes import verdict_name
from ...core.verdicts.outcome import VerdictDetail
from ...core.verdicts.result import (
    CheckResult,
    ExceptionRow,
    FindingBlock,
    OtherCount,
    OtherFinding,
    RootRow,
    ServiceRow,
    Shares,
)
from ...core.verdicts.rules import Rule
from ...core.words.compare import shown
from ..conditions import conditional_object
from ..json_text import counts, leaf_object, lockout_object, shown_or_none, text, write_form
from ..render_options import RenderOptions

_PIECE = 20_000


def _head(rule: Rule) -> str:
    return f'{{"rule": {text(rule.id)}, "severity": {text(rule.severity)}, "subject": '


def _detail(detail: VerdictDetail, service: str | None) -> str:
    rest = {
        "service": service,
        "verdict": verdict_name(detail.verdict),
        "reason": detail.reason,
        "leaves": [leaf_object(leaf, outcome) for leaf, outcome in detail.leaves],
        "exception": detail.exception,
        "would_be": None if detail.would_be is None else verdict_name(detail.would_be),
    }
    return ", " + text(rest)[1:]


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


def _numerals(numbers: Longs) -> NDArray[np.object_]:
    """Whole numbers as texts, each distinct one made once."""
    known, which = np.unique(numbers, return_inverse=True)
    return np.array([str(number) for number in known.tolist()], object)[which]


def write_json(result: CheckResult, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the whole result; the same snapshot gives the same bytes."""
    snapshot, baseline, ids = result.snapshot, result.baseline, result.snapshot.people.ids
    summary = {
        "people": int(result.chosen.sum()),
        "drifting_people": result.drifting_people,
        "groups_drifting_as_a_whole": result.groups.whole,
        "units_drifting_as_a_whole": result.units.whole,
        "rules_judging_nobody": list(result.judging_nobody),
        "people_contested": result.contested_people,
        "contradicting_people": result.clashing_people,
        "stranded_people": result.stranded_people,
        "unclear_people": result.unclear_people,
        "ignored_settings": result.ignored_settings,
        "verdicts": counts(result.counts),
        "others": [_other_count(each) for each in result.other_counts],
    }
    rules = (
        {
            "id": rule.id,
            "title": rule.title,
            "severity": rule.severity,
            "because": rule.because,
            "mend": rule.mend,
            "maps": {framework: list(names) for framework, names in rule.maps.items()},
            "verdicts": counts(result.rule_counts[rule.id]),
        }
        for rule in result.rules
    )
    where = result.where
    lists: list[tuple[str, Iterable[str]]] = [
        ("rules", map(text, rules)),
        ("services", (text(_service(row)) for row in result.services)),
        ("groups", _shares(result.groups, ("id", "name"))),
        ("units", _shares(result.units, ("path",))),
        ("roots", (text(_root(row, where(row.root))) for row in result.roots)),
        ("contested", (text(_contest(each, ids.take(each.people))) for each in result.contests)),
        ("contradictions", (text(_clash(clash, ids.take(clash.people))) for clash in result.clashes)),
        ("findings", findings(result)),
        ("lockouts", (text(lockout_object(lockout)) for lockout in result.lockouts)),
        ("conditional", (text(conditional_object(access)) for access in result.conditional)),
        ("observed_rules", map(text, _observed(result))),
        ("stranded", (text({"resource": each.resource, "people": len(each.people)}) for each in result.stranded)),
        ("exceptions", (text(_exception(row)) for row in result.exceptions)),
        ("ignored", map(text, _ignored(result))),
        ("notes", map(text, result.notes)),
    ]
    head = {"baseline": {"name": baseline.name, "version": baseline.version}}
    known: dict[str, dict[str, Any]] = {"snapshot": {"missing": list(snapshot.missing), "manifest": snapshot.manifest}}
    known["snapshot"] |= {"partial": list(snapshot.partial), "stale": snapshot.stale or None}
    since = {"since": None if result.since is None else dict(result.since)}
    write_form(stream, "check/1", snapshot, [head, {"summary": summary}, known, since], lists)


def _service(row: ServiceRow) -> dict[str, Any]:
    said = {"id": row.id, "accounts": row.accounts, "drifting": row.drifting, "verdicts": counts(row.counts)}
    return {**said, "not_applicable": list(row.not_applicable)}


def _other_count(each: OtherCount) -> dict[str, Any]:
    return {"type": each.type, "judged": each.judged, "drifting": each.drifting, "verdicts": counts(each.counts)}


def _observed(result: CheckResult) -> Iterator[dict[str, Any]]:
    """Yield the access rules that are only observed."""
    for each in observed_rules(result.snapshot, result.observed_days):
        yield {"id": each.rule.id, "title": each.rule.title, "days": each.days, "old": each.is_old}


def _ignored(result: CheckResult) -> Iterator[dict[str, Any]]:
    """Yield the settings that apply to nothing, each with where it is set."""
    ignored = result.snapshot.ignored
    if ignored is None:
        return
    words = ignored.scope.words
    rows = sorted(
        zip(ignored.scope.codes.tolist(), ignored.row.tolist(), strict=True), key=lambda row: (words[row[0]], row[1])
    )
    for code, row in rows:
        file, _, line = result.line_of(row).rpartition(":")
        scope, near = ignored.scope.words[code], ignored.nearest[code]
        yield {"file": file, "line": int(line or 0), "scope": scope, "nearest": near or None}


def _contest(contest: Contest, people: list[str]) -> dict[str, Any]:
    return {
        "service": contest.service,
        "control": contest.control,
        "value": shown(contest.value),
        "settings": [{"scope": scope, "value": shown(value)} for scope, value in contest.settings],
        "people": people,
    }


def _root(row: RootRow, where: str) -> dict[str, Any]:
    """Return one cause as JSON."""
    root, remedy = row.root, row.remedy
    return {
        "service": root.service,
        "control": root.control,
        "scope": root.scope,
        "value": shown_or_none(root.value),
        "where": where or None,
        "rules": list(row.rules),
        "severity": row.severity,
        "people": row.people,
        "verdicts": row.verdicts,
        "mended_value": shown_or_none(remedy.mended_value) if remedy else None,
        "freed": remedy.freed if remedy else None,
        "if_removed": remedy.if_removed if remedy else None,
        "harms": remedy.harms if remedy else None,
        "harmed": list(remedy.harmed) if remedy else [],
    }


def _exception(row: ExceptionRow) -> dict[str, Any]:
    return {
        "id": row.id,
        "state": row.state,
        "covers": row.covers,
        "until": row.until,
        "days_left": row.days_left,
    }


def _clash(clash: Clash, people: list[str]) -> dict[str, Any]:
    return {
        "service": clash.service,
        "controls": [clash.first[0], clash.second[0]],
        "values": [shown(clash.first[1]), shown(clash.second[1])],
        "people": people,
    }
