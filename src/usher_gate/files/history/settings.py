"""The table [history] of usher-gate.toml: whether checks are kept, and where."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from ...core.words.faults import Fault, nearest, quoted
from ...core.words.record import record
from ..faults import BadInput, UsherError
from ..place import secret_in_query
from ..written.workfolder import HISTORY, NAME, read_toml

_KEYS = ("keep", "url", "password")


@record
class HistorySettings:
    """Says whether every check is kept, and the database."""

    keep: bool
    url: sa.URL


def read_history_settings(folder: Path) -> HistorySettings:
    """Return where the history of a working folder lies: `history.db` there, unless the table says otherwise.

    Raises BadInput.
    """
    path = folder / NAME
    text, data = read_toml(path)
    table = data.get(HISTORY, {})
    faults: list[Fault] = []

    def fault(key: str, message: str) -> None:
        line = next(
            (n for n, row in enumerate(text.splitlines(), 1) if re.match(rf"\s*\"?{re.escape(key)}\"?\s*=", row)), 1
        )
        faults.append(Fault(str(path), line, f"{HISTORY}.{key}: {message}"))

    if isinstance(table, str):
        table = {"url": f"sqlite:///{folder / table}"}
    for key in table:
        if key not in _KEYS:
            fault(key, f"unknown key {quoted(key)}; {nearest(key, _KEYS)}")
    if not isinstance(table.get("keep", False), bool):
        fault("keep", "is neither true nor false; write keep = true")
    url = _url(table, folder, fault)
    if faults or url is None:
        raise BadInput(faults)
    return HistorySettings(bool(table.get("keep", False)), url)


def _url(table: dict[str, Any], folder: Path, fault: Any) -> sa.URL | None:
    """Return the address of the database with its password, or None after reporting a fault."""
    if "url" not in table:
        return sa.make_url(f"sqlite:///{folder / 'history.db'}")
    try:
        url = sa.make_url(table["url"])
    except (sa.exc.ArgumentError, TypeError, AttributeError):
        fault("url", "is no address of a database; write postgresql+psycopg://user@host/name, or sqlite:///history.db")
        return None
    if name := secret_in_query(str(table["url"])):
        fault("url", f'holds a secret ({name}); take it out, and write password = {{env = "NAME"}}')
        return None
    if url.password is not None:
        fault("url", 'holds a password; take it out, and write password = {env = "NAME"}')
        return None
    named = table.get("password")
    if named is None:
        return url
    if not isinstance(named, dict) or list(named) != ["env"] or not isinstance(named["env"], str):
        fault("password", 'names no secret; write password = {env = "NAME"}')
        return None
    value = os.environ.get(named["env"])
    if value is None:
        raise UsherError(f"the environment has no {named['env']}, which {NAME} names as the history's password; set it")
    return url.set(password=value)
