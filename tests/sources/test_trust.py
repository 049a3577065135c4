"""What a source gives may be wrong, less than it was, or old: each is noticed, and the old snapshot stays."""

from __future__ import annotations

import base64
import csv
import json
import os
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from functools import partial
from http.server import BaseHTTPRequestHandler
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.program import call
from tests.sources.ground import by_hand, of_server, says_nothing, settings, source, stand_in, work_folder, write
from tests.sources.test_addresses import say, server
from tests.sources.test_files import ORGANISATION, gather, table
from tests.sources.test_files import folder as folder  # a fixture
from tests.sources.test_gather import folder as ground  # noqa: F401 - a fixture
from tests.sources.test_gather import gathered
from usher_gate.sources.entries import FIELDS, Layout
from usher_gate.sources.groups import join_groups
from usher_gate.sources.interface import Context, Gathered, NamedSource, SourceFailed
from usher_gate.sources.ldif import Ldif
from usher_gate.sources.mapped import Mapped
from usher_gate.sources.people import PeopleMapping
from usher_gate.sources.scim import FIELDS as SCIM_FIELDS
from usher_gate.sources.scim import Scim
from usher_gate.sources.secrets import Secrets
from usher_gate.sources.settings import KEYS, SOURCE_KINDS, keys_of
from usher_gate.sources.trust import check_content
from usher_gate.sources.web import Access

PEOPLE_MAP = "usher-gate: mapping/1\ninto:\n  - table: people\n    columns: {columns}\n"


def export(
    folder: Path, text: str, columns: str = "{id: id, login: login, kind: kind}", name: str = "people.csv"
) -> str:
    """An export of people by a mapping that names their columns."""
    mapping = PEOPLE_MAP.replace("{columns}", columns)
    write(folder, {f"raw/{name}": text, "map.yaml": mapping})
    return source(name="crew", kind="table", path=f"raw/{name}", mapping="map.yaml")


def tried(folder: Path, *sources: str) -> tuple[int, str]:
    """Gathers from a source for the settings of the one service, too."""
    return gather(folder, says_nothing(folder), *sources)


def rows(many: int, kind: str = "member") -> str:
    return "id,login,kind\n" + "".join(f"P{number},p{number}@northmere.example,{kind}\n" for number in range(many))


def person(number: int, more: str = "") -> str:
    return (
        f"dn: uid=p{number},dc=northmere,dc=example\nobjectClass: inetOrgPerson\nentryUUID: {number:08}-0000-0000-0000-000000000000\n"
        f"mail: p{number}@northmere.example\n{more}\n"
    )


def ldif(folder: Path, text: str, **keys: object) -> str:
    write(folder, {"crew.ldif": f"version: 1\n\n{text}"})
    return source(name="crew", kind="ldif", path="crew.ldif", base="dc=northmere,dc=example", **keys)


def test_two_people_stay_two(folder: Path) -> None:
    """L 73: case, and ß beside ss."""
    for login, other in (
        ("Asta@northmere.example", "asta@northmere.example"),
        ("weiß@northmere.example", "weiss@northmere.example"),
    ):
        status, said = tried(folder, export(folder, f"id,login,kind\nP1,{login},member\nP2,{other},member\n"))
        assert status == 4
        assert (
            f"crew (table) failed: gave two people whose logins are one: 'P1' (login '{login}') and 'P2' (login '{other}')"
            in said
        )
    assert (
        tried(folder, export(folder, "id,login,kind\nP1,a@northmere.example,member\nP2,b@northmere.example,member\n"))[
            0
        ]
        == 0
    )


def test_an_attribute_that_is_named_by_hand_is_there(folder: Path) -> None:
    """L 74: a misspelt kind made guests members."""
    status, said = tried(folder, ldif(folder, person(1, "employeeType: guest\n"), fields={"kind": "employeType"}))
    assert status == 4
    assert (
        "no entry has the attribute employeType, which fields names for kind; did you mean 'employeeType'? (Or write may_be_absent"
        in said
    )
    assert tried(folder, ldif(folder, person(1), fields={"kind": "employeType"}, may_be_absent=["kind"]))[0] == 0
    assert tried(folder, ldif(folder, person(1, "employeeType: guest\n"), fields={"kind": "employeeType"}))[0] == 0
    assert [row["kind"] for row in table(folder, "people")] == ["guest"]


@pytest.mark.parametrize(
    ("name", "text", "why"),
    [
        ("people.csv", "id,login,kind,kind\nP1,a@northmere.example,guest,member\n", "raw/people.csv:1: has two columns 'kind'"),
        ("people.json", '[{"id": "P1", "login": "a@northmere.example", "kind": "guest", "kind": "member"}]',
         "raw/people.json: has an object with the key 'kind' twice"),
        ("people.jsonl", '{"id": "P1", "login": "a@northmere.example", "kind": "guest", "kind": "member"}\n',
         "raw/people.jsonl:1: has an object with the key 'kind' twice"),
    ],
)  # fmt: skip
def test_one_name_twice_is_an_error(folder: Path, name: str, text: str, why: str) -> None:
    """L 74: the second won."""
    status, said = tried(folder, export(folder, text, name=name))
    assert status == 4 and why in said, said


