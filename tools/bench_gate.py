"""Makes the sign-in side of the benchmark's organisation.

These are networks, resources, access rules, authenticators, and millions of sign-ins.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from bench_data import GROUPS, tables

NETWORKS, RESOURCES = 10, 40
DOMAINS = ("shipyard.example.com", "coastguard.example.org", "pilots.example.net")
TYPES = (
    "out-of-band-app",
    "out-of-band-sms",
    "single-factor-otp",
    "multi-factor-crypto-software",
    "multi-factor-crypto-device",
)
CLIENTS = ("browser", "app", "legacy")
PLATFORMS = ("windows", "macos", "linux", "ios", "android", "other")
DEVICES = ("unknown", "registered", "managed", "healthy")
RISKS = ("none", "low", "medium", "high")
START = 1_761_955_200_000_000  # 2025-11-01
MONTH = 30 * 86_400_000_000


def rules(count: int, seed: int = 5) -> list[dict[str, Any]]:
    """Access rules as an organisation has them: some for everyone, most for a group, a few observed."""
    random = np.random.default_rng(seed)
    made: list[dict[str, Any]] = []
    for number in range(count):
        include: dict[str, Any] = {"any": True} if number % 5 == 0 else {"group": f"g{int(random.integers(0, 60))}"}
        people: dict[str, Any] = {"include": include}
        if number % 3 == 0:
            people["exclude"] = {"group": f"g{int(random.integers(60, GROUPS))}"}
        resources: dict[str, Any] = {"include": "any", "exclude": [f"r{int(random.integers(0, RESOURCES)):02}"]}
        if number % 4:
            resources = {"include": [f"r{each:02}" for each in random.choice(RESOURCES, 8, replace=False).tolist()]}
        when: dict[str, Any] = {}
        if number % 3 == 1:
            when["network"] = {"include": "any", "exclude": [f"n{int(random.integers(0, NETWORKS))}"]}
        if number % 4 == 1:
            when["client"] = ["legacy"]
        if number % 5 == 2:
            when["platform"] = ["ios", "android"]
        if number % 6 == 3:
            when["device"] = ["unknown", "registered"]
        if number % 7 == 4:
            when["risk"] = ["medium", "high"]
        proofs = [["mfa"], ["phishing-resistant"], ["managed-device"]][number % 3]
        deny = number % 4 == 1 and number % 8 != 1
        made.append(
            {
                "id": f"A{number:02}",
                "mode": "observe" if number % 8 == 7 else "enforce",
                "people": people,
                "resources": resources,
                **({"when": when} if when else {}),
                "outcome": {"deny": True} if deny else {"require": {"any-of": [*proofs, "hardware-key"]}},
            }
        )
    return made


def write(folder: Path, people: int, rule_count: int, events: int = 0) -> Path:
    """Writes the organisation, and beside it its sign-ins, unless they are there already."""
    snapshot = folder / "snapshot"
    if (folder / "done").exists():
        return folder
    snapshot.mkdir(parents=True, exist_ok=True)
    random = np.random.default_rng(11)
    made = tables(people)
    guests = made["people"]["kind"].to_numpy() == "guest"
    homes = np.where(guests, np.array(DOMAINS)[random.integers(0, len(DOMAINS), people)], "")
    made["people"] = made["people"].append_column("home_domain", pa.array(homes))
    count = people * 3 // 2
    ids = np.array(made["people"]["id"].to_pylist())
    owner = random.integers(0, people, count)
    made["authenticators"] = pa.table(
        {"person": ids[owner], "type": np.array(TYPES)[random.integers(0, len(TYPES), count)]}
    )
    made["partners"] = pa.table(
        {
            "domain": ["*", *DOMAINS],
            "guests_in": ["true"] * 4,
            "home_mfa_counts": ["false", "true", "false", "false"],
            "home_device_counts": ["false", "true", "false", "false"],
        }
    )
    made["passes"] = pa.table(
        {"person": ids[:2], "issued_at": ["2026-11-20T05:00:00Z"] * 2, "expires_at": ["2026-11-20T09:00:00Z"] * 2}
    )
    del made["settings"]
    for name, table in made.items():
        pq.write_table(table, snapshot / f"{name}.parquet")
    _write_yaml(snapshot, rule_count)
    (folder / "baseline.yaml").write_text(json.dumps(_baseline()))
    if events:
        pq.write_table(sign_ins(ids, events), folder / "sign_ins.parquet", row_group_size=1 << 20)
    (folder / "done").touch()
    return folder


def _write_yaml(snapshot: Path, rule_count: int) -> None:
    networks = {f"n{number}": [f"10.{number * 8}.0.0/14", f"2001:db8:{number:x}::/48"] for number in range(NETWORKS)}
    networks["n1"].append("10.2.0.0/16")  # inside n0
    (snapshot / "organisation.yaml").write_text(
        json.dumps(
            {
                "usher-gate": "snapshot/1",
                "name": "Bench",
                "taken_at": "2026-11-20T06:00:00Z",
                "privileged_roles": ["admin"],
                "networks": networks,
                "resources": {f"r{number:02}": ["admin"] if number < 2 else [] for number in range(RESOURCES)},
            }
        )
    )
    (snapshot / "access-rules.yaml").write_text(
        json.dumps({"usher-gate": "access-rules/1", "rules": rules(rule_count)})
    )


def _baseline() -> dict[str, Any]:
    proofs = [("S1", "mfa", "any", {"any": True}), ("S2", "phishing-resistant", "any", {"role": "privileged"}),
              ("S3", "mfa", ["r05", "r06"], {"kind": "guest"}), ("S4", "managed-device", ["r00", "r01"], {"kind": "member"})]  # fmt: skip
    made = [
        {"id": name, "title": name, "audience": audience, "expect": {"proof": proof, "on": on}}
        for name, proof, on, audience in proofs
    ]
    return {"usher-gate": "baseline/1", "name": "Bench", "version": "1", "rules": made}


def sign_ins(ids: np.ndarray, count: int, seed: int = 3) -> pa.Table:
    """Sign-ins of one month: few people sign in often, most seldom; addresses are drawn from 60,000."""
    random = np.random.default_rng(seed)
    addresses = [f"10.{a}.{b}.{c}" for a, b, c in random.integers(0, 250, (60_000, 3)).tolist()]

    def words(values: list[str] | np.ndarray, codes: np.ndarray) -> pa.Array:
        return pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int32)), pa.array(values)).cast(pa.string())

    def drawn(values: tuple[str, ...], shares: list[float]) -> pa.Array:
        return words(list(values), random.choice(len(values), count, p=shares))

    person = np.minimum((random.random(count) ** 2 * len(ids)).astype(np.int64), len(ids) - 1)
    return pa.table(
        {
            "time": pa.array(np.sort(START + random.integers(0, MONTH, count)), pa.timestamp("us", "UTC")),
            "person": words(list(ids), person),
            "resource": words([f"r{number:02}" for number in range(RESOURCES)], random.integers(0, RESOURCES, count)),
            "address": words(addresses, random.integers(0, len(addresses), count)),
            "client": drawn(CLIENTS, [0.6, 0.37, 0.03]),
            "platform": drawn(PLATFORMS, [0.4, 0.1, 0.05, 0.25, 0.15, 0.05]),
            "device": drawn(DEVICES, [0.3, 0.2, 0.4, 0.1]),
            "risk": drawn(RISKS, [0.9, 0.06, 0.03, 0.01]),
            "shown": drawn(
                ("memorized-secret", "memorized-secret;out-of-band-app", "multi-factor-crypto-device"), [0.5, 0.4, 0.1]
            ),
            "result": drawn(("allowed", "denied", "failed"), [0.93, 0.03, 0.04]),
        }
    )


def part(source: Path, count: int) -> Path:
    """The first events of a table as one of their own."""
    target = source.with_name(f"first-{count}.parquet")
    if not target.exists():
        pq.write_table(pq.ParquetFile(source).read().slice(0, count), target, row_group_size=1 << 20)
    return target


def write_ocsf(folder: Path) -> Path:
    """The sign-ins as OCSF Authentication events, as a log of a real service looks."""
    source, target = folder / "sign_ins.parquet", folder / "log.ocsf.jsonl"
    if target.exists():
        return target
    systems = dict(zip(PLATFORMS, (100, 300, 200, 301, 201, 99), strict=True))
    rows = pq.ParquetFile(source).read().to_pylist()
    with target.with_suffix(".part").open("w") as stream:
        for row in rows:
            device = {
                "type_id": 2,
                "uid": "0d1f",
                "name": "device",
                "os": {"name": row["platform"], "type_id": systems[row["platform"]]},
            }
            event = {
                "activity_id": 1, "activity_name": "Logon", "category_name": "Identity & Access Management", "category_uid": 3,
                "class_name": "Authentication", "class_uid": 3002, "type_uid": 300201, "severity": "Informational", "severity_id": 1,
                "time": int(row["time"].timestamp() * 1000), "status": "Success", "status_id": 1 if row["result"] == "allowed" else 2,
                "metadata": {"version": "1.3.0", "uid": "6f3b2c", "product": {"vendor_name": "Bench", "name": "Sign-in log"}},
                "user": {"uid": row["person"], "name": row["person"].lower(), "type_id": 1, "risk_level_id": RISKS.index(row["risk"])},
                "device": device | {"is_managed": row["device"] in DEVICES[2:], "is_compliant": row["device"] == "healthy", "is_trusted": True},
                "service": {"name": row["resource"], "uid": "svc-1"}, "src_endpoint": {"ip": row["address"], "port": 443},
                "http_request": {"user_agent": "Mozilla/5.0 (bench)" if row["client"] == "browser" else "Client/1.0"}, "auth_protocol_id": 4,
                "auth_factors": [{"factor_type_id": each} for each in ((11, 5) if ";" in row["shown"] else (11,))],
            }  # fmt: skip
            stream.write(json.dumps(event) + "\n")
    target.with_suffix(".part").replace(target)
    return target
