"""The forms of every result, in one table; what writes one is imported only then."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, TextIO

from ..core.words.record import record
from ..files.schema_parts import Schema
from .render_options import RenderOptions

if TYPE_CHECKING:
    from .writers import Result

Writer = Callable[[Any, TextIO, RenderOptions], None]
DECLARED, PAGE, WRITER = "declared", "page", "writer"


@record
class Form:
    """A form of a result: what is at MODULE:NAME of this package.

    The declaration of the result, what makes its page (`(answer, rows) -> Page`), or a writer of its own.
    """

    kind: str
    place: str

    def load(self) -> Any:
        """Return what is there."""
        module, name = self.place.split(":")
        return getattr(importlib.import_module(f".{module}", __package__), name)


def _forms(declared: str, page: str = "", table: str = "", csv: bool = True, **writers: str) -> Mapping[str, Form]:
    """Return the forms of a result, the one for people first.

    `page` gives a table and Markdown; `table` is a writer in place of it.
    """
    found = {"table": Form(PAGE, f"results.{page}") if page else Form(WRITER, table)}
    found |= dict.fromkeys(("json", "csv") if csv else ("json",), Form(DECLARED, f"results.{declared}"))
    found |= {"markdown": found["table"]} if page else {}
    return found | {name: Form(WRITER, place) for name, place in writers.items()}


FORMS: Mapping[str, Mapping[str, Form]] = {
    "check": _forms(
        "check:CHECK",
        table="check.table:write_table",
        markdown="check.markdown:write_markdown",
        sarif="check.sarif:write_sarif",
        junit="check.junit:write_junit",
        oscal="check.oscal:write_oscal",
        ocsf="check.ocsf:write_ocsf",
        openmetrics="check.openmetrics:write_openmetrics",
    ),
    "sides": _forms("sides:SIDES", page="sides_page:sides_page"),
    "why": _forms("why:WHY", table="results.why_page:write_why", csv=False),
    "ways": _forms("why:WAYS", table="results.why_glance_page:write_ways", csv=False),
    "set": _forms("why:SET", table="results.why_set_page:write_set", csv=False),
    "sign-ins": _forms("sign_in:SIGN_INS", table="results.sign_in_page:write_sign_ins", csv=False),
    "sign-in": _forms("sign_in:SIGN_IN_DECISIONS", table="results.sign_in_page:write_sign_in", csv=False),
    "holes": _forms("holes:HOLES", page="holes_page:holes_page"),
    "door": _forms("door:DOORS", page="door_page:door_page"),
    "meetings": _forms("door:PLANNED", page="door_page:meetings_page"),
    "meeting": _forms("door:MEETING_DOORS", page="door_page:meeting_page"),
    "host": _forms("door:HOST_DOORS", page="door_page:host_page"),
    "changed": _forms("change_rehearsal:CHANGE_REHEARSAL", page="change_rehearsal_page:changed_page"),
    "mended": _forms("mending:MENDING", page="mending_page:mended_page", csv=False),
    "history": _forms("history:HISTORY", page="history_page:history_page"),
    "guests": _forms("guests:GUESTS", page="guests_page:guests_page"),
    "review": _forms("review:REVIEW", page="review_page:review_page"),
    "rehearsal": _forms("sign_in_rehearsal:SIGN_IN_REHEARSAL", page="sign_in_rehearsal_page:rehearsal_page"),
    "exceptions": _forms("exceptions:EXCEPTIONS", table="results.exceptions_page:write_exceptions"),
    "rules": _forms("baseline:RULES", table="results.baseline_page:write_rules", csv=False),
    "rule": _forms("baseline:RULE", table="results.baseline_page:write_rule", csv=False),
    "uncovered": _forms("baseline:UNCOVERED", table="results.baseline_page:write_uncovered", csv=False),
    "controls": _forms("baseline:CONTROLS", table="results.baseline_page:write_controls", csv=False),
    "attempt": {"table": Form(WRITER, "results.attempt_page:write_attempt")},
}


def forms_of(result: str) -> tuple[str, ...]:
    """Return the forms of a result, the one for people first."""
    return tuple(FORMS[result])


def declared() -> Mapping[str, Result]:
    """Return the declaration of every result by the name of its schema, without the number."""
    found: list[Result] = [forms["json"].load() for forms in FORMS.values() if "json" in forms]
    return {result.schema.partition("/")[0]: result for result in found}


def result_schemas() -> dict[str, Schema]:
    """Return the schema of every result, by the name of its file in the package (without `.schema.json`)."""
    from .writers import schema

    return {name: schema(result) for name, result in declared().items()}


def writer(result: str, name: str) -> Writer:
    """Return what writes a result in a form, control characters escaped.

    Raises KeyError for a form that it does not have.
    """
    from .safe import harmless

    form = FORMS[result][name]
    found = form.load()

    def write(answer: Any, stream: TextIO, options: RenderOptions) -> None:
        """Write an answer as its form says."""
        safe = harmless(stream, name)
        if form.kind == WRITER:
            found(answer, safe, options)
        elif form.kind == DECLARED:
            from .writers import write_csv, write_json

            (write_json if name == "json" else write_csv)(found, answer, safe)
        else:
            from .page import page_markdown, page_table

            page = found(answer, options.rows)
            if name == "table":
                page_table(page, safe, options)
            else:
                page_markdown(page, getattr(answer, "notes", ()), safe, options.show)

    return write