@pytest.mark.parametrize(
    ("name", "text"),
    [("people.csv", ""), ("people.csv", "id,login,kind\n"), ("people.json", "[]"), ("people.jsonl", "")],
)
def test_nothing_is_no_answer(folder: Path, name: str, text: str) -> None:
    """L 75."""
    one = export(folder, text, name=name)
    status, said = tried(folder, one)
    assert (
        status == 4
        and "crew (table) failed: gave no people, for which it is there; if that may be so, write may_be_empty = true"
        in said
    )
    assert not (folder / "snapshot").exists()
    assert call("gather", "--try", "crew").status == 4
    write(folder, {"people.csv": rows(1)})
    hand = source(name="hand too", kind="files", paths=["people.csv"])
    assert tried(folder, hand, one + "may_be_empty = true\n")[0] == 0
    write(folder, {"people.csv": "id,login,kind\n"})
    status, said = tried(folder, hand)
    assert status == 4 and "hand too (files) failed: gave no rows in people.csv" in said


def test_much_less_than_last_time_is_noticed_and_may_be_accepted_once(folder: Path) -> None:
    """L 76: more than 30 percent fewer, and at least five rows; or a column that was filled."""
    assert tried(folder, export(folder, rows(20)))[0] == 0
    assert tried(folder, export(folder, rows(14)))[0] == 0  # thirty percent are not more than thirty
    before = (folder / "snapshot").readlink()
    status, said = tried(folder, export(folder, rows(9)))
    assert status == 4 and (folder / "snapshot").readlink() == before
    assert (
        "nothing was replaced: crew gave 9 people and 14 last time. If that is right, say so once: usher-gate gather --accept crew"
        in said
    )
    write(
        folder,
        {
            "baseline.yaml": "usher-gate: baseline/1\nname: b\nversion: v\nrules: [{id: R, title: t, expect: {person: sponsor, present: true}}]\n"
        },
    )
    assert "failed at source `crew`" in " ".join(call("check").out.split())
    assert tried(folder, export(folder, rows(9)) + "shrink_limit = 60\n")[0] == 0
    assert tried(folder, export(folder, rows(4)) + "shrink_limit = 60\n")[0] == 0  # five fewer, 56 percent
    assert tried(folder, export(folder, rows(40)))[0] == 0
    assert tried(folder, export(folder, rows(3)))[0] == 4
    done = call("gather", "--accept", "crew")
    assert (done.status, "note: crew: accepted: gave 3 people and 40 last time" in done.err) == (0, True)
    assert len(table(folder, "people")) == 3
    assert "there is no source 'crow'; did you mean 'crew'?" in call("gather", "--accept", "crow").err


def test_a_column_that_was_filled_and_is_empty_is_noticed(folder: Path) -> None:
    columns = "{id: id, login: login, kind: kind, unit: {from: unit, may_be_absent: true}}"
    text = "id,login,kind,unit\n" + "".join(
        f"P{number},p{number}@northmere.example,member,/Fleet\n" for number in range(9)
    )
    assert tried(folder, export(folder, text, columns))[0] == 0
    status, said = tried(folder, export(folder, text.replace("/Fleet", ""), columns))
    assert status == 4 and "crew gave people without unit, which 9 of 9 had last time" in said


def test_a_directory_that_shrinks_by_scim_leaves_the_snapshot(ground: Path, tmp_path: Path) -> None:  # noqa: F811
    with stand_in(tmp_path) as server:
        work_folder(ground, settings(by_hand(), *of_server(server)))
        assert gathered().status == 0
    before = (ground / "snapshot").readlink()
    for name, keep in (("people", 30), ("groups", 100), ("members", 0)):
        path = tmp_path / f"of-the-stand-in/{name}.csv"
        path.write_text("".join(path.read_text().splitlines(keepends=True)[: keep + 1]))
    with stand_in(tmp_path) as server:
        work_folder(ground, settings(by_hand(), *of_server(server)))
        done = gathered()
        assert done.status == 4 and (ground / "snapshot").readlink() == before
        assert "directory gave 0 members and 273 last time, " in done.err and " people and 237 last time" in done.err


def test_what_came_last_in_part_is_compared_with_what_was_whole_before(folder: Path) -> None:
    """L 76: a snapshot for which the source failed says nothing of it."""
    one = export(folder, rows(14))
    people = source(name="others", kind="ldif", path="crew.ldif")
    write(folder, {"crew.ldif": f"version: 1\n\n{person(99)}"})
    assert tried(folder, one, people)[0] == 0
    (folder / "raw/people.csv").rename(folder / "raw/gone.csv")
    assert call("gather", "--partial").status == 4
    write(folder, {"raw/people.csv": rows(9)})
    done = call("gather")
    assert done.status == 4 and "nothing was replaced: crew gave 9 people and 14 last time" in done.err


