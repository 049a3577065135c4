"""Sources that are files: LDIF, exports with a mapping, calendars, logs; and how sources are joined."""

from __future__ import annotations

import base64
import csv
import json
import re
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.program import call
from tests.sources.ground import says_nothing, settings, source, write
from usher_gate.sources.dn import normal_dn, unit_of
from usher_gate.sources.interface import Gathered, SourceFailed
from usher_gate.sources.join import join
from usher_gate.sources.ldif import read_ldif

ORGANISATION = "usher-gate: snapshot/1\nname: Northmere\ntaken_at: 2026-01-01T00:00:00Z   # gather writes it anew\n"
SERVICES = "usher-gate: services/1\nservices: [{id: tidecall}]\n"


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    write(tmp_path, {"organisation.yaml": ORGANISATION, "services.yaml": SERVICES})
    return tmp_path


def gather(folder: Path, *sources: str) -> tuple[int, str]:
    hand = source(name="hand", kind="files", paths=["organisation.yaml", "services.yaml"])
    more = [] if "mapping" in "".join(sources) else [says_nothing(folder)]
    (folder / "usher-gate.toml").write_text(settings(hand, *more, *sources))
    done = call("gather")
    return done.status, done.out + done.err


def table(folder: Path, name: str) -> list[dict[str, str]]:
    with (folder / "snapshot" / f"{name}.csv").open(newline="") as stream:
        return [{key: cell for key, cell in row.items() if cell} for row in csv.DictReader(stream)]


LDIF = """\
version: 1
# the crew
dn: uid=asta,ou=Deck,ou=Fleet,dc=northmere,dc=example
objectClass: inetOrgPerson
entryUUID: P1
mail: asta@northme
 re.example
displayName:: QXN0YSDDhQ==
title: admin
title: helper
createTimestamp: 20240201080000Z

dn:: dWlkPWJlbixvdT1TaG9yZSxkYz1ub3J0aG1lcmUsZGM9ZXhhbXBsZQ==
objectclass: InetOrgPerson
entryUUID: P2
mail: ben@northmere.example
employeeType: Pilot


dn: cn=watch,ou=groups,dc=northmere,dc=example
objectClass: groupOfNames
cn: watch
description: Duty watch
member: UID=asta, ou=Deck,ou=Fleet,dc=northmere,dc=example
member: cn=control,ou=groups,dc=northmere,dc=example
member: uid=gone,dc=northmere,dc=example

dn: cn=control,ou=groups,dc=northmere,dc=example
objectClass: groupOfNames
cn: control
member: cn=watch,ou=groups,dc=northmere,dc=example
member: uid=ben,ou=Shore,dc=northmere,dc=example
"""


@pytest.mark.parametrize("ends", ["\n", "\r\n"])
def test_ldif_with_folded_lines_base64_comments_and_nested_groups(folder: Path, ends: str) -> None:
    (folder / "crew.ldif").write_bytes(LDIF.replace("\n", ends).encode())
    status, said = gather(folder, source(name="crew", kind="ldif", path="crew.ldif"))
    assert status == 0, said
    assert table(folder, "people") == [
        {"id": "P1", "login": "asta@northmere.example", "kind": "member", "name": "Asta Å", "unit": "/Fleet/Deck", "roles": "admin;helper",
         "created_at": "2024-02-01T08:00:00Z"},
        {"id": "P2", "login": "ben@northmere.example", "kind": "member", "unit": "/Shore"},
    ]  # fmt: skip
    assert table(folder, "groups") == [{"id": "control", "name": "control"}, {"id": "watch", "name": "Duty watch"}]
    assert [(row["group"], row["member"], row["type"]) for row in table(folder, "members")] == [
        ("control", "P2", "person"), ("control", "watch", "group"), ("watch", "P1", "person"), ("watch", "control", "group"),
    ]  # fmt: skip
    assert "read as members: 'Pilot' (once)" in said
    assert "left out are members of groups that are nobody's DN: 1" in said
    assert (
        (folder / "snapshot/organisation.yaml")
        .read_text()
        .splitlines()[2]
        .startswith(f"taken_at: {datetime.now(UTC):%Y-%m-%d}T")
    )


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("dn: a=b\nobjectClass inetOrgPerson\n", ":2: a record has a line without a colon"),
        ("\n\ndn: a=b\nmail:: ###\n", ":4: a value after :: is not base64"),
        ("dn: a=b\nmail:< file:///etc/passwd\n", ":2: a value by URL (:<) is not read"),
        ("dn: a=b\ncn: a\n  b\n\ndn: a=c\nchangetype: delete\nmail:: ###\n", ":6: a record of changes"),
        ("mail: a@b.example\n", ":1: a record begins without dn:"),
        ("dn: a=b\nma\n il: x\n\ncn: x\n", ":5: a record begins without dn:"),
        ("dn: a=b\n\ncn: x\n\ndn: c=d\n", ":3: a record begins without dn:"),
    ],
)
def test_damaged_ldif_fails_with_its_place(folder: Path, text: str, message: str) -> None:
    (folder / "crew.ldif").write_text(text)
    status, said = gather(folder, source(name="crew", kind="ldif", path="crew.ldif"))
    assert (status, message in said, "crew.ldif:" in said) == (4, True, True), said


