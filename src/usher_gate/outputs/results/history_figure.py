"""The history as a figure.

People drifting by severity over time, what was new and gone below, ends of exceptions as marks.

Colours can be distinguished by people who see few (Okabe and Ito), and every band is named where it ends. The same
history gives the same bytes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from itertools import pairwise
from pathlib import Path
from typing import Any, cast

from ...core.history.intervals import BACK, GONE, LEFT, NEW, NEW_RULE, NO_RULE
from .history import HistoryAnswer, HistoryStep

COLOURS = {"critical": "#7b1e3a", "high": "#d55e00", "medium": "#e69f00", "low": "#56b4e9"}
GOOD = "#009e73"
ENDINGS = ("png", "svg")
INK, FAINT, GRID, PAPER = "#22272e", "#8a929b", "#dddddd", "#fefefe"


def write_figure(answer: HistoryAnswer, path: Path) -> None:
    """Draws into a PNG or SVG file, by its ending."""
    with figure_of(answer, (10, 6.25)) as figure:
        draft = path.with_name(f".{path.name}.draft")
        try:
            figure.savefig(draft, format=path.suffix[1:].lower(), dpi=128, metadata=_without_date(path))
            draft.replace(path)
        finally:
            draft.unlink(missing_ok=True)


@contextmanager
def drawing() -> Iterator[Any]:
    """Matplotlib's pyplot, set so that the same data gives the same bytes; what was drawn is closed at the end."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot

    rc = cast(
        Any,
        {
            "svg.hashsalt": "usher-gate",
            "font.size": 10,
            "axes.edgecolor": FAINT,
            "text.color": INK,
            "axes.labelcolor": INK,
            "xtick.color": INK,
            "ytick.color": INK,
        },
    )
    with mpl.rc_context(rc):
        try:
            yield pyplot
        finally:
            pyplot.close("all")


@contextmanager
def figure_of(answer: HistoryAnswer, inches: tuple[float, float], titled: bool = True) -> Iterator[Any]:
    """The figure, as long as it is looked at; `inches` wide and high."""
    with drawing() as pyplot:
        figure, (above, below) = pyplot.subplots(
            2, 1, sharex=True, figsize=inches, height_ratios=(3, 1.3), layout="constrained"
        )
        days = [datetime.fromisoformat(step.check.time.replace("Z", "+00:00")) for step in answer.steps]
        _people(above, days, answer.steps)
        _moves(below, days, answer.steps)
        _ends(above, days, answer.steps)
        if titled:
            first, last = answer.steps[0].check, answer.steps[-1].check
            title = f"{last.organisation}: people who drift, {first.time[:10]} to {last.time[:10]}"
            above.set_title(title, loc="left", fontsize=13, color=INK)
        for axes in (above, below):
            axes.spines[["top", "right"]].set_visible(False)
            axes.grid(axis="y", color=GRID, linewidth=0.6)
            axes.set_axisbelow(True)
        figure.autofmt_xdate(rotation=30)
        yield figure


def _without_date(path: Path) -> dict[str, str | None]:
    return {"Date": None} if path.suffix.lower() == ".svg" else {"Software": None}


def _people(axes: Any, days: Sequence[datetime], steps: Sequence[HistoryStep]) -> None:
    """Bands of people by worst severity, the worst at the bottom, each named where it ends."""
    bands = {name: [step.counts.get(("severity", name), 0) for step in steps] for name in COLOURS}
    shown = {name: numbers for name, numbers in bands.items() if any(numbers)}
    axes.stackplot(days, list(shown.values()), colors=[COLOURS[name] for name in shown], linewidth=0)
    under, ended = 0, list[str]()
    for name, numbers in shown.items():
        middle = under + numbers[-1] / 2
        under += numbers[-1]
        if not numbers[-1]:
            ended.append(name)  # all at one height
        else:
            axes.annotate(f" {name} {numbers[-1]:,}", (days[-1], middle), va="center", color=INK, fontweight="bold",
                          annotation_clip=False)  # fmt: skip
    if ended:
        said = f" {', '.join(ended)} 0"
        axes.annotate(
            said,
            (days[-1], under),
            xytext=(0, 3),
            textcoords="offset points",
            va="bottom",
            color=INK,
            annotation_clip=False,
        )
    axes.set_ylabel("people drifting")
    whole = max(days[-1] - days[0], timedelta(days=1))
    axes.set_xlim(days[0] - whole * 0.04, days[-1] + whole * 0.1)  # room for the names
    axes.set_ylim(bottom=0)


def _moves(axes: Any, days: Sequence[datetime], steps: Sequence[HistoryStep]) -> None:
    """What was new or back above the line, what was gone below it."""
    moves = [
        (day, step.data_point.changed)
        for day, step in zip(days, steps, strict=True)
        if step.data_point.changed is not None
    ]
    if not moves:
        axes.text(0.5, 0.5, "one check so far", transform=axes.transAxes, ha="center", color=FAINT)
        return
    width = 0.6 * min((b - a).total_seconds() / 86400 for (a, _), (b, _) in pairwise(moves)) if len(moves) > 1 else 2.0
    when = [day for day, _ in moves]
    fresh = [sum(made.get(name, 0) for name in (NEW, NEW_RULE, BACK)) for _, made in moves]
    gone = [-sum(made.get(name, 0) for name in (GONE, LEFT, NO_RULE)) for _, made in moves]
    axes.bar(when, fresh, width=width, color=COLOURS["high"], label="new or back")
    axes.bar(when, gone, width=width, color=GOOD, label="gone")
    axes.axhline(0, color=INK, linewidth=0.8)
    axes.yaxis.set_major_formatter(lambda number, _: f"{abs(number):,.0f}")
    axes.set_ylabel("findings")
    axes.legend(loc="upper left", frameon=False, ncols=2, fontsize=9)


def _ends(axes: Any, days: Sequence[datetime], steps: Sequence[HistoryStep]) -> None:
    """Where an exception had ended since the check before."""
    before: dict[str, int] = {}
    for day, step in zip(days, steps, strict=True):
        now = {name: many for (kind, name), many in step.counts.items() if kind == "exception"}
        ended = sorted(name for name, many in now.items() if many < 0 <= before.get(name, -1))
        for name in ended:
            axes.axvline(day, color=INK, linestyle=":", linewidth=1)
            axes.annotate(
                f"{name} ended",
                (day, 1),
                xycoords=("data", "axes fraction"),
                xytext=(-3, 0),
                textcoords="offset points",
                rotation=90,
                va="top",
                ha="right",
                fontsize=8,
                bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 1.5},
            )
        before = now
