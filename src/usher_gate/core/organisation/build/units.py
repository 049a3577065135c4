"""The table units: which units there are, also those in which no one is yet, and what they are called.

Spec: facts 3.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ...words.faults import Faults
from ..units import lineage
from .checks import checked, filled, unit_fault
from .people import PeopleRegister
from .table import Spec, Table

UNITS = Spec("units", ("path",), ("name",))


def unit_names(table: Table | None, faults: Faults) -> Mapping[str, str]:
    """Return the name of each listed unit by path, "" where it has none; empty where there is no such table."""
    if table is None:
        return {}
    filled(table, faults)
    checked(table, "path", faults, unit_fault)
    rows = np.arange(table.rows)
    paths = table.columns["path"].texts().take(rows)
    names = table.columns["name"].texts().take(rows) if "name" in table.columns else [""] * table.rows
    return dict(zip(paths, names, strict=True))


def with_listed_units(register: PeopleRegister, names: Mapping[str, str]) -> PeopleRegister:
    """Return the register, in which the listed units and all above them exist, too."""
    if not names:
        return register
    listed = {above for path in names if unit_fault(path) is None for above in lineage(path)}
    return replace(register, unit_paths=register.unit_paths | listed)
