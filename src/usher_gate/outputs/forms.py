"""The forms of every result, in one table; what writes one is imported only then.

A writer takes the result, where it goes, and how it is to look: `(answer, TextIO, RenderOptions) -> None`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TextIO

from .render_options import RenderOptions

Writer = Callable[[Any, TextIO, RenderOptions], None]

# Of each result its forms, the one for people first; each names a module of this package and the writer in it.
FORMS: Mapping[str, Mapping[str, str]] = {
    "check": {
        "table": "check.table:write_table",
        "json": "check.json_:write_json",
        "csv": "check.csv_:write_csv",
        "markdown": "check.markdown:write_markdown",
        "sarif": "check.sarif:write_sarif",
        "junit": "check.junit:write_junit",
        "oscal": "check.oscal:write_oscal",
        "ocsf": "check.ocsf:write_ocsf",
        "openmetrics": "check.openmetrics:write_openmetrics",
    },
    "sides": {
        "table": "check.sides:write_sides",
        "json": "check.sides:write_sides_json",
        "csv": "check.sides:write_sides_csv",
        "markdown": "check.sides:write_sides_markdown",
    },
    "why": {"table": "why.table:write_why", "json": "why.json_:write_why_json"},
    "ways": {"table": "why.glance:write_ways", "json": "why.json_:write_ways_json"},
    "set": {"table": "why.sets:write_set", "json": "why.sets:write_set_json"},
    "sign-ins": {"table": "sign_in.table:write_sign_ins", "json": "sign_in.json_:write_sign_ins_json"},
    "sign-in": {"table": "sign_in.table:write_sign_in", "json": "sign_in.json_:write_sign_in_json"},
    "holes": {
        "table": "holes.table:write_holes",
        "json": "holes.json_:write_holes_json",
        "csv": "holes.csv_:write_holes_csv",
    },
    "door": {
        "table": "door.table:write_door",
        "json": "door.json_:write_door_json",
        "csv": "door.csv_:write_door_csv",
        "markdown": "door.markdown:write_door_markdown",
    },
    "meetings": {
        "table": "door.table:write_meetings",
        "json": "door.json_:write_door_json",
        "csv": "door.csv_:write_meetings_csv",
        "markdown": "door.markdown:write_meetings_markdown",
    },
    "meeting": {
        "table": "door.table:write_meeting",
        "json": "door.json_:write_meeting_json",
        "csv": "door.csv_:write_meeting_csv",
        "markdown": "door.markdown:write_meeting_markdown",
    },
    "host": {
        "table": "door.table:write_host",
        "json": "door.json_:write_host_json",
        "csv": "door.csv_:write_host_csv",
        "markdown": "door.markdown:write_host_markdown",
    },
    "changed": {
        "table": "changed.table:write_changed",
        "json": "changed.json_:write_changed_json",
        "csv": "changed.csv_:write_changed_csv",
        "markdown": "changed.markdown:write_changed_markdown",
    },
    "mended": {
        "table": "mended.table:write_mended",
        "json": "mended.json_:write_mended_json",
        "markdown": "mended.markdown:write_mended_markdown",
    },
    "history": {
        "table": "history.table:write_history",
        "json": "history.json_:write_history_json",
        "csv": "history.csv_:write_history_csv",
        "markdown": "history.markdown:write_history_markdown",
    },
    "guests": {
        "table": "guests.table:write_guests",
        "json": "guests.json_:write_guests_json",
        "csv": "guests.csv_:write_guests_csv",
        "markdown": "guests.markdown:write_guests_markdown",
    },
    "review": {
        "table": "review.table:write_review",
        "json": "review.json_:write_review_json",
        "csv": "review.csv_:write_review_csv",
        "markdown": "review.markdown:write_review_markdown",
    },
    "rehearsal": {
        "table": "rehearsal.table:write_rehearsal",
        "json": "rehearsal.json_:write_rehearsal_json",
        "csv": "rehearsal.csv_:write_rehearsal_csv",
    },
    "exceptions": {
        "table": "exceptions.table:write_exceptions",
        "json": "exceptions.json_:write_exceptions_json",
        "csv": "exceptions.csv_:write_exceptions_csv",
    },
    "rules": {"table": "baseline.table:write_rules", "json": "baseline.json_:write_rules_json"},
    "rule": {"table": "baseline.table:write_rule", "json": "baseline.json_:write_rule_json"},
    "uncovered": {"table": "baseline.table:write_uncovered", "json": "baseline.json_:write_uncovered_json"},
    "controls": {"table": "baseline.table:write_controls", "json": "baseline.json_:write_controls_json"},
    "attempt": {"table": "gather.table:write_attempt"},
}


def forms_of(result: str) -> tuple[str, ...]:
    """Return the forms of a result, the one for people first."""
    return tuple(FORMS[result])


def writer(result: str, form: str) -> Writer:
    """Return what writes a result in a form, control characters escaped.

    Raises KeyError for a form that it does not have.
    """
    import importlib

    from .safe import harmless

    module, name = FORMS[result][form].split(":")
    found: Writer = getattr(importlib.import_module(f".{module}", __package__), name)
    return lambda answer, stream, look: found(answer, harmless(stream, form), look)
