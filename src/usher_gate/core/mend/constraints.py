"""What is asked of a plan, and the order in which plans are preferred.

Spec: mending 1 to 4.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ..organisation.columns import Bools
from ..settings.edited import NewValue, SettingTarget
from ..verdicts.rules import Rule
from ..words.record import record

Plan = Mapping[SettingTarget, NewValue]


@record
class MendingConstraints:
    """Describes what a plan may do and has to do.

    `keeps` says which pairs of rule and service are to be mended, `chosen` for which people.

    `hold`: what people can change has to be held too; `weaken`: a value may become weaker for who has nothing to mend
    there; `through_exceptions`: what an exception covers may change; `turn_away`: invitees may be turned away.
    """

    keeps: Callable[[Rule, str | None], bool]
    chosen: Bools
    hold: bool = False
    weaken: bool = False
    through_exceptions: bool = False
    turn_away: bool = False


def text_of(edit_target: SettingTarget, given: NewValue) -> str:
    """Return an edit as text, the last key by which plans are compared."""
    what = "unset" if given.value is None else f"set {given.value}"
    place = f"{edit_target.service}\t{edit_target.control}\t{edit_target.scope}"
    return f"{place}\t{what}\t{'pinned' if given.pinned else '-'}"


def last_key(plan: Plan) -> tuple[int, int, tuple[str, ...]]:
    """Return how plans that are alike in every number are ordered.

    Taking away before setting, not pinned before pinned, then the texts.
    """
    sets = sum(given.value is not None for given in plan.values())
    pins = sum(given.pinned for given in plan.values())
    return sets, pins, tuple(sorted(text_of(edit_target, given) for edit_target, given in plan.items()))
