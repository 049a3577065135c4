"""Tables in any of the formats: one file each format, found by its ending."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from ..faults import Faults
from .interface import Reader, Spec, Table


def _csv(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    from .csv_ import read_csv

    return read_csv(path, shown, spec, faults)


def _jsonl(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    from .jsonl import read_jsonl

    return read_jsonl(path, shown, spec, faults)


def _parquet(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    from .parquet import read_parquet

    return read_parquet(path, shown, spec, faults)


FORMATS: Mapping[str, Reader] = {".csv": _csv, ".jsonl": _jsonl, ".parquet": _parquet}


def read_table(folder: Path, spec: Spec, faults: Faults) -> Table | None:
    """The table of that name in a folder; None where there is none, or, with faults, where it cannot be used."""
    present = [ending for ending in FORMATS if (folder / f"{spec.name}{ending}").exists()]
    if not present:
        return None
    if len(present) > 1:
        faults.add(
            str(folder / f"{spec.name}{present[1]}"),
            0,
            f"stands beside {spec.name}{present[0]}; keep one file for each table",
        )
        return None
    path = folder / f"{spec.name}{present[0]}"
    return FORMATS[present[0]](path, str(path), spec, faults)
