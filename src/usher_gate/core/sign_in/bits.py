"""Sets of rules as bits, for many people at once: words of 64, (words, people)."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from ..organisation.columns import Bools, Longs

Bits = NDArray[np.uint64]
_WORD = (1 << 64) - 1


def packed(truths: Bools) -> Bits:
    """Truths (rows, bits) as words (words, rows); the number of bits is a multiple of 64."""
    return np.ascontiguousarray(np.packbits(truths, axis=1, bitorder="little").view("<u8").astype(np.uint64).T)


def words_of(mask: int, count: int) -> list[np.uint64]:
    """Return a mask of rules as uint64 words of 64 bits each, the lowest bits first."""
    return [np.uint64(mask >> 64 * word & _WORD) for word in range(count)]


def none_of(mask: int, bits: Bits, people: Longs) -> Bools:
    """Return which of these people have none of a mask's bits."""
    found = np.ones(len(people), bool)
    for word, wanted in enumerate(words_of(mask, len(bits))):
        if wanted:
            found &= (bits[word, people] & wanted) == 0
    return found


def least(masks: Iterable[int]) -> list[int]:
    """Return the masks that contain no other one.

    A person without any bit of some mask is without any bit of one of these.
    """
    found: list[int] = []
    for mask in sorted(set(masks), key=lambda some: (some.bit_count(), some)):
        if not any(mask & smaller == smaller for smaller in found):
            found.append(mask)
    return found
