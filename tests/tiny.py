"""A tiny organisation as texts, to be changed by tests: five people, one service, three rules."""

from __future__ import annotations

from pathlib import Path

from tests.program import Done, call

ORGANISATION = """\
usher-gate: snapshot/1
name: Tiny
taken_at: 2026-11-20T06:00:00Z
privileged_roles: [admin]
networks: {office: [192.0.2.0/24]}
resources: {console: [admin], meetings: []}
"""
SERVICES = """\
usher-gate: services/1
services:
  - id: tidecall
    supports: ["door.*"]
    factory: {door.waiting-room: everyone}
    self_service: [door.waiting-room]
"""
PEOPLE = """\
id,login,kind,unit,mfa,roles
P1,ada@northmere.example,member,/Fleet/Deck,required,admin
P2,ben@northmere.example,member,/Fleet,offered,
P3,cia@northmere.example,member,/Shore,required,
P4,dag@partner.example,guest,,,
P5,eve@northmere.example,member,/Shore,required,
"""
GROUPS = "id,name\ng1,Watch\n"
MEMBERS = "group,member\ng1,P1\n"
SETTINGS = """\
service,control,scope,value,pinned
tidecall,door.waiting-room,organisation,guests,true
tidecall,door.host-first,organisation,on,
"""
BASELINE = """\
usher-gate: baseline/1
name: Tiny baseline
version: "1"
rules:
  - id: R1
    title: Outsiders wait
    severity: high
    expect: {control: door.waiting-room, no_weaker_than: guests}
    pinned: true
  - id: R2
    title: The second factor is required
    audience: {kind: member}
    expect: {person: mfa, is: required}
"""
EXCEPTIONS = """\
usher-gate: exceptions/1
exceptions:
  - id: X1
    rules: [R2]
    who: {login: "ben@*"}
    reason: Ben's telephone is at the bottom of the harbour.
    approved_by: captain
    until: 2026-12-01
"""
TEXTS = {
    "snapshot/organisation.yaml": ORGANISATION,
    "snapshot/services.yaml": SERVICES,
    "snapshot/people.csv": PEOPLE,
    "snapshot/groups.csv": GROUPS,
    "snapshot/members.csv": MEMBERS,
    "snapshot/settings.csv": SETTINGS,
    "baseline.yaml": BASELINE,
    "exceptions.yaml": EXCEPTIONS,
    "usher-gate.toml": 'snapshot = "snapshot"\nbaseline = "baseline.yaml"\nexceptions = "exceptions.yaml"\n',
}


def write_tiny(folder: Path, changes: dict[str, str | bytes | None] | None = None) -> Path:
    """Writes the files, some of them changed; None leaves one out."""
    for name, text in {**TEXTS, **(changes or {})}.items():
        if text is None:
            continue
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return folder


def check(*options: object) -> Done:
    """`usher-gate check` in the folder where the test runs."""
    return call("check", *options)
