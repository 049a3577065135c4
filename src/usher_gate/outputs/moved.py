"""What became of findings between two checks, in a few words."""

from __future__ import annotations

from collections.abc import Mapping

from ..core.history.intervals import BACK, COVERED, GONE, LEFT, NEW, NEW_RULE, NO_RULE, NOT_KNOWN

_ALWAYS = (NEW, GONE, BACK)
_SELDOM = {
    NOT_KNOWN: "not known now",
    COVERED: "covered by an exception",
    NEW_RULE: "by a new rule",
    LEFT: "left",
    NO_RULE: "of a dropped rule",
}


def moved_text(counted: Mapping[str, str | int | None]) -> str:
    """Return how many drifts are new, gone and back; the rest where there are any."""
    parts = [f"{int(counted.get(word) or 0):,} {word}" for word in _ALWAYS]
    parts += [f"{int(counted.get(word) or 0):,} {said}" for word, said in _SELDOM.items() if counted.get(word)]
    return ", ".join(parts)