def test_an_old_file_is_a_failed_source(folder: Path) -> None:
    """L 77."""
    one = export(folder, rows(2)) + "max_age_hours = 24\n"
    assert tried(folder, one)[0] == 0
    long_ago = time.time() - 30 * 3600
    os.utime(folder / "raw/people.csv", (long_ago, long_ago))
    status, said = tried(folder, one)
    assert (
        status == 4
        and "crew (table) failed: " in said
        and "is 30 hours old, more than max_age_hours = 24; export it again" in said
    )
    (folder / "usher-gate.toml").write_text(
        settings(source(name="d", kind="scim", url="https://d.example", max_age_hours=3))
    )
    assert "unknown key 'max_age_hours' of a source of kind scim" in call("gather").err


def test_one_value_is_one_word(folder: Path) -> None:
    """L 78: a person who may edit their own title could make themselves an administrator."""
    status, said = tried(folder, ldif(folder, person(1, "title: cook;admin\n")))
    assert (
        status == 4
        and "uid=p1,dc=northmere,dc=example: title holds 'cook;admin': one value with ';' in it would be several words"
        in said
    )
    assert tried(folder, ldif(folder, person(1, "title: cook\ntitle: admin\n")))[0] == 0
    assert [row["roles"] for row in table(folder, "people")] == ["cook;admin"]
    columns = "{id: id, login: login, kind: kind, roles: roles}"
    text = "id,login,kind,roles\nP1,a@northmere.example,member,cook; admin\n"
    status, said = tried(folder, export(folder, text, columns))
    assert (
        status == 4
        and "raw/people.csv: row 1: roles holds 'cook; admin': one value with ';' in it would be several words" in said
    )
    split = columns.replace("roles: roles", "roles: {from: roles, separator: ';'}")
    assert tried(folder, export(folder, text, split))[0] == 0
    assert [row["roles"] for row in table(folder, "people")] == ["cook;admin"]
    listed = json.dumps([{"id": "P1", "login": "a@northmere.example", "kind": "member", "roles": ["cook", "admin"]}])
    assert tried(folder, export(folder, listed, columns, "people.json"))[0] == 0
    assert [row["roles"] for row in table(folder, "people")] == ["cook;admin"]
    listed = listed.replace('"cook"', '"cook;admin"')
    assert tried(folder, export(folder, listed, columns, "people.json"))[0] == 4


def test_a_source_may_take_so_long_and_no_longer(ground: Path, tmp_path: Path) -> None:  # noqa: F811
    """L 81."""
    with stand_in(tmp_path) as server:
        directory, services = of_server(server)
        work_folder(ground, settings(by_hand(), directory + "longest_minutes = 0.0001\n", services))
        done = gathered()
    assert (
        done.status == 4 and "directory (scim) failed: takes longer than longest_minutes = 0.0001, after " in done.err
    )


@pytest.mark.parametrize(
    ("kind", "resource", "message"),
    [
        ("Groups", {"members": 7}, "the group 'X' has members that are no list"),
        ("Groups", {"members": ["P1"]}, "the group 'X' has members that are no list of objects"),
        ("Groups", {"members": [{"value": ["P1"]}]}, "X: members.value is a list where a text"),
        ("Groups", {"displayName": {"a": 1}}, "X: displayName is an object where a text"),
        ("Users", {"userType": ["guest"]}, "X: userType is a list where a text, a number or a flag is due"),
        ("Users", {"userType": {"value": "guest"}}, "X: userType is an object where a text"),
        ("Users", {"roles": [{"value": ["admin"]}]}, "X: roles is a list where a text"),
        ("Users", {"roles": ["a;b"]}, "X: roles holds 'a;b'"),
        ("Users", {"name": {"formatted": []}}, "X: name.formatted is a list"),
    ],
)
def test_values_of_the_wrong_shape_name_the_resource_and_the_attribute(
    scim_server: tuple[str, dict[str, Any]], kind: str, resource: dict[str, Any], message: str
) -> None:
    """L 82: a kind that is a list was nothing, and so a member."""
    url, served = scim_server
    served.update({"Users": [{"id": "P1", "userName": "a@northmere.example"}], "Groups": []})
    served[kind] = [{"id": "X", "userName": "x@northmere.example", **resource}]
    try:
        with pytest.raises(SourceFailed, match=message):
            Scim(Access(url), PeopleMapping(SCIM_FIELDS)).gather(_context(Path()))
    finally:
        served["Groups"] = []


def test_every_key_of_every_kind_of_source_is_described() -> None:
    """L 79: docs/gather.md lists them from there."""
    every = {key for kind in SOURCE_KINDS for keys in keys_of(kind) for key in keys}
    assert every == set(KEYS)


