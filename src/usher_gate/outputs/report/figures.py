"""The report's figures: people by the worst that they drift from, and how that has gone."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...core.verdicts.result import CheckResult
from ...core.words.vocabulary import SEVERITIES
from ..results.history import HistoryAnswer
from ..results.history_figure import COLOURS, FAINT, GOOD, GRID, INK, PAPER, drawing, figure_of
from .svg import page_svg

# What the page decides of the figures' colours: its classes are fill-… and stroke-….
_CLASSES = {
    **{colour: name for name, colour in COLOURS.items()},
    GOOD: "good",
    INK: "ink",
    FAINT: "faint",
    GRID: "grid",
    PAPER: "paper",
}


def people_by_severity(result: CheckResult) -> list[tuple[str, int]]:
    """Return how many people drift at worst from a rule of each severity, and how many from none."""
    found = [(name, int(np.count_nonzero(result.worst_of == place))) for place, name in enumerate(SEVERITIES)]
    return [*found, ("none", int(result.chosen.sum()) - result.drifting_people)]


def severity_figure(counted: Sequence[tuple[str, int]]) -> str:
    """Return people by severity as bars, the worst above."""
    with drawing() as pyplot:
        figure, axes = pyplot.subplots(figsize=(5.6, 2.6), layout="constrained")
        places = range(len(counted))[::-1]
        colours = [COLOURS.get(name, FAINT) for name, _ in counted]
        axes.barh(places, [number for _, number in counted], color=colours, height=0.72)
        for place, (_, number) in zip(places, counted, strict=True):
            axes.annotate(f" {number:,}", (number, place), va="center", fontsize=11, fontweight="bold")
        axes.set_yticks(places, [name for name, _ in counted], fontsize=11)
        axes.set_xlim(0, max((number for _, number in counted), default=1) * 1.16 or 1)
        axes.spines[["top", "right", "bottom"]].set_visible(False)
        axes.tick_params(left=False, bottom=False, labelbottom=False)
        said = ", ".join(f"{name} {number:,}" for name, number in counted)
        return page_svg(figure, "severity", f"People by the worst severity they drift from: {said}", _CLASSES)


def trend_figure(answer: HistoryAnswer) -> str:
    """Return how many people drifted from check to check, and what was new and gone."""
    first, last = answer.steps[0], answer.steps[-1]
    people = [step.counts.get(("drifting", ""), 0) for step in (first, last)]
    said = f"from {people[0]:,} on {first.check.time[:10]} to {people[1]:,} on {last.check.time[:10]}"
    with figure_of(answer, (9.6, 4.4), titled=False) as figure:
        return page_svg(figure, "trend", f"People who drift over {len(answer.steps)} checks, {said}", _CLASSES)
