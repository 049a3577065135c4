"""Random organisations, as raw rows and as files: the shared strategy of the property tests."""

from __future__ import annotations

import csv
import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import yaml
from hypothesis import strategies as st

from .reference import Org, Row

TAKEN = datetime(2026, 11, 20, 6, tzinfo=UTC)
CONTROLS: dict[str, Row] = {
    "t.flag": {"kind": "flag", "strict": "on"},
    "t.open": {"kind": "flag", "strict": "off"},
    "t.level": {"kind": "level", "values": ["open", "staffed", "shut"]},
    "u.minutes": {"kind": "number", "strict": "lower"},
    "u.set": {"kind": "set"},
}
UNITS = ("/", "/a", "/a/b", "/a/b/c", "/a/d", "/e", "/ab")
SET_VALUES = ("x", "x;y", "y;z", "z", "")  # the empty one is written "-"
CSV_ONLY_TEXT = ("value",)


def value_of(control: str, rnd: Random) -> str:
    kind = CONTROLS[control]["kind"]
    if kind == "flag":
        return rnd.choice(("on", "off"))
    if kind == "level":
        return str(rnd.choice(CONTROLS[control]["values"]))
    return rnd.choice(("5", "10", "10.5", "60")) if kind == "number" else rnd.choice(SET_VALUES)


def _time(rnd: Random) -> datetime | None:
    if rnd.random() < 0.2:
        return None
    return TAKEN - timedelta(hours=rnd.choice((-1, 0, 1, 11, 12, 13, 24, 25, 100, 5000)))


def _people(rnd: Random, count: int) -> tuple[list[Row], set[str]]:
    optional = (
        "unit",
        "roles",
        "licences",
        "active",
        "break_glass",
        "home_domain",
        "sponsor",
        "mfa",
        "protection",
        "created_at",
        "last_sign_in_at",
        "reviewed_at",
        "attr.site",
    )
    columns = {"id", "login", "kind", *(name for name in optional if rnd.random() < 0.85)}
    people = []
    for number in range(count):
        kind = rnd.choice(("member", "member", "guest", "service"))
        cells: Row = {
            "id": f"P{number:02}",
            "login": f"p{number}@{'home.example' if kind == 'guest' else 'Northmere.example'}",
            "kind": kind,
            "unit": rnd.choice((*UNITS, None)),
            "roles": rnd.choice((None, "admin", "admin;helper", "helper")),
            "licences": rnd.choice((None, "plus", "basic", "basic;plus")),
            "active": rnd.choice((None, "true", "true", "false")),
            "break_glass": rnd.choice((None, "true", "false")),
            "home_domain": rnd.choice((None, "Partner.example")) if kind == "guest" else None,
            "sponsor": rnd.choice((None, "P00", "P01", "p1@NORTHMERE.example", "nobody")),
            "mfa": rnd.choice((None, "absent", "offered", "required")),
            "protection": rnd.choice((None, "standard", "heightened")),
            "attr.site": rnd.choice((None, "north", "south")),
            "created_at": rnd.choice((None, TAKEN - timedelta(days=400))),
            "last_sign_in_at": rnd.choice((None, TAKEN - timedelta(days=3, hours=5))),
            "reviewed_at": rnd.choice((None, TAKEN - timedelta(days=90))),
        }
        people.append({name: cell for name, cell in cells.items() if name in columns and cell is not None})
    return people, columns


def _pattern(rnd: Random) -> str:
    return rnd.choice((*CONTROLS, "t.*", "u.*", "*"))


def _service(name: str, rnd: Random, columns: set[str]) -> Row:
    rest = ["unit", "group", "person"]
    rnd.shuffle(rest)
    needs: Row = {}
    for pattern in sorted({_pattern(rnd) for _ in range(rnd.choice((0, 0, 1, 2)))}):
        needs[pattern] = {"licences": rnd.choice((["plus"], ["basic", "plus"]))}
        if pattern in CONTROLS and rnd.random() < 0.5:
            needs[pattern]["without"] = value_of(pattern, rnd)
    return {
        "id": name,
        "accounts": rnd.choice((None, {"any": True}, selector(rnd, columns))),
        "precedence": ["organisation", *rest[: rnd.choice((3, 3, 2, 1))]],
        "settle-hours": rnd.choice((24, 12, 0)),
        "supports": rnd.choice((None, None, sorted({_pattern(rnd) for _ in range(3)}))),
        "factory": {control: value_of(control, rnd) for control in CONTROLS if rnd.random() < 0.5},
        "self-service": rnd.choice((None, [], sorted({_pattern(rnd) for _ in range(2)}))),
        "needs": needs,
    }


