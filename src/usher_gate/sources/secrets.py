"""Secrets by name: from the environment, from a file that only its owner can read, or from the system keyring.

Never shown.
"""

from __future__ import annotations

import base64
import os
import stat
from collections.abc import Sequence
from pathlib import Path
from urllib.parse import quote, quote_plus

from ..core.words.faults import quoted
from ..files.binary import open_file
from ..files.faults import BadInput, UsherError

FORMS = "env:NAME, file:PATH or keyring:SERVICE/NAME"
HIDDEN = "(secret)"
_SHORT, _LONG = 8, 16  # a shorter one may be anyone's word; a longer one is recognised within other text


def is_reference(text: str) -> bool:
    """Return whether a text names a secret, and is none."""
    kind, colon, rest = text.partition(":")
    return bool(colon and rest) and kind in ("env", "file", "keyring")


class Secrets:
    """Fetches secrets and remembers them, so that no text that leaves the program holds one."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._values: set[str] = set()

    def fetch(self, reference: str) -> str:
        """Return the secret of a name; raises UsherError, which never holds it."""
        kind, _, rest = reference.partition(":")
        value = {"env": self._environment, "file": self._file, "keyring": self._keyring}[kind](rest)
        if not value:
            raise UsherError(f"the secret {reference} is empty")
        self.keep(value)
        return value

    def keep(self, value: str) -> None:
        """Remembers a secret that came by another way, such as a token."""
        if value:
            data = value.encode()
            forms = (
                quote(value, safe=""),
                quote_plus(value),
                base64.b64encode(data).decode(),
                value.replace('"', '\\"'),
            )
            self._values |= {value, *forms}

    def found_in(self, texts: Sequence[str]) -> int | None:
        """Return the number of the first text that is a secret of 8 characters or more, or that contains one of 16 or
        more; None for none.
        """
        values = [value for value in self._values if len(value) >= _SHORT]
        whole = "\0".join(["", *texts, ""]) if values else ""
        for value in values:
            place = whole.find(value if len(value) >= _LONG else f"\0{value}\0")
            if place >= 0:
                return whole.count("\0", 0, place + 1) - 1
        return None

    def hide(self, text: str) -> str:
        """Return the text without any secret in it."""
        for value in sorted(self._values, key=len, reverse=True):
            text = text.replace(value, HIDDEN)
        return text

    def _environment(self, name: str) -> str:
        value = os.environ.get(name)
        if value is None:
            raise UsherError(f"the environment has no {name}; set it, or name the secret otherwise ({FORMS})")
        return value

    def _file(self, name: str) -> str:
        path = self._folder / Path(name).expanduser()
        try:
            with open_file(path, 64 * 1024) as stream:
                mode = os.fstat(stream.fileno()).st_mode
                if mode & (stat.S_IRWXG | stat.S_IRWXO):
                    raise UsherError(f"{path} can be read by others than its owner; chmod 600 {path}")
                return stream.read(64 * 1024).decode("utf-8").strip("\r\n")
        except BadInput as error:
            raise UsherError(f"the secret file {error.faults[0]}") from None
        except (OSError, UnicodeDecodeError) as error:
            raise UsherError(f"the secret file {path} cannot be read ({error.__class__.__name__})") from None

    def _keyring(self, name: str) -> str:
        """Return a secret from the system keyring; raises UsherError if it is not there."""
        service, _, user = name.partition("/")
        try:
            import keyring
            from keyring.errors import KeyringError
        except ImportError:
            raise UsherError("the system keyring needs keyring; pip install 'usher-gate[gather]'") from None
        try:
            value = keyring.get_password(service, user)
        except KeyringError as error:
            raise UsherError(
                f"the system keyring cannot be asked for {quoted(name)} ({error.__class__.__name__})"
            ) from None
        if value is None:
            raise UsherError(f"the system keyring has no {quoted(name)}; keyring set {service} {user}")
        return str(value)