@given(st.lists(st.tuples(st.text(st.characters(min_codepoint=33, max_codepoint=0x2FF, exclude_characters=":"), min_size=1, max_size=90), st.booleans()), min_size=1, max_size=6),
       st.integers(20, 76))  # fmt: skip
def test_any_values_survive_ldif_however_they_are_folded_and_coded(
    tmp_path_factory: pytest.TempPathFactory, values: list[tuple[str, bool]], width: int
) -> None:
    lines = ["dn: uid=x,dc=northmere,dc=example"]
    for text, coded in values:
        plain = not coded and text.isascii() and text[0] not in "<: "
        lines.append(f"mail: {text}" if plain else f"mail:: {base64.b64encode(text.encode()).decode()}")
    folded = [
        line[:width] + "".join("\n " + line[start : start + width - 1] for start in range(width, len(line), width - 1))
        for line in lines
    ]
    path = tmp_path_factory.mktemp("ldif") / "x.ldif"
    path.write_text("\n".join(folded) + "\n")
    [records] = read_ldif(path, frozenset({"mail"}))
    assert records.dns == ["uid=x,dc=northmere,dc=example"]
    assert [value.decode() for value in records.values("mail", np.ones(1, bool))[1]] == [text for text, _ in values]


def plain_ldif(text: str) -> list[tuple[str, list[tuple[str, str]]]]:
    """The records, line by line: each DN with its attributes and values in order."""
    found: list[tuple[str, list[tuple[str, str]]]] = []
    for line in re.sub("\r?\n ", "", text).replace("\r\n", "\n").split("\n"):
        if not line or line.startswith("#"):
            continue
        name, _, value = line.partition(":")
        coded = value.startswith(":")
        value = base64.b64decode(value[1:].strip()).decode() if coded else value.lstrip(" ")
        name = name.partition(";")[0].lower()
        if name == "dn":
            found.append((value, []))
        elif found:
            found[-1][1].append((name, value))
    return found


NAMES = ("mail", "cn", "objectClass", "member", "description", "Mail", "CN;lang-en", "sn")
WANTED = frozenset({"mail", "cn", "objectclass", "member"})


