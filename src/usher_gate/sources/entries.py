"""Directory entries (of LDAP or LDIF) as people, groups and members: units from the DNs, nested groups by `member`."""

from __future__ import annotations

import uuid
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import compress
from typing import Protocol

import numpy as np

from ..core.organisation.columns import Bools, Longs
from .columns import Columns
from .dn import normal_dn, unit_of
from .interface import Gathered
from .people import LISTS, NO_TRANSLATIONS, Odd, Translations, check_mapped, check_word, person_cells

Attributes = Mapping[str, list[bytes]]  # by name in lower case
FIELDS: Mapping[str, str] = {
    "id": "entryUUID",
    "login": "mail",
    "name": "displayName",
    "kind": "employeeType",
    "roles": "title",
    "licences": "departmentNumber",
    "created_at": "createTimestamp",
}
_TIMES = ("created_at", "last_sign_in_at", "expires_at", "reviewed_at")


@dataclass(frozen=True)
class Layout:
    """What the entries of a directory mean: which object classes are people and groups, which attribute is which column."""

    fields: Mapping[str, str]
    people: str = "inetOrgPerson"
    groups: str = "groupOfNames"
    group_id: str = "cn"
    group_name: str = "description"
    member: str = "member"
    base: str = ""
    mapped: frozenset[str] = frozenset()  # the columns that were mapped by hand: some entry must have each attribute
    may_be_absent: tuple[str, ...] = ()  # columns of which this is not required
    translations: Translations = NO_TRANSLATIONS

    def wanted(self) -> list[str]:
        """The attributes that are read."""
        return sorted({"objectClass", self.group_id, self.group_name, self.member, *self.fields.values()})


def _time(text: str) -> str:
    """A GeneralizedTime (RFC 4517, 3.3.13) as RFC 3339; anything else as it is."""
    digits = text[:-1].partition(".")[0] if text.endswith("Z") else ""
    if len(digits) == 14 and digits.isascii() and digits.isdecimal():
        return f"{digits[:4]}-{digits[4:6]}-{digits[6:8]}T{digits[8:10]}:{digits[10:12]}:{digits[12:]}Z"
    return text


class Block(Protocol):
    """Some entries at once. An entry's number counts from 0 within the block."""

    dns: list[str]

    def having(self, name: str, word: str) -> Bools:
        """Which entries have an attribute (in lower case) with a value, case ignored; of shape (entries,)."""

    def values(self, name: str, among: Bools) -> tuple[Longs, list[bytes]]:
        """The values of an attribute in some of the entries, with the number of the entry of each, in ascending order."""


class Entries:
    """Entries with their attributes by name, as a block."""

    def __init__(self, entries: Sequence[tuple[str, Attributes]]) -> None:
        self.dns = [dn for dn, _ in entries]
        self._attributes = [attributes for _, attributes in entries]

    def having(self, name: str, word: str) -> Bools:
        """Which entries have an attribute with a value."""
        wanted = word.lower().encode()
        return np.array([any(value.lower() == wanted for value in one.get(name, ())) for one in self._attributes], bool)

    def values(self, name: str, among: Bools) -> tuple[Longs, list[bytes]]:
        """The values of an attribute in some of the entries."""
        found = [
            (number, value)
            for number in np.flatnonzero(among).tolist()
            for value in self._attributes[number].get(name, ())
        ]
        return np.array([number for number, _ in found], np.int64), [value for _, value in found]


def tables(blocks: Iterable[Block], layout: Layout) -> Gathered:
    """The tables that the entries make."""
    made = _Made(layout)
    for block in blocks:
        made.add(block)
    return made.gathered()


