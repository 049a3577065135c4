"""Reviews of guests against the plain reference.

States, who is asked, what answers of several come to, silence before and after.
"""

from __future__ import annotations

import csv
import io
import json
import tempfile
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.compared import TIMES, many
from tests.guests_reference import ADVICE, FATES, Row, fate, member_of, reviewer, states
from tests.program import call

TAKEN = datetime(2026, 11, 20, 6, tzinfo=UTC)
ODD = ("Ylva Østby", "=1+1", "+47 55", "-x", "@home", "'quoted", "007", 'a "b"; c', "two\nlines", "1e5", "TRUE", "")


def _time(rnd: Random, days: tuple[int, ...]) -> datetime | None:
    return None if rnd.random() < 0.25 else TAKEN - timedelta(days=rnd.choice(days), hours=rnd.choice((0, 0, 1)))


def random_review(rnd: Random, folder: Path) -> dict[str, Any]:
    """Writes an organisation with guests; gives its raw rows."""
    columns = {"sponsor", "created_at", "last_sign_in_at", "expires_at", "reviewed_at", "active", "home_domain", "name"}
    columns = {name for name in columns if rnd.random() < 0.88}
    ids = [f"P{number}" for number in range(rnd.choice((4, 8, 14)))]
    people: list[Row] = []
    for number, one in enumerate(ids):
        login = f"{one.lower()}@{rnd.choice(('northmere.example', 'Yard.example.com', 'coast.example.org'))}"
        row: Row = {
            "id": one,
            "login": login,
            "kind": "member" if number < 2 else rnd.choice(("guest", "guest", "member")),
        }
        row |= {
            "sponsor": rnd.choice((None, *ids, ids[0].lower() + "@NORTHMERE.example", "gone", one)),
            "created_at": _time(rnd, (10, 91, 200, 400)),
            "last_sign_in_at": _time(rnd, (1, 89, 90, 91, 300)),
            "expires_at": _time(rnd, (-400, -31, -30, -1, 0, 3)),
            "reviewed_at": _time(rnd, (5, 179, 180, 181, 900)),
            "active": rnd.choice(("true", "true", "true", "true", "false")) if number else "true",
            "home_domain": rnd.choice((None, None, "yard.example.com", "elsewhere.example.net")),
            "name": rnd.choice(ODD),
        }
        people.append(
            {name: cell for name, cell in row.items() if name in {"id", "login", "kind", *columns} and cell is not None}
        )
    groups: list[Row] = [
        {
            "id": f"g{number}",
            "name": rnd.choice(ODD) or "G",
            "owner": rnd.choice(("", *ids, people[0]["login"].upper(), people[1]["login"])),
        }
        for number in range(3)
    ]
    members = [{"group": f"g{rnd.randrange(3)}", "member": rnd.choice(ids), "type": "person"} for _ in range(len(ids))]
    members += [
        {"group": f"g{rnd.randrange(3)}", "member": f"g{rnd.randrange(3)}", "type": "group"}
        for _ in range(rnd.randrange(3))
    ]
    members = [row for number, row in enumerate(members) if row not in members[:number]]
    partners: list[Row] | None = None
    if rnd.random() < 0.85:
        partners = [
            {"domain": domain, "guests_in": rnd.choice(("true", "false"))}
            for domain in ("*", "YARD.example.com", "coast.example.org")
            if rnd.random() < 0.7
        ]
    policy: Row = {
        "review-every-days": rnd.choice((180, 90)),
        "silent-days": 90,
        "ends-soon-days": 30,
        "answer-within-days": rnd.choice((0, 14)),
        "on-silence": rnd.choice(("end", "keep")),
        "keep-for-days": 100,
    }
    fallback = [ids[0]] if rnd.random() < 0.7 else []
    snapshot = folder / "snapshot"
    snapshot.mkdir()
    (snapshot / "organisation.yaml").write_text(
        "usher-gate: snapshot/1\nname: Random\ntaken_at: 2026-11-20T06:00:00Z\n"
    )
    _table(snapshot / "people.csv", ["id", "login", "kind", *sorted(columns)], people)
    _table(snapshot / "groups.csv", ["id", "name", "owner"], groups)
    _table(snapshot / "members.csv", ["group", "member", "type"], members)
    if partners is not None:
        _table(snapshot / "partners.csv", ["domain", "guests_in"], partners)
    said = "".join(f"{key} = {json.dumps(value)}\n" for key, value in {**policy, "fallback": fallback}.items())
    (folder / "usher-gate.toml").write_text(f'snapshot = "snapshot"\n\n[guests]\n{said}')
    return {"people": people, "columns": columns, "groups": groups, "members": members, "partners": partners,
            "policy": policy, "fallback": fallback}  # fmt: skip