def random_ldif(rnd: Random) -> str:
    """Some records with comments, options, base64, blanks before values, lines folded anywhere, either end of line."""
    lines = ["version: 1"] if rnd.random() < 0.5 else []
    for _ in range(rnd.randrange(1, 9)):
        record = [("dn", f"uid={rnd.randrange(99)},ou=Déck {rnd.randrange(3)},dc=northmere,dc=example")]
        words = ("inetOrgPerson", "x: y", "a;b", "Größe", " led", "", "<no", "groupOfNames", "x" * 120, "trailing ")
        record += [(rnd.choice(NAMES), rnd.choice(words)) for _ in range(rnd.randrange(7))]
        for name, value in record:
            if rnd.random() < 0.15:
                lines.append("# a remark" + rnd.choice(("", ": with a colon", " without")))
            if rnd.random() < 0.3 or not value.isascii() or value[:1] in (" ", "<", ":"):
                line = f"{name}::{' ' * rnd.randrange(3)}{base64.b64encode(value.encode()).decode()}"
            else:
                line = f"{name}:{' ' * rnd.choice((0, 1, 1, 1, 4))}{value}"
            cuts = sorted(rnd.sample(range(1, len(line)), min(len(line) - 1, rnd.choice((0, 0, 1, 3)))))
            lines.append("\n ".join(line[start:end] for start, end in zip([0, *cuts], [*cuts, None], strict=True)))
        lines += [""] * rnd.choice((1, 1, 2))
    return rnd.choice(("\n", "\r\n")).join("\n".join(lines).split("\n")) + rnd.choice(("", "\n"))


