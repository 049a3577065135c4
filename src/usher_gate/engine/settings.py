"""The table [cluster] of usher-gate.toml: the scheduler to which large work is given, and how it is reached.

Everyone who can reach a scheduler without TLS runs code as its workers and as the client, so none beyond this machine
is spoken to in the clear unless the table says that the network is trusted.
"""

from __future__ import annotations

import ipaddress
import re
from pathlib import Path

from ..core.words.faults import Fault, nearest, quoted
from ..core.words.record import record
from ..files.faults import BadInput, UsherError
from ..files.written.workfolder import CLUSTER, NAME, read_toml

NOT_AT_ALL = "none"
LOCAL = re.compile(r"local:([1-9]\d{0,2})")
_ADDRESS = re.compile(r"(tcp|tls|ws|wss)://(\[[0-9a-fA-F:.]+\]|[^\s/@:\[\]]+):\d+/?")
_CREDENTIALS = ("ca", "cert", "key")
_KEYS = ("scheduler", *_CREDENTIALS, "trust_network")
_ENCRYPTED = ("tls", "wss")


@record
class ClusterSettings:
    """A scheduler's address (or local:N), the paths of the certificates for one that is encrypted ("" for none), and
    whether the network is
    trusted with one that is not."""

    scheduler: str
    ca: str = ""
    cert: str = ""
    key: str = ""
    trust_network: bool = False

    @property
    def has_credentials(self) -> bool:
        """Return True if all three files are named."""
        return bool(self.ca and self.cert and self.key)


def scheduler(text: str) -> str:
    """Return the address of a scheduler, local:N, or none, as someone wrote it.

    Raises ValueError with what would be right.
    """
    if text == NOT_AT_ALL or LOCAL.fullmatch(text) or _ADDRESS.fullmatch(text):
        return text
    raise ValueError(
        "write the address of a scheduler, such as tls://192.0.2.7:8786, or local:2 for two processes here"
    )


def cluster_settings(folder: Path, address: str | None = None) -> ClusterSettings | None:
    """Return the scheduler that a working folder names, or `address` with the credentials of the folder; None for none.

    Raises BadInput for a table that is wrong, UsherError for an address that may not be spoken to as it is.
    """
    path = folder / NAME
    text, data = read_toml(path)
    table = data.get(CLUSTER, {})
    faults = []
    for key, value in table.items():
        line = next(
            (n for n, row in enumerate(text.splitlines(), 1) if re.match(rf"\s*\"?{re.escape(key)}\"?\s*=", row)), 1
        )
        if wrong := _wrong(folder, key, value):
            faults.append(Fault(str(path), line, f"{CLUSTER}.{key}: {wrong}"))
    if faults:
        raise BadInput(faults)
    chosen = address or table.get("scheduler")
    if chosen in (None, NOT_AT_ALL):
        return None
    files = {key: str(folder / table[key]) if key in table else "" for key in _CREDENTIALS}
    found = ClusterSettings(str(chosen), **files, trust_network=table.get("trust_network") is True)
    _refuse_open(found)
    return found


def _wrong(folder: Path, key: str, value: object) -> str:
    """Return what is wrong with an entry of the table; "" for nothing."""
    if key not in _KEYS:
        return f"unknown key {quoted(key)}; {nearest(key, _KEYS)}"
    if key == "trust_network":
        return "" if isinstance(value, bool) else "is neither true nor false; write trust_network = true"
    if key in _CREDENTIALS:
        is_file = isinstance(value, str) and "\0" not in value and (folder / value).is_file()
        return "" if is_file else f'names no file; write {key} = "{key}.pem"'
    try:
        scheduler(value if isinstance(value, str) else "")
    except ValueError as error:
        return str(error)
    return ""


def _refuse_open(settings: ClusterSettings) -> None:
    """Raises UsherError for a scheduler that is encrypted without credentials, or beyond this machine and not
    encrypted."""
    found = _ADDRESS.fullmatch(settings.scheduler)
    if found is None:
        return
    if found[1] in _ENCRYPTED:
        if not settings.has_credentials:
            raise UsherError(
                f"{settings.scheduler} is reached with certificates; "
                f'write ca = "…", cert = "…" and key = "…" in [{CLUSTER}] of {NAME}'
            )
        return
    if not _is_loopback(found[2].strip("[]")) and not settings.trust_network:
        raise UsherError(
            f"{settings.scheduler} is not on this machine and not encrypted: everyone who can reach it runs code as "
            "you; "
            f"name it tls://…, or write trust_network = true in [{CLUSTER}] of {NAME}"
        )


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
