"""What became of findings between two checks, asked subject by subject and check by check."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from usher_gate.core.history.spells import Changed, Key, Spell

NOT_KNOWN = ("unknown", "unavailable", "settling", "not-judged")


def open_at(mine: Iterable[Spell], check: int) -> tuple[int, str] | None:
    """Of one subject the check in which the finding began that is open at a check, and the verdict then; None if none is."""
    began, verdict = None, ""
    for number in range(1, check + 1):
        verdict = next((spell.verdict for spell in mine if _holds(spell, number)), "")
        if verdict == "drifts":
            began = number if began is None else began
        elif verdict not in (*NOT_KNOWN, "excepted"):
            began = None
    return None if began is None else (began, verdict)


def since(
    spells: Iterable[Spell], then: int, now: int, rules_then: frozenset[str], rules_now: frozenset[str]
) -> Iterator[Changed]:
    """What became of every finding from one check to a later one, by rule, service and subject."""
    by_key: dict[Key, list[Spell]] = {}
    for spell in spells:
        by_key.setdefault(spell.key, []).append(spell)
    for key, mine in sorted(by_key.items()):
        before, after = open_at(mine, then), open_at(mine, now)
        if after is not None:
            began, verdict = after
            if verdict in NOT_KNOWN:
                what = "not-known-now"
            elif verdict == "excepted":
                what = "excepted"
            elif before is not None:
                what = "still"
            elif key.rule not in rules_then:
                what = "new-rule"
            else:
                drifted = any(spell.verdict == "drifts" and spell.first <= then for spell in mine)
                what = "back" if drifted else "new"
            yield Changed(key, what, began)
        elif before is not None:
            # What is loose ends the finding; who leaves afterwards has nothing to do with it.
            mine = [spell for spell in mine if spell.left and spell.verdict != "loose"]
            left = any(spell.last is not None and then <= spell.last < now for spell in mine)
            yield Changed(key, "left" if left else "gone" if key.rule in rules_now else "no-rule", before[0])


def _holds(spell: Spell, check: int) -> bool:
    return spell.first <= check and (spell.last is None or spell.last >= check)