def _table(path: Path, columns: list[str], rows: list[Row]) -> None:
    with path.open("w", newline="") as stream:
        writer = csv.writer(stream)
        writer.writerow(columns)
        for row in rows:
            cells = [row.get(name) for name in columns]
            writer.writerow(
                ["" if cell is None else cell.isoformat() if isinstance(cell, datetime) else cell for cell in cells]
            )


def compare(rnd: Random) -> int:
    """Compares one review; returns how many rows were asked."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        org = random_review(rnd, folder)
        people, policy = org["people"], org["policy"]
        answer = json.loads(call("guests", "--format", "json", cwd=folder).out)
        guests = [person for person in people if person["kind"] == "guest" and person.get("active") != "false"]
        expected = {
            guest["id"]: states(guest, people, org["columns"], org["partners"], TAKEN, policy) for guest in guests
        }
        assert {each["id"]: each["states"] for each in answer["guests"]} == expected
        assert all(each["recommendation"] == ADVICE.get(each["states"][0], "ask") for each in answer["guests"])
        asked: dict[tuple[str, str], str | None] = {}
        for guest in guests:
            if expected[guest["id"]] == ["fine"]:
                continue
            asked[guest["id"], "account"] = reviewer(guest, None, people, org["fallback"])
            for group in member_of(guest["id"], org["members"])[1]:
                row = next(each for each in org["groups"] if each["id"] == group)
                asked[guest["id"], f"group:{group}"] = reviewer(guest, row, people, org["fallback"])
        if not asked:
            assert call("guests", "--ask", "asked", cwd=folder).status == 2
            return 0
        on = date(2026, 11, 20)
        assert call("guests", "--ask", "asked", "--on", on, cwd=folder).status == 0
        found: dict[tuple[str, str], str] = {}
        names = {group["id"]: group["name"] or group["id"] for group in org["groups"]}
        whole = {person["id"]: person for person in people}
        for sheet in json.loads((folder / "asked" / "review.json").read_text())["reviewers"]:
            keys = [(row["guest"], row["place"] != "account", row["place"]) for row in sheet["rows"]]
            assert keys == sorted(keys)  # the account of each guest first
            for row in sheet["rows"]:
                _cells(row, whole[row["guest"]], names, org["members"])
                assert (row["guest"], row["place"]) not in found  # exactly once a place
                found[row["guest"], row["place"]] = sheet["id"]
        assert found == {key: one for key, one in asked.items() if one is not None}
        assert set(answer["nobody_to_ask"]) == {key[0] for key, one in asked.items() if one is None}
        if found:
            _answers(rnd, folder, found, org["members"], policy, on)
        return len(asked)


def _cells(row: Row, guest: Row, names: dict[str, str], members: list[Row]) -> None:
    """What a row of a worksheet says of its guest."""
    days = [guest.get(name) for name in ("last_sign_in_at", "reviewed_at", "expires_at")]
    group = row["place"].partition(":")[2]
    direct = member_of(guest["id"], members)[0]
    nested = [each for each in members if each["type"] == "group"]
    giving = [
        one
        for one in sorted(direct)
        if group in member_of(guest["id"], [*nested, {"group": one, "member": guest["id"], "type": "person"}])[1]
    ]
    assert row["through"] == ("" if not group or group in direct else " and ".join(giving))
    place = (names[group] + (f" (through {row['through']})" if row["through"] else "")) if group else "the account"
    texts = (guest["id"], guest["login"], guest.get("name", ""))
    assert row["cells"][:3] == [text.replace("\n", "<U+000A>") for text in texts]
    assert row["cells"][4:6] == [row["place"], place.replace("\n", "<U+000A>")]
    assert row["cells"][6:9] == ["" if day is None else f"{day:%Y-%m-%d}" for day in days]


def _answers(
    rnd: Random, folder: Path, asked: dict[tuple[str, str], str], members: list[Row], policy: Row, on: date
) -> None:
    due = on + timedelta(days=policy["answer-within-days"])
    read_on = due + timedelta(days=rnd.choice((0, 1)))
    given: dict[tuple[str, str], list[tuple[str, date | None, str]]] = {key: [] for key in asked}
    for path in sorted((folder / "asked").glob("*.csv")):
        head, *rows = csv.reader(io.StringIO(path.read_text("utf-8-sig"), newline=""))
        for copy in range(rnd.choice((1, 1, 2))):
            target, filled = path if not copy else path.with_name(f"copy-{path.name}"), []
            for row in rows:
                decision = rnd.choice(("keep", "keep", "end", "pass-on", "", ""))
                until = rnd.choice((None, read_on, due + timedelta(days=400))) if decision == "keep" else None
                cells: list[Any] = [*row[:-4], rnd.choice((decision, decision.upper())), until or "", "why", ""]
                filled.append(cells)
                given[row[1], row[5]].append((decision, until, f"{target.name}:"))
            rnd.shuffle(filled)
            lines = {(row[1], row[5]): number for number, row in enumerate(filled, 2)}
            for key, number in lines.items():
                decision, until, where = given[key][-1]
                given[key][-1] = (decision, until, f"{where}{number}")
            with target.open("w", newline="", encoding=rnd.choice(("utf-8", "utf-8-sig", "utf-16"))) as stream:
                csv.writer(stream, delimiter=rnd.choice((",", ";", "\t"))).writerows([head, *filled])
    done = call("guests", "--read", "asked", "--on", read_on, "--format", "json", cwd=folder)
    assert done.status in (0, 1), done.err
    answer = json.loads(done.out)
    fates, counted = {}, {}
    for key in asked:
        said = [(fate(one, read_on, due, policy["on-silence"]), until, where) for one, until, where in given[key]]
        first, *rest = sorted(said, key=lambda one: (FATES.index(one[0]), one[1] or date.max, one[2]))
        fates[key] = first[0]
        counted[key] = (*first, [where for *other, where in rest if tuple(other) != first[:2]])
    assert counted == {
        (row["guest"], row["place"]): (
            row["decision"], row["until"] and date.fromisoformat(row["until"]), row["where"], row["others"])
        for row in answer["rows"]
    }  # fmt: skip
    assert done.status == int(any(one in ("pending", "pass-on") for one in fates.values()))
    ended = {guest for (guest, place), one in fates.items() if place == "account" and one in ("end", "silence-ends")}
    assert set(answer["ended"]) == ended
    kept = {guest for (guest, place), one in fates.items() if place == "account" and one in ("keep", "silence-keeps")}
    assert {guest for each in answer["kept"] for guest in each["guests"]} == kept
    gone = {
        (guest, place.partition(":")[2])
        for (guest, place), one in fates.items()
        if place != "account" and (one == "end" or (one == "silence-ends" and guest not in ended))
    }
    assert {(guest, each["group"]) for each in answer["removed"] for guest in each["guests"]} == {
        pair for pair in gone if pair[1] in member_of(pair[0], members)[0]
    }
    # A person who is also in a group within the group stays a member of it.
    assert {(each["guest"], each["group"]) for each in answer["nested"]} == {
        (guest, group)
        for guest, group in gone
        if group in member_of(guest, [row for row in members if (row["group"], row["member"]) != (group, guest)])[1]
    }


def test_reviews_are_what_the_text_says() -> None:
    counts: list[int] = []

    @settings(max_examples=many(120), suppress_health_check=[HealthCheck.too_slow])
    @given(st.integers(0, 2**32 - 1))
    def one(seed: int) -> None:
        counts.append(compare(Random(seed)))

    one()
    assert sum(counts) > 300 * TIMES
    assert sum(not count for count in counts) < 0.35 * len(counts)
