"""Directory entries (of LDAP or LDIF) as people, groups and members: units from the DNs, nested groups by `member`."""

from __future__ import annotations

import uuid
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import compress, zip_longest
from typing import Protocol

import numpy as np

from ..core.organisation.columns import Bools, Longs
from .columns import Columns
from .dn import normal_dn, unit_of
from .interface import Context, Gathered, MappedColumn
from .people import LISTS, OddValues, PeopleMapping, check_word, not_taken_note, person_cells

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
_NOT_TAKEN = "not taken"  # people that `where` leaves out; their ids are not kept
_TIMES = ("created_at", "last_sign_in_at", "expires_at", "reviewed_at")


@dataclass(frozen=True)
class Layout:
    """Describes what the entries of a directory mean.

    Which are people and groups, and which attribute is which column.
    """

    mapping: PeopleMapping
    people: str = "inetOrgPerson"
    groups: str = "groupOfNames"
    group_id: str = "cn"
    group_name: str = "description"
    member: str = "member"
    base: str = ""

    def wanted(self) -> list[str]:
        """Return the attributes that are read."""
        return sorted({"objectClass", self.group_id, self.group_name, self.member, *self.mapping.fields.values()})


def _time(text: str) -> str:
    """Return a GeneralizedTime (RFC 4517, 3.3.13) as RFC 3339; anything else as it is."""
    digits = text[:-1].partition(".")[0] if text.endswith("Z") else ""
    if len(digits) == 14 and digits.isascii() and digits.isdecimal():
        return f"{digits[:4]}-{digits[4:6]}-{digits[6:8]}T{digits[8:10]}:{digits[10:12]}:{digits[12:]}Z"
    return text


class EntryBlock(Protocol):
    """Some entries at once. An entry's number counts from 0 within the block."""

    dns: list[str]

    def having(self, name: str, word: str) -> Bools:
        """Return which entries have an attribute (in lower case) with a value, case ignored; of shape (entries,)."""

    def values(self, name: str, among: Bools) -> tuple[Longs, list[bytes]]:
        """Return the values of an attribute in some entries, with each one's entry number, in ascending order."""


class Entries:
    """Entries with their attributes by name, as a block."""

    def __init__(self, entries: Sequence[tuple[str, Attributes]]) -> None:
        self.dns = [dn for dn, _ in entries]
        self._attributes = [attributes for _, attributes in entries]

    def having(self, name: str, word: str) -> Bools:
        """Return which entries have an attribute with a value."""
        wanted = word.lower().encode()
        return np.array([any(value.lower() == wanted for value in one.get(name, ())) for one in self._attributes], bool)

    def values(self, name: str, among: Bools) -> tuple[Longs, list[bytes]]:
        """Return the values of an attribute in some of the entries."""
        found = [
            (number, value)
            for number in np.flatnonzero(among).tolist()
            for value in self._attributes[number].get(name, ())
        ]
        return np.array([number for number, _ in found], np.int64), [value for _, value in found]


def tables(
    blocks: Iterable[EntryBlock], layout: Layout, names: Callable[[], Collection[str]], context: Context
) -> Gathered:
    """Return the tables that the entries make; raises SourceFailed. `names` returns the attributes that people have."""
    made = _Made(layout, names)
    for block in blocks:
        made.add(block)
        context.check_people(made.people_count)
    return made.gathered()


