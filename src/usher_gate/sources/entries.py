"""Directory entries (of LDAP or LDIF) as people, groups and members: units from the DNs, nested groups by `member`."""

from __future__ import annotations

import uuid
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from .dn import normal_dn, unit_of
from .interface import Gathered
from .people import LISTS, Odd, person_row

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

    def wanted(self) -> list[str]:
        """The attributes that are read."""
        return sorted({"objectClass", self.group_id, self.group_name, self.member, *self.fields.values()})


def _text(values: list[bytes] | None, join: bool = False) -> str:
    if not values:
        return ""
    texts = [value.decode("utf-8", "replace").strip() for value in values]
    return ";".join(texts) if join else texts[0]


def _time(text: str) -> str:
    """A GeneralizedTime (RFC 4517, 3.3.13) as RFC 3339; anything else as it is."""
    digits = text[:-1].partition(".")[0] if text.endswith("Z") else ""
    if len(digits) == 14 and digits.isdigit():
        return f"{digits[:4]}-{digits[4:6]}-{digits[6:8]}T{digits[8:10]}:{digits[10:12]}:{digits[12:]}Z"
    return text


def tables(entries: Iterable[tuple[str, Attributes]], layout: Layout) -> Gathered:
    """The tables that the entries make."""
    found = Gathered({"people": [], "groups": [], "members": []})
    people, groups = layout.people.lower().encode(), layout.groups.lower().encode()
    names = {column: attribute.lower() for column, attribute in layout.fields.items()}
    ids: dict[str, tuple[str, str]] = {}  # by DN: person or group, and id
    exact: dict[bytes, tuple[str, str]] = {}  # the same by the DN as it is written, which is how most groups have it
    waiting: list[tuple[str, list[bytes]]] = []
    odd, kinds, units = 0, Odd(), dict[str, str]()
    columns = [(column, name, column in LISTS, column in _TIMES) for column, name in names.items()]
    for dn, attributes in entries:
        classes = [one_name.lower() for one_name in attributes.get("objectclass", ())]
        if people in classes:
            values = {}
            for column, name, join, moment in columns:
                if given := attributes.get(name):
                    text = (
                        given[0].decode("utf-8", "replace").strip()
                        if len(given) == 1 or not join
                        else _text(given, True)
                    )
                    values[column] = _time(text) if moment else text
            if "unit" not in values:
                above = dn.partition(",")[2] if not {"\\", '"'} & set(dn) else dn
                if above not in units:
                    units[above] = unit_of(f"x=x,{above}" if above is not dn else dn)
                values["unit"] = units[above]
            if not values.get("id") or not values.get("login"):
                odd += 1
                continue
            found.tables["people"].append(person_row(values, kinds))
            exact[dn.encode()] = ids[normal_dn(dn)] = ("person", values["id"])
        elif groups in classes:
            group = _text(attributes.get(layout.group_id.lower())) or str(uuid.uuid5(uuid.NAMESPACE_X500, dn))
            found.tables["groups"].append(
                {"id": group, "name": _text(attributes.get(layout.group_name.lower())) or group}
            )
            exact[dn.encode()] = ids[normal_dn(dn)] = ("group", group)
            waiting.append((group, attributes.get(layout.member.lower(), [])))
    found.notes += kinds.notes()
    if odd:
        found.notes.append(
            f"{odd} entries of people have no {layout.fields['id']} or no {layout.fields['login']}, and are left out"
        )
    members, nobody = found.tables["members"], 0
    for group, dns in waiting:
        for one_dn in dns:
            kind, member = exact.get(one_dn) or ids.get(normal_dn(one_dn.decode("utf-8", "replace")), ("", ""))
            if kind:
                members.append({"group": group, "member": member, "type": kind})
            elif one_dn.strip(b" ,"):
                nobody += 1
    if nobody:
        found.notes.append(f"{nobody} members of groups are DNs that no person or group has, and are left out")
    return found
