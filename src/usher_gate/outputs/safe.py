"""Making names harmless: for a terminal, for a spreadsheet, and for whatever else opens what we write."""

from __future__ import annotations

import re
import shlex
import unicodedata
from collections.abc import Callable
from typing import TextIO

from ..files.written.cells import BEYOND_C0, escaped, for_spreadsheet

__all__ = ["for_spreadsheet", "for_terminal", "harmless", "why_call"]

_JSON = ("json", "sarif", "oscal", "ocsf")
_MARKUP = ("html", "junit")
# Tab and line feed separate; everything else that this finds is a part of some name.
_IN_TEXT = re.compile(f"[\\x00-\\x08\\x0b-\\x1f{BEYOND_C0}]")


def for_terminal(text: str) -> str:
    """Return the text without anything that a terminal would obey.

    Control and format characters are shown by their number.
    """
    if text.isprintable():
        return text
    return "".join(
        char if char.isprintable() or char == " " else f"<U+{ord(char):04X}>"
        for char in unicodedata.normalize("NFC", text)
    )


def why_call(login: str, person: str, *more: str) -> tuple[str, ...]:
    """Return the words of a call that explains something about a person (login and id), each quoted for a shell."""
    return tuple(map(shlex.quote, ("usher-gate", "why", login if login.isprintable() else person, *more)))


class _Harmless:
    """A text stream on which no control character is written raw."""

    def __init__(self, stream: TextIO, clean: Callable[[str], str]) -> None:
        self._write, self._clean = stream.write, clean

    def write(self, text: str) -> int:
        self._write(self._clean(text))
        return len(text)

    def writelines(self, lines: list[str]) -> None:
        for line in lines:
            self.write(line)


def harmless(stream: TextIO, form: str) -> TextIO:
    """Return the stream, on which control characters are escaped as the form has it.

    C0 (but for tab and line feed), DEL, C1 and the controls of bidirectional text. A table is made of `for_terminal`
    texts, and has the terminal's own colours: it is left as it is.
    """
    if form == "table":
        return stream
    clean = _clean_text
    if form in _JSON:
        clean = _clean_json
    elif form in _MARKUP:
        clean = _clean_markup
    return _Harmless(stream, clean)  # type: ignore[return-value]


def _clean_json(text: str) -> str:
    return text if text.isascii() and "\x7f" not in text else escaped(text)  # the encoder escapes C0


def _clean_text(text: str) -> str:
    return _IN_TEXT.sub(lambda found: f"<U+{ord(found[0]):04X}>", text)


def _clean_markup(text: str) -> str:
    return _IN_TEXT.sub(lambda found: f"&lt;U+{ord(found[0]):04X}&gt;", text)