def test_words_and_dates_of_a_directory_and_of_an_export_are_translated(folder: Path) -> None:
    """L 79."""
    keys = {"fields": {"kind": "employeeType", "expires_at": "st", "active": "l"}, "values": {"kind": {"Extern": "guest", "Intern": "member"}},
            "dates": {"expires_at": "%d.%m.%Y"}}  # fmt: skip
    entry = person(1, "employeeType: Extern\nst: 31.12.2026\nl: TRUE\n")
    status, said = tried(folder, ldif(folder, entry, **keys))
    assert status == 0, said
    [one] = table(folder, "people")
    assert (one["kind"], one["expires_at"], one["active"]) == ("guest", "2026-12-31T00:00:00Z", "true")
    for old, new, why in (
        ("Extern", "Gast", "has kind 'Gast', which is not among values; add it"),
        ("31.12.2026", "2026-12-31", "has expires_at '2026-12-31', which is not of the form '%d.%m.%Y'"),
    ):
        status, said = tried(folder, ldif(folder, entry.replace(old, new), **keys))
        assert status == 4 and f"'uid=p1,dc=northmere,dc=example' {why}" in said
    roles = {"values": {"roles": {"Koch": "cook", "Chef": "admin"}}}
    assert tried(folder, ldif(folder, person(1, "title: Koch\ntitle: Chef\n"), **roles))[0] == 0
    assert table(folder, "people")[0]["roles"] == "cook;admin"  # each word of a list
    status, said = tried(folder, ldif(folder, person(1), values={"knd": {"Extern": "guest"}}))
    assert status == 2 and "values speaks of the column 'knd', which fields does not have; did you mean 'kind'?" in said
    columns = "{id: id, login: login, kind: kind, expires_at: {from: until, dates: '%d.%m.%Y'}}"
    text = "id,login,kind,until\nP1,a@northmere.example,guest,31.12.2026\n"
    assert tried(folder, export(folder, text, columns))[0] == 0
    assert table(folder, "people")[0]["expires_at"] == "2026-12-31T00:00:00Z"
    status, said = tried(folder, export(folder, text.replace("31.12.2026", "soon"), columns))
    assert status == 4 and "raw/people.csv: row 1: until is 'soon', which is not of the form '%d.%m.%Y'" in said


def test_groups_of_one_name_from_two_sources_are_noted(folder: Path) -> None:
    """L 84."""
    write(
        folder,
        {
            "map2.yaml": "usher-gate: mapping/1\ninto:\n  - table: groups\n    columns: {id: id, name: name}\n",
            "g.csv": "id,name\nG7,WATCH\n",
        },
    )
    text = (
        person(1)
        + "dn: cn=watch,dc=northmere,dc=example\nobjectClass: groupOfNames\ncn: watch\ndescription: Watch\nmember: uid=p1,dc=northmere,dc=example\n"
    )
    more = source(name="more", kind="table", path="g.csv", mapping="map2.yaml")
    status, said = tried(folder, ldif(folder, text), more)
    assert (
        status == 0
        and "1 group has a name that crew and more both give, under different ids (here 'WATCH'): they stay apart"
        in said
    )
    write(
        folder,
        {
            "map2.yaml": "usher-gate: mapping/1\ninto:\n  - table: groups\n    columns: {id: id, name: name}\n"
            "  - table: members\n    columns: {group: id, member: member}\n  - settings: tidecall\n"
            "    scope: {level: group, from: id}\n    controls: {door.close: close}\n",
            "g.csv": "id,name,member,close\nG7,WATCH,00000002-0000-0000-0000-000000000000,on\n",
        },
    )
    toml = settings(source(name="hand", kind="files", paths=["organisation.yaml", "services.yaml"]),
                    ldif(folder, text + person(2)), more)  # fmt: skip
    write(folder, {"usher-gate.toml": toml.replace("keep = 7", 'keep = 7\njoin_groups = "name"')})
    done = call("gather")
    assert done.status == 0 and "more: 1 group is joined by name with those of an earlier source" in done.err, done.err
    assert [(row["id"], row["name"]) for row in table(folder, "groups")] == [("watch", "Watch")]
    assert [row["member"][:8] for row in table(folder, "members")] == ["00000001", "00000002"]
    assert [row["scope"] for row in table(folder, "settings")] == ["group:watch"]
    # Settings by hand name the group as the second source does, and are copied as a file.
    groups_only = (
        "usher-gate: mapping/1\ninto:\n  - table: groups\n    columns: {id: id, name: name}\nignore: [member, close]\n"
    )
    write(folder, {"map2.yaml": groups_only,
                   "settings.csv": "service,control,scope,value\ntidecall,door.close,group:G7,on\n"})  # fmt: skip
    of_more = more + source(name="more by hand", kind="files", paths=["settings.csv"])
    toml = settings(source(name="hand", kind="files", paths=["organisation.yaml", "services.yaml"]),
                    ldif(folder, text + person(2)), of_more)  # fmt: skip
    write(folder, {"usher-gate.toml": toml.replace("keep = 7", 'keep = 7\njoin_groups = "name"')})
    done = call("gather")
    assert done.status == 0, done.err
    assert [row["scope"] for row in table(folder, "settings")] == ["group:watch"]


