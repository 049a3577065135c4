"""What the stand-in knows: a snapshot's tables as SCIM resources and settings; a change arrives only after a while."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from ..core.organisation.build.credentials import AUTHENTICATORS, PASSES
from ..core.organisation.build.groups import GROUPS, MEMBERS
from ..core.organisation.build.partners import PARTNERS
from ..core.organisation.build.people import PEOPLE
from ..core.organisation.build.settings import OBSERVATIONS, SETTINGS
from ..core.organisation.build.table import Spec
from ..core.words.faults import Faults
from ..files.faults import stop_if_any
from ..files.scim import ACCOUNT, ENTERPRISE, EXTENDED
from ..files.snapshot.services import ids_of
from ..files.tables import read_table

USER = "urn:ietf:params:scim:schemas:core:2.0:User"
GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
_SPECS = (PEOPLE, GROUPS, MEMBERS, SETTINGS, OBSERVATIONS, AUTHENTICATORS, PASSES, PARTNERS)
Row = dict[str, str]


def rows_of(folder: Path, spec: Spec) -> list[Row]:
    """Return a table of a snapshot as rows of texts, empty cells left out; raises BadInput."""
    faults = Faults()
    table = read_table(folder, spec, faults)
    stop_if_any(faults)
    if table is None:
        return []
    every = np.arange(table.rows)
    columns = {name: column.texts().take(every) for name, column in table.columns.items()}
    return [{name: cells[row] for name, cells in columns.items() if cells[row]} for row in range(table.rows)]


class World:
    """Everything that the stand-in serves."""

    def __init__(self, folder: Path, arrive_after: float, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self.tables = {spec.name: rows_of(folder, spec) for spec in _SPECS}
        self.services = ids_of(folder / "services.yaml") | {row["service"] for row in self.tables["settings"]}
        self.arrive_after = arrive_after
        self._coming: list[tuple[float, Row]] = []
        self._lock = threading.Lock()
        self.users = [_user(row) for row in self.tables["people"]]
        self.groups = _groups(self.tables["groups"], self.tables["members"])

    def settings(self, service: str) -> list[Row]:
        """Return the settings of a service as they are now."""
        with self._lock:
            now = self._clock()
            arrived = [row for due, row in self._coming if due <= now]
            self._coming = [change for change in self._coming if change[0] > now]
            for row in arrived:
                key = (row["service"], row["control"], row["scope"])
                rows = self.tables["settings"]
                rows[:] = [
                    one_row for one_row in rows if (one_row["service"], one_row["control"], one_row["scope"]) != key
                ] + [row]
        return [
            {name: cell for name, cell in row.items() if name != "service"}
            for row in self.tables["settings"]
            if row["service"] == service
        ]

    def change(self, row: Row) -> None:
        """Takes a change, which arrives later."""
        with self._lock:
            self._coming.append((self._clock() + self.arrive_after, row))


def _user(row: Mapping[str, str]) -> dict[str, Any]:
    made: dict[str, Any] = {
        "schemas": [USER, ENTERPRISE, ACCOUNT],
        "id": row["id"],
        "userName": row["login"],
        "userType": row.get("kind", "member"),
        "active": row.get("active", "true") == "true",
        "meta": {"resourceType": "User"} | ({"created": row["created_at"]} if "created_at" in row else {}),
    }
    made |= {"displayName": row["name"]} if "name" in row else {}
    made |= {"roles": [{"value": word} for word in row["roles"].split(";")]} if "roles" in row else {}
    made |= {"entitlements": [{"value": word} for word in row["licences"].split(";")]} if "licences" in row else {}
    made |= {ENTERPRISE: {"department": row["unit"]}} if "unit" in row else {}
    account = {name: cell for name, cell in row.items() if name in EXTENDED or name.startswith("attr.")}
    return made | ({ACCOUNT: account} if account else {})


def _groups(groups: list[Row], members: list[Row]) -> list[dict[str, Any]]:
    inside: dict[str, list[dict[str, str]]] = {}
    for row in members:
        kind = "Group" if row.get("type") == "group" else "User"
        inside.setdefault(row["group"], []).append({"value": row["member"], "type": kind})
    return [
        {
            "schemas": [GROUP],
            "id": row["id"],
            "displayName": row.get("name", row["id"]),
            "members": inside.get(row["id"], []),
            "meta": {"resourceType": "Group"},
        }
        for row in groups
    ]
