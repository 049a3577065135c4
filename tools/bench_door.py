"""Doors for the benchmark: 200,000 hosts on three services, and 100,000 planned meetings with ten invitees each."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from bench_data import GROUPS, SERVICES, UNITS, _units, tables

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))
SETTINGS, MEETINGS, INVITEES, SAMPLE = 50_000, 100_000, 10, 40


def _controls() -> dict[str, list[str]]:
    """Every control of a gate, with its values, weakest first."""
    from tests.door_reference import CONTROLS, words_of

    return {
        name: words_of(name)
        for name, kind in CONTROLS.items()
        if kind["kind"] != "set" and name.startswith(("door.", "line."))
    }


def write(folder: Path, people: int) -> Path:
    """Writes the organisation, unless it is there already."""
    if (folder / "done").exists():
        return folder
    snapshot = folder / "snapshot"
    snapshot.mkdir(parents=True, exist_ok=True)
    random, controls = np.random.default_rng(11), _controls()
    made = tables(people)
    made["settings"] = _settings(random, people, controls)
    made["meetings"] = _meetings(random, people)
    for name, table in made.items():
        pq.write_table(table, snapshot / f"{name}.parquet")
    head = {
        "usher-gate": "snapshot/1",
        "name": "Bench",
        "taken_at": "2026-11-20T06:00:00Z",
        "domains": ["northmere.example"],
    }
    (snapshot / "organisation.yaml").write_text(json.dumps({**head, "privileged_roles": ["admin"]}))
    services = [
        {"id": name, "supports": ["door.*", "line.*"], "self-service": ["door.waiting-room"],
         "factory": {control: words[0] for control, words in controls.items()} | {"door.refused-domains": "-", "door.listed-domains": "partner.example"}}
        for name in SERVICES
    ]  # fmt: skip
    (snapshot / "services.yaml").write_text(json.dumps({"usher-gate": "services/1", "services": services}))
    names = sorted(controls)
    rules: list[dict[str, Any]] = [
        {"id": f"R{number:03}", "title": f"Rule {number}",
         "expect": {"control": names[number % len(names)], "no-weaker-than": controls[names[number % len(names)]][-1]}}
        for number in range(100)
    ]  # fmt: skip
    (folder / "baseline.yaml").write_text(
        json.dumps({"usher-gate": "baseline/1", "name": "Bench", "version": "1", "rules": rules})
    )
    (folder / "done").write_text("")
    return folder


def _settings(random: np.random.Generator, people: int, controls: dict[str, list[str]]) -> pa.Table:
    scopes = [*(f"unit:{path}" for path in _units()[6:UNITS]), *(f"group:g{number}" for number in range(40, GROUPS))]
    names = sorted(controls)
    rows = {
        (service, control, "organisation"): (controls[control][-1], False) for service in SERVICES for control in names
    }
    while len(rows) < SETTINGS:
        control = names[int(random.integers(0, len(names)))]
        scope = (
            f"person:P{int(random.integers(0, people)):07}"
            if random.random() < 0.4
            else scopes[int(random.integers(0, len(scopes)))]
        )
        strict = controls[control][-1] if random.random() < 0.97 else controls[control][0]
        rows[SERVICES[int(random.integers(0, 3))], control, scope] = strict, bool(random.random() < 0.02)
    keys, values = list(rows), list(rows.values())
    return pa.table(
        {
            "service": [key[0] for key in keys],
            "control": [key[1] for key in keys],
            "scope": [key[2] for key in keys],
            "value": [value for value, _ in values],
            "pinned": ["true" if pinned else "false" for _, pinned in values],
            "rank": [str(place) for place in range(len(keys))],
        }
    )


def _meetings(random: np.random.Generator, people: int) -> pa.Table:
    ours = [f"person{number}@northmere.example" for number in range(people)]
    theirs = [f"guest{number}@{'partner' if number % 2 else f'else{number % 50}'}.example" for number in range(20_000)]
    picked = random.integers(0, people, (MEETINGS, INVITEES))
    outside = random.random((MEETINGS, INVITEES)) < 0.2
    invitees = [
        ";".join(theirs[one % len(theirs)] if out else ours[one] for one, out in zip(row, outs, strict=True))
        for row, outs in zip(picked.tolist(), outside.tolist(), strict=True)
    ]
    return pa.table(
        {
            "id": [f"M{number:06}" for number in range(MEETINGS)],
            "service": [SERVICES[number % 3] for number in range(MEETINGS)],
            "organiser": [f"P{number:07}" for number in random.integers(0, people, MEETINGS).tolist()],
            "kind": ["scheduled"] * MEETINGS,
            "starts_at": ["2026-11-21T09:00:00Z"] * MEETINGS,
            "invitees": invitees,
        }
    )


_AGENDA = """
import gc, sys, time
gc.disable()
from pathlib import Path
from usher_gate.files.snapshot.folder import read_snapshot
from usher_gate.core.settings.resolver import Resolver
from usher_gate.core.door.agenda import Agenda
folder = Path(sys.argv[1])
aside = folder / 'meetings.aside'
table = folder / 'snapshot' / 'meetings.parquet'
def timed():
    start = time.perf_counter(); read = read_snapshot(folder / 'snapshot'); return time.perf_counter() - start, read