def selector(rnd: Random, columns: set[str], depth: int = 0) -> Row:
    """A selector; now and then over a column that may be missing."""
    choices: list[Row] = [
        {"any": True},
        {"kind": rnd.choice(("member", "guest", ["member", "service"]))},
        {"unit": rnd.choice(("/a", "/a/b", ["/e", "/ab"]))},
        {"group": rnd.choice(("g0", "g1", ["g2", "g3"]))},
        {"role": rnd.choice(("admin", "privileged"))},
        {"licence": "plus"},
        {"login": rnd.choice(("p1*", "*@NORTHMERE.example"))},
        {"break-glass": rnd.choice((True, False))},
        {"home-domain": rnd.choice(("partner.EXAMPLE", "home.example"))},
        {"attr.site": rnd.choice(("north", ["north", "south"]))},
    ]
    if depth < 2 and rnd.random() < 0.35:
        parts = [selector(rnd, columns, depth + 1) for _ in range(rnd.choice((1, 2)))]
        return rnd.choice(({"any-of": parts}, {"all-of": parts}, {"not": parts[0]}))
    made = dict(rnd.choice(choices))
    if rnd.random() < 0.2:
        made.update(rnd.choice(choices))
    return made


def _leaf(rnd: Random, often: str) -> Row:
    if rnd.random() < 0.3:
        return rnd.choice(
            (
                {"person": "mfa", "operator": "no-weaker-than", "operands": rnd.choice(("offered", "required"))},
                {"person": "mfa", "operator": "is", "operands": "required"},
                {"person": "protection", "operator": "one-of", "operands": ["heightened"]},
                {"person": "sponsor", "operator": "present", "operands": rnd.choice((True, False))},
                {"person": "reviewed_at", "operator": "present", "operands": True},
                {"person": "days-since-sign-in", "operator": "no-weaker-than", "operands": "30"},
                {"person": "days-since-review", "operator": "between", "operands": ["10", "100"]},
                {"person": "roles", "operator": "none-of", "operands": ["admin"]},
                {"person": "licences", "operator": "includes", "operands": ["plus"]},
                {"person": "attr.site", "operator": "is", "operands": "north"},
            )
        )
    control = rnd.choice((*CONTROLS, often, often, often))
    kind = CONTROLS[control]["kind"]
    if kind == "set":
        operator = rnd.choice(("is", "one-of", "within", "includes", "none-of"))
        sets = [value.split(";") if value else [] for value in SET_VALUES]
        return {
            "control": control,
            "operator": operator,
            "operands": rnd.sample(sets, 2) if operator == "one-of" else rnd.choice(sets),
        }
    operator = rnd.choice(("is", "one-of", "no-weaker-than", *(("between",) if kind == "number" else ())))
    if operator == "between":
        return {"control": control, "operator": operator, "operands": rnd.choice((["5", "10"], ["10", "60"]))}
    return {
        "control": control,
        "operator": operator,
        "operands": [value_of(control, rnd), value_of(control, rnd)]
        if operator == "one-of"
        else value_of(control, rnd),
    }


def _tree(rnd: Random, often: str, depth: int = 0) -> Row:
    if depth >= 3 or rnd.random() < (0.5 if depth == 0 else 0.65):
        return _leaf(rnd, often)
    branches = [_tree(rnd, often, depth + 1) for _ in range(rnd.choice((1, 2, 2, 3)))]
    return rnd.choice(
        (
            {"all-of": branches},
            {"any-of": branches},
            {"some-of": {"at-least": rnd.randint(1, len(branches)), "of": branches}},
        )
    )


