"""What is asked of a plan, and the order in which plans are preferred.

Source: changes, section 3; readings 31 to 35.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ..organisation.columns import Bools
from ..settings.edited import Given, Spot
from ..verdicts.rules import Rule
from ..words.record import record

Plan = Mapping[Spot, Given]


@record
class Terms:
    """What a plan may do and has to do. `keeps` says which pairs of rule and service are to be mended, `chosen` for which people.

    `hold`: what people can change has to be held too; `weaken`: a value may become weaker for who has nothing to mend there;
    `through_exceptions`: what an exception covers may change; `turn_away`: invitees may be turned away.
    """

    keeps: Callable[[Rule, str | None], bool]
    chosen: Bools
    hold: bool = False
    weaken: bool = False
    through_exceptions: bool = False
    turn_away: bool = False


def text_of(spot: Spot, given: Given) -> str:
    """An edit as the text by which plans are told apart last."""
    what = "unset" if given.value is None else f"set {given.value}"
    return f"{spot.service}\t{spot.control}\t{spot.scope}\t{what}\t{'pinned' if given.pinned else '-'}"


def last_of_all(plan: Plan) -> tuple[int, int, tuple[str, ...]]:
    """How plans that are alike in every number are ordered: taking away before setting, not pinned before pinned, then the texts."""
    sets = sum(given.value is not None for given in plan.values())
    pins = sum(given.pinned for given in plan.values())
    return sets, pins, tuple(sorted(text_of(spot, given) for spot, given in plan.items()))
