"""The forms of every result, in one table; what writes one is imported only then.

A writer takes the result, where it goes, and how it is to look: `(answer, TextIO, Look) -> None`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TextIO

from .look import Look

Writer = Callable[[Any, TextIO, Look], None]

# Of each result its forms, the one for people first; each names a module of this package and the writer in it.
FORMS: Mapping[str, Mapping[str, str]] = {
    "check": {
        "table": "check.table:write_table",
        "json": "check.json_:write_json",
        "csv": "check.csv_:write_csv",
        "markdown": "check.markdown:write_markdown",
    },
    "why": {"table": "why.table:write_why", "json": "why.json_:write_why_json"},
    "sign-in": {"table": "sign_in.table:write_sign_in", "json": "sign_in.json_:write_sign_in_json"},
    "holes": {"table": "holes.table:write_holes", "json": "holes.json_:write_holes_json"},
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
    "controls": {"table": "baseline.table:write_controls", "json": "baseline.json_:write_controls_json"},
    "attempt": {"table": "gather.table:write_attempt"},
}


def forms_of(result: str) -> tuple[str, ...]:
    """The forms of a result, the one for people first."""
    return tuple(FORMS[result])


def writer(result: str, form: str) -> Writer:
    """What writes a result in a form; raises KeyError for a form that it does not have."""
    import importlib

    module, name = FORMS[result][form].split(":")
    found: Writer = getattr(importlib.import_module(f".{module}", __package__), name)
    return found
