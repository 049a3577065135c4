"""Sign-ins from Parquet and CSV, by Arrow, some rows at a time."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from functools import cached_property
from io import TextIOWrapper
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ...core.organisation.columns import MISSING, NO_TIME, Bools, Ints, Longs
from ...core.words.faults import Fault, Faults
from ...core.words.times import parse_epoch
from ..binary import LARGEST_LOG
from ..faults import BadInput, stop_if_any
from ..parallel import ahead
from ..place import Place, for_arrow, opened
from ..tables.arrowcolumn import ArrowColumn, words_of
from ..tables.parquet import whole_parquet
from .interface import COLUMNS, EPOCH, SIGN_INS, Batch, LogPart, Meanings, Unread

READ = 512 * 1024  # rows that are read at once, since each reading brings a dictionary of its own
ROWS = 128 * 1024  # rows that are decided at once, which stay in the cache
_WORDS = pa.dictionary(pa.int32(), pa.string())


class _Column:
    """A column whose words are looked up once, however many dictionaries hold them.

    `_every` holds each distinct word so far and `_meant` what it means; `_numbers` is the same in the order of the
    dictionary at hand.
    """

    def __init__(self, name: str, meanings: Meanings) -> None:
        self._coder = meanings.coders[name]
        self._every = self._dictionary = pa.array([], pa.string())
        self._meant, self._numbers = np.zeros(0, np.int32), np.full(1, MISSING, np.int32)

    def numbers(self, array: Any) -> Ints:
        """Return what the cells mean."""
        words = array.dictionary
        if not words.equals(self._dictionary):
            self._learn(words)
        found: Ints = self._numbers.take(_codes(array), mode="wrap")  # quicker than an index; -1 is the last
        return found

    def _learn(self, words: Any) -> None:
        """Finds the words of a new dictionary among those that are known (in Arrow), and looks up the others."""
        pair = [
            pa.DictionaryArray.from_arrays(np.arange(len(dictionary), dtype=np.int32), dictionary)
            for dictionary in (self._every, words)
        ]
        both = pa.chunked_array(pair).unify_dictionaries()
        self._every = both.chunk(1).dictionary
        fresh = words_of(self._every[len(self._meant) :])
        self._meant = np.append(self._meant, np.fromiter(map(self._coder.__getitem__, fresh), np.int32, len(fresh)))
        places = both.chunk(1).indices.to_numpy(zero_copy_only=False)
        self._numbers, self._dictionary = np.append(self._meant[places], np.int32(MISSING)), words


def _codes(array: Any) -> Ints:
    codes = array.indices
    if codes.null_count:
        codes = codes.fill_null(MISSING)
    found: Ints = codes.to_numpy(zero_copy_only=False)
    return found


def _joined(lists: Any) -> Any:
    """Lists of words as texts.

    A null in one is a word that no one knows; joined by Arrow, nothing would be left of the list.
    """
    if not pa.types.is_string(lists.type.value_type) or not lists.flatten().null_count:
        return pc.binary_join(lists, ";")
    cells = lists.to_pylist()
    return pa.array(
        [None if cell is None else ";".join(map(_word_or_null, cell)) for cell in cells],
        pa.string(),
    )


def _word_or_null(word: str | None) -> str:
    return "null" if word is None else word


def _coded(array: Any, path: Place, name: str) -> Any:
    """Return a column as words of a dictionary."""
    kind = array.type
    if pa.types.is_dictionary(kind) and pa.types.is_string(kind.value_type):
        return array if pa.types.is_int32(kind.index_type) else array.cast(_WORDS)
    try:
        if pa.types.is_list(kind) or pa.types.is_large_list(kind):
            array = _joined(array)
        return array.cast(pa.string()).dictionary_encode()
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        raise BadInput([Fault(str(path), 1, f"the column {name} holds {kind}; text is due")]) from None


def _times(array: Any, unread: Unread) -> tuple[Longs, Bools | None]:
    """Return the times, and which are none (an empty cell is NO_TIME).

    Numbers are seconds or milliseconds since 1970.
    """
    if pa.types.is_integer(array.type) or pa.types.is_floating(array.type):
        array = array.cast(pa.string())
    if pa.types.is_timestamp(array.type) and array.type.tz is not None:
        if array.type.unit == "us" and not array.null_count:
            whole: Longs = array.view(pa.int64()).to_numpy()
            return whole, None
        return ArrowColumn(array).times()[0], None
    if pa.types.is_dictionary(array.type):
        array = array.cast(pa.string())
    time, rows = ArrowColumn(array).times()
    if not len(rows):
        return time, None
    texts = words_of(array.take(pa.array(rows)))
    counted = np.array([_epoch(text) for text in texts], np.int64)
    if np.any(counted != NO_TIME):
        unread.spelled["time", "a number"] = EPOCH
        time = time.copy()
        time[rows] = counted
        rows = rows[counted == NO_TIME]
    wrong = np.zeros(len(time), bool)
    wrong[rows] = True
    return time, wrong


def _epoch(text: str | None) -> int:
    found = parse_epoch(text or "")
    return NO_TIME if found is None else found


def _batches(
    found: Iterator[Any],
    names: Sequence[str],
    path: Place,
    line: Callable[[int], int],
    meanings: Meanings,
    unread: Unread,
) -> Iterator[Batch]:
    """Yield the events of a log as batches of codes, at most ROWS at a time, and report what cannot be read."""
    columns = {name: _Column(name, meanings) for name in COLUMNS if name in names}
    before = 0
    for batch in found:
        arrays = {name: _coded(batch.column(names.index(name)), path, name) for name in columns}
        raw_time = batch.column(names.index("time"))
        time, wrong = _times(raw_time, unread)

        def counted(
            name: str, rows: Longs, arrays: dict[str, Any] = arrays, raw: Any = raw_time
        ) -> list[tuple[str, int, int]]:
            array = _coded(raw, path, "time") if name == "time" else arrays[name]
            found, first, count = np.unique(_codes(array)[rows], return_index=True, return_counts=True)
            words = [
                "" if code < 0 else words_of(array.dictionary[code : code + 1])[0] or "" for code in found.tolist()
            ]
            return list(zip(words, count.tolist(), rows[first].tolist(), strict=True))

        numbers = {name: column.numbers(arrays[name]) for name, column in columns.items()}
        first = before

        def line_of(row: int, first: int = first) -> int:
            return line(first + row)

        whole = meanings.batch(numbers, time, wrong, counted, line_of, path, unread)
        yield from whole.pieces(ROWS)
        before += batch.num_rows


def read_parquet(part: LogPart, meanings: Meanings, unread: Unread) -> Iterator[Batch]:
    """Yield the sign-ins of a Parquet file; where faults name a line, it is the row, counted from 1.

    Raises BadInput.
    """
    import pyarrow.parquet as pq

    path, source = part.path, for_arrow(part.path, LARGEST_LOG)
    with whole_parquet(str(path)):
        schema = pq.ParquetFile(source).schema_arrow
    _check_columns(list(schema.names), path)
    time = schema.field("time").type
    if pa.types.is_timestamp(time) and time.tz is None:
        message = "the column time holds times without an offset; write timestamps with a time zone"
        raise BadInput([Fault(str(path), 1, message)])
    coded = [column.name for column in schema if pa.types.is_string(column.type) and column.name != "time"]
    names = [name for name in schema.names if not name.startswith("x.")]
    with whole_parquet(str(path)):
        file = pq.ParquetFile(source, read_dictionary=coded, pre_buffer=False)  # or the whole file would be held
        groups = range(part.first, file.num_row_groups if part.last is None else part.last)
        before = sum(file.metadata.row_group(number).num_rows for number in range(part.first))
        rows = file.iter_batches(READ, row_groups=list(groups), columns=names)
    whole = _whole(rows, lambda: whole_parquet(str(path)))
    yield from _batches(ahead(whole), names, path, lambda row: before + row + 1, meanings, unread)


def row_groups(path: Place) -> int:
    """Return how many row groups a Parquet file has; 0 for one that cannot be used (reading it says why).

    Raises BadInput.
    """
    import pyarrow.parquet as pq

    try:
        return int(pq.ParquetFile(for_arrow(path, LARGEST_LOG)).num_row_groups)
    except (OSError, ValueError):
        return 0


def _whole(rows: Iterator[Any], reading: Callable[[], AbstractContextManager[None]]) -> Iterator[Any]:
    """Yield the same, each read under `reading`, which says what is wrong with the file.

    What goes wrong while the rows are used is no fault of the file.
    """
    while True:
        with reading():
            batch = next(rows, None)
        if batch is None:
            return
        yield batch


def _check_columns(names: list[str], path: Place) -> None:
    faults = Faults()
    SIGN_INS.check_columns(names, str(path), 1, faults)
    stop_if_any(faults)


def read_csv(path: Place, meanings: Meanings, unread: Unread) -> Iterator[Batch]:
    """Yield the sign-ins of a CSV file (RFC 4180). A row with too few or too many cells is counted as unread;
    raises BadInput for a file that is none."""
    import pyarrow.csv as pacsv

    names = _cells_of(next(_text_lines(path), ""))
    if not names:
        raise BadInput([Fault(str(path), 1, f"is empty; begin with a line of columns: {','.join(SIGN_INS.required)}")])
    _check_columns(names, path)
    where = _Lines(path, len(names))

    def odd(row: Any) -> str:
        del row
        where.odd += 1
        return "skip"

    words = pa.dictionary(pa.int32(), pa.binary())
    wanted = [name for name in names if not name.startswith("x.")]
    try:
        rows = pacsv.open_csv(
            for_arrow(path, LARGEST_LOG),
            read_options=pacsv.ReadOptions(column_names=names, skip_rows=1, block_size=8 << 20),
            parse_options=pacsv.ParseOptions(invalid_row_handler=odd),
            convert_options=pacsv.ConvertOptions(
                column_types=dict.fromkeys(names, words) | {"time": pa.binary()},
                null_values=[""],
                strings_can_be_null=True,
                include_columns=wanted,
            ),
        )
    except pa.ArrowInvalid:
        return  # nothing but the line of columns
    whole = _whole(rows, lambda: _whole_csv(path))
    yield from _batches(ahead(map(_as_text, whole)), wanted, path, where.line, meanings, unread)
    if where.odd:
        unread.read += where.odd
        unread.add(f"has not {len(names)} cells, as the first line has", "", where.odd, path, lambda: where.first_odd)


@contextmanager
def _whole_csv(path: Place) -> Iterator[None]:
    """Raises BadInput for what Arrow says of a CSV file that is none throughout."""
    try:
        yield
    except pa.ArrowInvalid:
        raise BadInput([Fault(str(path), 0, "is not CSV throughout; check its quotes")]) from None


def _as_text(batch: Any) -> Any:
    """Return the words of a batch as text; what is not UTF-8 becomes a word that nothing has."""
    columns = []
    for array in batch.columns:
        coded = array if pa.types.is_dictionary(array.type) else array.dictionary_encode()
        words = pa.array(words_of(coded.dictionary), pa.string())
        columns.append(pa.DictionaryArray.from_arrays(coded.indices, words, safe=False))
    return pa.RecordBatch.from_arrays(columns, batch.schema.names)


def _text_lines(path: Place) -> Iterator[str]:
    """Yield the lines of a file, whichever way they end, without their ends; what is not UTF-8 is replaced."""
    with TextIOWrapper(opened(path, LARGEST_LOG), "utf-8-sig", "replace", newline=None) as stream:
        for line in stream:
            yield line.rstrip("\n")


def _cells_of(line: str) -> list[str]:
    """Return the cells of a line; none where it is no CSV."""
    try:
        return next(csv.reader([line]), [])
    except csv.Error:
        return []


class _Lines:
    """Says where the rows of a CSV file stand; looked up only when something is wrong."""

    def __init__(self, path: Place, cells: int) -> None:
        self._path, self._cells, self.odd = path, cells, 0

    @cached_property
    def _rows(self) -> tuple[list[int], int]:
        found, odd = [], 0
        for number, text in enumerate(_text_lines(self._path), 1):
            if number == 1 or not text:
                continue
            if text.count(",") == self._cells - 1 or len(_cells_of(text)) == self._cells:
                found.append(number)
            else:
                odd = odd or number
        return found, odd

    def line(self, row: int) -> int:
        """Return the line of a row."""
        lines = self._rows[0]
        return lines[row] if row < len(lines) else 0

    @property
    def first_odd(self) -> int:
        """Return the first line that has not as many cells as the first one."""
        return self._rows[1]
