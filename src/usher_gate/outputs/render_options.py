"""How a result is to look."""

from __future__ import annotations

from ..core.words.record import record


@record
class RenderOptions:
    """Describes how a result for people is to look: columns wide, coloured or not, and how many rows of each kind."""

    width: int = 80
    colour: bool = False
    rows: int = 10
