"""What is other between two baselines: which rules are new, dropped and changed, and in what.

Spec: changes 6.
"""

from __future__ import annotations

from collections.abc import Iterator

from ..verdicts.condition import Leaf, in_words
from ..verdicts.rules import Baseline, Rule
from ..words.catalogue import Catalogue
from ..words.record import record
from ..words.vocabulary import SEVERITIES

NEW, DROPPED, CHANGED = "new", "dropped", "changed"
WHAT_HAPPENED = (NEW, DROPPED, CHANGED)
STRICTER, WEAKER = "stricter", "weaker"
_PINNED = ("", "true", "strict")


@record
class RuleMoved:
    """A rule that is other: one of WHAT_HAPPENED.

    Of a changed one what it said and says, by field, and whether it is `stricter` or `weaker` ("" if that is not
    known).
    """

    id: str
    what: str
    severity: str
    fields: tuple[tuple[str, str, str], ...] = ()
    direction: str = ""


def rules_moved(before: Baseline, after: Baseline, catalogue: Catalogue) -> Iterator[RuleMoved]:
    """Yield the rules that are other, by id."""
    old, new = ({rule.id: rule for rule in baseline.rules} for baseline in (before, after))
    for name in sorted({*old, *new}):
        if name not in new:
            yield RuleMoved(name, DROPPED, old[name].severity)
        elif name not in old:
            yield RuleMoved(name, NEW, new[name].severity)
        else:
            was, then = _fields(old[name]), _fields(new[name])
            fields = tuple((field, was[field], then[field]) for field in was if was[field] != then[field])
            if fields:
                yield RuleMoved(
                    id=name,
                    what=CHANGED,
                    severity=new[name].severity,
                    fields=fields,
                    direction=_direction(old[name], new[name], fields, catalogue),
                )


def _fields(rule: Rule) -> dict[str, str]:
    """Return what a rule says, as texts."""
    return {
        "title": rule.title,
        "severity": rule.severity,
        "subject": rule.subject,
        "audience": rule.audience.text,
        "except": "" if rule.exempted is None else rule.exempted.text,
        "services": "" if rule.services is None else ", ".join(rule.services),
        "expect": in_words(rule.expect),
        "pinned": rule.pinned,
        "must_support": "true" if rule.must_support else "",
        "because": rule.because,
        "mend": rule.mend,
    }


def _direction(old: Rule, new: Rule, fields: tuple[tuple[str, str, str], ...], catalogue: Catalogue) -> str:
    """Return whether all that is other makes a rule stricter, or weaker; "" if that is not known."""
    found = set[str]()
    for field, was, then in fields:
        if field in ("title", "because", "mend"):
            continue
        if field == "severity":
            step = SEVERITIES.index(was) - SEVERITIES.index(then)
        elif field == "pinned":
            step = _PINNED.index(then) - _PINNED.index(was)
        elif field == "must_support":
            step = len(then) - len(was)
        elif field == "except" and not (was and then):
            step = len(was) - len(then)  # without it no one is left out any more
        elif field == "expect":
            step = _stricter(old, new, catalogue)
        else:
            step = 0
        found.add({1: STRICTER, -1: WEAKER, 0: ""}[(step > 0) - (step < 0)])
    return found.pop() if len(found) == 1 else ""


def _stricter(old: Rule, new: Rule, catalogue: Catalogue) -> int:
    """Above 0 where a rule of one leaf asks for a stricter value of the same control, below where for a weaker one."""
    was, then = old.expect, new.expect
    if not isinstance(was, Leaf) or not isinstance(then, Leaf) or was.about != "control" or was.name != then.name:
        return 0
    if was.comparison is None or then.comparison is None or was.name not in catalogue.index:
        return 0
    kind = catalogue.index[was.name].kind
    if not kind.ordered or {was.comparison.operator, then.comparison.operator} != {"no-weaker-than"}:
        return 0
    degrees = [kind.strictness(leaf.comparison.operands[0]) for leaf in (was, then) if leaf.comparison is not None]
    return (degrees[1] > degrees[0]) - (degrees[1] < degrees[0])
