"""Values of people that are other than they were: as JSON, and as tables for people. Spec: changes 3.1."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ...core.changes.compare import ValueMoved
from ...core.words.units import with_unit
from ..section import COUNT, WHOLE, Column, Section, cut, some


def value_object(each: ValueMoved) -> dict[str, Any]:
    """Return a value that is other; with the rule that leaves its person out, if that is why it is listed."""
    whose = {"service": each.service, "control": each.control, "person": each.person, "login": each.login}
    return {**({"rule": each.rule} if each.rule else {}), **whose, "before": each.before, "after": each.after}


def values_section(title: str, values: Sequence[ValueMoved], most: int) -> Section:
    """Return one row for all whose value is other in the same way, most people first.

    All of them by name if all rows are asked for.
    """
    alike: dict[tuple[str, str, str, str, str], list[str]] = {}
    for each in values:
        before, after = (
            "not known" if value is None else with_unit(each.control, value) for value in (each.before, each.after)
        )
        alike.setdefault((each.rule, each.service, each.control, before, after), []).append(each.login)
    made = [
        (*key, len(logins), some(logins, len(logins) if not most else 3))
        for key, logins in sorted(alike.items(), key=lambda one: (-len(one[1]), one[0]))
    ]
    rows, more = cut(made, most, "--rows 0, or --format json")
    columns = (
        Column("rule", WHOLE),
        Column("service", spare=1),
        Column("control", WHOLE),
        Column("before"),
        Column("after"),
        Column("people", COUNT),
        Column("who"),
    )
    return Section(title, columns, rows, more)
