"""What grows with what: for inputs that are large in one direction only, twice the input against its half, in time
and memory."""

from __future__ import annotations

import random
from collections.abc import Callable
from contextlib import chdir
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

ORGANISATION = """usher-gate: snapshot/1
name: Northmere Ferries
taken_at: 2026-11-20T06:00:00Z
domains: [northmere.example]
privileged_roles: [administrator]
"""
SERVICES = """usher-gate: services/1
services:
  - id: tidecall
    factory: {door.waiting-room: everyone, door.host-first: "off", door.passcode-scheduled: "off"}
    supports: [door.waiting-room, door.host-first, door.passcode-scheduled]
"""
BASELINE = """usher-gate: baseline/1
name: Growth
version: "1"
rules:
"""


def _rule(name: str, severity: str, require: str) -> str:
    return (
        f"  - id: {name}\n    title: Rule {name}\n    because: It is asked.\n    mend: Mend it.\n    severity: "
        f"{severity}\n"
        f"    expect: {require}\n"
    )


def _people(count: int, extra: Callable[[int], str] = lambda _: "") -> str:
    return "".join(f"P{n:06},p{n}@northmere.example,member{extra(n)}\n" for n in range(count))


def _snapshot(folder: Path, files: dict[str, str], rules: str) -> Path:
    snapshot = folder / "snapshot"
    snapshot.mkdir(parents=True, exist_ok=True)
    for name, text in {"organisation.yaml": ORGANISATION, "services.yaml": SERVICES, **files}.items():
        (snapshot / name).write_text(text)
    (folder / "baseline.yaml").write_text(BASELINE + rules)
    (folder / "usher-gate.toml").write_text('snapshot = "snapshot"\nbaseline = "baseline.yaml"\n')
    return folder


ONE_RULE = _rule("G-1", "high", "{control: door.waiting-room, no_weaker_than: guests}")


def nested_groups(folder: Path, count: int) -> Path:
    """A chain of groups, each in the one before it, with a person in each and a setting for the outermost."""
    groups = "id,name\n" + "".join(f"g{n},Group {n}\n" for n in range(count))
    members = "group,member,type\n" + "".join(f"g{n},g{n + 1},group\n" for n in range(count - 1))
    members += "".join(f"g{n},P{n:06},person\n" for n in range(count))
    settings = "service,control,scope,value\ntidecall,door.waiting-room,group:g0,members\n"
    people = "id,login,kind\n" + _people(count)
    return _snapshot(
        folder, {"people.csv": people, "groups.csv": groups, "members.csv": members, "settings.csv": settings}, ONE_RULE
    )


def deep_units(folder: Path, count: int) -> Path:
    """A unit within a unit within a unit, with a person and a setting at each level."""
    paths = ["/" + "/".join(f"u{n}" for n in range(level + 1)) for level in range(count)]
    people = "id,login,kind,unit\n" + _people(count, lambda n: f",{paths[n]}")
    settings = "service,control,scope,value\n" + "".join(
        f"tidecall,door.waiting-room,unit:{path},{'members' if n % 2 else 'everyone'}\n" for n, path in enumerate(paths)
    )
    return _snapshot(folder, {"people.csv": people, "settings.csv": settings}, ONE_RULE)


def many_access_rules(folder: Path, count: int) -> Path:
    """Access rules of 20 networks each, and 1,000 people."""
    draw = random.Random(11)
    networks = "networks:\n" + "".join(f"  net{n}: [10.{n // 250}.{n % 250}.0/24]\n" for n in range(200))
    resources = "resources:\n  console: [admin]\n  files: []\n  mail: []\n"
    rules = "usher-gate: access-rules/1\nrules:\n"
    for number in range(count):
        inside = ", ".join(f"net{n}" for n in sorted(draw.sample(range(200), 20)))
        outcome = "{require: {any_of: [mfa]}}" if number % 3 else "{deny: true}"
        rules += (
            f"  - id: A-{number}\n    title: Rule {number}\n    mode: enforce\n"
            f"    people: {{include: {{group: [g{number % 50}]}}}}\n    resources: {{include: any}}\n"
            f"    when: {{network: {{include: [{inside}]}}}}\n    outcome: {outcome}\n"
        )
    people = "id,login,kind,roles\n" + _people(1000, lambda n: ",administrator" if n < 5 else ",")
    groups = "id,name\n" + "".join(f"g{n},Group {n}\n" for n in range(50))
    members = "group,member,type\n" + "".join(f"g{n % 50},P{n:06},person\n" for n in range(1000))
    files = {
        "organisation.yaml": ORGANISATION + networks + resources, "people.csv": people, "groups.csv": groups,
        "members.csv": members, "access-rules.yaml": rules,
        "authenticators.csv": "person,type\nP000000,single-factor-otp\n",
    }  # fmt: skip
    return _snapshot(folder, files, _rule("G-1", "high", "{proof: mfa, on: any}"))


def many_rules(folder: Path, count: int) -> Path:
    """Rules of a baseline, and 1,000 people with settings of their own."""
    wanted = ("{control: door.waiting-room, no_weaker_than: guests}", "{control: door.host-first, is: 'on'}",
              "{control: door.passcode-scheduled, is: 'on'}")  # fmt: skip
    rules = "".join(
        _rule(f"G-{n}", ("low", "medium", "high")[n % 3], wanted[n % 3]).replace(
            "    expect:", f"    audience: {{group: g{n % 50}}}\n    expect:"
        )
        for n in range(count)
    )
    people = "id,login,kind\n" + _people(1000)
    groups = "id,name\n" + "".join(f"g{n},Group {n}\n" for n in range(50))
    members = "group,member,type\n" + "".join(f"g{(n * k) % 50},P{n:06},person\n" for n in range(1000) for k in (1, 7))
    settings = "service,control,scope,value\n" + "".join(
        f"tidecall,door.waiting-room,person:P{n:06},{'members' if n % 3 else 'everyone'}\n" for n in range(0, 1000, 2)
    )
    return _snapshot(
        folder, {"people.csv": people, "groups.csv": groups, "members.csv": members, "settings.csv": settings}, rules
    )


