"""A large table as a folder of Parquet files (`people/*.parquet`), in order of their names.

Faults name the file and its row.
"""

from __future__ import annotations

from bisect import bisect_right
from pathlib import Path
from typing import Any

from ...core.organisation.build.table import Spec, Table
from ...core.words.faults import Faults
from ..faults import BadInput
from .parquet import columns_of, texts_of, whole_parquet


def read_pieces(folder: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    """Return a table in several files with the same columns; None, with faults, where it cannot be used."""
    import pyarrow as pa

    from .arrowcolumn import ArrowColumn

    before = len(faults.found)
    paths = sorted(path for path in folder.iterdir() if not path.name.startswith((".", "_")))
    for path in paths:
        if path.suffix != ".parquet":
            faults.add(
                f"{shown}/{path.name}",
                0,
                "is no Parquet file; a table in several files is a folder of Parquet files alone",
            )
    if not paths:
        faults.add(shown, 0, f"is empty; write {spec.name} into it as Parquet files")
    if len(faults.found) > before:
        return None
    pieces: list[tuple[str, int]] = []
    arrays: dict[str, list[Any]] = {}
    rows, names = 0, list[str]()
    for path in paths:
        where = f"{shown}/{path.name}"
        try:
            data = columns_of(path, where, spec, faults)
        except BadInput as error:
            faults.found += error.faults
            continue
        if data is None:
            continue
        mine = sorted(data.column_names)
        names = names or mine
        if mine != names:
            faults.add(
                where,
                1,
                f"has the columns {', '.join(mine)}, and {paths[0].name} has {', '.join(names)}; give all the same",
            )
            continue
        for name, array in texts_of(data, where, spec, faults).items():
            arrays.setdefault(name, []).append(array)
        pieces.append((path.name, rows))
        rows += data.num_rows
    if len(faults.found) > before:
        return None
    with whole_parquet(shown):
        columns = {name: ArrowColumn(_joined(pa, some)) for name, some in arrays.items()}
    firsts = [first for _, first in pieces]
    return Table(
        spec=spec,
        file=shown,
        rows=rows,
        columns=columns,
        line_of=lambda row: row - firsts[bisect_right(firsts, row) - 1] + 1,
        pieces=tuple(pieces),
    )


def _joined(pa: Any, some: list[Any]) -> Any:
    """Read one array; words of dictionaries as text, times in one unit."""
    if any(not each.type.equals(some[0].type) or pa.types.is_dictionary(each.type) for each in some):
        times = all(pa.types.is_timestamp(each.type) for each in some)
        some = [each.cast(pa.timestamp("us", "UTC") if times else pa.string()) for each in some]
    return pa.concat_arrays(some)
