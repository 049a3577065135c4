"""Measures, side by side in one run, what the program costs against the least that its work can cost.

Writes docs/performance.md. Every figure is of a process of its own: wall time and peak resident memory, the median of
some runs.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))
ROOT = Path(__file__).resolve().parent.parent
DATA = ROOT / "bench-data"
SWITCH = "USHER_GATE_PARSED"
PROGRAM = Path(sys.executable).with_name("usher-gate")
TABLES = ("people", "groups", "members", "settings")
SAMPLE = 300


@dataclass(frozen=True)
class Cost:
    """What one command cost: seconds and MiB."""

    seconds: float
    peak: float


# Runs a command and says what it cost. A process of its own, because the peak that the system tells of a child is at
# least what its parent had when it was begun, and we hold a lot.
_RUN = """
import json, os, sys, time
null = os.open(os.devnull, os.O_WRONLY)
start = time.perf_counter()
child = os.posix_spawnp(sys.argv[1], sys.argv[1:], os.environ, file_actions=[(os.POSIX_SPAWN_DUP2, null, 1)])
_, status, used = os.wait4(child, 0)
print(json.dumps([time.perf_counter() - start, used.ru_maxrss / 1024, os.waitstatus_to_exitcode(status)]))
"""


def cost(command: list[str | Path], runs: int = 3, good: tuple[int, ...] = (0,)) -> Cost:
    """The median cost of a command."""
    found = []
    for _ in range(runs):
        done = subprocess.run(
            [sys.executable, "-S", "-c", _RUN, *map(str, command)], capture_output=True, text=True, check=True
        )
        seconds, peak, status = json.loads(done.stdout)
        if status not in good:
            raise SystemExit(f"{command}: status {status}: {done.stderr}")
        found.append((seconds, peak))
    return Cost(statistics.median(seconds for seconds, _ in found), statistics.median(peak for _, peak in found))


def check_cost(folder: Path, runs: int = 3) -> Cost:
    """The whole check, from files to a JSON file."""
    with tempfile.TemporaryDirectory() as out:
        command: list[str | Path] = [
            PROGRAM,
            "check",
            "--snapshot",
            folder / "snapshot",
            "--baseline",
            folder / "baseline.yaml",
            "--format",
            "json",
            "--out",
            Path(out) / "o.json",
        ]
        return cost(command, runs, (0, 1, 3))


_AGAIN = """
import sys, time
from pathlib import Path
from usher_gate.files.snapshot.folder import read_snapshot
began = time.perf_counter()
read_snapshot(Path(sys.argv[1]))
print(time.perf_counter() - began)
"""


def again_rows(folder: Path, ratio: Callable[..., None]) -> None:
    """The rows about a second verb on the same snapshot."""
    verbs = {
        "why": ["why", "P0020123", "bench.c10", "--service", "beta"],
        "check --rule": ["check", "--rule", "R010", "--format", "json"],
        "door": ["door", "--format", "json"],
    }
    found: dict[str, list[float]] = {}
    for switch in ("off", "on"):
        os.environ[SWITCH] = switch
        subprocess.run([sys.executable, "-c", _AGAIN, folder / "snapshot"], capture_output=True, check=True)
        reads = [
            float(
                subprocess.run(
                    [sys.executable, "-c", _AGAIN, folder / "snapshot"], capture_output=True, check=True
                ).stdout
            )
            for _ in range(3)
        ]
        found.setdefault("reading", []).append(statistics.median(reads))
        for name, words in verbs.items():
            baseline: list[str | Path] = [] if name == "door" else ["--baseline", folder / "baseline.yaml"]
            whole = cost([PROGRAM, *words, "--snapshot", folder / "snapshot", *baseline], 3, (0, 1, 3))
            found.setdefault(name, []).append(whole.seconds)
    os.environ[SWITCH] = "off"
    (folder / ".snapshot.parsed").unlink(missing_ok=True)
    for name, (anew, again) in found.items():
        ratio(
            f"{name}{', the whole verb' if name != 'reading' else ''}, on a snapshot of 200k people that a verb has "
            "read before, against anew",
            again / anew,
            0.3,
            f"{again:.2f} / {anew:.2f} s",
        )


READ = {
    "parquet": "import pyarrow.parquet as pq\nkept = [pq.ParquetFile(f'{d}/{t}.parquet').read(columns=c) for t, c in tables.items()]",
    "csv": "import pyarrow as pa, pyarrow.csv as pc\nkept = [pc.read_csv(f'{d}/{t}.csv', convert_options=pc.ConvertOptions("
    "column_types=dict.fromkeys(c, pa.string()), include_columns=c)) for t, c in tables.items()]",
    "jsonl": "import msgspec\nkinds = {'roles': list[str], 'licences': list[str], 'active': bool, 'pinned': bool, 'rank': int}\n"
    "kept = [msgspec.json.Decoder(msgspec.defstruct('R', [(n, kinds.get(n, str)) for n in c], gc=False)).decode_lines("
    "open(f'{d}/{t}.jsonl', 'rb').read()) for t, c in tables.items()]",
}
COLUMNS = {
    "people": ["id", "login", "kind", "unit", "roles", "licences", "active", "mfa", "created_at"],
    "groups": ["id", "name"],
    "members": ["group", "member", "type"],
    "settings": ["service", "control", "scope", "value", "pinned", "rank", "changed_at"],
}


def read_cost(folder: Path, form: str, runs: int = 3) -> Cost:
    """Only reading the columns that a check needs, with the fastest reader of the format."""
    return cost([sys.executable, "-c", f"d = {str(folder / 'snapshot')!r}\ntables = {COLUMNS!r}\n{READ[form]}"], runs)


_RESIDENT = """
import gc, sys
gc.disable()
from pathlib import Path
from usher_gate.files.snapshot.folder import read_snapshot
read = read_snapshot(Path(sys.argv[1]))
print(next(line.split()[1] for line in open('/proc/self/status') if line.startswith('VmRSS')))
"""


def resident_after_reading(folder: Path) -> float:
    """The resident size, in MiB, once the snapshot is read and before anything is judged."""
    done = subprocess.run(
        [sys.executable, "-c", _RESIDENT, str(folder / "snapshot")], capture_output=True, text=True, check=True
    )
    return int(done.stdout) / 1024


_JUDGE = """
import gc, sys, time
gc.disable()
from pathlib import Path
from usher_gate.core.verdicts.check import check
from usher_gate.files.written.baseline import read_baseline
from usher_gate.files.snapshot.folder import read_snapshot
folder = Path(sys.argv[1])
read = read_snapshot(folder / 'snapshot')
baseline, _ = read_baseline(folder / 'baseline.yaml', read.snapshot.catalogue, read.snapshot)
start = time.perf_counter()
result = check(read.snapshot, baseline)
print(time.perf_counter() - start, sum(result.counts))
"""


def judge_seconds(folder: Path) -> tuple[float, int]:
    """Seconds for judging alone, by columns, and how many verdicts there were."""
    done = subprocess.run([sys.executable, "-c", _JUDGE, str(folder)], capture_output=True, text=True, check=True)
    seconds, verdicts = done.stdout.split()
    return float(seconds), int(verdicts)


def plain_loop_seconds(folder: Path) -> float:
    """Seconds that a plain loop over people takes for as many verdicts, from a sample.

    Settings found by dictionary, no groups or roots.
    """
    import pyarrow.parquet as pq

    snapshot = folder / "snapshot"
    people = pq.ParquetFile(snapshot / "people.parquet").read().to_pylist()
    settings: dict[tuple[str, str], dict[str, dict[str, str]]] = {}
    for row in pq.ParquetFile(snapshot / "settings.parquet").read().to_pylist():
        settings.setdefault((row["service"], row["control"]), {})[row["scope"]] = row
    groups: dict[str, set[str]] = {}
    containers: dict[str, set[str]] = {}
    for row in pq.ParquetFile(snapshot / "members.parquet").read().to_pylist():
        (containers if row["type"] == "group" else groups).setdefault(row["member"], set()).add(row["group"])
    for mine in groups.values():
        waiting = list(mine)
        while waiting:
            for outer in containers.get(waiting.pop(), set()) - mine:
                mine.add(outer)
                waiting.append(outer)
    services = json.loads((snapshot / "services.yaml").read_text())["services"]
    rules = json.loads((folder / "baseline.yaml").read_text())["rules"]
    sample = [person for person in people[:: max(1, len(people) // SAMPLE)] if person["active"] == "true"]
    start = time.perf_counter()
    for person in sample:
        for rule in rules:
            for service in services:
                _plain(rule["expect"], person, service, settings, groups.get(person["id"], set()))
    active = sum(person["active"] == "true" for person in people)
    return float((time.perf_counter() - start) / len(sample) * active)


def _plain(tree: dict, person: dict, service: dict, settings: dict, groups: set) -> str | None:  # type: ignore[type-arg]
    if "any-of" in tree or "all-of" in tree:
        key = "any-of" if "any-of" in tree else "all-of"
        parts = [part for part in (_plain(each, person, service, settings, groups) for each in tree[key]) if part]
        return (
            None
            if not parts
            else "meets"
            if (any if key == "any-of" else all)(part == "meets" for part in parts)
            else "drifts"
        )
    if "person" in tree:
        return "meets" if person["mfa"] == tree["is"] else "drifts"
    if tree["control"] not in service["supports"]:
        return None
    rows = settings.get((service["id"], tree["control"]), {})
    value = None
    for step in _walk(person, groups):
        here = [rows[scope] for scope in step if scope in rows]
        if here:
            winner = min(
                here,
                key=lambda row: (
                    row["pinned"] != "true",
                    int(row["rank"]),
                    row["value"] != "open",
                    row["value"],
                    row["scope"],
                ),
            )
            value = winner["value"]
            if winner["pinned"] == "true":
                break
    return "unknown" if value is None else "drifts" if value == "open" else "meets"


def _walk(person: dict, groups: set) -> list[list[str]]:  # type: ignore[type-arg]
    parts = person["unit"].strip("/").split("/")
    units = [["unit:/"], *([f"unit:/{'/'.join(parts[:depth])}"] for depth in range(1, len(parts) + 1) if parts[0])]
    return [["organisation"], *units, [f"group:{group}" for group in groups], [f"person:{person['id']}"]]


def ten_people(folder: Path) -> Path:
    """A working folder of ten people."""
    from usher_gate.demo.write import write_demo

    write_demo(folder)
    people = folder / "snapshot" / "people.csv"
    people.write_text("".join(people.read_text().splitlines(keepends=True)[:11]))
    return folder


def _times(value: float) -> str:
    return f"{value:.2f} times" if value < 1.5 else f"{value:.1f} times"


def rows(sizes: dict[str, tuple[int, tuple[str, ...]]], say: Callable[[str], None]) -> list[tuple[str, str, str, str]]:
    """The table of goals: what, measured, goal, met or missed."""
    from bench_changes import change_rows
    from bench_cluster import cluster_rows
    from bench_data import write
    from bench_door import door_rows
    from bench_growth import growth_rows
    from bench_guests import guest_rows
    from bench_history import history_rows

    found = []

    def ratio(what: str, value: float, goal: float, how: str, least: bool = False) -> None:
        if not goal:
            found.append((what, f"{_times(value)} ({how})", "", ""))
            say(" | ".join(found[-1]))
            return
        met = value >= goal if least else value <= goal
        found.append(
            (
                what,
                f"{_times(value)} ({how})",
                f"{'at least' if least else 'at most'} {goal:g} times",
                "met" if met else "missed",
            )
        )
        say(" | ".join(found[-1]))

    bare = cost([sys.executable, "-c", "pass"], 15)
    for what, goal in (("--version", 3), ("--help", 4)):
        mine = cost([PROGRAM, what], 15)
        ratio(
            f"`usher-gate {what}` against `python -c pass`",
            mine.seconds / bare.seconds,
            goal,
            f"{mine.seconds * 1000:.0f} / {bare.seconds * 1000:.0f} ms",
        )
    with tempfile.TemporaryDirectory() as name:
        mine = check_cost(ten_people(Path(name) / "ten"), 9)
    ratio(
        "a check of ten people against `python -c pass`",
        mine.seconds / bare.seconds,
        16,
        f"{mine.seconds * 1000:.0f} / {bare.seconds * 1000:.0f} ms",
    )
    whole: dict[str, Cost] = {}
    for size, (people, formats) in sizes.items():
        write(DATA / size, people, formats)
        for form in formats:
            folder = DATA / size / form
            read, mine = read_cost(folder, form), check_cost(folder)
            whole[f"{size} {form}"] = mine
            least = {"200k parquet": 6.0, "200k csv": 7.0, "200k jsonl": 2.2}.get(f"{size} {form}", 0)
            ratio(
                f"whole check, {size} people, from {form}, against only reading",
                mine.seconds / read.seconds,
                least,
                f"{mine.seconds:.2f} / {read.seconds:.2f} s; {mine.peak:.0f} / {read.peak:.0f} MiB",
            )
        folder = DATA / size / "parquet"
        resident = resident_after_reading(folder)
        ratio(
            f"peak memory, {size} people, against the resident size after reading",
            whole[f"{size} parquet"].peak / resident,
            2,
            f"{whole[f'{size} parquet'].peak:.0f} / {resident:.0f} MiB",
        )
        judged, verdicts = judge_seconds(folder)
        plain = plain_loop_seconds(folder)
        ratio(
            f"judging {verdicts:,} verdicts, {size} people, against a plain loop (a sample of {SAMPLE}, scaled)",
            plain / judged,
            150 if size == "200k" else 0,
            f"{plain:.0f} / {judged:.2f} s",
            least=True,
        )
    if {"200k parquet", "1M parquet"} <= whole.keys():
        big, small = whole["1M parquet"].seconds, whole["200k parquet"].seconds
        ratio("1M people against 200k", big / small, 5.5, f"{big:.1f} / {small:.1f} s")
        sign_in_rows(ratio)
        again_rows(DATA / "200k" / "parquet", ratio)
        gather_rows(ratio)
        door_rows(DATA / "door", ratio, check_cost, cost, PROGRAM)
        guest_rows(DATA / "guests", ratio, cost, PROGRAM)
        growth_rows(DATA / "growth", ratio, cost, PROGRAM)
        change_rows(DATA / "200k" / "parquet", ratio, check_cost, cost, PROGRAM)
        history_rows(DATA / "200k" / "parquet", ratio, check_cost, cost, PROGRAM)
        cluster_rows(DATA, cost, PROGRAM, ratio)
    return found


_EVENT = """
import msgspec, sys
Part = lambda kind, **fields: msgspec.defstruct(kind, [(n, k | None, None) for n, k in fields.items()], gc=False)
Factor, System = Part('F', factor_type_id=int), Part('S', type_id=int)
Event = msgspec.defstruct('E', [('class_uid', int), ('time', int), ('activity_id', int, 0), ('status_id', int, 0), ('auth_protocol_id', int, 0),
    ('metadata', Part('M', version=str)), ('user', Part('U', uid=str, email_addr=str, name=str, risk_level_id=int)),
    ('device', Part('D', os=System, is_managed=bool, is_compliant=bool, is_trusted=bool)), ('service', Part('V', name=str, uid=str)),
    ('src_endpoint', Part('N', ip=str)), ('http_request', Part('H', user_agent=str)), ('auth_factors', list[Factor])], gc=False, kw_only=True)