def much_to_mend(folder: Path, count: int) -> Path:
    """People with settings of their own that drift, in groups that pull the other way."""
    draw = random.Random(5)
    people = "id,login,kind,unit\n" + _people(count, lambda n: f",/Fleet/Ship {n % 40}")
    groups = "id,name\n" + "".join(f"g{n},Group {n}\n" for n in range(60))
    members = "group,member,type\n" + "".join(
        f"g{group},P{n:06},person\n" for n in range(count) for group in sorted(draw.sample(range(60), 2))
    )
    settings = "service,control,scope,value,pinned\n"
    for control, words in (
        ("door.waiting-room", ("everyone", "guests", "members")),
        ("door.host-first", ("on", "off")),
    ):
        settings += "".join(f"tidecall,{control},group:g{n},{draw.choice(words)},false\n" for n in range(60))
        settings += "".join(f"tidecall,{control},unit:/Fleet/Ship {n},{draw.choice(words)},false\n" for n in range(40))
        chosen = sorted(draw.sample(range(count), count // 20))
        settings += "".join(f"tidecall,{control},person:P{n:06},{draw.choice(words)},false\n" for n in chosen)
    rules = ONE_RULE + _rule("G-2", "high", "{control: door.host-first, is: 'on'}")
    return _snapshot(
        folder, {"people.csv": people, "groups.csv": groups, "members.csv": members, "settings.csv": settings}, rules
    )


def calendar(path: Path, count: int) -> Path:
    """An iCalendar file of single meetings within the next days."""
    now = datetime.now(UTC)
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//northmere//growth//EN"]
    for number in range(count):
        start = now + timedelta(minutes=10 + number * 3 % (13 * 24 * 60))
        lines += [
            "BEGIN:VEVENT", f"UID:e{number}@northmere.example", f"DTSTAMP:{start:%Y%m%dT%H%M%SZ}",
            f"DTSTART:{start:%Y%m%dT%H%M%SZ}",
            f"DTEND:{start + timedelta(minutes=30):%Y%m%dT%H%M%SZ}", f"SUMMARY:Meeting {number}",
            "ORGANIZER:mailto:p1@northmere.example", "ATTENDEE:mailto:p2@northmere.example", "END:VEVENT",
        ]  # fmt: skip
    path.write_text("\r\n".join([*lines, "END:VCALENDAR", ""]))
    return path


def growth_rows(data: Path, ratio: Callable[..., None], cost: Callable[..., Any], program: Path) -> None:
    """A row for each direction in which an organisation may be large: twice the input against its half, the worse of
    time and memory."""
    good = (0, 1, 3)
    for what, make, size, command in (
        (
            "a chain of 15,000 nested groups with a person in each, `check`",
            nested_groups,
            15_000,
            ("check", "--format", "json"),
        ),
        ("500 levels of units with a person in each, `check`", deep_units, 500, ("check", "--format", "json")),
        (
            "1,000 access rules of 20 networks, 1,000 people, `holes`",
            many_access_rules,
            1_000,
            ("holes", "--format", "json"),
        ),
        ("2,000 rules, 1,000 people, `check`", many_rules, 2_000, ("check",)),
        ("a calendar of 4,000 single meetings, `gather`", gathered_calendar, 4_000, ("gather",)),
    ):
        half, whole = (
            _cost(cost, make(data / f"{make.__name__}-{count}", count), (program, *command), good)
            for count in (size // 2, size)
        )
        ratio(
            f"{what}, against half of it",
            max(whole.seconds / half.seconds, whole.peak / half.peak),
            2.3,
            f"{whole.seconds:.2f} / {half.seconds:.2f} s; {whole.peak:.0f} / {half.peak:.0f} MiB",
        )
    folder = much_to_mend(data / "much_to_mend", 10_000)
    check = _cost(cost, folder, (program, "check", "--format", "json"), good)
    mend = _cost(cost, folder, (program, "mend", "--seconds", "1", "--format", "json"), good)
    ratio(
        "`mend --seconds 1` for 10,000 people, against that second and a check",
        mend.seconds / (1 + check.seconds),
        1.5,
        f"{mend.seconds:.2f} / {1 + check.seconds:.2f} s; {mend.peak:.0f} / {check.peak:.0f} MiB",
    )


def _cost(cost: Callable[..., Any], folder: Path, command: tuple[Path | str, ...], good: tuple[int, ...]) -> Any:
    """What a command costs in a folder."""
    with chdir(folder):
        return cost(list(command), 3, good)


def gathered_calendar(folder: Path, count: int) -> Path:
    """A working folder that gathers a calendar."""
    _snapshot(folder, {"people.csv": "id,login,kind\n" + _people(10)}, ONE_RULE)
    calendar(folder / "meetings.ics", count)
    (folder / "usher-gate.toml").write_text(
        'snapshot = "gathered"\nbaseline = "baseline.yaml"\n'
        '[[gather.source]]\nname = "hand"\nkind = "files"\n'
        'paths = ["snapshot/organisation.yaml", "snapshot/people.csv"]\n'
        '[[gather.source]]\nname = "calendar"\nkind = "calendar"\npath = "meetings.ics"\nservice = "tidecall"\n'
    )
    return folder
