"""The table partners: other organisations."""

from __future__ import annotations

import numpy as np

from ...words.faults import Faults, quoted
from ...words.plural import truth_word
from ..partners import HOME_FACTOR, HOME_FACTORS, PARTNER_COLUMNS, Partner
from .checks import checked, filled, flags, one_of
from .table import FLAG, Spec, Table

PARTNERS = Spec("partners", ("domain",), (*PARTNER_COLUMNS, HOME_FACTOR), dict.fromkeys(PARTNER_COLUMNS, FLAG))


def build_partners(table: Table | None, faults: Faults) -> tuple[Partner, ...] | None:
    """Return the partners in the order of the table; None where there is no such table."""
    if table is None:
        return None
    filled(table, faults)
    columns = {name: flags(table, name, missing == "true", faults) for name, missing in PARTNER_COLUMNS.items()}
    factor = checked(table, HOME_FACTOR, faults, one_of(HOME_FACTORS))
    factors = [""] * table.rows
    if factor is not None:
        factors = ["" if code < 0 else factor.words[code] for code in factor.codes.tolist()]
    domains = table.columns["domain"].texts().take(np.arange(table.rows))
    first: dict[str, int] = {}
    for row, domain in enumerate(domains):
        if domain != "*" and domain.startswith(("@", "*", ".")):
            right = domain.lstrip("@*.")
            table.fault(
                row,
                f"domain: {quoted(domain)} is no domain; write {quoted(right)} (each subdomain on a row of its own)",
                faults,
            )
        before = first.setdefault(domain.casefold(), row)
        if before != row and domain:
            table.fault(row, f"the partner {quoted(domain)} occurs here and in {table.line(before)}; keep one", faults)
    return tuple(
        Partner(
            domain,
            {name: None if column is None else truth_word(column[row]) for name, column in columns.items()},
            factors[row],
        )
        for row, domain in enumerate(domains)
    )
