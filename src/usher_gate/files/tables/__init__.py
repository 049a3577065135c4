"""Tables in any of the formats: one file each format, found by its ending."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ...core.organisation.build.table import Spec, Table
from ...core.words.faults import Faults
from .interface import Reader

if TYPE_CHECKING:
    from concurrent.futures import Future

_LARGE = 1024 * 1024


def _csv(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    from .csv_ import read_csv

    return read_csv(path, shown, spec, faults)


def _jsonl(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    from .jsonl import read_jsonl

    return read_jsonl(path, shown, spec, faults)


def _parquet(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    from .parquet import read_parquet

    return read_parquet(path, shown, spec, faults)


def _folder(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    from .pieces import read_pieces

    return read_pieces(path, shown, spec, faults)


IN_PIECES = frozenset({"people", "members", "settings", "observations", "authenticators", "passes"})
FORMATS: Mapping[str, Reader] = {".csv": _csv, ".jsonl": _jsonl, ".parquet": _parquet}


def read_table(folder: Path, spec: Spec, faults: Faults) -> Table | None:
    """Return the table of that name in a folder; None where there is none, or, with faults, where it cannot be used.

    A large table may be a folder of Parquet files.
    """
    present = [ending for ending in FORMATS if (folder / f"{spec.name}{ending}").exists()]
    if spec.name in IN_PIECES and (folder / spec.name).is_dir():
        present.append("")
    if not present:
        return None
    if len(present) > 1:
        faults.add(
            str(folder / f"{spec.name}{present[1]}"),
            0,
            f"is beside {spec.name}{present[0]}; keep one file for each table (or one folder of Parquet files)",
        )
        return None
    path = folder / f"{spec.name}{present[0]}"
    return (FORMATS[present[0]] if present[0] else _folder)(path, str(path), spec, faults)


class PrefetchingReader:
    """The tables of a folder.

    Large ones are read ahead, in threads, while the first is being used (Arrow does not hold them up).
    """

    def __init__(self, folder: Path, ahead: Sequence[Spec]) -> None:
        self.folder = folder
        self._ahead: dict[str, Future[tuple[Table | None, Faults]]] = {}
        large = [spec for spec in ahead if self._size(spec) >= _LARGE]
        if large:
            from concurrent.futures import ThreadPoolExecutor

            pool = ThreadPoolExecutor(len(large), "read")
            self._ahead = {spec.name: pool.submit(self._read, spec) for spec in large}
            pool.shutdown(wait=False)

    def _size(self, spec: Spec) -> int:
        paths = [self.folder / f"{spec.name}{ending}" for ending in FORMATS]
        if spec.name in IN_PIECES and (pieces := self.folder / spec.name).is_dir():
            paths += pieces.iterdir()
        return sum(path.stat().st_size for path in paths if path.is_file())

    def _read(self, spec: Spec) -> tuple[Table | None, Faults]:
        faults = Faults()
        return read_table(self.folder, spec, faults), faults

    def table(self, spec: Spec, faults: Faults) -> Table | None:
        """Return a table of the snapshot, read ahead where it is large.

        None where there is none, or where faults name what is wrong.
        """
        ahead = self._ahead.pop(spec.name, None)
        if ahead is None:
            return read_table(self.folder, spec, faults)
        table, found = ahead.result()
        faults.found += found.found
        return table
