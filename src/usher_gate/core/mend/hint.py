"""What mending would do, as far as that is cheap to know: one line at the end of a check."""

from __future__ import annotations

from ..settings.edited import NewValue, SettingTarget
from ..verdicts.trial import Remembered, Trial
from ..words.plural import plural
from .candidates import CandidateEdits
from .components import components
from .constraints import MendingConstraints
from .ended import count_findings
from .single import best_single

MOST_PEOPLE = 2_000  # of so many it is asked


def hint(base: Remembered, terms: MendingConstraints, drifting: int) -> str:
    """Return the line; "" where there is nothing to say.

    `drifting` verdicts drift.

    Where one edit mends all that can be mended in each component, the edits are the fewest there are; else the line
    says only what comes from settings.
    """
    if len(base.snapshot.people) > MOST_PEOPLE or not drifting:
        return ""
    every = list(components(base, terms))
    mendable = sum(judging.to_mend_in_all() for judging in every)
    if not mendable:
        return ""
    plan = dict[SettingTarget, NewValue]()
    for judging in every:
        found = best_single(judging, CandidateEdits(judging))[0]
        if found is None:
            come = "comes from a setting" if mendable == 1 else "come from settings"
            return f"{_of(mendable, drifting)} {come}: usher-gate mend looks for a plan."
        plan |= found.plan
    ended = count_findings(base, Trial(base, plan), terms).ended  # a verdict may then still drift by a fact
    if not ended:
        return ""
    edits = plural(len(plan), "edit")
    return f"One plan: usher-gate mend ends {_of(ended, drifting)} with {edits}, and makes no one worse off."


def _of(some: int, drifting: int) -> str:
    return f"{some:,} of {drifting:,} {'finding' if drifting == 1 else 'findings'}"
