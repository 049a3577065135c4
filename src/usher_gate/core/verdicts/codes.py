"""The verdicts, worst first, and arrays of them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

VerdictCodes = NDArray[np.uint8]
# Worst first, so that "better" is "greater"; the last two are not given by a tree, but by what surrounds it.
VERDICTS = ("drifts", "unavailable", "unknown", "settling", "loose", "meets", "excepted", "exempt")
DRIFTS, UNAVAILABLE, UNKNOWN, SETTLING, LOOSE, MEETS, EXCEPTED, EXEMPT = range(8)
# The order in which results name the verdicts.
SHOWN_ORDER = ("meets", "loose", "settling", "unknown", "unavailable", "drifts", "excepted", "exempt")


def verdict_name(code: int) -> str:
    """Return the word for a verdict's code."""
    return VERDICTS[code]