def controls_in(tree: Row) -> bool:
    """Whether a control is asked for anywhere in a tree."""
    return "control" in json.dumps(tree)


def _rule(number: int, rnd: Random, services: list[Row] | None, columns: set[str], often: str) -> Row:
    rule: Row = {
        "id": f"R{number}",
        "expect": _tree(rnd, often),
        "severity": rnd.choice(("critical", "high", "medium", "low")),
    }
    if rnd.random() < 0.5:
        rule["audience"] = selector(rnd, columns)
    if rnd.random() < 0.25:
        rule["except"] = selector(rnd, columns)
    if rnd.random() < 0.5:
        rule["pinned"] = rnd.choice(("true", "strict"))
    if services and controls_in(rule["expect"]) and rnd.random() < 0.3:
        rule["services"] = [rnd.choice(services)["id"]]
    if controls_in(rule["expect"]) and rnd.random() < 0.2:
        rule["must_support"] = True
    return rule


def _settings(rnd: Random, services: list[Row], count: int, often: str) -> list[Row]:
    """Settings, most of them of the control `often`, so that they meet; now and then one of it for every group."""
    rows, taken = [], set()
    busy = rnd.choice(services)["id"]
    wanted = [(busy, often, f"group:g{number}") for number in range(5)] if count and rnd.random() < 0.6 else []
    scopes = [
        "organisation",
        *(f"unit:{unit}" for unit in UNITS),
        *(f"group:g{number}" for number in range(5)),
        *(f"person:P{number:02}" for number in range(6)),
        "unit:/nowhere",
        "unit:/planned/below",
        "group:ghost",
        "person:P99",
        "group:g0",
        "group:g1",
        "meeting:m1",
    ]
    wanted += [
        (rnd.choice(services)["id"], rnd.choice((*CONTROLS, often, often, often)), rnd.choice(scopes))
        for _ in range(count)
    ]
    for service, control, scope in wanted:
        row: Row = {
            "service": service,
            "control": control,
            "scope": scope,
            "value": value_of(control, rnd),
            "pinned": rnd.choice((None, None, "true", "false")),
            "rank": rnd.choice((None, None, 1, 2)),
            "active": rnd.choice((None, None, None, "true", "false")),
            "changed_at": _time(rnd),
        }
        key = row["service"], control, row["scope"]
        if row["active"] != "false" and key in taken:
            continue
        if row["active"] != "false":
            taken.add(key)
        rows.append({name: cell for name, cell in row.items() if cell is not None})
    return rows


