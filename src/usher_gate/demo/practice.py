"""A folder to gather in: the crew as a directory writes it out, a roster with words of its own, planned meetings."""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence

from . import state
from .people import GROUPS, DemoPerson, memberships

TOML = """\
# Gather here: usher-gate gather. docs/gather.md says how to gather from usher-gate stand-in.
snapshot = "snapshot"
baseline = "../baseline.yaml"

[gather]
keep = 3                     # earlier snapshots that are kept

[[gather.source]]            # where two sources contradict each other, the first counts
name = "by hand"
kind = "files"
paths = ["organisation.yaml", "services.yaml", "access-rules.yaml"]

[[gather.source]]
name = "directory"
kind = "ldif"
path = "crew.ldif"
fields = {kind = "employeeType", roles = "title", licences = "departmentNumber"}

[[gather.source]]
name = "roster"
kind = "table"
path = "roster.csv"
mapping = "roster-map.yaml"

[[gather.source]]            # one object that holds for the whole organisation
name = "house rules of the chat"
kind = "table"
path = "quaychat.json"
mapping = "quaychat-map.yaml"

[[gather.source]]
name = "house rules of the broadcasts"
kind = "table"
path = "beaconcast.json"
mapping = "beaconcast-map.yaml"

[[gather.source]]
name = "plans"
kind = "calendar"
path = "plans.ics"
service = "tidecall"
"""
MAPPING = """\
usher-gate: mapping/1
into:
  - table: people
    columns:
      id: account
      login: mail
      kind: {from: type, values: {E: member, X: guest, A: service}}
      mfa: {from: second, values: {must: required, may: offered, none: absent}}
  - settings: tidecall
    scope: {level: person, from: account}
    controls:
      door.waiting-room: {from: wait_room, values: {"yes": guests, "no": everyone}}
ignore: [cabin]
"""
CHAT = """\
{"export": {"written": "2026-11-19T22:00:00Z"}, "policy": {"partners": {"chat": "listed"}, "files": {"reshare": false}}}
"""
CHAT_MAPPING = """\
usher-gate: mapping/1
rows: policy
into:
  - settings: quaychat
    scope: {level: organisation}
    controls:
      contact.outside-domains: partners.chat
      file.guest-resharing: {from: files.reshare, values: {"true": "on", "false": "off"}}
"""
BROADCAST = """\
{"policy": {"audience": "everyone", "sign_up": true}}
"""
BROADCAST_MAPPING = """\
usher-gate: mapping/1
rows: policy
into:
  - settings: beaconcast
    scope: {level: organisation}
    controls:
      broadcast.audience: {from: audience, values: {everyone: public, staff: organisation}}
      broadcast.registration: {from: sign_up, values: {"true": "on", "false": "off"}}
"""
_KINDS = {"member": "E", "guest": "X", "service": "A"}
_SECOND = {"required": "must", "offered": "may", "absent": "none", "": ""}
_BASE = "dc=northmere,dc=example"


def _dn(person: DemoPerson) -> str:
    units = "".join(f"ou={part}," for part in reversed(person.unit.split("/")) if part)
    return f"uid={person.id.lower()},{units}{_BASE}"


def _ldif(everybody: Sequence[DemoPerson]) -> str:
    """Return the people and groups of the demo as LDIF, an export of a directory."""
    entries = ["version: 1\n# Written out by the directory of Northmere Ferries, which does not exist."]
    for person in everybody:
        name = base64.b64encode(person.name.encode()).decode()
        lines = [f"dn: {_dn(person)}", "objectClass: inetOrgPerson", f"entryUUID: {person.id}", f"mail: {person.login}"]
        lines += [f"displayName:: {name}"] if name else []
        lines += [
            f"employeeType: {person.kind}",
            f"createTimestamp: {''.join(time for time in person.created_at if time not in '-:T')}",
        ]
        lines += [f"title: {word}" for word in person.roles.split(";") if word]
        lines += [f"departmentNumber: {word}" for word in person.licences.split(";") if word]
        entries.append("\n".join(lines))
    dns = {person.id: _dn(person) for person in everybody}
    inside: dict[str, list[str]] = {}
    for group, member, kind in memberships(list(everybody)):
        inside.setdefault(group, []).append(f"cn={member},ou=groups,{_BASE}" if kind == "group" else dns[member])
    for group, title in GROUPS:
        members = "".join(f"\nmember: {dn}" for dn in inside.get(group, ()))
        entries.append(
            f"dn: cn={group},ou=groups,{_BASE}\nobjectClass: groupOfNames\ncn: {group}\ndescription: {title}{members}"
        )
    return "\n\n".join(entries) + "\n"


def _roster(everybody: Sequence[DemoPerson]) -> str:
    lines = ["account,mail,type,second,wait_room,cabin,shoe"]
    for number, person in enumerate(everybody):
        wait = {"/Pilots": "no"}.get(person.unit, "yes" if person.unit.startswith("/Shore") else "")
        lines.append(
            f"{person.id},{person.login},{_KINDS[person.kind]},{_SECOND[person.mfa]},{wait},{100 + number},{36 + number % 11}"
        )
    return "\n".join(lines) + "\n"


_PLANS = """\
BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Northmere Ferries//Plans//EN
BEGIN:VEVENT
UID:handover@northmere.example
DTSTAMP:20261101T080000Z
DTSTART:20261102T053000Z
DTEND:20261102T055000Z
RRULE:FREQ=WEEKLY;BYDAY=MO,WE,FR
SUMMARY:Watch handover
ORGANIZER:mailto:asta.brandt@northmere.example
ATTENDEE:mailto:pilots@northmere.example
ATTENDEE:mailto:liaison@coastguard.example.org
X-USHER-GATE-SETTING:door.waiting-room=everyone
END:VEVENT
END:VCALENDAR
"""


def files(everybody: Sequence[DemoPerson]) -> Mapping[str, str]:
    """Return the files of the folder, by name."""
    return {
        "usher-gate.toml": TOML,
        "organisation.yaml": state.ORGANISATION,
        "services.yaml": state.SERVICES,
        "access-rules.yaml": state.ACCESS_RULES,
        "crew.ldif": _ldif(everybody),
        "roster.csv": _roster(everybody),
        "roster-map.yaml": MAPPING,
        "quaychat.json": CHAT,
        "quaychat-map.yaml": CHAT_MAPPING,
        "beaconcast.json": BROADCAST,
        "beaconcast-map.yaml": BROADCAST_MAPPING,
        "plans.ics": _PLANS.replace("\n", "\r\n"),
    }
