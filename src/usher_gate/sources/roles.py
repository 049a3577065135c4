"""Which roles a source gives, and whether anything in the working folder speaks of them. Spec: gathering 3."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path

from ..core.words.faults import Faults, nearest
from ..files.binary import LARGEST_WRITTEN, read_bytes
from ..files.written.workfolder import read_workfolder
from ..files.yamltree import YamlNode, parse_yaml
from .columns import column_cells
from .interface import Gathered
from .settings import GatherSettings

PRIVILEGED, NAMED = "privileged", "named by a rule"
_FILES = ("organisation.yaml", "access-rules.yaml")


def known_roles(settings: GatherSettings, folder: Path) -> dict[str, str]:
    """Return the roles that organisation.yaml, the access rules or the baseline speak of: PRIVILEGED or NAMED."""
    names = [name for named in settings.sources for name in named.paths if Path(name).name in _FILES]
    baseline = read_workfolder(folder).baseline
    known: dict[str, str] = {}
    for path in [*(folder / name for name in names), *([baseline] if baseline is not None else [])]:
        faults = Faults()
        data = read_bytes(path, str(path), faults, LARGEST_WRITTEN)
        top = None if data is None else parse_yaml(data, str(path), faults)
        for key, role in _roles_in(top) if top is not None else ():
            if role != PRIVILEGED:
                known[role] = PRIVILEGED if key == "privileged_roles" else known.get(role, NAMED)
    return known


def _roles_in(place: YamlNode, key: str = "") -> Iterator[tuple[str, str]]:
    """Yield each role that is named at or below a place in a file, with the key that names it."""
    if place.is_mapping:
        for name, entry in place.entries().items():
            yield from _roles_in(entry, name if name in ("role", "privileged_roles") else "")
    elif place.is_list:
        for item in place.items():
            yield from _roles_in(item, key)
    elif key and place.raw:
        yield key, place.raw


def role_counts(gathered: Gathered, known: Mapping[str, str]) -> list[tuple[str, int, str]]:
    """Return each role that people have, how many have it, and what is known of it; unknown roles first."""
    cells = column_cells(gathered.tables.get("people", ()), "roles")
    counts = Counter(role for cell in cells for role in set(cell.split(";")) if role)
    rows = [
        (role, number, known[role] if role in known else f"no known role; {nearest(role, known)}")
        for role, number in counts.items()
    ]
    return sorted(rows, key=lambda row: (row[0] in known, -row[1], row[0]))
