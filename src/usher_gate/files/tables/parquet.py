"""Parquet tables. Faults name the row, counted from 1, where other formats name the line."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ...core.organisation.build.table import FLAG, LIST, TEXT, TIME, VALUE, WHOLE, Spec, Table
from ...core.words.faults import Fault, Faults
from ..binary import LARGEST_TABLE, check_file
from ..faults import BadInput

_DUE = {
    TEXT: "text",
    TIME: "timestamps with a time zone, or text",
    FLAG: "booleans, or text",
    WHOLE: "whole numbers, or text",
    LIST: "lists of text, or text",
    VALUE: "text or numbers",
}


class NullInList(Exception):
    """A list that holds a null, and its row, counted from 0."""

    def __init__(self, row: int) -> None:
        super().__init__(row)
        self.row = row


@contextmanager
def whole_parquet(shown: str) -> Iterator[None]:
    """Raises BadInput for what a damaged or unusual Parquet file does to Arrow.

    Any other error is ours, and stays what it is.
    """
    import pyarrow as pa

    try:
        yield
    except pa.ArrowNotImplementedError as error:
        what = " ".join(str(error).split())[:120]
        raise BadInput(
            [Fault(shown, 0, f"uses what this pyarrow ({pa.__version__}) cannot read ({what}); write it anew")]
        ) from None
    except ValueError:  # ArrowInvalid, or names that are no UTF-8: the footer, a page or a text is damaged
        raise BadInput([Fault(shown, 0, "is not a whole Parquet file; write it anew")]) from None
    except OSError as error:  # pa.ArrowIOError is one
        raise BadInput(
            [Fault(shown, 0, f"cannot be read ({error.strerror or 'it is not Parquet'}); write it anew")]
        ) from None


def read_parquet(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    """Return a Parquet table; None, with faults, where it cannot be used."""
    from .arrowcolumn import ArrowColumn

    try:
        data = columns_of(path, shown, spec, faults)
    except BadInput as error:
        faults.found += error.faults
        return None
    if data is None:
        return None
    before = len(faults.found)
    columns = {name: ArrowColumn(array) for name, array in texts_of(data, shown, spec, faults).items()}
    return (
        None
        if len(faults.found) > before
        else Table(spec=spec, file=shown, rows=data.num_rows, columns=columns, line_of=lambda row: row + 1)
    )


def columns_of(path: Path, shown: str, spec: Spec, faults: Faults) -> Any:
    """Return what a Parquet file holds of a table, as Arrow has it; None, with faults, for other columns.

    Raises BadInput.
    """
    import pyarrow.parquet as pq

    check_file(path, LARGEST_TABLE, shown)
    with whole_parquet(shown):
        file = pq.ParquetFile(path)
        names = list(file.schema_arrow.names)
    before = len(faults.found)
    spec.check_columns(names, shown, 1, faults)
    if len(faults.found) > before:
        return None
    with whole_parquet(shown):
        data = file.read(columns=[name for name in names if not name.startswith("x.")])
        data.validate(full=True)  # text that is no UTF-8 included
    return data


def texts_of(data: Any, shown: str, spec: Spec, faults: Faults) -> dict[str, Any]:
    """Return the columns as text (or times with a zone), with a fault for each whose type does not fit."""
    import pyarrow as pa

    columns = {}
    for name in data.column_names:
        try:
            array = _texts(data[name], spec.type_of(name), pa)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            array = None
        except NullInList as error:
            faults.add(shown, error.row + 1, f"{name}: a list with a null in it; {_DUE[LIST]} are due")
            continue
        if array is None:
            faults.add(shown, 1, f"the column {name} holds {data[name].type}; {_DUE[spec.type_of(name)]} is due")
        else:
            columns[name] = array
    return columns


def _texts(array: Any, kind: str, pa: Any) -> Any:
    """Return the column as text (or as times with a zone); None where its type does not fit; raises NullInList."""
    import pyarrow.compute as pc

    array = array.combine_chunks() if array.num_chunks != 1 else array.chunk(0)
    if isinstance(array, pa.ChunkedArray):
        array = pa.concat_arrays(array.chunks) if array.num_chunks else pa.array([], array.type)
    types, found = pa.types, array.type
    if types.is_dictionary(found) and types.is_string(found.value_type):
        return array
    if (
        types.is_string(found)
        or types.is_large_string(found)
        or types.is_string_view(found)
        or types.is_dictionary(found)
    ):
        return array.cast(pa.string())
    if types.is_null(found):
        return array.cast(pa.string())
    if kind == FLAG and types.is_boolean(found):
        return array.cast(pa.string())
    if kind == TIME and types.is_timestamp(found) and found.tz is not None:
        return array
    if (kind in (WHOLE, VALUE) and types.is_integer(found)) or (
        kind == VALUE and (types.is_floating(found) or types.is_decimal(found))
    ):
        return array.cast(pa.string())
    if (
        kind in (LIST, VALUE)
        and (types.is_list(found) or types.is_large_list(found))
        and types.is_string(found.value_type)
    ):
        if array.flatten().null_count:  # joined, nothing would be left of the list
            raise NullInList(next(row for row, cell in enumerate(array.to_pylist()) if cell and None in cell))
        return pc.binary_join(array, ";")
    return None
