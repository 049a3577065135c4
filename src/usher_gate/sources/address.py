"""Addresses of servers: parsed, never compared as texts, and held to one rule: nothing secret travels in the clear."""

from __future__ import annotations

from ipaddress import ip_address
from urllib.parse import SplitResult, urlsplit

from ..core.words.faults import quoted
from ..core.words.record import record
from ..files.faults import UsherError
from ..files.place import secret_in_query

_PORTS = {"http": 80, "https": 443, "ldap": 389, "ldaps": 636, "ldapi": 0}


@record
class Address:
    """Says where a server is: scheme and host in small letters."""

    text: str
    scheme: str
    host: str
    port: int

    @property
    def loopback(self) -> bool:
        """Return whether it is on this very machine."""
        if self.host.rstrip(".") == "localhost":
            return True
        try:
            return ip_address(self.host).is_loopback
        except ValueError:
            return False

    @property
    def encrypted(self) -> bool:
        """Return whether what is said there is encrypted from the first byte."""
        return self.scheme in ("https", "ldaps")

    def same_server(self, other: Address) -> bool:
        """Return whether another address leads to the same server."""
        return (self.scheme, self.host, self.port) == (other.scheme, other.host, other.port)


def problem_of(text: str, schemes: tuple[str, ...]) -> str | None:
    """Return what is wrong with a text as an address of one of these schemes; None for one that is good."""
    right = f"write an address such as {schemes[-1]}://directory.example"
    if any(ord(char) < 33 or ord(char) == 127 or char == "\\" for char in text):
        return f"holds a blank, a backslash or a control character; {right}"
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError:
        return f"is no address; {right}"
    if parts.scheme not in schemes:
        return f"is of no known scheme; {right}"
    if "@" in parts.netloc:
        return "holds a user or a password; name them by their keys"
    if secret_in_query(text):
        return "holds a secret in its query; name it by its key (token, client_secret)"
    if not parts.hostname and parts.scheme != "ldapi":
        return f"names no server; {right}"
    if port == 0:
        return f"has the port 0, at which no one can be; {right}"
    return None


def address_of(text: str, schemes: tuple[str, ...] = ("http", "https")) -> Address:
    """Return the address in a text; raises UsherError."""
    problem = problem_of(text, schemes)
    if problem is not None:
        raise UsherError(f"{quoted(text.partition('?')[0])} {problem}")
    parts: SplitResult = urlsplit(text)
    return Address(text, parts.scheme, parts.hostname or "", parts.port or _PORTS[parts.scheme])


def web_address(text: str, plain: bool) -> Address:
    """Return an address to which secrets may be sent.

    Raises UsherError for one in the clear, unless it is here, or `plain` was asked for.
    """
    found = address_of(text)
    if not (found.encrypted or found.loopback or plain):
        raise UsherError(f"{quoted(text)} is not encrypted; write https://, or plain = true if it must be")
    return found