kept = msgspec.json.Decoder(Event).decode_lines(open(sys.argv[1], 'rb').read())
"""


def rehearse_cost(folder: Path, events: Path, runs: int = 3) -> Cost:
    """A whole rehearsal of the observed rules, from files to JSON."""
    call: list[str | Path] = [PROGRAM, "rehearse", "--snapshot", folder / "snapshot", "--sign-ins", events]
    return cost([*call, "--format", "json"], runs)


_LOOP = """
import sys, time
sys.path[:0] = sys.argv[3:]
from pathlib import Path
import pyarrow.parquet as pq
from usher_gate.core.organisation.sign_ins import SignIn
from usher_gate.core.sign_in.evaluator import AccessPolicyEvaluator
from usher_gate.core.sign_in.decide import Decider
from usher_gate.core.organisation.networks import NetworkClass
from usher_gate.files.snapshot.folder import read_snapshot
snapshot = read_snapshot(Path(sys.argv[1])).snapshot
keeper = AccessPolicyEvaluator(snapshot)
rows = [row for row in next(pq.ParquetFile(sys.argv[2]).iter_batches(3000)).to_pylist()]
deciders = {}
for row in rows:
    found = snapshot.people.ids.find(row['person'])
    deciders[row['person']] = Decider(keeper, found[0]) if found else None
