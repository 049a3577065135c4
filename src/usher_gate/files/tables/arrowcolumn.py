"""Columns held by Arrow: for large CSV files and for Parquet."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ...core.organisation.build.listcolumn import ListColumn
from ...core.organisation.build.table import CellColumn
from ...core.organisation.columns import MISSING, NO_TIME, Coded, Ints, Longs
from ...core.words.times import RFC3339


def words_of(array: Any) -> list[str | None]:
    """Return the texts of an array; what is not UTF-8 becomes a text that nothing else has."""
    try:
        words: list[str | bytes | None] = array.to_pylist()
    except UnicodeDecodeError:
        words = array.cast(pa.binary()).to_pylist()
    return [word.decode("utf-8", "backslashreplace") if isinstance(word, bytes) else word for word in words]


class ArrowTexts:
    """Texts held by Arrow."""

    def __init__(self, array: Any) -> None:
        self.array = array

    def __len__(self) -> int:
        return len(self.array)

    def take(self, rows: Ints | Longs) -> list[str]:
        """Return the texts at these rows."""
        places = np.ascontiguousarray(rows, np.int64)
        # not pa.array(rows), which loads masked arrays to ask whether this is one
        numbers = pa.Array.from_buffers(pa.int64(), len(places), [None, pa.py_buffer(places)])
        return [text or "" for text in self.array.take(numbers).to_pylist()]

    def find(self, text: str) -> list[int]:
        """Return the rows that hold just this text."""
        found: list[int] = pc.indices_nonzero(pc.equal(self.array, text)).to_pylist()
        return found


class ArrowColumn(CellColumn):
    """A column of Arrow strings (or dictionary-coded strings, or times with an offset); an empty string is no cell."""

    def __init__(self, array: Any) -> None:
        self.array = array.combine_chunks() if isinstance(array, pa.ChunkedArray) else array
        if isinstance(self.array, pa.ChunkedArray):
            self.array = self.array.chunk(0) if self.array.num_chunks else pa.array([], array.type)

    def __len__(self) -> int:
        return len(self.array)

    @property
    def _strings(self) -> Any:
        return self.array.cast(pa.string()) if pa.types.is_dictionary(self.array.type) else self.array

    def coded(self) -> Coded:
        array = self.array if pa.types.is_dictionary(self.array.type) else self.array.dictionary_encode()
        codes = array.indices.fill_null(MISSING).to_numpy(zero_copy_only=False).astype(np.int32)
        words: list[str | None] = array.dictionary.to_pylist()
        known: dict[str, int] = {}
        places = [known.setdefault(word, len(known)) if word else MISSING for word in words]
        if len(known) == len(words):
            return Coded(codes, tuple(known))
        return Coded(np.array([*places, MISSING], np.int32)[codes], tuple(known))

    def texts(self, rows: Longs | None = None) -> ArrowTexts:
        return ArrowTexts(self._strings if rows is None else self._strings.take(pa.array(rows)))

    def times(self) -> tuple[Longs, Longs]:
        if pa.types.is_timestamp(self.array.type):
            micros = self.array.cast(pa.timestamp("us", "UTC"), safe=False).cast(pa.int64())
            return micros.fill_null(NO_TIME).to_numpy(zero_copy_only=False), np.empty(0, np.int64)
        array = self._filled()
        right = pc.fill_null(pc.match_substring_regex(array, f"^{RFC3339}$"), True).to_numpy(zero_copy_only=False)
        read = array if right.all() else array.take(pa.array(np.arange(len(right)), mask=~right))
        try:
            micros = read.cast(pa.timestamp("us", "UTC")).cast(pa.int64())
            return micros.fill_null(NO_TIME).to_numpy(zero_copy_only=False), np.flatnonzero(~right)
        except pa.ArrowInvalid:
            pass  # a day that the calendar does not have, or digits below a microsecond
        return ListColumn(words_of(array)).times()

    def _filled(self) -> Any:
        """Return the cells, an empty text being null.

        By taking rows: `if_else` on a slice of a text column gives memory that no one wrote up to pyarrow 23.
        """
        empty = pc.fill_null(pc.equal(self._strings, ""), False).to_numpy(zero_copy_only=False)
        if not empty.any():
            return self._strings
        return self._strings.take(pa.array(np.arange(len(empty)), mask=empty))

    def index_in(self, keys: CellColumn) -> Ints:
        if not isinstance(keys, ArrowColumn):
            return keys.rows_of(self._strings.to_pylist())
        found = pc.index_in(self._strings, value_set=keys._strings, skip_nulls=True)
        rows: Ints = found.fill_null(MISSING).to_numpy(zero_copy_only=False).astype(np.int32)
        return rows

    def rows_of(self, texts: Sequence[str | None]) -> Ints:
        return ArrowColumn(pa.array(texts, pa.string())).index_in(self)

    def order(self) -> Longs | None:
        strings = self._strings
        if len(strings) < 2 or pc.all(pc.less_equal(strings[:-1], strings[1:])).as_py() is True:
            return None
        rows: Longs = pc.sort_indices(strings).to_numpy().astype(np.int64)
        return rows

    def empty_rows(self) -> Longs:
        empty = pc.is_null(self.array)
        if not pa.types.is_timestamp(self.array.type):
            empty = pc.or_kleene(empty, pc.equal(self._strings, ""))
        rows: Longs = pc.indices_nonzero(empty).to_numpy().astype(np.int64)
        return rows

    def alike_without_case(self) -> bool:
        strings = self._filled().drop_null()
        plain = pc.all(pc.string_is_ascii(strings)).as_py()
        if not plain:  # Arrow's lower case distinguishes ß from ss, which casefold does not
            return ListColumn(strings.to_pylist()).alike_without_case()
        return bool(pc.count_distinct(pc.ascii_lower(strings)).as_py() < len(strings))

    def repeated(self, order: Longs | None) -> list[tuple[int, int]]:
        strings = self._strings if order is None else self._strings.take(pa.array(order))
        places = pc.indices_nonzero(pc.equal(strings[:-1], strings[1:])).to_pylist() if len(strings) > 1 else []
        return [(place, place + 1) if order is None else (int(order[place]), int(order[place + 1])) for place in places]