def random_org(rnd: Random, size: int | None = None) -> Org:
    """One random organisation with all features at once, of so many people (a few, where it is not said)."""
    people, columns = _people(rnd, rnd.choice((1, 4, 9)) if size is None else size)
    services = (
        [_service(name, rnd, columns) for name in ("s1", "s2")[: rnd.choice((1, 2, 2))]]
        if rnd.random() < 0.95
        else None
    )
    ids = [person["id"] for person in people]
    groups = [{"id": f"g{number}", "name": f"Group {number}"} for number in range(5)]
    members = [
        {"group": f"g{rnd.randrange(5)}", "member": rnd.choice((*ids, "nobody")), "type": "person"}
        for _ in range(rnd.choice((0, 6, 14, 30)) if size is None else size)
    ]
    members += [
        {"group": f"g{rnd.randrange(5)}", "member": f"g{rnd.randrange(5)}", "type": "group"}
        for _ in range(rnd.randrange(4))
    ]
    setting_columns = {
        "service",
        "control",
        "scope",
        "value",
        *(name for name in ("pinned", "rank", "active", "changed_at") if rnd.random() < 0.9),
    }
    often = rnd.choice(tuple(CONTROLS))
    settings = _settings(rnd, services, rnd.choice((0, 5, 30, 60)), often) if services and rnd.random() < 0.93 else None
    if settings is not None:
        if "active" not in setting_columns:
            settings = [row for row in settings if row.get("active") != "false"]
        settings = [{name: cell for name, cell in row.items() if name in setting_columns} for row in settings]
    observations = None
    if services and rnd.random() < 0.6:
        observations = [
            {
                "person": rnd.choice(ids),
                "service": rnd.choice(services)["id"],
                "control": control,
                "value": value_of(control, rnd),
                "seen_at": TAKEN - timedelta(hours=rnd.choice((-2, 0, 6, 12, 200))),
            }
            for control in (rnd.choice(tuple(CONTROLS)) for _ in range(rnd.randrange(20)))
        ]
    org = Org(
        TAKEN,
        CONTROLS,
        people,
        columns,
        groups if rnd.random() < 0.9 else None,
        members if rnd.random() < 0.9 else None,
        services,
        settings,
        setting_columns,
        observations,
        None,
        rnd.choice((None, ["admin"], ["admin", "helper"])),
    )
    if org.members is not None and org.groups is None:  # groups are then those that members name
        org.members += [{"group": f"g{number}", "member": ids[0], "type": "person"} for number in range(5)]
    if rnd.random() < 0.4:
        org.units = rnd.sample(("/planned/below", "/a", "/nowhere/else"), rnd.randint(1, 3))
    org.rules = [_rule(number, rnd, services, columns, often) for number in range(rnd.choice((1, 3, 6)))]
    for number in range(rnd.choice((0, 0, 2))):
        exception: Row = {
            "id": f"X{number}",
            "rules": sorted({rnd.choice(org.rules)["id"] for _ in range(2)}),
            "who": selector(rnd, columns),
            "reason": "because",
            "approved_by": "somebody",
            "until": (TAKEN + timedelta(days=rnd.choice((-1, 0, 40)))).date(),
        }
        if services and rnd.random() < 0.3:
            exception["services"] = [rnd.choice(services)["id"]]
        org.exceptions.append(exception)
    return org


@st.composite
def organisations(draw: st.DrawFn) -> tuple[Org, Random]:
    """A random organisation, and the randomness with which its files are to be written.

    Both come from a seed: drawn value by value, Hypothesis prefers what is simple, and rules, groups and settings
    hardly ever meet.
    """
    rnd = Random(draw(st.integers(0, 2**32 - 1)))
    return random_org(rnd), rnd


# Writing


def write_org(org: Org, folder: Path, rnd: Random, formats: tuple[str, ...] = ("csv", "jsonl", "parquet")) -> None:
    """Writes snapshot, baseline and exceptions into a folder, rows in any order, each table in any format."""
    snapshot = folder / "snapshot"
    snapshot.mkdir(parents=True)
    organisation: Row = {
        "usher-gate": "snapshot/1",
        "name": "Random",
        "taken_at": "2026-11-20T07:00:00+01:00",
        "controls": [{"id": name, "title": name, **kind} for name, kind in org.controls.items()],
    }
    if org.privileged is not None:
        organisation["privileged_roles"] = org.privileged
    _yaml(snapshot / "organisation.yaml", organisation)
    if org.services is not None:
        kept = [
            {key: value for key, value in service.items() if value is not None}
            for service in _shuffled(org.services, rnd)
        ]
        _yaml(snapshot / "services.yaml", {"usher-gate": "services/1", "services": kept})
    _table(snapshot, "people", org.people, org.columns, rnd, formats)
    for name, rows in (("groups", org.groups), ("members", org.members)):
        if rows is not None:
            _table(
                snapshot, name, rows, {"id", "name"} if name == "groups" else {"group", "member", "type"}, rnd, formats
            )
    if org.units is not None:
        _table(snapshot, "units", [{"path": path} for path in org.units], {"path"}, rnd, formats)
    if org.settings is not None:
        _table(snapshot, "settings", org.settings, org.setting_columns, rnd, formats)
    if org.observations is not None:
        _table(
            snapshot,
            "observations",
            org.observations,
            {"person", "service", "control", "value", "seen_at"},
            rnd,
            formats,
        )
    rules = [{"title": "t", **rule, "expect": _written(rule["expect"])} for rule in _shuffled(org.rules, rnd)]
    _yaml(folder / "baseline.yaml", {"usher-gate": "baseline/1", "name": "Random", "version": "v1", "rules": rules})
    _yaml(folder / "exceptions.yaml", {"usher-gate": "exceptions/1", "exceptions": org.exceptions})