def test_any_ldif_is_read_as_line_by_line_in_blocks_of_any_size(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path, values = tmp_path / "x.ldif", 0
    for seed in range(200):
        rnd = Random(seed)
        text = random_ldif(rnd)
        path.write_bytes(text.encode())
        monkeypatch.setattr("usher_gate.sources.ldif._BLOCK", rnd.choice((1, 40, 1000, 10**6)))
        plain, found = plain_ldif(text), list[tuple[str, list[tuple[str, str]]]]()
        for records in read_ldif(path, WANTED):
            every = np.ones(len(records.dns), bool)
            here: list[tuple[str, list[tuple[str, str]]]] = [(dn, []) for dn in records.dns]
            for name in sorted(WANTED):
                for number, value in zip(*records.values(name, every), strict=True):
                    here[number][1].append((name, value.decode()))
            persons = records.having("objectclass", "INETORGPERSON")
            assert persons.tolist() == [("objectclass", "inetOrgPerson") in pairs for _, pairs in here]
            found += here
        kept = [(dn, sorted(pair for pair in pairs if pair[0] in WANTED)) for dn, pairs in plain]
        assert [(dn, sorted(pairs)) for dn, pairs in found] == kept, seed
        values += sum(len(pairs) for _, pairs in kept)
    assert values > 1000


def test_distinguished_names() -> None:
    assert unit_of("uid=a,ou=Deck\\, fore,OU=Fleet,dc=x") == "/Fleet/Deck, fore"
    assert unit_of("uid=a,dc=x") == ""
    assert normal_dn("UID = a , OU=Deck,dc=X") == normal_dn("uid=a,ou=deck,dc=x")


MAPPING = """\
usher-gate: mapping/1
rows: data.accounts
into:
  - table: people
    columns:
      id: account
      login: mail
      kind: {from: type, values: {E: member, X: guest}}
      mfa: {value: required}
  - settings: tidecall
    scope: {level: person, from: account}
    controls:
      door.waiting-room: {from: room.wait, values: {"true": members, "false": everyone}, missing: guests}
      door.passcode-length: {from: pin_length, may_be_absent: true}
    pinned: {from: locked, may_be_absent: true}
ignore: [colour]
"""
ACCOUNTS = [
    {
        "account": "P1",
        "mail": "a@northmere.example",
        "type": "E",
        "room": {"wait": True},
        "pin_length": 8,
        "locked": True,
        "colour": "red",
    },
    {"account": "P2", "mail": "b@northmere.example", "type": "X", "room": {}, "shoe": 44},
]


def test_an_export_by_its_mapping(folder: Path) -> None:
    write(folder, {"map.yaml": MAPPING, "roster.json": json.dumps({"data": {"accounts": ACCOUNTS}})})
    status, said = gather(folder, source(name="roster", kind="table", path="roster.json", mapping="map.yaml"))
    assert status == 0, said
    assert [(row["id"], row["kind"], row["mfa"]) for row in table(folder, "people")] == [
        ("P1", "member", "required"),
        ("P2", "guest", "required"),
    ]
    assert [(row["control"], row["scope"], row["value"], row.get("pinned")) for row in table(folder, "settings")] == [
        ("door.passcode-length", "person:P1", "8", "true"), ("door.waiting-room", "person:P1", "members", "true"),
        ("door.waiting-room", "person:P2", "guests", None),
    ]  # fmt: skip
    assert "columns that the mapping does not speak of: shoe" in said


def test_a_value_that_the_mapping_does_not_speak_of_is_refused_and_shown_by_try(folder: Path) -> None:
    rows = [*ACCOUNTS, {**ACCOUNTS[0], "account": "P3", "mail": "c@northmere.example", "room": {"wait": "perhaps"}}]
    write(folder, {"map.yaml": MAPPING, "roster.json": json.dumps({"data": {"accounts": rows}})})
    status, said = gather(folder, source(name="roster", kind="table", path="roster.json", mapping="map.yaml"))
    assert status == 4
    assert "room.wait holds 'perhaps' (once), of which map.yaml does not speak" in said
    tried = call("gather", "--try", "roster")
    assert tried.status == 4
    assert "people: 3 rows" in tried.out
    assert not (folder / "snapshot").exists()
    lines = [line.split() for line in tried.out.splitlines()]
    assert ["room.wait", "perhaps", "1", "refused"] in lines
    assert ["shoe", "1"] in lines
    write(folder, {"map.yaml": MAPPING.replace("missing: guests", "missing: guests, other: leave")})
    assert gather(folder, source(name="roster", kind="table", path="roster.json", mapping="map.yaml"))[0] == 0


@pytest.mark.parametrize(
    ("name", "text", "message"),
    [
        ("r.csv", "account,mail\nP1\n", "r.csv:2: has 1 cells where the first line has 2"),
        ("r.json", '{"data": {}}', "r.json: has no rows at data.accounts"),
        (
            "r.csv",
            "account;mail\nP1;a\n",
            "r.csv:1: its cells are separated by semicolons; write delimiter: ';' in the mapping",
        ),
        (
            "r.csv",
            "account\tmail\nP1\ta\n",
            "r.csv:1: its cells are separated by tabs; write delimiter: '\\t' in the mapping",
        ),
        ("r.csv", "account,mail,type\nP1,a,E\n", "r.csv: no row has 'room.wait', of which map.yaml speaks"),
        ("r.jsonl", '{"account": ', "r.jsonl: is not JSON"),
        ("r.xlsx", "", "is of no known kind"),
    ],
)
def test_exports_that_cannot_be_read(folder: Path, name: str, text: str, message: str) -> None:
    write(folder, {"map.yaml": MAPPING, name: text})
    status, said = gather(folder, source(name="roster", kind="table", path=name, mapping="map.yaml"))
    assert (status, message in said) == (4, True), said


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("level: person, from: account", "level: person", "map.yaml:11: into[1].scope"),
        ("{value: required}", "{}", "write either from: COLUMN or value: TEXT"),
        ("table: people", "table: persons", "map.yaml:4"),
        ("table: people", "table: people\n    where: {type: []}", "into[0].where.type: the list is too short"),
        ("table: people", "table: people\n    where: type", "into[0].where: 'type' is found where a mapping"),
        ("level: person", "level: {from: l, values: {a: persn}}", "'persn' is no level; did you mean 'person'?"),
    ],
)
def test_what_is_wrong_in_a_mapping(folder: Path, old: str, new: str, message: str) -> None:
    write(folder, {"map.yaml": MAPPING.replace(old, new), "r.json": "{}"})
    status, said = gather(folder, source(name="roster", kind="table", path="r.json", mapping="map.yaml"))
    assert (status, message in said) == (2, True), said


def calendar(*events: str) -> str:
    body = "".join(f"BEGIN:VEVENT\n{event}\nEND:VEVENT\n" for event in events)
    return f"BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//northmere//EN\n{body}END:VCALENDAR\n".replace("\n", "\r\n")