start = time.perf_counter()
for row in rows:
    decider = deciders[row['person']]
    if decider is not None:
        place = NetworkClass(snapshot.networks.containing(row['address']), row['address'])
        sign_in = SignIn(row['resource'], place, row['client'], row['platform'], row['device'], row['risk'])
        for observed in (False, True):
            decider.decide(sign_in, frozenset(row['shown'].split(';')), observed)
print((time.perf_counter() - start) / len(rows))
"""
_REPLAY = """
import gc, sys, time
gc.disable()
from pathlib import Path
from usher_gate.core.sign_in.evaluator import AccessPolicyEvaluator
from usher_gate.core.sign_in.rehearsal import Tally
from usher_gate.core.sign_in.replay import Replay
from usher_gate.files.sign_ins import LogPart, Unread, read_sign_ins
from usher_gate.files.snapshot.folder import read_snapshot
replay, unread = Replay(AccessPolicyEvaluator(read_snapshot(Path(sys.argv[1])).snapshot)), Unread()
tally = Tally(replay)
start = time.perf_counter()
for batch in read_sign_ins([LogPart(Path(sys.argv[2]))], replay, unread):
    tally.add(batch.events, batch.time, batch.result)
print((time.perf_counter() - start) / unread.read)
"""


def seconds_an_event(code: str, folder: Path, events: Path) -> float:
    """Seconds for one event, by a program that prints them."""
    done = subprocess.run(
        [sys.executable, "-c", code, str(folder / "snapshot"), str(events)], capture_output=True, text=True, check=True
    )
    return float(done.stdout)


def sign_in_rows(ratio: Callable[..., None]) -> None:
    """The lines of the sign-in side."""
    import bench_gate
    from bench_data import write

    write(DATA / "200k", 200_000, ("parquet", "csv", "jsonl"))
    setting, covering = (
        check_cost(DATA / "200k" / "parquet"),
        check_cost(bench_gate.write(DATA / "coverage", 200_000, 60)),
    )
    ratio(
        "coverage and lock-out, 200k people, 60 access rules, 10 networks, 40 resources, 4 proof rules, against the "
        "whole setting check",
        covering.seconds / setting.seconds,
        3,
        f"{covering.seconds:.2f} / {setting.seconds:.2f} s",
    )
    folder = bench_gate.write(DATA / "gate", 200_000, 40, 5_000_000)
    events = folder / "sign_ins.parquet"
    reading = cost(
        [sys.executable, "-c", f"import pyarrow.parquet as pq\nkept = pq.ParquetFile({str(events)!r}).read()"]
    )
    mine = rehearse_cost(folder, events)
    ratio(
        "replay of 5M events from Parquet under 40 rules, now and then, against only reading the same columns",
        mine.seconds / reading.seconds,
        2.2,
        f"{mine.seconds:.2f} / {reading.seconds:.2f} s; {mine.peak:.0f} / {reading.peak:.0f} MiB",
    )
    small = bench_gate.part(events, 2_000_000)
    less = rehearse_cost(folder, small)
    grown = (mine.peak - less.peak) * 2**20 / 3_000_000
    ratio(
        "memory of that replay, in bytes for each further event (5M against 2M)",
        max(grown, 0.0),
        9,
        f"{mine.peak:.0f} / {less.peak:.0f} MiB",
    )
    loop, fast = seconds_an_event(_LOOP, folder, events), seconds_an_event(_REPLAY, folder, events)
    ratio(
        "the same against a plain loop over events (a sample of 3,000)",
        loop / fast,
        150,
        f"{loop * 1e6:.0f} / {fast * 1e6:.2f} µs an event",
        least=True,
    )
    log = bench_gate.write_ocsf(bench_gate.write(DATA / "gate20k", 20_000, 40, 500_000))
    decode = cost([sys.executable, "-c", _EVENT, log])
    mine = rehearse_cost(DATA / "gate20k", log)
    ratio(
        "replay of 500,000 OCSF events (JSON Lines, 20k people), against a typed decode alone",
        mine.seconds / decode.seconds,
        2.5,
        f"{mine.seconds:.2f} / {decode.seconds:.2f} s; {mine.peak:.0f} / {decode.peak:.0f} MiB",
    )


_DOWNLOAD = """
import sys, httpx2
url, secret = sys.argv[1:]
with httpx2.Client(timeout=300) as client:
    token = client.post(url + '/token', auth=('practice', secret), data={'grant_type': 'client_credentials'}).json()['access_token']
    client.headers['Authorization'] = 'Bearer ' + token
    for kind in ('Users', 'Groups'):
        start = 1
        while True:
            data = client.get(f'{url}/scim/v2/{kind}', params={'startIndex': start, 'count': 2000}).content
            start += 2000
            if len(data) < 1000:
                break
