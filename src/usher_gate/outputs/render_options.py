"""How a result is to look."""

from __future__ import annotations

from ..core.words.record import record


@record
class RenderOptions:
    """Describes how a result for people is to look: columns wide, coloured or not, and how many rows of each kind.

    `show` are the sections that are asked for, () for the first screen; `fits_screen` is False if the number of rows
    was asked for.
    """

    width: int = 80
    colour: bool = False
    rows: int = 10
    show: tuple[str, ...] = ()
    fits_screen: bool = True