def test_an_export_of_its_own_encoding_delimiter_units_and_time(folder: Path) -> None:
    mapping = """\
usher-gate: mapping/1
delimiter: ";"
encoding: latin-1
taken_at: {from: as of}
into:
  - table: people
    columns: {id: id, login: login, kind: {value: member}, unit: {from: place, separator: ">"}}
ignore: [as of]
"""
    rows = "id;login;place;as of\nP1;åsa@northmere.example;Fleet > Deck;2026-01-02T03:04:05Z\n"
    write(folder, {"map.yaml": mapping})
    (folder / "r.csv").write_bytes(rows.encode("latin-1"))
    nothing = says_nothing(folder)
    status, said = gather(folder, nothing, source(name="roster", kind="table", path="r.csv", mapping="map.yaml"))
    assert status == 0, said
    assert table(folder, "people") == [
        {"id": "P1", "login": "åsa@northmere.example", "kind": "member", "unit": "/Fleet/Deck"}
    ]
    assert "taken_at: 2026-01-02T03:04:05Z" in (folder / "snapshot/organisation.yaml").read_text()
    (folder / "map.yaml").write_text(mapping.replace("encoding: latin-1\n", ""))
    status, said = gather(folder, nothing, source(name="roster", kind="table", path="r.csv", mapping="map.yaml"))
    assert (status, "r.csv:2: is not utf-8 text; write its encoding in the mapping" in said) == (4, True)


def test_trying_a_source_finds_what_gather_would_refuse(folder: Path) -> None:
    write(folder, {"map.yaml": MAPPING.replace("mfa: {value", "mfs: {value").replace('"true": members', '"true": member'),
                   "roster.json": json.dumps({"data": {"accounts": ACCOUNTS}})})  # fmt: skip
    gather(folder, source(name="roster", kind="table", path="roster.json", mapping="map.yaml"))
    done = call("gather", "--try", "roster")
    assert done.status == 4
    assert "people has no column 'mfs'; did you mean 'mfa'?" in done.err
    accounts = [{name: value for name, value in each.items() if name != "type"} for each in ACCOUNTS]
    write(folder, {"map.yaml": MAPPING, "roster.json": json.dumps({"data": {"accounts": accounts}})})
    lost = call("gather", "--try", "roster")
    assert (lost.status, "error: no row has 'type', of which the mapping speaks" in lost.err) == (4, True), lost.err
    assert "'member' is no value of door.waiting-room; write one of everyone" in done.err


def test_one_object_holds_for_the_whole_organisation(folder: Path) -> None:
    mapping = "usher-gate: mapping/1\nrows: policy\ninto:\n  - settings: tidecall\n    scope: {level: organisation}\n    controls: {door.waiting-room: hall}\n"
    write(
        folder,
        {
            "map.yaml": mapping,
            "house.json": '{"policy": {"hall": "guests"}}',
            "people.csv": "id,login,kind\nP1,a@x.example,member\n",
        },
    )
    people = source(name="people", kind="files", paths=["people.csv"])
    assert gather(folder, people, source(name="house", kind="table", path="house.json", mapping="map.yaml"))[0] == 0
    assert [(row["scope"], row["value"]) for row in table(folder, "settings")] == [("organisation", "guests")]


