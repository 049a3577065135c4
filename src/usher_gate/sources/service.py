"""Settings over HTTP and JSON.

The interface of the stand-in (openapi.json beside it), as the example of how a service is read.
"""

from __future__ import annotations

from typing import Any

from ..files.jsoncells import cell_text
from .interface import Context, Gathered, Provides, Row, SourceFailed
from .web import Access, Web

_PAGE = 1000
_MOST_PAGES = 100_000
TABLES = ("authenticators", "passes", "partners", "observations", "sign_ins")


class ServiceSource:
    """Services whose settings are asked for, and tables that the same server keeps."""

    def __init__(self, access: Access, services: tuple[str, ...], tables: tuple[str, ...] = ()) -> None:
        self._access, self._services, self._tables = access, services, tables
        given = frozenset((*(["settings"] if services else []), *tables))
        self.gives = Provides(given, services, needed=given)

    def gather(self, context: Context) -> Gathered:
        """Settings and tables."""
        found = Gathered()
        with Web(self._access, context) as web:
            for service in self._services:
                rows = self._all(web, f"/v1/services/{service}/settings", "settings", context)
                found.tables["settings"] = [
                    *found.tables.get("settings", ()),
                    *({"service": service, **row} for row in rows),
                ]
            for table in self._tables:
                found.tables[table] = self._all(web, f"/v1/tables/{table}", "rows", context)
        return found

    def _all(self, web: Web, path: str, key: str, context: Context) -> list[Row]:
        rows: list[Row] = []
        for _ in range(_MOST_PAGES):
            answer = web.json(path, {"after": len(rows), "limit": _PAGE})
            page, total = answer.get(key), answer.get("total")
            if not isinstance(page, list) or not isinstance(total, int):
                raise SourceFailed(f"{self._access.url}{path}: answers without {key} and total")
            rows += [_row(item) for item in page if isinstance(item, dict)]
            context.progress(key, len(rows), total)
            if len(rows) == total:
                return rows
            if not page or len(rows) > total:
                raise SourceFailed(f"{self._access.url}{path}: said that there are {total} {key}, and gave {len(rows)}")
        raise SourceFailed(f"{self._access.url}{path}: gives page after page without an end")


def _row(given: dict[str, Any]) -> Row:
    """Return an object as a row of texts."""
    return {name: cell_text(value) or "" for name, value in given.items() if value not in (None, "")}