class _Made:
    """The tables so far."""

    def __init__(self, layout: Layout) -> None:
        self._layout = layout
        self._people: dict[str, list[str]] = {column: [] for column in ("unit", *layout.fields)}
        self._groups: dict[str, list[str]] = {"id": [], "name": []}
        self._dns: dict[str, tuple[list[str], list[str]]] = {"person": ([], []), "group": ([], [])}  # with the ids
        self._waiting: list[tuple[str, list[bytes]]] = []
        self._odd, self._kinds, self._units = 0, Odd(), dict[str, str]()
        self._seen = set[str]()  # the columns for which some entry has an attribute

    def add(self, block: Block) -> None:
        """Takes what a block of entries says."""
        people = block.having("objectclass", self._layout.people)
        self._add_people(block, people)
        self._add_groups(block, block.having("objectclass", self._layout.groups) & ~people)

    def _add_people(self, block: Block, people: Bools) -> None:
        layout, numbers = self._layout, np.flatnonzero(people)
        if not len(numbers):
            return
        place = np.cumsum(people) - 1  # of an entry's number, among the people
        dns = [block.dns[number] for number in numbers.tolist()]
        cells = {"unit": [self._unit(dn) for dn in dns]}
        for column, attribute in layout.fields.items():
            records, values = block.values(attribute.lower(), people)
            if len(values):
                self._seen.add(column)
            for at, value in zip(place[records].tolist(), values, strict=True) if column in LISTS else ():
                check_word(value.decode("utf-8", "replace"), f"{dns[at]}: {attribute}")
            cells[column] = _cells(place[records], values, len(dns), column in LISTS)
            if column in _TIMES:
                cells[column] = [_time(text) for text in cells[column]]
            if column == "unit":  # where an entry has none of its own, its place in the tree counts
                has = np.zeros(len(dns), bool)
                has[place[records]] = True
                cells[column] = [
                    text if own else self._unit(dn)
                    for text, own, dn in zip(cells[column], has.tolist(), dns, strict=True)
                ]
        whole = [bool(name and login) for name, login in zip(cells["id"], cells["login"], strict=True)]
        self._odd += whole.count(False)
        if not all(whole):
            dns = list(compress(dns, whole))
            cells = {column: list(compress(texts, whole)) for column, texts in cells.items()}
        layout.translations.apply(cells, dns)
        person_cells(cells, len(dns), self._kinds)
        for column, texts in cells.items():
            self._people.setdefault(column, [""] * len(self._people["unit"])).extend(texts)
        known, ids = self._dns["person"]
        known += dns
        ids += cells["id"]

    def _unit(self, dn: str) -> str:
        """The unit that an entry lies in."""
        above = dn.partition(",")[2] if "\\" not in dn and '"' not in dn else dn
        if above not in self._units:
            self._units[above] = unit_of(f"x=x,{above}" if above is not dn else dn)
        return self._units[above]

    def _add_groups(self, block: Block, groups: Bools) -> None:
        layout, numbers = self._layout, np.flatnonzero(groups)
        if not len(numbers):
            return
        place = np.cumsum(groups) - 1
        dns = [block.dns[number] for number in numbers.tolist()]
        texts = [
            _cells(place[records], values, len(dns))
            for attribute in (layout.group_id, layout.group_name)
            for records, values in [block.values(attribute.lower(), groups)]
        ]
        ids = [text or str(uuid.uuid5(uuid.NAMESPACE_X500, dn)) for text, dn in zip(texts[0], dns, strict=True)]
        self._groups["id"] += ids
        self._groups["name"] += [text or name for text, name in zip(texts[1], ids, strict=True)]
        known, so_far = self._dns["group"]
        known += dns
        so_far += ids
        records, values = block.values(layout.member.lower(), groups)
        ends = np.searchsorted(place[records], np.arange(len(dns) + 1)).tolist()
        self._waiting += [(name, values[ends[at] : ends[at + 1]]) for at, name in enumerate(ids)]

    def gathered(self) -> Gathered:
        """Return all tables; raises SourceFailed if no entry has an attribute that was mapped by hand."""
        if self._people["id"]:
            check_mapped(self._layout.fields, self._layout.mapped - self._seen, self._layout.may_be_absent)
        found = Gathered({"people": Columns(self._people), "groups": Columns(self._groups)})
        found.tables["members"], nobody = self._members()
        found.notes += self._kinds.notes()
        fields = self._layout.fields
        if self._odd:
            found.notes.append(f"left out are people without {fields['id']} or {fields['login']}: {self._odd:,}")
        if nobody:
            found.notes.append(f"left out are members of groups that are nobody's DN: {nobody:,}")
        return found

    def _members(self) -> tuple[Columns, int]:
        """The memberships, and how many DNs of members nobody has. Most are written as in the entry; others are compared as DNs are."""
        exact = {
            dn.encode(): (kind, name)
            for kind, (dns, ids) in self._dns.items()
            for dn, name in zip(dns, ids, strict=True)
        }
        normal: dict[str, tuple[str, str]] | None = None
        cells: dict[str, list[str]] = {"group": [], "member": [], "type": []}
        nobody = 0
        for group, dns in self._waiting:
            known = [exact.get(dn) for dn in dns]
            if None in known:
                if normal is None:
                    normal = {normal_dn(dn.decode()): who for dn, who in exact.items()}
                known = [
                    who or normal.get(normal_dn(dn.decode("utf-8", "replace")))
                    for dn, who in zip(dns, known, strict=True)
                ]
                nobody += sum(who is None and bool(dn.strip(b" ,")) for dn, who in zip(dns, known, strict=True))
            there = [who for who in known if who is not None]
            cells["group"] += [group] * len(there)
            cells["member"] += [name for _, name in there]
            cells["type"] += [kind for kind, _ in there]
        return Columns(cells), nobody


def _cells(places: Longs, values: Sequence[bytes], many: int, join: bool = False) -> list[str]:
    """One text for each of so many entries, from the values at their places (ascending): all joined, else the first; "" for none."""
    texts = [value.decode("utf-8", "replace").strip() for value in values]
    if len(texts) == many and bool(np.all(places == np.arange(many))):
        return texts
    cells: list[str | None] = [None] * many
    for place, text in zip(places.tolist(), texts, strict=True):
        known = cells[place]
        if known is None:
            cells[place] = text
        elif join:
            cells[place] = f"{known};{text}"
    return [text or "" for text in cells]
