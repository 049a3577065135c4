"""What became of drifts between two checks, asked spell by spell."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from usher_gate.core.history.spells import Changed, Key, Spell


def since(
    spells: Iterable[Spell], then: int, now: int, rules_then: frozenset[str], rules_now: frozenset[str]
) -> Iterator[Changed]:
    """What became of every drift from one check to a later one, by rule, service and subject."""
    by_key: dict[Key, list[Spell]] = {}
    for spell in spells:
        if spell.verdict == "drifts" and spell.first <= now:
            by_key.setdefault(spell.key, []).append(spell)
    for key in sorted(by_key):
        mine = sorted(by_key[key], key=lambda spell: spell.first)
        before = next((spell for spell in mine if _holds(spell, then)), None)
        after = next((spell for spell in mine if _holds(spell, now)), None)
        if after is not None:
            if before is not None:
                yield Changed(key, "still", after.first)
            elif key.rule not in rules_then:
                yield Changed(key, "new-rule", after.first)
            else:
                earlier = any(spell.first <= then for spell in mine)
                yield Changed(key, "back" if earlier else "new", after.first)
        elif before is not None:
            ended = "left" if before.left else "gone" if key.rule in rules_now else "no-rule"
            yield Changed(key, ended, before.first)


def _holds(spell: Spell, check: int) -> bool:
    return spell.first <= check and (spell.last is None or spell.last >= check)
