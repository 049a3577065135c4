"""Values of people that are other than they were, as a table for people. Spec: changes 3.1."""

from __future__ import annotations

from collections.abc import Sequence

from ...core.changes.compare import ValueMoved
from ..section import COUNT, WHOLE, Column, Section, listed, some
from ..titles import title_of, value_of


def values_section(word: str, title: str, values: Sequence[ValueMoved], most: int) -> Section:
    """Return one row for all whose value is other in the same way, most people first.

    All of them by name if all rows are asked for.
    """
    alike: dict[tuple[str, str, str, str, str], list[str]] = {}
    for each in values:
        before, after = (
            "not known" if value is None else value_of(each.control, value) for value in (each.before, each.after)
        )
        alike.setdefault((each.rule, each.service, title_of(each.control), before, after), []).append(each.login)
    made = [
        (*key, len(logins), some(logins, len(logins) if not most else 3))
        for key, logins in sorted(alike.items(), key=lambda one: (-len(one[1]), one[0]))
    ]
    columns = (
        Column("rule", WHOLE),
        Column("service", spare=1),
        Column("control", WHOLE),
        Column("before"),
        Column("after"),
        Column("people", COUNT),
        Column("who"),
    )
    return listed(word, title, columns, made, most)
