"""What an organisation has agreed about its guests beforehand."""

from __future__ import annotations

from ..words.record import record

END, KEEP = "end", "keep"


@record
class Policy:
    """The policy; days are whole days.

    `fallback` are the numbers of active people who are asked where no one else can be.
    """

    review_every_days: int = 180
    silent_days: int = 90
    ends_soon_days: int = 30
    answer_within_days: int = 14
    on_silence: str = END
    keep_for_days: int = 180
    fallback: tuple[int, ...] = ()


DAYS = ("review_every_days", "silent_days", "ends_soon_days", "answer_within_days", "keep_for_days")
