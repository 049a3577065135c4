"""Frozen records: dataclasses that are neither compared nor printed, and therefore made in half the time at every start.

There are some sixty of them, and most hold arrays, whose comparison would have no meaning.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar, dataclass_transform

_Class = TypeVar("_Class")


@dataclass_transform(frozen_default=True, eq_default=False)
def record(cls: type[_Class]) -> type[_Class]:
    """Makes a class a frozen dataclass with slots, without comparison and representation."""
    return dataclass(frozen=True, slots=True, eq=False, repr=False)(cls)
