"""Makes an organisation of any size for the benchmark.

It has 400 units, 5,000 nested groups, 50,000 settings, 80 controls, 100 rules and 3 services.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq

UNITS, GROUPS, SETTINGS, CONTROLS, RULES = 400, 5_000, 50_000, 80, 100
SERVICES = ("alpha", "beta", "gamma")
GOOD, BAD = "guarded", "open"
SHARE_BAD = 0.035  # of the settings below the organisation


def _units() -> list[str]:
    paths = ["/"]
    for number in range(1, UNITS):
        above = paths[(number - 1) // 5]
        paths.append(f"{above.rstrip('/')}/u{number}")
    return paths


def _controls() -> list[dict[str, Any]]:
    return [
        {"id": f"bench.c{number:02}", "title": f"Control {number}", "kind": "level", "values": [BAD, GOOD, "shut"]}
        for number in range(CONTROLS)
    ]


def _supports(number: int) -> tuple[int, ...]:
    """The services that support a control: one of them, or all for the first ten controls."""
    return (0, 1, 2) if number < 10 else (number % 3,)


def tables(people: int, seed: int = 7) -> dict[str, pa.Table]:
    """The tables of an organisation of that many people."""
    random = np.random.default_rng(seed)
    ids = [f"P{number:07}" for number in range(people)]
    units = np.array(_units())
    made = {
        "people": pa.table(
            {
                "id": ids,
                "login": [f"person{number}@northmere.example" for number in range(people)],
                "name": [f"Person {number}" for number in range(people)],
                "kind": pa.array(
                    np.array(["member", "member", "member", "member", "guest"])[random.integers(0, 5, people)]
                ),
                "unit": pa.array(units[random.integers(0, UNITS, people)]),
                "roles": pa.array(np.array(["", "", "", "helper", "helper;admin"])[random.integers(0, 5, people)]),
                "licences": pa.array(np.array(["basic", "basic;plus", "plus"])[random.integers(0, 3, people)]),
                "active": pa.array(
                    np.array(["true", "true", "true", "false"])[
                        np.minimum(random.integers(0, 60, people), 3) * (random.random(people) < 0.05)
                    ]
                ),
                "mfa": pa.array(np.array(["required", "required", "offered"])[(random.random(people) < 0.01) * 2]),
                "created_at": pa.array(
                    np.array(["2024-02-01T08:00:00Z", "2025-05-01T08:00:00Z"])[random.integers(0, 2, people)]
                ),
            }
        )
    }
    made["groups"] = pa.table(
        {"id": [f"g{number}" for number in range(GROUPS)], "name": [f"Group {number}" for number in range(GROUPS)]}
    )
    direct = people * 3
    nested = np.arange(1, GROUPS)
    made["members"] = pa.table(
        {
            "group": np.concatenate(
                (
                    np.char.add("g", random.integers(0, GROUPS, direct).astype(str)),
                    np.char.add("g", ((nested - 1) // 8).astype(str)),
                )
            ),
            "member": np.concatenate(
                (np.array(ids)[random.integers(0, people, direct)], np.char.add("g", nested.astype(str)))
            ),
            "type": ["person"] * direct + ["group"] * len(nested),
        }
    )
    made["settings"] = _settings(random, people)
    return made


def _settings(random: np.random.Generator, people: int) -> pa.Table:
    scopes = [f"unit:{path}" for path in _units()[6:]] + [f"group:g{number}" for number in range(40, GROUPS)]
    rows: dict[tuple[int, int, str], tuple[str, bool]] = {}
    for control in range(CONTROLS):
        for service in _supports(control):
            rows[service, control, "organisation"] = GOOD, False
    while len(rows) < SETTINGS:
        control = int(random.integers(0, CONTROLS))
        service = int(random.choice(_supports(control)))
        scope = (
            f"person:P{int(random.integers(0, people)):07}"
            if random.random() < 0.4
            else scopes[int(random.integers(0, len(scopes)))]
        )
        rows[service, control, scope] = (BAD if random.random() < SHARE_BAD else GOOD), bool(random.random() < 0.05)
    keys, values = list(rows), list(rows.values())
    order = random.permutation(len(keys))
    return pa.table(
        {
            "service": [SERVICES[keys[place][0]] for place in order],
            "control": [f"bench.c{keys[place][1]:02}" for place in order],
            "scope": [keys[place][2] for place in order],
            "value": [values[place][0] for place in order],
            "pinned": ["true" if values[place][1] else "false" for place in order],
            "rank": pa.array([str(place % 7) for place in order]),
            "changed_at": ["2026-03-02T09:00:00Z"] * len(order),
        }
    )


def _write_yaml(folder: Path) -> None:
    """The files that people write (JSON is YAML)."""
    snapshot = folder / "snapshot"
    (snapshot / "organisation.yaml").write_text(
        json.dumps(
            {
                "usher-gate": "snapshot/1",
                "name": "Bench",
                "taken_at": "2026-11-20T06:00:00Z",
                "privileged_roles": ["admin"],
                "controls": _controls(),
            }
        )
    )
    services = [
        {
            "id": name,
            "supports": [f"bench.c{control:02}" for control in range(CONTROLS) if number in _supports(control)],
            "self-service": [],
        }
        for number, name in enumerate(SERVICES)
    ]
    (snapshot / "services.yaml").write_text(json.dumps({"usher-gate": "services/1", "services": services}))
    rules = []
    for number in range(RULES):
        leaf = {"control": f"bench.c{number % CONTROLS:02}", "no-weaker-than": GOOD}
        other = {"control": f"bench.c{(number + 3) % CONTROLS:02}", "no-weaker-than": GOOD}
        expect: dict[str, Any] = (
            {"any-of": [leaf, {"all-of": [other, {"person": "mfa", "is": "required"}]}]} if number % 10 == 9 else leaf
        )
        if number % 25 == 24:
            expect = {"person": "mfa", "is": "required"}
        rules.append(
            {
                "id": f"R{number:03}",
                "title": f"Rule {number}",
                "expect": expect,
                **({"audience": {"kind": "member"}} if number % 4 == 0 else {}),
            }
        )
    (folder / "baseline.yaml").write_text(
        json.dumps({"usher-gate": "baseline/1", "name": "Bench", "version": "1", "rules": rules})
    )


def write(folder: Path, people: int, formats: tuple[str, ...]) -> None:
    """Writes an organisation in each of the formats, into folders of these names, unless it is there already."""
    if (folder / "done").exists():
        return
    made = tables(people)
    for form in formats:
        snapshot = folder / form / "snapshot"
        snapshot.mkdir(parents=True, exist_ok=True)
        _write_yaml(folder / form)
        for name, table in made.items():
            if form == "parquet":
                pq.write_table(table, snapshot / f"{name}.parquet")
            elif form == "csv":
                pacsv.write_csv(table, snapshot / f"{name}.csv", pacsv.WriteOptions(quoting_style="none"))
            else:
                _write_jsonl(snapshot / f"{name}.jsonl", table)
    (folder / "done").touch()


def _write_jsonl(path: Path, table: pa.Table) -> None:
    flags, wholes, lists = {"active", "pinned"}, {"rank"}, {"roles", "licences"}
    with path.open("w") as stream:
        for row in table.to_pylist():
            for name in row:
                if name in flags:
                    row[name] = row[name] == "true"
                elif name in wholes:
                    row[name] = int(row[name])
                elif name in lists:
                    row[name] = [word for word in row[name].split(";") if word]
            stream.write(json.dumps(row) + "\n")


def write_ldif(path: Path, snapshot: Path) -> Path:
    """The same people and groups as a directory would write them out, unless they are there already."""
    if path.exists():
        return path
    base = "dc=northmere,dc=example"
    people = pq.read_table(
        snapshot / "people.parquet", columns=["id", "login", "name", "unit", "created_at"]
    ).to_pylist()
    names = {}
    members: dict[str, list[str]] = {}
    for row in pq.read_table(snapshot / "members.parquet").to_pylist():
        members.setdefault(row["group"], []).append(row["member"])
    with path.with_suffix(".part").open("w") as stream:
        for row in people:
            units = ",".join(f"ou={part}" for part in reversed(row["unit"].strip("/").split("/")) if part)
            names[row["id"]] = f"uid={row['id']},{units + ',' if units else ''}{base}"
            stamp = row["created_at"].translate(str.maketrans("", "", "-T:"))
            stream.write(
                f"dn: {names[row['id']]}\nobjectClass: inetOrgPerson\nobjectClass: "
                "organizationalPerson\nobjectClass: person\n"
                f"uid: {row['id']}\ncn: {row['name']}\nsn: {row['id']}\ndisplayName: {row['name']}\nmail: "
                f"{row['login']}\n"
                f"entryUUID: {row['id']}\ncreateTimestamp: {stamp}\nmodifyTimestamp: {stamp}\nentryCSN: "
                f"{stamp}.000000Z#000000#000#000000\n\n"
            )
        for group, inside in members.items():
            stream.write(f"dn: cn={group},ou=groups,{base}\nobjectClass: groupOfNames\ncn: {group}\n")
            stream.writelines(f"member: {names.get(each) or f'cn={each},ou=groups,{base}'}\n" for each in inside)
            stream.write("\n")
    path.with_suffix(".part").replace(path)
    return path