def test_planned_meetings_with_recurrence_and_settings_of_their_own(folder: Path) -> None:
    soon = datetime.now(UTC).replace(microsecond=0) + timedelta(hours=30)
    start, once = f"{soon:%Y%m%dT%H%M%SZ}", f"{soon + timedelta(days=1):%Y%m%dT%H%M%SZ}"
    organiser = "ORGANIZER:mailto:Asta@northmere.example"
    write(folder, {"people.csv": "id,login,kind\nP1,asta@northmere.example,member\n", "plans/a.ics": calendar(
        f"UID:weekly\nDTSTAMP:{start}\nDTSTART:{start}\nRRULE:FREQ=DAILY;COUNT=40\n{organiser}\nSUMMARY:Watch handover\nATTENDEE:mailto:x@partner.example",
        f"UID:once\nDTSTAMP:{start}\nDTSTART:{once}\nDTEND:{once}\n{organiser}\nX-USHER-GATE-SETTING:door.waiting-room=everyone\nX-USHER-GATE-KIND:webinar",
        f"UID:flood\nDTSTAMP:{start}\nDTSTART:{start}\nRRULE:FREQ=SECONDLY\n{organiser}",
        f"UID:nobody\nDTSTAMP:{start}\nDTSTART:{once}")})  # fmt: skip
    people = source(name="people", kind="files", paths=["people.csv"])
    status, said = gather(
        folder, people, source(name="plans", kind="calendar", path="plans", service="tidecall", days=7, most=5)
    )
    assert status == 0, said
    meetings = table(folder, "meetings")
    assert [row["id"] for row in meetings if row["recurring"] == "true"] == [
        f"weekly/{soon + timedelta(days=n):%Y-%m-%dT%H:%M:%SZ}" for n in range(5)
    ]
    single = next(row for row in meetings if row["id"] == "once")
    assert (single["organiser"], single["kind"], single["recurring"]) == ("asta@northmere.example", "webinar", "false")
    assert {row.get("label") for row in meetings} == {"Watch handover", None}
    assert table(folder, "settings") == [
        {"service": "tidecall", "control": "door.waiting-room", "scope": "meeting:once", "value": "everyone"}
    ]
    for text in ("flood: comes more often than daily", "nobody: has no organiser", "weekly: 1 further occurrences"):
        assert text in said, text


@pytest.mark.parametrize(
    ("zone", "hours"), [("Europe/Oslo", (1, 2)), ("America/Halifax", (-4, -3)), ("Asia/Kolkata", (5.5, 5.5))]
)
def test_who_is_invited_and_what_is_cancelled(folder: Path, zone: str, hours: tuple[float, float]) -> None:
    day = datetime.now(UTC).date() + timedelta(days=2)
    organiser = "ORGANIZER:mailto:asta@northmere.example"

    def at(number: int, hour: int) -> str:
        return f"{day + timedelta(days=number):%Y%m%d}T{hour:02}0000"

    write(folder, {"people.csv": "id,login,kind\nP1,asta@northmere.example,member\n", "plans/a.ics": calendar(
        f"UID:talk\nDTSTAMP:{at(0, 9)}Z\nDTSTART;TZID={zone}:{at(0, 9)}\n{organiser}\nATTENDEE;PARTSTAT=ACCEPTED:mailto:x@partner.example\n"
        "ATTENDEE;PARTSTAT=DECLINED:mailto:no@partner.example\nATTENDEE;CUTYPE=ROOM:mailto:bridge@northmere.example\n"
        "ATTENDEE;CUTYPE=RESOURCE:mailto:beamer@northmere.example\nATTENDEE;CUTYPE=GROUP:mailto:crew@northmere.example",
        f"UID:off\nDTSTAMP:{at(0, 9)}Z\nDTSTART:{at(1, 9)}Z\nSTATUS:CANCELLED\n{organiser}",
        f"UID:series\nDTSTAMP:{at(0, 9)}Z\nDTSTART:{at(0, 9)}Z\nRRULE:FREQ=DAILY;COUNT=3\n{organiser}",
        f"UID:series\nDTSTAMP:{at(0, 9)}Z\nRECURRENCE-ID:{at(1, 9)}Z\nDTSTART:{at(1, 9)}Z\nSTATUS:CANCELLED\n{organiser}",
        f"UID:series\nDTSTAMP:{at(0, 9)}Z\nRECURRENCE-ID:{at(2, 9)}Z\nDTSTART:{at(2, 15)}Z\n{organiser}",
        f"UID:outing\nDTSTAMP:{at(0, 9)}Z\nDTSTART;VALUE=DATE:{day + timedelta(days=3):%Y%m%d}\n{organiser}")})  # fmt: skip
    people = source(name="people", kind="files", paths=["people.csv"])
    status, said = gather(
        folder, people, source(name="plans", kind="calendar", path="plans", service="tidecall", days=9)
    )
    assert status == 0, said
    meetings = {row["id"]: row for row in table(folder, "meetings")}
    assert meetings["talk"]["invitees"] == "crew@northmere.example;x@partner.example"
    assert "crew@northmere.example is invited as a group: one address, however many people are in it" in said
    starts = {name: row["starts_at"] for name, row in meetings.items()}
    local = datetime(day.year, day.month, day.day, 9, tzinfo=UTC)
    assert starts.pop("talk") in {f"{local - timedelta(hours=each):%Y-%m-%dT%H:%M:%SZ}" for each in hours}
    first, moved = f"{day}T09:00:00Z", f"{day + timedelta(days=2)}T15:00:00Z"
    all_day = f"{day + timedelta(days=3)}T00:00:00Z"
    assert starts == {f"series/{first}": first, f"series/{moved}": moved, "outing": all_day}


