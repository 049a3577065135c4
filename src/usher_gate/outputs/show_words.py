"""The words of --show: by verb, what names tables of its results. Spec: command-line 2.2."""

from __future__ import annotations

from collections.abc import Mapping

ALL = "all"
SHOWN: Mapping[str, tuple[str, ...]] = {
    "check": (
        "causes",
        "rules",
        "services",
        "groups",
        "people",
        "others",
        "conflicts",
        "stranded",
        "exceptions",
        "settling",
    ),
    "door": ("doors", "causes", "meetings", "hosts", "people", "strangers", "watchers", "visitors", "inside"),
    "holes": ("holes", "people", "lockouts", "stranded", "defects", "rules"),
    "mend": ("edits", "weaker", "values", "people", "left", "tasks", "sign-in"),
    "rehearse": (
        "changes",
        "rules",
        "baseline",
        "people",
        "worse",
        "meetings",
        "protected",
        "weaker",
        "values",
        "access",
        "lockouts",
        "stranded",
        "sign-ins",
        "against",
        "break-glass",
        "events",
        "days",
    ),
    "guests": ("states", "reviewers", "domains", "guests", "decisions", "answers"),
    "history": (
        "checks",
        "what",
        "rules",
        "causes",
        "units",
        "new",
        "gone",
        "still",
        "people",
        "findings",
        "reviews",
    ),
    "why": ("verdicts", "values", "facts"),
}