"""
_TOML = """
snapshot = "snapshot"
[gather]
keep = 0
[[gather.source]]
name = "hand"
kind = "files"
paths = ["organisation.yaml"]
[[gather.source]]
"""


def gather_rows(ratio: Callable[..., None]) -> None:
    """The lines about gathering."""
    from bench_data import write, write_ldif

    write(DATA / "200k", 200_000, ("parquet", "csv", "jsonl"))
    source = DATA / "200k" / "parquet" / "snapshot"
    ldif = write_ldif(DATA / "200k.ldif", source)
    secret = "a-secret-for-the-bench"
    with tempfile.TemporaryDirectory() as name:
        work = Path(name)
        (work / "organisation.yaml").write_text("usher-gate: snapshot/1\nname: Bench\ntaken_at: 2026-01-01T00:00:00Z\n")
        os.environ["STAND_IN_SECRET"] = secret
        command: list[str | Path] = [PROGRAM, "stand-in", "--snapshot", source, "--page", "2000", "--port", "8399"]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert server.stdout is not None
        try:
            while not server.stdout.readline().startswith("secret"):
                pass
            url = "http://127.0.0.1:8399"
            access = f'client_id = "practice"\nclient_secret = "env:STAND_IN_SECRET"\ntoken_url = "{url}/token"\n'
            (work / "usher-gate.toml").write_text(
                f'{_TOML}name = "directory"\nkind = "scim"\nurl = "{url}/scim/v2"\npage = 2000\nattributes = false\n{access}'
            )
            mine = cost(["env", "-C", work, PROGRAM, "gather"])
            merely = cost([sys.executable, "-c", _DOWNLOAD, url, secret])
        finally:
            server.terminate()
            server.wait()
        ratio(
            "gathering 200k people and 600k memberships from the stand-in (SCIM), against merely downloading the "
            "same pages",
            mine.seconds / merely.seconds,
            2,
            f"{mine.seconds:.1f} / {merely.seconds:.1f} s; {mine.peak:.0f} / {merely.peak:.0f} MiB",
        )
        (work / "usher-gate.toml").write_text(f'{_TOML}name = "directory"\nkind = "ldif"\npath = "{ldif}"\n')
        mine = cost(["env", "-C", work, PROGRAM, "gather"])
        merely = cost([sys.executable, "-c", f"kept = [line for line in open({str(ldif)!r}, 'rb')]"])
        ratio(
            "gathering the same from LDIF, against merely reading the same lines",
            mine.seconds / merely.seconds,
            5,
            f"{mine.seconds:.1f} / {merely.seconds:.1f} s; {mine.peak:.0f} / {merely.peak:.0f} MiB",
        )


def machine() -> str:
    """What was measured on."""
    lines = Path("/proc/cpuinfo").read_text().splitlines()
    model = next(
        (line.partition(":")[2].strip() for line in lines if line.startswith("model name")), platform.machine()
    )
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") / 2**30
    return (
        f"{os.cpu_count()} cores of {model}, {memory:.0f} GiB, {platform.system()} {platform.release()}, Python "
        f"{platform.python_version()}"
    )


LIMITS = """
Where goals are missed, what the limit is. A check of ten people imports NumPy (9 of its 23 times) and with YAML and what judges 14 times `python -c pass`, before it reads
a byte. Arrow reads a table of 200k people in 0.3 s by two threads, and closes no groups, resolves no setting and judges nothing: judging 27 million verdicts is 2.2 s of a whole check, reading with
all checks of what is read 1.0 to 1.4, writing 170 MB of JSON 0.8. A second verb still loads NumPy and Arrow (0.25 s). A gather writes the snapshot, reads it back and validates it (from LDIF two fifths of
it), and the stand-in uses one of the two processors while it serves. The two processors here are two threads of one core: two processes at once each take 1.6 to 1.8 times as long as one alone, so that two
of them share little. A worker of a scheduler reads the snapshot after the client has read it (5 s for a million people). A replay uses 1.4 processors as it is (Arrow decodes beside us). Keeping a check has to make
and digest its JSON once more, and reads back what lasts (0.35 s) to find what changed.
"""


def main() -> None:
    """Runs the benchmark and writes the page."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--quick", action="store_true", help="only 20,000 people, and write no page")
    arguments = parser.parse_args()
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program has its bytecode
    os.environ[SWITCH] = "off"  # reading is what is measured, but for the rows about what is kept
    sizes = {
        "20k": (20_000, ("parquet",)),
        "200k": (200_000, ("parquet", "csv", "jsonl")),
        "1M": (1_000_000, ("parquet",)),
    }
    found = rows(dict([next(iter(sizes.items()))]) if arguments.quick else sizes, print)
    if arguments.quick:
        return
    table = "\n".join("| " + " | ".join(row) + " |" for row in found)
    (ROOT / "docs" / "performance.md").write_text(
        "# Performance\n\nWritten by `make bench`: everything side by side in one run, each figure of a process of "
        "its own (wall time and peak resident\n"
        "memory, median of three runs or more). The organisations have 400 units, 5,000 nested groups, 50,000 "
        "settings, 80 controls,\n"
        'three services and 100 rules, every tenth a tree; about one verdict in a hundred drifts. "Only reading" is the fastest reader\n'
        "of each format (Arrow for Parquet and CSV, a typed msgspec decode for JSON Lines) on the columns that a "
        "check needs.\n\n"
        f"Last run: {date.today().isoformat()}, on {machine()}.\n\n| what | measured | goal | |\n| --- | --- | --- | "
        f"--- |\n{table}\n{LIMITS}"
    )


if __name__ == "__main__":
    main()
