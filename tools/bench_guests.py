"""Guests for the benchmark: 50,000 of them in 500 groups."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

GUESTS, MEMBERS, GROUPS = 50_000, 10_000, 500
_READ = """
import sys
from pathlib import Path
from usher_gate.files.snapshot.folder import read_snapshot
read_snapshot(Path(sys.argv[1]))
"""


def write(folder: Path) -> Path:
    """Writes the organisation, unless it is there already."""
    snapshot = folder / "snapshot"
    if (folder / "done").exists():
        return snapshot
    snapshot.mkdir(parents=True, exist_ok=True)
    rnd = Random(5)
    (snapshot / "organisation.yaml").write_text("usher-gate: snapshot/1\nname: Bench\ntaken_at: 2026-11-20T06:00:00Z\n")
    (snapshot / "partners.csv").write_text("domain,guests_in\nyard.example.com,true\n")
    with (snapshot / "people.csv").open("w") as stream:
        stream.write("id,login,name,kind,sponsor,created_at,last_sign_in_at,expires_at,reviewed_at\n")
        for number in range(MEMBERS + GUESTS):
            guest = number >= MEMBERS
            sponsor = f"P{rnd.randrange(MEMBERS):06}" if guest and rnd.random() < 0.9 else ""
            times = (
                rnd.choice(("", "2026-11-01T00:00:00Z", "2026-01-01T00:00:00Z")),
                rnd.choice(("", "2027-03-01T00:00:00Z")),
                rnd.choice(("", "2026-09-01T00:00:00Z")),
            )
            home, kind = ("yard.example.com", "guest") if guest else ("northmere.example", "member")
            stream.write(
                f"P{number:06},p{number}@{home},Person "
                f"{number},{kind},{sponsor},2024-01-01T00:00:00Z,{','.join(times)}\n"
            )
    with (snapshot / "groups.csv").open("w") as stream:
        stream.write("id,name,owner\n")
        stream.writelines(f"g{number},Group {number},P{rnd.randrange(MEMBERS):06}\n" for number in range(GROUPS))
    with (snapshot / "members.csv").open("w") as stream:
        stream.write("group,member,type\n")
        stream.writelines(f"g{rnd.randrange(GROUPS)},P{MEMBERS + number:06},person\n" for number in range(GUESTS))
    (folder / "done").write_text("")
    return snapshot


def guest_rows(folder: Path, ratio: Callable[..., None], cost: Callable[..., Any], program: Path) -> None:
    """The row about guests."""
    snapshot = write(folder)
    reading = cost([sys.executable, "-c", _READ, snapshot])
    shown = cost([program, "guests", "--snapshot", snapshot, "--format", "json", "--out", folder / "guests.json"])
    ratio(
        "`guests`, 50k of them, against reading the tables",
        shown.seconds / reading.seconds,
        3,
        f"{shown.seconds:.2f} / {reading.seconds:.2f} s; {shown.peak:.0f} / {reading.peak:.0f} MiB",
    )
