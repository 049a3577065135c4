"""What every table format is: a reader."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ...core.organisation.build.table import Spec, Table
from ...core.words.faults import Faults

Reader = Callable[[Path, str, Spec, Faults], Table | None]