def test_an_id_that_two_sources_give_to_different_groups_is_no_name_for_the_joined_one() -> None:
    """`b` calls the watch W9, and `c` something else: what `d` means by W9 no one can tell, so it stays."""
    groups = (("a", "G1", "Watch"), ("b", "W9", "watch"), ("c", "W9", "Crew"), ("d", "", ""))
    found = [
        (source, Gathered({"groups": [{"id": group, "name": name}] if group else [],
                           "settings": [{"scope": "group:W9", "value": source}]}))
        for source, group, name in groups
    ]  # fmt: skip
    assert join_groups(found) == ["b: 1 group is joined by name with those of an earlier source"]
    assert [gathered.tables["settings"][0]["scope"] for _, gathered in found] == [
        "group:W9", "group:G1", "group:W9", "group:W9",
    ]  # fmt: skip
    assert [row["id"] for _, gathered in found for row in gathered.tables["groups"]] == ["G1", "G1", "W9"]


def test_a_group_that_two_sources_give_alike_is_one_and_not_joined() -> None:
    same = [{"id": "G1", "name": "Watch"}, {"id": "G2", "name": "Deck"}, {"id": "G3", "name": "Deck"}]
    found = [(source, Gathered({"groups": list(same)})) for source in ("a", "b")]
    assert join_groups(found) == []
    assert [row for _, gathered in found for row in gathered.tables["groups"]] == same * 2
    other = [("a", Gathered({"groups": same[:2]})), ("b", Gathered({"groups": same[1:]}))]
    assert join_groups(other) == ["b: several groups are called 'deck': they stay apart"]


def test_where_takes_users_and_their_memberships(scim_server: tuple[str, dict[str, Any]]) -> None:
    """L 79, by SCIM: the others are no members either."""
    url, served = scim_server
    users = [{"id": f"P{n}", "userName": f"p{n}@northmere.example", "userType": kind} for n, kind in enumerate("EXE")]
    served["Users"] = users
    served["Groups"] = [{"id": "G", "members": [{"value": f"P{number}"} for number in range(3)]}]
    try:
        mapping = PeopleMapping(SCIM_FIELDS, where={"kind": ("E",)}, values={"kind": {"E": "member"}})
        found = Scim(Access(url), mapping).gather(_context(Path()))
    finally:
        served["Groups"] = []
    assert [row["id"] for row in found.tables["people"]] == ["P0", "P2"]
    assert [row["member"] for row in found.tables["members"]] == ["P0", "P2"]
    assert found.notes == ["1 person is left out by where"]


def test_where_takes_rows_of_an_export_and_level_and_service_come_from_columns(folder: Path) -> None:
    """L 79."""
    into = (
        "usher-gate: mapping/1\ninto:\n"
        "  - table: people\n    where: {what: [E, X]}\n    columns: {id: who, login: login, kind: {from: what, values: {E: member, X: guest}}}\n"
        "  - settings: {from: app, values: {T: tidecall}, other: leave}\n    where: {what: S}\n"
        "    scope: {level: {from: level, values: {all: organisation, one: person}}, from: who}\n    controls: {door.close: close}\n"
    )
    lines = (
        "what,who,login,app,level,close", "E,P1,a@northmere.example,,,", "X,P2,b@northmere.example,,,", "?,P3,c@northmere.example,,,",
        "S,,,T,all,on", "S,P1,,T,one,off", "S,P1,,Q,one,off",
    )  # fmt: skip
    write(folder, {"raw/all.csv": "\n".join(lines) + "\n", "map.yaml": into})
    crew = source(name="crew", kind="table", path="raw/all.csv", mapping="map.yaml")
    status, said = gather(folder, crew)
    assert status == 0 and "raw/all.csv: left out by where: 1 row" in said and "app: left out 'Q'" in said, said
    assert [(row["id"], row["kind"]) for row in table(folder, "people")] == [("P1", "member"), ("P2", "guest")]
    assert [(row["scope"], row["value"]) for row in table(folder, "settings")] == [
        ("organisation", "on"),
        ("person:P1", "off"),
    ]
    assert "crew: of 2 people" not in said  # everyone has what was mapped
    few = source(name="crew", kind="table", path="raw/all.csv", mapping="map.yaml", most_people=1)
    assert "crew (table) failed: gives more than 1 people; write most_people" in gather(folder, few)[1]
    for old, new, message in (
        ("S,,,T,all,on", "S,,,,all,on", "row 4: says no service: app is empty"),
        ("S,,,T,all,on", "S,,,T,,on", "row 4: says no level: level is empty"),
        ("what,who", "what,whoo", "no row has 'who', of which map.yaml speaks; did you mean 'whoo'?"),
    ):
        write(folder, {"raw/all.csv": "\n".join(lines).replace(old, new) + "\n"})
        status, said = gather(folder, crew)
        assert status == 4 and message in said, said
    untranslated = into.replace("{from: level, values: {all: organisation, one: person}}", "{from: level}")
    write(folder, {"raw/all.csv": "\n".join(lines) + "\n", "map.yaml": untranslated})
    status, said = gather(folder, crew)
    assert status == 4 and "row 4: level is 'all', which is no level; known: group, organisation, person, unit" in said
    write(folder, {"map.yaml": into.replace("all: organisation", "all: organization")})
    status, said = gather(folder, crew)
    assert status == 2 and "'organization' is no level; did you mean 'organisation'?" in said, said