def _shuffled(rows: list[Row], rnd: Random) -> list[Row]:
    copy = list(rows)
    rnd.shuffle(copy)
    return copy


def _written(tree: Row) -> Row:
    for key in ("all-of", "any-of"):
        if key in tree:
            return {key: [_written(each) for each in tree[key]]}
    if "some-of" in tree:
        return {"some-of": {**tree["some-of"], "of": [_written(each) for each in tree["some-of"]["of"]]}}
    rest = {key: value for key, value in tree.items() if key not in ("operator", "operands")}
    return {**rest, tree["operator"]: tree["operands"]}


KEYS = (
    "any-of", "all-of", "some-of", "at-least", "one-of", "no-weaker-than", "none-of", "break-glass", "home-domain",
    "settle-hours", "self-service", "asks-callers", "longest-hours", "may-judge-nobody",
)  # fmt: skip


def with_keys(data: Any, written: dict[str, str]) -> Any:
    """Return data with other keys in all of its mappings: as files have them, or as the references do."""
    if isinstance(data, list):
        return [with_keys(each, written) for each in data]
    if isinstance(data, dict):
        return {written.get(key, key): with_keys(value, written) for key, value in data.items()}
    return data


WRITTEN = {key: key.replace("-", "_") for key in KEYS}
AS_REFERENCES = {written: key for key, written in WRITTEN.items()}


def _yaml(path: Path, data: Any) -> None:
    text = yaml.dump(with_keys(data, WRITTEN), Dumper=yaml.CSafeDumper, sort_keys=False, allow_unicode=True)
    path.write_text(text)


def _cell(value: Any) -> str:
    return (
        value.isoformat().replace("+00:00", "Z") if isinstance(value, datetime) else "" if value is None else str(value)
    )


def _table(folder: Path, name: str, rows: list[Row], columns: set[str], rnd: Random, formats: tuple[str, ...]) -> None:
    rows = [{**row, "value": "-"} if row.get("value") == "" else row for row in rows]
    form, ordered, rows = rnd.choice(formats), sorted(columns), _shuffled(rows, rnd)
    if form == "jsonl" and rows and all(any(column in row for row in rows) for column in ordered):
        text = "".join(json.dumps({key: _json(key, cell) for key, cell in row.items()}) + "\n" for row in rows)
        (folder / f"{name}.jsonl").write_text(text)
    elif form == "parquet":
        _parquet(folder / f"{name}.parquet", rows, ordered, rnd)
    else:
        with (folder / f"{name}.csv").open("w", newline="") as stream:
            writer = csv.writer(stream, lineterminator=rnd.choice(("\n", "\r\n")))
            writer.writerow(ordered)
            writer.writerows([_cell(row.get(column)) for column in ordered] for row in rows)


def _json(key: str, cell: Any) -> Any:
    if key in ("roles", "licences", "shown"):
        return cell.split(";")
    if key in ("active", "break_glass", "pinned"):
        return cell == "true"
    return cell if isinstance(cell, int) else _cell(cell)


def _parquet(path: Path, rows: list[Row], columns: list[str], rnd: Random) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    arrays = {}
    for column in columns:
        cells = [row.get(column) for row in rows]
        if (column.endswith("_at") or column == "time") and rnd.random() < 0.7:
            arrays[column] = pa.array(cells, pa.timestamp("us", "UTC"))
        elif column in ("active", "break_glass", "pinned") and rnd.random() < 0.7:
            arrays[column] = pa.array([None if cell is None else cell == "true" for cell in cells], pa.bool_())
        elif column == "rank" and rnd.random() < 0.7:
            arrays[column] = pa.array(cells, pa.int64())
        elif column in ("roles", "licences", "shown") and rnd.random() < 0.7:
            arrays[column] = pa.array(
                [None if cell is None else cell.split(";") for cell in cells], pa.list_(pa.string())
            )
        else:
            texts = pa.array([_cell(cell) or None for cell in cells], pa.string())
            arrays[column] = texts.dictionary_encode() if rnd.random() < 0.5 else texts
    pq.write_table(pa.table(arrays), path)
