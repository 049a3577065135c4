"""What mending would do, as far as that is cheap to know: one line at the end of a check."""

from __future__ import annotations

from ..verdicts.trial import Remembered
from .components import components
from .offers import Offers
from .single import best_single
from .terms import Terms

MOST_PEOPLE = 2_000  # of so many it is asked


def hint(base: Remembered, terms: Terms, drifting: int) -> str:
    """The line; "" where there is nothing to say. `drifting` verdicts drift.

    Where one edit ends all that drifts in each component, the edits are the fewest there are; else only what comes from settings is told.
    """
    if len(base.snapshot.people) > MOST_PEOPLE or not drifting:
        return ""
    every = list(components(base, terms))
    mendable = sum(judging.to_mend_in_all() for judging in every)
    if not mendable:
        return ""
    edits: int | None = 0
    for judging in every:
        found = best_single(judging, Offers(judging))[0]
        if found is None:
            edits = None
            break
        edits = (edits or 0) + 1
    of = f"{mendable:,} of {drifting:,} {'drift' if drifting == 1 else 'drifts'}"
    if edits is None:
        come = "comes from a setting" if mendable == 1 else "come from settings"
        return f"{of} {come}: usher-gate mend finds the fewest edits that end them."
    return f"{edits:,} {'edit ends' if edits == 1 else 'edits end'} {of}: usher-gate mend"
