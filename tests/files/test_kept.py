"""What reading keeps, though no rule asks for it yet.

All of it is needed to change a snapshot in memory, and to read it back.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from tests import tiny
from tests.tiny import write_tiny
from usher_gate.files.snapshot.folder import read_snapshot

PEOPLE = """\
id,login,kind,unit,active,sponsor
P1,ada@northmere.example,member,/Fleet,,
P2,ben@northmere.example,member,/Fleet,false,
P3,dag@partner.example,guest,,,P1
P4,eve@partner.example,guest,,,P2
"""
FILES: dict[str, str | bytes | None] = {
    "snapshot/organisation.yaml": tiny.ORGANISATION + "domains: [northmere.example]\n",
    "snapshot/people.csv": PEOPLE,
    "snapshot/groups.csv": "id,name,owner\ng1,Watch,P1\ng2,Deck,\n",
    "snapshot/members.csv": "group,member,type\ng1,P1,\ng2,g1,group\ng2,P3,person\n",
    "snapshot/settings.csv": "service,control,scope,value,active\n"
    "tidecall,door.waiting-room,organisation,guests,\ntidecall,door.waiting-room,organisation,members,false\n"
    "tidecall,door.waiting-room,meeting:M1,everyone,\n",
    "snapshot/passes.csv": "person,issued_at,expires_at,single_use,issuer\n"
    "P1,2026-11-19T00:00:00Z,2026-11-21T00:00:00Z,true,P1\nP1,2026-11-01T00:00:00Z,2026-11-02T00:00:00Z,,\n",
    "snapshot/meetings.csv": "id,service,organiser,starts_at,recurring,invitees\n"
    "M1,tidecall,P1,2026-12-01T09:00:00Z,true,x@partner.example;ben@northmere.example\nM2,other,P2,2026-12-02T09:00:00Z,,\n",
    "snapshot/access-rules.yaml": "usher-gate: access-rules/1\nrules:\n  - id: A1\n    mode: enforce\n    people: {include: {any: true}}\n"
    "    resources: {include: any, exclude: [meetings]}\n    outcome: {deny: true}\n",
}


def test_reading_keeps_what_no_rule_asks_for(tmp_path: Path) -> None:
    read = read_snapshot(write_tiny(tmp_path, FILES) / "snapshot", keep_tables=True)
    snapshot = read.snapshot
    assert snapshot.domains == frozenset({"northmere.example"})
    assert snapshot.inactive.ids.take(np.arange(len(snapshot.inactive))) == ["P2"]
    assert snapshot.people.sponsors is not None
    assert snapshot.people.sponsors.tolist() == [-1, 0, -1]  # the sponsor of each person; an inactive one is none
    groups = snapshot.groups
    assert groups is not None
    assert groups.owners == ("P1", None)
    assert [groups.direct.of(group).tolist() for group in (0, 1)] == [[0], [1]]
    assert [groups.members(group).tolist() for group in (0, 1)] == [[0], [0, 1]]
    assert groups.inside.of(1).tolist() == [0]
    assert snapshot.settings is not None
    assert snapshot.inactive_settings is not None
    assert [snapshot.inactive_settings.values[value] for value in snapshot.inactive_settings.value.tolist()] == [
        "members"
    ]
    assert "meeting:M1" in snapshot.settings.scope.words
    passes = snapshot.passes
    assert passes is not None
    assert passes.person.tolist() == [0, 0]
    assert passes.live.tolist() == [1, 0, 0]
    meetings = snapshot.meetings
    assert meetings is not None
    assert meetings.organiser.tolist() == [0, -1]
    assert meetings.service.tolist() == [0, -1]
    assert meetings.recurring is not None
    assert meetings.recurring.tolist() == [True, False]
    rule = (snapshot.access_rules or ())[0]
    assert rule.resources == {"console"}
    assert rule.resources_in is not None
    assert rule.resources_in.any
    assert rule.resources_out is not None
    assert rule.resources_out.names == ("meetings",)
    assert set(read.tables) == {"people", "groups", "members", "settings", "passes", "meetings"}