def test_an_export_by_http(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """L 79: by the address's ending or by the media type, and with the token."""
    monkeypatch.setenv("TOKEN", "a-bearer-token-of-32-characters!")
    answers = {
        "/people.csv": ("text/html", rows(6).encode()),
        "/people": ("application/json; charset=utf-8", b'[{"id": "P1"}]'),
        "/x": ("text/html", b""),
    }
    tokens = set[str]()

    def answer(handler: BaseHTTPRequestHandler) -> None:
        tokens.add(handler.headers.get("Authorization", ""))
        media_type, body = answers[handler.path]
        say(handler, body, Content_Type=media_type)

    write(folder, {"map.yaml": PEOPLE_MAP.replace("{columns}", "{id: id, login: login, kind: kind}")})
    with server(answer) as (url, _):
        keys = {"name": "crew", "kind": "table", "mapping": "map.yaml", "token": "env:TOKEN"}
        status, said = tried(folder, source(url=f"{url}/people.csv", **keys))
        assert status == 0 and len(table(folder, "people")) == 6, said
        status, said = tried(folder, source(url=f"{url}/people", **keys))
        assert status == 4 and f"{url}/people: no row has 'kind'" in said, said
        status, said = tried(folder, source(url=f"{url}/x", **keys))
        assert status == 4 and f"{url}/x: is of no known kind" in said, said
        status, said = tried(folder, source(url=f"{url}/x", path="raw/people.csv", **keys))
        assert status == 2 and "has either path, a file, or url, an address" in said, said
        status, said = tried(folder, source(url=f"{url}/x", max_age_hours=3, **keys))
        assert status == 2 and "max_age_hours is about files" in said, said
    assert tokens == {"Bearer a-bearer-token-of-32-characters!"}


def test_try_counts_what_was_mapped_and_names_unknown_roles(folder: Path) -> None:
    """L 74 and L 78."""
    text = person(1, "title: cook\ntitle: admin\n") + person(2, "title: admn\nemployeeType: guest\n") + person(3)
    write(folder, {"organisation.yaml": ORGANISATION + "privileged_roles: [admin]\n"})
    tried(folder, ldif(folder, text))
    done = call("gather", "--try", "crew")
    assert done.status == 0
    found = [line.split() for line in done.out.splitlines()]
    assert ["people", "kind", "employeeType", "1"] in found and ["people", "roles", "title", "2"] in found
    assert ["people", "name", "displayName", "0"] in found
    assert ["admn", "1", "no", "known", "role;", "did", "you", "mean", "'admin'?"] in found
    assert ["admin", "1", "privileged"] in found
    assert "of 3 people only some have kind 1, roles 2; none has name, licences, created_at" in call("gather").err


def test_errors_of_what_was_gathered_name_the_entry_and_its_attribute(folder: Path) -> None:
    """L 83: not a line of a file that is gone."""
    text = person(1) + person(2, "description: 31.12.2026\n") + person(3, "description: soon\n")
    status, said = tried(folder, ldif(folder, text, fields={"expires_at": "description"}))
    entry = "people.csv: '00000002-0000-0000-0000-000000000000' 'p2@northmere.example' 'member': expires_at (from description): '31.12.2026'"
    assert status == 2 and f"what crew gave: {entry} is not a time with an offset" in said, said


@pytest.mark.parametrize(("zone", "hours"), [("Europe/Oslo", (1, 2)), ("America/Halifax", (-4, -3)), ("", (0, 0))])
def test_times_without_a_zone(folder: Path, zone: str, hours: tuple[int, int]) -> None:
    """L 84: also those that are soon there, and past here."""
    now = datetime.now(UTC)
    starts = {"soon": now + timedelta(minutes=30), "later": now + timedelta(days=3)}
    local = ZoneInfo(zone or "UTC")
    events = "".join(
        f"BEGIN:VEVENT\r\nUID:{name}\r\nDTSTAMP:20261101T000000Z\r\nDTSTART:{start.astimezone(local):%Y%m%dT%H%M%S}\r\n"
        "ORGANIZER:mailto:p0@northmere.example\r\nEND:VEVENT\r\n"
        for name, start in starts.items()
    )
    write(
        folder,
        {
            "plans.ics": f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n{events}END:VCALENDAR\r\n",
            "people.csv": rows(2),
        },
    )
    hand = source(name="hand", kind="files", paths=["organisation.yaml", "services.yaml", "people.csv"])
    toml = settings(
        hand, says_nothing(folder), source(name="plans", kind="calendar", path="plans.ics", service="tidecall")
    )
    write(
        folder, {"usher-gate.toml": toml.replace("keep = 7", f'keep = 7\ntime_zone = "{zone}"' if zone else "keep = 7")}
    )
    done = call("gather")
    assert done.status == 0, done.err
    found = {row["id"]: row["starts_at"] for row in table(folder, "meetings")}
    assert found == {name: f"{start:%Y-%m-%dT%H:%M:%SZ}" for name, start in starts.items()}
    assert ("2 meetings without a time zone: taken for UTC" in done.err) == (not zone)
    write(folder, {"usher-gate.toml": toml.replace("keep = 7", 'keep = 7\ntime_zone = "Oslo"\njoin_groups = "id"')})
    wrong = call("gather")
    assert wrong.status == 2 and "time_zone is the name of a time zone, such as Europe/Oslo" in wrong.err
    assert 'join_groups is "name", or is left out' in wrong.err


@pytest.mark.parametrize("what", ["mapping", "source", "settings", "good"])
def test_every_line_of_a_json_log_is_json(folder: Path, what: str) -> None:
    """L 84."""
    tried(folder, export(folder, rows(3)))
    if what == "mapping":
        write(folder, {"map.yaml": "usher-gate: mapping/1\ninto: 7\nrows: [x]\n"})
    elif what == "source":
        write(folder, {"raw/people.csv": "id,login\n"})
    elif what == "settings":
        write(folder, {"usher-gate.toml": "[gather]\nkep = 1\n"})
    done = call("gather", "--log-format", "json")
    lines = [json.loads(line) for line in done.err.splitlines()]
    assert {"mapping": 2, "source": 4, "settings": 2, "good": 0}[what] == done.status
    assert lines and all({"time", "level", "message"} <= set(line) for line in lines)
    assert any(line.get("state") == "failed" for line in lines) == (done.status != 0)
    assert all(0 <= line.get("seconds", 0) < 60 for line in lines)


_WORD = st.text(st.sampled_from("abßé;, \"'\\=+<#"), min_size=1, max_size=4).map(str.strip).filter(bool)
_PEOPLE = st.lists(
    st.tuples(
        st.sampled_from(("ada", "Ada", "weiß", "weiss", "ben", "cyd", "dot")),
        st.sampled_from(("member", "guest", "service", None)),
        st.lists(_WORD, max_size=3),
        st.one_of(st.none(), _WORD),
    ),
    min_size=1,
    max_size=5,
)


def as_ldif(people: list[Any]) -> Gathered:
    lines = ["version: 1", ""]
    for number, (login, kind, roles, name) in enumerate(people):
        lines += [
            f"dn: uid=p{number},dc=example",
            "objectClass: inetOrgPerson",
            f"entryUUID: P{number}",
            f"mail:: {_coded(f'{login}@northmere.example')}",
        ]
        lines += [f"employeeType: {kind}"] if kind else []
        lines += (
            [f"title:: {_coded(role)}" for role in roles] + ([f"displayName:: {_coded(name)}"] if name else []) + [""]
        )
    with tempfile.TemporaryDirectory() as folder:
        write(Path(folder), {"crew.ldif": "\n".join(lines) + "\n"})
        return Ldif(Path("crew.ldif"), Layout(PeopleMapping(FIELDS))).gather(_context(Path(folder)))


def as_json(people: list[Any]) -> Gathered:
    objects = [
        {"id": f"P{number}", "login": f"{login}@northmere.example"}
        | ({"kind": kind} if kind else {}) | ({"roles": roles} if roles else {}) | ({"name": name} if name else {})
        for number, (login, kind, roles, name) in enumerate(people)
    ]  # fmt: skip
    columns = "{id: id, login: login, kind: {from: kind, may_be_absent: true}, roles: {from: roles, may_be_absent: true}, name: {from: name, may_be_absent: true}}"
    with tempfile.TemporaryDirectory() as folder:
        write(Path(folder), {"people.json": json.dumps(objects), "map.yaml": PEOPLE_MAP.replace("{columns}", columns)})
        mapped = Mapped(Path("people.json"), Path("map.yaml"))
        mapped.prepare(Path(folder))
        return mapped.gather(_context(Path(folder)))


def as_csv(people: list[Any]) -> Gathered:
    with tempfile.TemporaryDirectory() as folder:
        with (Path(folder) / "people.csv").open("w", newline="") as stream:
            writer = csv.writer(stream)
            writer.writerow(("id", "login", "kind", "roles", "name"))
            for number, (login, kind, roles, name) in enumerate(people):
                writer.writerow((f"P{number}", f"{login}@northmere.example", kind, "|".join(roles), name))
        columns = "{id: id, login: login, kind: kind, roles: {from: roles, separator: '|'}, name: name}"
        write(Path(folder), {"map.yaml": PEOPLE_MAP.replace("{columns}", columns)})
        mapped = Mapped(Path("people.csv"), Path("map.yaml"))
        mapped.prepare(Path(folder))
        return mapped.gather(_context(Path(folder)))


def as_scim(people: list[Any], url: str, served: dict[str, Any]) -> Gathered:
    served["Users"] = [
        {"id": f"P{number}", "userName": f"{login}@northmere.example"}
        | ({"userType": kind} if kind else {}) | ({"roles": [{"value": role} for role in roles]} if roles else {}) | ({"displayName": name} if name else {})
        for number, (login, kind, roles, name) in enumerate(people)
    ]  # fmt: skip
    return Scim(Access(url), PeopleMapping(SCIM_FIELDS), page=2).gather(_context(Path()))


def _coded(text: str) -> str:
    return base64.b64encode(text.encode()).decode()


def _context(folder: Path) -> Context:
    return Context(folder, Secrets(folder), lambda *_: None)


@given(_PEOPLE)
def test_the_same_people_come_by_scim_as_ldif_and_as_exports_or_none_of_them(
    scim_server: tuple[str, dict[str, Any]], people: list[Any]
) -> None:
    """Logins that fold alike, attributes missing, many-valued roles with odd characters: the same rows, or refusals."""
    named = NamedSource("crew", "ldif", "", Ldif(Path("x"), Layout(PeopleMapping(FIELDS))))
    results: list[Any] = []
    for read in (as_ldif, as_json, as_csv, partial(as_scim, url=scim_server[0], served=scim_server[1])):
        try:
            found = read(people)
            check_content(named, found)
        except SourceFailed:
            results.append(None)
            continue
        keys = ("id", "login", "kind", "roles", "name")
        results.append(sorted(tuple(row.get(key, "") for key in keys) for row in found.tables["people"]))
    assert results.count(results[0]) == 4, results
    odd = any(";" in role for _, _, roles, _ in people for role in roles)
    logins = [login.casefold() for login, *_ in people]
    assert (results[0] is None) == (odd or len(set(logins)) < len(logins))


@pytest.fixture(scope="module")
def scim_server() -> Iterator[tuple[str, dict[str, Any]]]:
    """A SCIM server by index, and the resources that it serves."""
    served: dict[str, Any] = {"Users": [], "Groups": []}

    def answer(handler: BaseHTTPRequestHandler) -> None:
        found = served.get(urlsplit(handler.path).path.rpartition("/")[2])
        if found is None:
            say(handler, b"{}", 404)
            return
        query = {name: int(value) for name, value in parse_qsl(urlsplit(handler.path).query) if name != "attributes"}
        page = found[query["startIndex"] - 1 :][: query["count"]]
        say(handler, json.dumps({"totalResults": len(found), "Resources": page}).encode())

    with server(answer) as (url, _):
        yield url, served


def test_a_table_comes_from_one_source_and_a_key_stands_once(folder: Path) -> None:
    mapping = "usher-gate: mapping/1\ninto:\n  - table: authenticators\n    columns: {person: who, type: what}\n"
    write(folder, {"keys.csv": "who,what\nP1,multi-factor-otp\n", "keys-map.yaml": mapping,
                   "authenticators.csv": "person,type\nP1,multi-factor-otp\n"})  # fmt: skip
    people = export(folder, rows(2))
    mapped = source(name="rows", kind="table", path="keys.csv", mapping="keys-map.yaml")
    copied = source(name="copy", kind="files", paths=["authenticators.csv"])
    assert tried(folder, people, mapped)[0] == 0
    status, said = tried(folder, people, mapped, copied)
    assert status != 0 and "rows and copy both give authenticators; leave one out" in said
    head = "usher-gate: snapshot/1\nname: Northmere Ferries\ntaken_at: 2026-11-20T06:00:00Z\n"
    write(folder, {"organisation.yaml": head + "taken_at: 2026-11-21T06:00:00Z\n"})
    status, said = tried(folder, people)
    assert status != 0 and "organisation.yaml: has 2 lines of taken_at; keep one" in said


def test_a_column_of_settings_that_was_filled_and_is_empty_is_noticed(folder: Path) -> None:
    into = """\
  - settings: tidecall
    scope: {level: person, from: who}
    controls: {door.close: close}
    note: {from: why, may_be_absent: true}
"""
    write(folder, {"close-map.yaml": f"usher-gate: mapping/1\ninto:\n{into}"})
    people, text = export(folder, rows(9)), "who,close,why\n" + "".join(f"P{number},on,trial\n" for number in range(9))
    close = source(name="close", kind="table", path="close.csv", mapping="close-map.yaml")
    for found, word in (
        (text, ""),
        (text.replace("trial", ""), "close gave settings without note, which 9 of 9 had last time"),
    ):
        write(folder, {"close.csv": found})
        status, said = gather(folder, people, close)
        assert (status == 0) == (not word) and word in said, said