def test_settings_of_a_meeting_are_added_to_those_of_the_service(folder: Path) -> None:
    soon = f"{datetime.now(UTC) + timedelta(days=1):%Y%m%dT%H%M%SZ}"
    event = f"UID:once\nDTSTAMP:{soon}\nDTSTART:{soon}\nORGANIZER:mailto:asta@northmere.example\nX-USHER-GATE-SETTING:door.waiting-room=everyone"
    by_hand = "service,control,scope,value\ntidecall,door.waiting-room,organisation,guests\n"
    files = {
        "people.csv": "id,login,kind\nP1,asta@northmere.example,member\n",
        "settings.csv": by_hand,
        "a.ics": calendar(event),
    }
    write(folder, files)
    people = source(name="people", kind="files", paths=["people.csv", "settings.csv"])
    plans = source(name="plans", kind="calendar", path="a.ics", service="tidecall", days=7)
    status, said = gather(folder, people, plans)
    assert status == 0, said
    assert [(row["scope"], row["value"]) for row in table(folder, "settings")] == [
        ("meeting:once", "everyone"), ("organisation", "guests"),
    ]  # fmt: skip
    # A change may pin and rank, although neither source says so.
    assert {"pinned", "rank"} <= set((folder / "snapshot/settings.csv").read_text().splitlines()[0].split(","))
    write(
        folder, dict.fromkeys(("authenticators.csv", "more/authenticators.csv"), "person,type\nP1,multi-factor-otp\n")
    )
    one = source(name="keys", kind="files", paths=["authenticators.csv"])
    status, said = gather(folder, people, one, source(name="again", kind="files", paths=["more/authenticators.csv"]))
    assert status != 0 and "keys and again both give authenticators; leave one out" in said
    write(folder, {"settings.csv": by_hand + "tidecall,door.identity\n"})
    status, said = gather(folder, people, plans)
    assert status == 4 and "settings.csv:3: has 2 cells, and the header 4" in said


def test_logs_are_copied_or_referred_to(folder: Path) -> None:
    write(
        folder,
        {"people.csv": "id,login,kind\nP1,asta@northmere.example,member\n", "logs/day.csv": "time,person,resource\n"},
    )
    people = source(name="people", kind="files", paths=["people.csv"])
    status, said = gather(folder, people, source(name="log", kind="sign-ins", path="logs", copy=False))
    assert (status, "usher-gate rehearse --sign-ins logs" in said) == (0, True)
    assert gather(folder, people, source(name="log", kind="sign-ins", path="logs/day.csv"))[0] == 4
    assert gather(folder, people, source(name="log", kind="sign-ins", path="logs/day.csv", may_be_empty=True))[0] == 0
    assert (folder / "snapshot/sign_ins.csv").read_text() == "time,person,resource\n"


