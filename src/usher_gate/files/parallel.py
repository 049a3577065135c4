"""Work done beside other work: the next piece fetched while one is used."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_Piece = TypeVar("_Piece")


def ahead(pieces: Iterator[_Piece]) -> Iterator[_Piece]:
    """Yield the same, the next one being fetched in a thread while one is used."""
    end = object()
    with ThreadPoolExecutor(1, "ahead") as pool:
        coming = pool.submit(next, pieces, end)
        while (piece := coming.result()) is not end:
            coming = pool.submit(next, pieces, end)
            yield piece  # type: ignore[misc]
