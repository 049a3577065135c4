"""The report as one HTML file: nothing is fetched, names are text, and the same answer gives the same bytes."""

from __future__ import annotations

import base64
import hashlib
from pathlib import Path
from typing import TextIO

from ... import __version__
from ...core.words.plural import plural
from ...core.words.times import show_time
from ..render_options import RenderOptions
from ..safe import for_terminal
from ..section import Cell, cell_text
from .annex import annex
from .answer import ReportAnswer
from .figures import people_by_severity, severity_figure, trend_figure
from .parts import for_others, heat_map, in_short, labelled, parts, rule_summaries, what_first

_HERE = Path(__file__).parent


def _allowed(text: str) -> str:
    """Return the source expression that allows just this style or script (Content Security Policy level 3, section
    2.3.1).
    """
    return f"sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}"


def _cell(cell: Cell) -> str:
    return for_terminal(cell_text(cell))


def _limits(answer: ReportAnswer) -> list[str]:
    """Return which part of the organisation the page is about."""
    result = answer.result
    found = []
    if not result.chosen.all():
        found.append(
            f"This page speaks of {plural(int(result.chosen.sum()), 'person', 'people')} of {len(result.chosen):,}."
        )
    if len(result.rules) < len(result.baseline.rules):
        found.append(f"It asks {plural(len(result.rules), 'rule')} of {len(result.baseline.rules):,}.")
    if answer.history is None and not found:
        found.append("No check was kept before, so it says nothing of how it has gone.")
    elif answer.history is None:
        found.append("How it has gone is on the page of the whole organisation.")
    return found


def write_report(answer: ReportAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the page."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined
    from markupsafe import Markup

    result = answer.result
    # Style and script are ours and must stand as they are; everything else is escaped.
    style, script = (Markup((_HERE / name).read_text("utf-8")) for name in ("style.css", "script.js"))
    drifts, whole = annex(result)
    made, heat = parts(answer), heat_map(answer)
    first, others = what_first(answer), for_others(answer)
    names = [
        ("short", "In short"),
        *([("do", "What to do")] if first or others else []),
        *([("units", "Where in the organisation")] if heat else []),
    ]
    names += [(part.id, part.heading) for part in made]
    names += [("rules", "What is asked, and why"), *([("annex", "Every finding")] if drifts else [])]
    environment = Environment(loader=FileSystemLoader(_HERE), autoescape=True, undefined=StrictUndefined)
    environment.filters["cell"] = _cell
    rules = rule_summaries(answer)
    hold = sum(one.holds for one in rules)
    unclear = sum(bool(one.unclear) and not one.drifts for one in rules)
    rules_first = f"{hold} of {plural(len(rules), 'rule')} hold." + (
        f" From {unclear} more nothing is known to drift, but something is unknown or unavailable." if unclear else ""
    )
    page = environment.get_template("page.html.j2").render(
        answer=answer,
        organisation=result.snapshot.name,
        taken_at=show_time(result.snapshot.taken_at),
        baseline=f"{result.baseline.name} {result.baseline.version}",
        limits=_limits(answer),
        contents=names,
        in_short=in_short(answer),
        labelled=labelled(answer),
        what_first=first,
        for_others=others,
        severity_figure=Markup(severity_figure(people_by_severity(result))),
        trend_figure=Markup(trend_figure(answer.history))
        if answer.history is not None and len(answer.history.steps) > 1
        else "",
        heat=heat,
        parts=made,
        rules=rules,
        rules_first=rules_first,
        drifts=drifts,
        annex_first=_annex_first(len(drifts), whole),
        style=style,
        script=script,
        style_hash=_allowed(style),
        script_hash=_allowed(script),
        version=__version__,
    )
    stream.write(page + "\n")


def _annex_first(shown: int, whole: int) -> str:
    if shown == whole:
        return f"{plural(whole, 'finding')}, the worst first."
    how = "usher-gate check --format csv --out drifts.csv"
    return f"The worst {shown:,} of {plural(whole, 'finding')}; all of them: {how}"