class _Made:
    """The tables so far."""

    def __init__(self, layout: Layout, names: Callable[[], Collection[str]]) -> None:
        self._layout, self._mapping, self._names = layout, layout.mapping, names
        self._people: dict[str, list[str]] = {column: [] for column in ("unit", *layout.mapping.fields)}
        self._groups: dict[str, list[str]] = {"id": [], "name": []}
        self._dns: dict[str, tuple[list[str], list[str]]] = {
            "person": ([], []),
            "group": ([], []),
            _NOT_TAKEN: ([], []),
        }
        self._waiting: list[tuple[str, list[bytes]]] = []
        self._odd, self._kinds, self._units = 0, OddValues(), dict[str, str]()
        self._filled = Counter[str]()  # by column, how many people have something there
        self._seen = set[str]()  # the columns for which some entry has an attribute

    @property
    def people_count(self) -> int:
        """Return how many people there are so far."""
        return len(self._people["id"])

    def add(self, block: EntryBlock) -> None:
        """Takes what a block of entries says."""
        people = block.having("objectclass", self._layout.people)
        self._add_people(block, people)
        self._add_groups(block, block.having("objectclass", self._layout.groups) & ~people)

    def _add_people(self, block: EntryBlock, people: Bools) -> None:
        """Add the people of a block of directory entries; entries without an id or a login are counted as odd."""
        numbers = np.flatnonzero(people)
        if not len(numbers):
            return
        place = np.cumsum(people) - 1  # of an entry's number, among the people
        dns = [block.dns[number] for number in numbers.tolist()]
        cells = {"unit": [self._unit(dn) for dn in dns]}
        for column, attribute in self._mapping.fields.items():
            records, values = block.values(attribute.lower(), people)
            if any(values):
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
        if self._mapping.where:
            chosen = self._mapping.chosen(cells, len(dns))
            self._dns[_NOT_TAKEN][0].extend(compress(dns, [not is_chosen for is_chosen in chosen]))
            dns, cells = _compressed(dns, cells, chosen)
        whole = [bool(name and login) for name, login in zip(cells["id"], cells["login"], strict=True)]
        self._odd += whole.count(False)
        if not all(whole):
            dns, cells = _compressed(dns, cells, whole)
        self._filled.update({column: len(dns) - cells[column].count("") for column in self._mapping.fields})
        self._mapping.translate(cells, dns)
        person_cells(cells, len(dns), self._kinds)
        for column, texts in cells.items():
            self._people.setdefault(column, [""] * len(self._people["unit"])).extend(texts)
        known, ids = self._dns["person"]
        known += dns
        ids += cells["id"]

    def _unit(self, dn: str) -> str:
        """Return the unit that an entry lies in."""
        above = dn.partition(",")[2] if "\\" not in dn and '"' not in dn else dn
        if above not in self._units:
            self._units[above] = unit_of(f"x=x,{above}" if above is not dn else dn)
        return self._units[above]

    def _add_groups(self, block: EntryBlock, groups: Bools) -> None:
        """Add the groups of a block of directory entries; members are resolved once every entry is known."""
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
        fields = self._mapping.fields
        if self._people["id"]:
            self._mapping.check_attributes(fields.keys() - self._seen, self._names)
        found = Gathered({"people": Columns(self._people), "groups": Columns(self._groups)})
        found.mapped = [
            MappedColumn("people", column, attribute, self._filled[column]) for column, attribute in fields.items()
        ]
        found.tables["members"], nobody = self._members()
        found.notes += self._kinds.notes()
        if left_out := len(self._dns[_NOT_TAKEN][0]):
            found.notes.append(not_taken_note(left_out))
        if self._odd:
            found.notes.append(f"left out are people without {fields['id']} or {fields['login']}: {self._odd:,}")
        if nobody:
            found.notes.append(f"left out are members of groups that are nobody's DN: {nobody:,}")
        return found

    def _members(self) -> tuple[Columns, int]:
        """Return the memberships, and how many DNs of members no one has.

        Most are written as in the entry; others are compared as DNs are.
        """
        exact = {
            dn.encode(): (kind, name)
            for kind, (dns, ids) in self._dns.items()
            for dn, name in zip_longest(dns, ids, fillvalue="")
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
            there = [who for who in known if who is not None and who[0] != _NOT_TAKEN]
            cells["group"] += [group] * len(there)
            cells["member"] += [name for _, name in there]
            cells["type"] += [kind for kind, _ in there]
        return Columns(cells), nobody


def _compressed(
    dns: list[str], cells: Mapping[str, list[str]], taken: Sequence[bool]
) -> tuple[list[str], dict[str, list[str]]]:
    return list(compress(dns, taken)), {column: list(compress(texts, taken)) for column, texts in cells.items()}


def _cells(places: Longs, values: Sequence[bytes], many: int, join: bool = False) -> list[str]:
    """Return one text for each of so many entries, from the values at their places (ascending).

    All joined, else the first.

    "" for none.
    """
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
