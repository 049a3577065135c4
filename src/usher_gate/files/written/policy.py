"""The table [guests] of usher-gate.toml: what is agreed about guests beforehand."""

from __future__ import annotations

import re
from pathlib import Path

from ...core.guests.policy import DAYS, END, KEEP, Policy
from ...core.organisation.snapshot import Snapshot
from ...core.words.faults import Fault, as_key, nearest, quoted
from ..faults import BadInput
from .workfolder import GUESTS, NAME, read_toml

_KEYS = (*DAYS, "on_silence", "fallback")
MOST_DAYS = 36_500


def read_policy(folder: Path, snapshot: Snapshot) -> Policy:
    """Return the policy of a working folder, the defaults where it says nothing; raises BadInput."""
    path = folder / NAME
    text, data = read_toml(path)
    written = data.get(GUESTS, {})
    table = {as_key(key): value for key, value in written.items()}
    spelling = {as_key(key): key for key in written}
    faults: list[Fault] = []

    def fault(key: str, message: str) -> None:
        faults.append(
            Fault(str(path), _line(text, spelling.get(key, key)), f"{GUESTS}.{spelling.get(key, key)}: {message}")
        )

    for key, value in table.items():
        if key not in _KEYS:
            fault(key, f"unknown key {quoted(spelling[key])}; {nearest(key, _KEYS)}")
        elif key in DAYS and (not isinstance(value, int) or isinstance(value, bool) or not 0 <= value <= MOST_DAYS):
            fault(key, f"{value!r} is no number of days; write a whole number, such as {key} = 90")
        elif key == "on_silence" and value not in (END, KEEP):
            fault(key, f'{value!r} is none of the words; write "{END}" or "{KEEP}"')
    fallback: list[int] = []
    names = table.get("fallback", [])
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
        fault("fallback", 'is no list of people; write fallback = ["N1003"]')
        names = []
    for name in names:
        number = _find(name, snapshot)
        if number is None:
            fault("fallback", f"there is no active person {quoted(name)}; name ids or logins of people who are")
        elif snapshot.people.guests[number]:
            fault(
                "fallback", f"{quoted(name)} is a guest, and guests do not answer for guests; name someone of your own"
            )
        else:
            fallback.append(number)
    if faults:
        raise BadInput(faults)
    days = {key: table[key] for key in DAYS if key in table}
    return Policy(**days, on_silence=table.get("on_silence", END), fallback=tuple(fallback))


def _line(text: str, key: str) -> int:
    """Return the place of a key of the table."""
    inside = False
    for number, row in enumerate(text.splitlines(), 1):
        if re.match(r"\s*\[", row):
            inside = bool(re.match(rf"\s*\[\s*\"?{GUESTS}\"?\s*\]", row))
        elif inside and re.match(rf"\s*\"?{re.escape(key)}\"?\s*=", row):
            return number
    return 1


def _find(name: str, snapshot: Snapshot) -> int | None:
    import numpy as np

    found = snapshot.people.ids.find(name)
    if found:
        return found[0]
    logins = snapshot.people.logins.take(np.arange(len(snapshot.people)))
    return next((number for number, login in enumerate(logins) if login.casefold() == name.casefold()), None)
