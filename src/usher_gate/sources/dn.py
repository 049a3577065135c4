"""Distinguished names as texts (RFC 4514, and the quoted form of RFC 2253, section 4, that old tools still write)."""

from __future__ import annotations

import re

from ..core.words.record import record

Part = tuple[str, str]  # an attribute's type and value, the value unescaped
_SIMPLE = re.compile(
    r'[^\\"+#;<> \t=,]+=[^\\"+#;<>=, \t]+(?: [^\\"+#;<>=, \t]+)*'
    r'(?:,[^\\"+#;<> \t=,]+=[^\\"+#;<>=, \t]+(?: [^\\"+#;<>=, \t]+)*)*'
)
_HEX = re.compile(r"[0-9a-fA-F]{2}")
_SPECIAL = ' "#+,;<=>\\'
_ESCAPED = re.compile(r'[\\"+#;<>=,\x00]')


class NotADn(ValueError):
    """A text that is no distinguished name."""


@record
class _Scanner:
    """A text that is read from a place on."""

    text: str

    def blanks(self, place: int) -> int:
        """Return the place after blanks."""
        while place < len(self.text) and self.text[place] in " \t":
            place += 1
        return place

    def kind(self, place: int) -> tuple[str, int]:
        """Return an attribute's type, and the place after its `=`."""
        end = self.text.find("=", place)
        name = self.text[place:end].strip() if end >= 0 else ""
        if not name or not re.fullmatch(r"[A-Za-z0-9.;_-]+", name):
            raise NotADn(self.text)
        return name.casefold().removeprefix("oid."), self.blanks(end + 1)

    def value(self, place: int) -> tuple[str, int]:
        """Return a value, unescaped, and the place of what ends it (`,`, `;`, `+` or the end)."""
        if self.text[place : place + 1] == "#":
            return self._hex(place + 1)
        quoted = self.text[place : place + 1] == '"'
        data, place, solid = (
            bytearray(),
            place + quoted,
            0,
        )  # `solid`: up to where blanks at the end belong to the value
        while place < len(self.text):
            char = self.text[place]
            if char == "\\":
                escaped, place = self._escape(place + 1)
                data += escaped
                solid = len(data)
                continue
            if quoted and char == '"':
                return self._text(data), self._end(self.blanks(place + 1))
            if not quoted and char in ",;+":
                break
            if not quoted and char in '"<>':
                raise NotADn(self.text)
            data += char.encode("utf-8", "surrogatepass")
            if char not in " \t":
                solid = len(data)
            place += 1
        if quoted:
            raise NotADn(self.text)
        return self._text(data[:solid]), place

    def _escape(self, place: int) -> tuple[bytes, int]:
        if _HEX.match(self.text, place):
            return bytes.fromhex(self.text[place : place + 2]), place + 2
        if self.text[place : place + 1] and self.text[place] in _SPECIAL:
            return self.text[place].encode(), place + 1
        raise NotADn(self.text)

    def _hex(self, place: int) -> tuple[str, int]:
        """Return a value as the hexadecimal digits of its BER encoding, kept as they are."""
        end = place
        while _HEX.match(self.text, end):
            end += 2
        if end == place:
            raise NotADn(self.text)
        return "#" + self.text[place:end].casefold(), self._end(self.blanks(end))

    def _end(self, place: int) -> int:
        if place < len(self.text) and self.text[place] not in ",;+":
            raise NotADn(self.text)
        return place

    def _text(self, data: bytes | bytearray) -> str:
        try:
            return data.decode("utf-8")
        except UnicodeDecodeError:
            raise NotADn(self.text) from None


def parse_dn(text: str) -> list[list[Part]]:
    """Return the relative names of a DN, the lowest first, each one or more parts; raises NotADn."""
    scanner, found, place = _Scanner(text), list[list[Part]](), 0
    if not text.strip():
        return []
    while True:
        parts: list[Part] = []
        while True:
            kind, place = scanner.kind(scanner.blanks(place))
            value, place = scanner.value(place)
            parts.append((kind, value))
            if text[place : place + 1] != "+":
                break
            place += 1
        found.append(parts)
        if place >= len(text):
            return found
        place += 1


def normal_dn(text: str) -> str:
    """Return a DN as it is compared.

    Case, blanks that do not count, ways to escape, and the order of parts in one name make no difference.

    A text that is no DN is compared as it is, but for case.
    """
    if _SIMPLE.fullmatch(text):
        return text.casefold()
    try:
        names = parse_dn(text)
    except NotADn:
        return text.casefold()
    return ",".join("+".join(sorted(f"{kind}={_compared(value)}" for kind, value in parts)) for parts in names)


def _compared(value: str) -> str:
    """Return a value as it is compared (RFC 4518, 2.6.1: blanks within count once)."""
    one = " ".join(value.split()).casefold()
    return _ESCAPED.sub(lambda found: f"\\{ord(found[0]):02x}", one)


def unit_of(text: str) -> str:
    """Return the unit that a DN lies in: its organisational units, the highest first.

    "" for none, and for a text that is no DN.
    """
    try:
        names = parse_dn(text)[1:]
    except NotADn:
        return ""
    units = [value for parts in names for kind, value in parts if kind in ("ou", "2.5.4.11", "organizationalunitname")]
    path = [" ".join(unit.replace("/", "-").split()) for unit in reversed(units)]
    return "/" + "/".join(unit for unit in path if unit) if any(path) else ""
