"""The history, as JSON (form history/1)."""

from __future__ import annotations

from typing import Any, TextIO

from ...core.history.intervals import MOVES, WHAT, Changed, Interval, open_doors
from ...files.history.store import Check
from ..json_text import text
from ..render_options import RenderOptions
from .answer import HistoryAnswer, HistoryStep, RootMoved, what_changed


def _step(step: HistoryStep) -> dict[str, Any]:
    """Return one kept check as JSON."""
    check, data_point = step.check, step.data_point
    severities = {name: step.counts.get(("severity", name), 0) for name in ("critical", "high", "medium", "low")}
    return {
        "check": check.number,
        "taken_at": check.time,
        "baseline": {"name": check.baseline_name, "version": check.baseline_version},
        "link": check.digests["link"],
        "people": step.counts.get(("people", ""), 0),
        "drifting_people": step.counts.get(("drifting", ""), 0),
        "severities": severities,
        "drifts": data_point.drifts,
        **{name: None if data_point.changed is None else data_point.changed.get(name, 0) for name in MOVES},
        "unknown": step.counts.get(("verdict", "unknown"), 0),
        "roots": sum(kind == "root" for kind, _ in step.counts),
        "open_doors": open_doors(step.counts),
        "median_age_days": data_point.median_age,
        "oldest_age_days": data_point.oldest_age,
    }


def _changed(answer: HistoryAnswer, one: Changed, now: Check) -> dict[str, Any]:
    return {
        "what": one.what,
        "rule": one.key.rule,
        "service": one.key.service or None,
        "subject": {"type": one.key.type, "id": one.key.id},
        "since": answer.day(one.first),
        "age_days": answer.age(one.first, now),
    }


def _root(moved: RootMoved) -> dict[str, Any]:
    return {**moved.root._asdict(), "then": moved.then, "now": moved.now}


def _interval(answer: HistoryAnswer, interval: Interval) -> dict[str, Any]:
    return {
        "rule": interval.key.rule,
        "service": interval.key.service or None,
        "verdict": interval.verdict,
        "from": answer.day(interval.first),
        "to": None if interval.last is None else answer.day(interval.last),
        "left": interval.left,
    }


def since_object(answer: HistoryAnswer) -> dict[str, Any] | None:
    """Return what became of everything, counted."""
    if answer.since is None:
        return None
    then, now, changed = answer.since
    counted = what_changed(changed)
    return {"from": then.time, "to": now.time, **{name: counted.get(name, 0) for name in WHAT}}


def write_history_json(answer: HistoryAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes every check, and what was asked besides."""
    last = answer.steps[-1].check
    head = {"usher-gate": "history/1", "organisation": last.organisation, "taken_at": last.time}
    stream.write("{" + text(head)[1:-1] + f',\n "since": {text(since_object(answer))}')
    changed = [] if answer.since is None else [text(_changed(answer, one, answer.since[1])) for one in answer.since[2]]
    intervals = [] if answer.person is None else [text(_interval(answer, interval)) for interval in answer.person[1]]
    decisions = [
        text({"review": one.review, "place": one.place, "decision": one.fate, "kept": answer.day(one.check)})
        for one in answer.decisions
    ]
    roots = [text(_root(one)) for one in answer.roots]
    lists = (
        ("checks", [text(_step(step)) for step in answer.steps]),
        ("changed", changed),
        ("roots", roots),
        ("spells", intervals),
        ("decisions", decisions),
        ("notes", [text(note) for note in answer.notes]),
    )
    for name, entries in lists:
        stream.write(f',\n "{name}": [' + ",".join(f"\n  {entry}" for entry in entries) + ("\n ]" if entries else "]"))
    stream.write("}\n")
