"""What every output format of a check is, and the table that lists them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TextIO

from ..core.verdicts.result import CheckResult
from ..core.words.record import record


@record
class Look:
    """How a result for people is to look: columns wide, coloured or not, and how many rows of each kind."""

    width: int = 80
    colour: bool = False
    rows: int = 10


Writer = Callable[[CheckResult, TextIO, Look], None]


def _json(result: CheckResult, stream: TextIO, _look: Look) -> None:
    from .json_ import write_json

    write_json(result, stream)


def _csv(result: CheckResult, stream: TextIO, _look: Look) -> None:
    from .csv_ import write_csv

    write_csv(result, stream)


def _table(result: CheckResult, stream: TextIO, look: Look) -> None:
    from .table import write_table

    write_table(result, stream, look)


def _markdown(result: CheckResult, stream: TextIO, look: Look) -> None:
    from .markdown import write_markdown

    write_markdown(result, stream, look)


FORMATS: Mapping[str, Writer] = {"table": _table, "json": _json, "csv": _csv, "markdown": _markdown}
