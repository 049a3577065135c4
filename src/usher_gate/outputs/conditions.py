"""Break-glass accounts that get in only under conditions, in words.

Spec: sign-in 5.2.
"""

from __future__ import annotations

from collections.abc import Sequence

from ..core.organisation.snapshot import Snapshot
from ..core.sign_in.lockout import ConditionalAccess
from ..core.words.vocabulary import CONDITION_WORDS, ELSEWHERE
from .section import joined, some_logins


def conditional_lines(accesses: Sequence[ConditionalAccess], snapshot: Snapshot) -> list[str]:
    """Return one line for each account and set of conditions, with the resources that it gets into so."""
    resources: dict[tuple[str, str], list[str]] = {}
    for access in accesses:
        resources.setdefault((access.person, conditions_text(access)), []).append(access.resource)
    return [
        f"{some_logins(snapshot, [person], 1)} gets into {joined(names)} only {text}."
        for (person, text), names in sorted(resources.items())
    ]


def conditions_text(access: ConditionalAccess) -> str:
    """Return the conditions, as what follows `only`."""
    parts = [_text(name, values) for name, values in access.conditions]
    if access.combined:
        parts.append("in some combinations of conditions (usher-gate sign-in lists them)")
    return joined(parts)


def _text(dimension: str, values: Sequence[str]) -> str:
    words = [value.replace("+", " and ") for value in values]
    others = [word for word in CONDITION_WORDS.get(dimension, ()) if word not in values and word != "legacy"]
    either = " or ".join(words)
    if dimension == "network":
        return f"from {either.replace(ELSEWHERE, 'outside all networks')}"
    if dimension == "device":
        return f"from a {either} device" if values[0] != "unknown" else f"from a device that is {either}"
    if dimension == "client":
        return f"with the {either}"
    if dimension == "platform":
        return f"on {either}"
    return (
        f"at a risk that is {either}" if len(words) <= len(others) else f"at a risk that is not {' or '.join(others)}"
    )