timed()
table.rename(aside)
try:
    without = min(timed()[0] for _ in range(3))
finally:
    aside.rename(table)
found = [timed() for _ in range(3)]
reading = min(seconds for seconds, _ in found) - without
start = time.perf_counter()
shown = sum(1 for _ in Agenda(Resolver(found[-1][1].snapshot)).all(True))
print(reading, time.perf_counter() - start, shown)
"""
_HOSTS = """
import sys, time
from pathlib import Path
from usher_gate.files.snapshot.folder import read_snapshot
from usher_gate.core.settings.resolver import Resolver
from usher_gate.core.door.doors import Doors
from usher_gate.core.door.hosts import hosts_of
read = read_snapshot(Path(sys.argv[1]) / 'snapshot')
resolver, start = Resolver(read.snapshot), time.perf_counter()
hosts = sum(door.hosts for service in read.snapshot.services for door in Doors(hosts_of(resolver, service)).doors())
print(time.perf_counter() - start, hosts)
"""


def _run(code: str, folder: Path) -> list[float]:
    done = subprocess.run([sys.executable, "-c", code, str(folder)], capture_output=True, text=True, check=True)
    return [float(word) for word in done.stdout.split()]


def _plain_seconds(folder: Path) -> float:
    """A plain loop over hosts and visitors: a sample, scaled to all hosts of all services."""
    import time
    from datetime import UTC, datetime

    from tests.door_reference import CONTROLS, Doors
    from tests.reference import Org

    read = {
        name: pq.read_table(folder / "snapshot" / f"{name}.parquet").to_pylist()
        for name in ("people", "groups", "members", "settings")
    }
    services = json.loads((folder / "snapshot" / "services.yaml").read_text())["services"]
    whole = [
        {
            "accounts": None,
            "precedence": ["organisation", "unit", "group", "person"],
            "needs": {},
            "settle-hours": 24,
            **each,
        }
        for each in services
    ]
    people, every = read["people"], set(read["people"][0])
    sample = people[:SAMPLE]
    settings = [{**row, "rank": int(row["rank"])} for row in read["settings"]]
    org = Org(datetime(2026, 11, 20, 6, tzinfo=UTC), CONTROLS, sample, every, read["groups"], read["members"], whole, settings, set(settings[0]),
              None, None, ["admin"])  # fmt: skip
    reference = Doors(org)
    reference.domains = ("northmere.example",)
    by_key: dict[tuple[str, str], list[Any]] = {}
    for row in settings:
        by_key.setdefault((row["service"], row["control"]), []).append(row)
    reference.settings_of = lambda service, control: by_key.get((service, control), [])  # type: ignore[method-assign]
    start = time.perf_counter()
    for service in whole:
        for person in sample:
            room = reference.room(person, service)
            for visit in reference.visits(reference.kinds(service), reference.ways(service)):
                reference.meet(room, visit)
    return (time.perf_counter() - start) * len(people) / len(sample)


def door_rows(
    folder: Path, ratio: Callable[..., None], check_cost: Callable[[Path], Any], cost: Callable[..., Any], program: Path
) -> None:
    """The rows about doors."""
    write(folder, 200_000)
    meetings, aside = folder / "snapshot" / "meetings.parquet", folder / "meetings.aside"
    meetings.rename(aside)
    try:
        whole = check_cost(folder)
        door = cost(
            [program, "door", "--snapshot", folder / "snapshot", "--format", "json", "--out", folder / "door.json"]
        )
        hosts, doors = _run(_HOSTS, folder)
        plain = _plain_seconds(folder)
    finally:
        aside.rename(meetings)
    ratio(
        "`door` for 200k hosts on three services, against the whole check",
        door.seconds / whole.seconds,
        0.5,
        f"{door.seconds:.2f} / {whole.seconds:.2f} s; {door.peak:.0f} / {whole.peak:.0f} MiB",
    )
    ratio(
        f"deciding {doors:,.0f} doors, against a plain loop over hosts and visitors (a sample of {SAMPLE}, scaled)",
        plain / hosts,
        0,
        f"{plain:.0f} / {hosts:.2f} s",
        least=True,
    )
    reading, judging, shown = _run(_AGENDA, folder)
    ratio(
        f"100k planned meetings with ten invitees each ({shown:,.0f} to be looked at), against reading that table",
        judging / reading,
        1.5,
        f"{judging:.2f} / {reading:.2f} s",
    )