def test_people_are_joined_by_id_else_login_and_contradictions_are_named(folder: Path) -> None:
    write(folder, {"people.csv": "id,login,kind,unit\nP1,asta@northmere.example,member,/Fleet\n", "map.yaml": MAPPING, "r.json": json.dumps({"data": {"accounts": [
        {"account": "X9", "mail": "Asta@northmere.example", "type": "X", "room": {"wait": True}},
        {"account": "P2", "mail": "b@northmere.example", "type": "E", "room": {"wait": False}}]}})})  # fmt: skip
    one = source(name="roster", kind="table", path="r.json", mapping="map.yaml")
    mapped = MAPPING.replace(
        "  - settings",
        "  - table: authenticators\n    columns: {person: account, type: {value: multi-factor-otp}}\n  - settings",
    )
    (folder / "map.yaml").write_text(mapped)
    (folder / "map2.yaml").write_text(
        "usher-gate: mapping/1\ninto:\n  - table: people\n    columns: {id: id, login: login, kind: kind, unit: unit}\n"
    )
    status, said = gather(folder, source(name="directory", kind="table", path="people.csv", mapping="map2.yaml"), one)
    assert status == 0, said
    assert [(row["id"], row["kind"], row.get("unit"), row.get("mfa")) for row in table(folder, "people")] == [
        ("P1", "member", "/Fleet", "required"), ("P2", "member", None, "required"),
    ]  # fmt: skip
    assert (
        "directory and roster contradict each other about people's kind (once; directory counts): P1: member or guest"
        in said
    )
    assert {row["scope"] for row in table(folder, "settings")} == {"person:P1", "person:P2"}
    assert {row["person"] for row in table(folder, "authenticators")} == {"P1", "P2"}
    assert "1 person comes from directory and roster" in said and "1 person comes from roster\n" in said
    lines = [json.loads(line) for line in call("gather", "--log-format", "json").err.splitlines()]
    givers = {tuple(line["sources"]): line["people"] for line in lines if "sources" in line}
    assert givers == {("directory", "roster"): ["P1"], ("roster",): ["P2"]}


def test_in_part_people_of_another_source_stay_but_are_not_counted(folder: Path) -> None:
    write(
        folder,
        {
            "people.csv": "id,login,kind,roles\nP1,asta@northmere.example,member,admin\n",
            "map.yaml": MAPPING,
            "r.json": "[]",
        },
    )
    write(folder, {"baseline.yaml": "usher-gate: baseline/1\nname: b\nversion: v\nrules:\n"
                   "  - {id: R1, title: t, subject: organisation, expect: {count: {any: true}, between: [1, 9]}}\n"})  # fmt: skip
    sources = (
        source(name="people", kind="files", paths=["people.csv"]),
        source(name="roster", kind="table", path="r.json", mapping="map.yaml"),
    )
    assert gather(folder, *sources)[0] == 4
    assert not (folder / "snapshot").exists()
    done = call("gather", "--partial")
    assert done.status == 4
    assert "roster is missing, so these are not known: people, settings of tidecall" in done.err
    [finding] = json.loads(call("check", "--format", "json").out)["findings"]
    assert (finding["verdict"], finding["reason"]) == ("unknown", "no-fact")
    write(folder, {"settings.csv": "service,control,scope,value\ntidecall,door.host-first,organisation,on\n"})
    more = source(name="more", kind="files", paths=["settings.csv"])
    gather(folder, *sources, more)
    assert call("gather", "--partial").status == 4  # of a table in a file, what the roster would have added is missing
    assert not (folder / "snapshot/settings.csv").exists()


def test_settings_that_two_sources_give_differently() -> None:
    row = {"service": "s", "control": "door.host-first", "scope": "organisation", "value": "on"}
    joined = join([("a", Gathered({"settings": [row]})), ("b", Gathered({"settings": [{**row, "value": "off"}, row]}))])
    assert joined.tables["settings"] == [row]
    assert joined.notes() == [
        "a and b contradict each other about settings' value (once; a counts): s door.host-first organisation: on or off"
    ]
    with pytest.raises(SourceFailed, match="nowhere"):
        raise SourceFailed("nowhere")
