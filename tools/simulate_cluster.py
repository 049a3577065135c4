"""What a cluster would need: costs measured on this machine, then many workers simulated in time.

Writes its tables into docs/scale.md. Measured are a person and a rule, an event, what travels, and what the scheduler
takes for a part (many small parts on a real cluster of this machine). Simulated are workers that take parts as they
become free, each part a little slower or quicker than another, one scheduler, and one client that adds up. Nothing in
the tables is measured on more than this machine.
"""

from __future__ import annotations

import argparse
import heapq
import json
import os
import re
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))
import bench_cluster
import bench_data
import numpy as np

ROOT = Path(__file__).resolve().parent.parent
PAGE = ROOT / "docs" / "scale.md"
MARK = re.compile(r"(?s)(<!-- simulated -->\n).*?(\n<!-- end -->)")
CORES = 8  # of a machine: one worker each
SPREAD = 0.15  # of how long like parts take


@dataclass(frozen=True)
class Costs:
    """Seconds and bytes, of one process of this machine."""

    read_person: float  # the client: seconds to read a person with all of theirs
    part_person: float  # a worker: to read a person of its range, and to pass over one of another
    pass_person: float
    judge: float  # a person and a rule
    fixed: float  # a part, however few people
    add_person: float  # the client: to put a person's findings together and write them
    kept_person: float  # bytes in memory, of the client and of a worker's range
    pass_bytes: float  # bytes in memory while a worker passes over a person
    sent_person: float  # bytes that travel
    event: float  # seconds
    event_bytes: float  # in Parquet
    part_state: float  # bytes of what a share of a log has counted
    add_state: float  # seconds to add it up
    task: float  # what the scheduler takes for a part


_CHECK = """
import gc, json, os, resource, sys, time
gc.disable()
os.environ["USHER_GATE_PARSED"] = "off"
from pathlib import Path
from usher_gate.core.verdicts.check import check
from usher_gate.core.verdicts.found import together
from usher_gate.core.verdicts.parts import PeoplePart
from usher_gate.core.verdicts.run import Narrowing
from usher_gate.engine.messages import Messages
from usher_gate.files.snapshot.folder import read_part, read_snapshot
from usher_gate.files.written.baseline import read_baseline
from usher_gate.outputs.check.json_ import write_json
from usher_gate.outputs.render_options import RenderOptions
folder = Path(sys.argv[1])
def resident():
    return int(open('/proc/self/statm').read().split()[1]) * resource.getpagesize()
clock, before, found = time.perf_counter, resident(), {}
def lap(name, began):
    found[name] = clock() - began
began = clock(); tiny = read_part(folder / 'snapshot', 0, 1000); lap('pass', began)
began = clock(); half = read_part(folder / 'snapshot', 0, 500_000); lap('half', began)
began = clock(); whole = read_snapshot(folder / 'snapshot').snapshot; lap('read', began)
found['kept'] = resident() - before
baseline, _ = read_baseline(folder / 'baseline.yaml', whole.catalogue, whole)
few = PeoplePart(tiny, baseline, (), Narrowing(), 0)
began = clock(); some = few.judge(); roots = sorted(some.roots, key=lambda root: -some.roots[root].people)[:100]
few.ask('effects', [(root, 'guarded') for root in roots if root.service]); lap('few', began)
part = PeoplePart(half, baseline, (), Narrowing(), 0)
began = clock(); mine = part.judge()
part.ask('effects', [(root, 'guarded') for root in roots if root.service]); lap('judge', began)
messages = Messages(baseline, whole)
sent = messages.written(mine); found['sent'] = len(sent)
began = clock(); together([messages.read(sent)]); lap('add', began)
result = check(whole, baseline)
with open(os.devnull, 'w') as stream:
    began = clock(); write_json(result, stream, RenderOptions()); lap('write', began)
found['rules'] = len(baseline.rules)
print(json.dumps(found))
"""
_PASS = """
import gc, json, os, resource, sys
gc.disable()
os.environ["USHER_GATE_PARSED"] = "off"
from pathlib import Path
import pyarrow.parquet
from usher_gate.files.snapshot.folder import read_part
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
read_part(Path(sys.argv[1]) / 'snapshot', 0, 1000)
print(json.dumps({'peak': (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024}))
"""
_REPLAY = """
import gc, json, pickle, sys, time
gc.disable()
from pathlib import Path
from usher_gate.core.sign_in.evaluator import AccessPolicyEvaluator
from usher_gate.core.sign_in.rehearsal import Tally
from usher_gate.core.sign_in.replay import Replay
from usher_gate.engine.replaying import LogShare, count
from usher_gate.files.sign_ins import LogPart
from usher_gate.files.snapshot.folder import read_snapshot
replay = Replay(AccessPolicyEvaluator(read_snapshot(Path(sys.argv[1])).snapshot))
began = time.process_time()
state, unread = count(replay, LogShare((LogPart(Path(sys.argv[2])),)), lambda _: None)
spent = time.process_time() - began
sent = pickle.dumps((state, unread), 5)
began = time.perf_counter()
tally = Tally(replay)
tally.merge(pickle.loads(sent)[0])
print(json.dumps({"event": spent / unread.read, "sent": len(sent), "add": time.perf_counter() - began}))
"""


def measured(data: Path) -> Costs:
    """The costs, on organisations of the benchmark."""
    bench_data.write(data / "1M", 1_000_000, ("parquet",))
    folder, logs = bench_cluster.write_log(data)

    def result_of(code: str, *arguments: Path) -> dict[str, float]:
        done = subprocess.run(
            [sys.executable, "-c", code, *map(str, arguments)], capture_output=True, text=True, check=True
        )
        found: dict[str, float] = json.loads(done.stdout)
        return found

    one, two = result_of(_CHECK, data / "1M" / "parquet"), result_of(_REPLAY, folder / "snapshot", logs / "0.parquet")
    people, half, rules = 1_000_000, 500_000, one["rules"]
    return Costs(
        one["read"] / people,
        max(one["half"] - one["pass"], 0) / half,
        one["pass"] / people,
        max(one["judge"] - one["few"], 0) / half / rules,
        one["few"],
        (one["add"] * 2 + one["write"]) / people,
        one["kept"] / people,
        result_of(_PASS, data / "1M" / "parquet")["peak"] / people,
        one["sent"] / half,
        two["event"],
        (logs / "0.parquet").stat().st_size / bench_cluster.EVENTS,
        two["sent"],
        two["add"],
        scheduler_cost(),
    )


def _nothing(number: int) -> bytes:
    return bytes(1000) if number else b""


def scheduler_cost(parts: int = 4000) -> float:
    """What the scheduler takes for a part: many that do nothing, on workers of this machine."""
    from distributed import Client, LocalCluster

    with (
        LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address="127.0.0.1:0") as cluster,
        Client(cluster) as client,
    ):
        client.gather(client.map(_nothing, range(100), pure=False))
        began = time.perf_counter()
        client.gather([client.submit(_nothing, number, pure=False) for number in range(parts)])
        return (time.perf_counter() - began) / parts


def played(parts: int, seconds: float, workers: int, task: float, add: float, seed: int = 1) -> float:
    """How long so many parts take.

    One after another given out by the scheduler, worked on as workers become free, added up by one client.
    """
    random = np.random.default_rng(seed)
    takes = seconds * random.lognormal(-(SPREAD**2) / 2, SPREAD, parts)
    free = [0.0] * min(workers, parts)
    given = added = 0.0
    ends = []
    for part in takes.tolist():
        given += task
        began = max(heapq.heappop(free), given)
        heapq.heappush(free, began + part)
        ends.append(began + part)
    for end in sorted(ends):
        added = max(added, end) + add
    return added


def check_table(costs: Costs, people: int, rules: int) -> list[str]:
    """What a check of so many people needs, by machines."""
    lines = [
        "| machines of 8 workers | parts | a part | judged and added up | the whole, with reading and writing by the "
        "client | of the whole shared | memory of a worker | travels |",
        "| --- | --- | --- | --- | --- | --- | --- | --- |",
    ]
    client = people * (costs.read_person + costs.add_person)
    one = people * rules * costs.judge + costs.fixed
    for machines in (1, 4, 16, 64):
        workers = machines * CORES
        mine = people / workers
        part = people * costs.pass_person + mine * costs.part_person + costs.fixed + mine * rules * costs.judge
        shared = played(workers, part, workers, costs.task, mine * costs.add_person / 3)
        memory = people * costs.pass_bytes + mine * costs.kept_person
        lines.append(
            f"| {machines} | {workers} | {hours(part)} | {hours(shared)} | {hours(shared + client)} | "
            f"{shared / (shared + client):.0%} "
            f"| {memory / 2**30:.0f} GiB | {people * costs.sent_person / 2**30:.1f} GiB |"
        )
    lines += ["", f"One process alone: {hours(one + client)}, and {people * costs.kept_person / 2**30:.0f} GiB."]
    return lines


def replay_table(costs: Costs, events: int) -> list[str]:
    """What a replay of so many events needs, by machines."""
    lines = [
        "| machines of 8 workers | parts | replayed and added up | workers busy | read from the store, a machine | "
        "travels |",
        "| --- | --- | --- | --- | --- | --- |",
    ]
    for machines in (1, 4, 16, 64, 256):
        workers = machines * CORES
        parts = max(workers * 3, events // 50_000_000)
        part = events / parts * costs.event
        took = played(parts, part, workers, costs.task, costs.add_state)
        speed = events * costs.event_bytes / machines / took
        lines.append(
            f"| {machines} | {parts:,} | {hours(took)} | {events * costs.event / workers / took:.0%} | "
            f"{speed / 2**20:,.0f} MiB/s "
            f"| {parts * costs.part_state / 2**30:.1f} GiB |"
        )
    lines += ["", f"One process alone: {hours(events * costs.event)}."]
    return lines


def hours(seconds: float) -> str:
    """A time, in words."""
    return (
        f"{seconds:.0f} s"
        if seconds < 120
        else f"{seconds / 60:.0f} min"
        if seconds < 7200
        else f"{seconds / 3600:.1f} h"
    )


def page(costs: Costs) -> str:
    """The tables."""
    shown = [
        ("a person read whole, by the client", f"{costs.read_person * 1e6:.1f} µs, {costs.kept_person:.0f} bytes kept"),
        (
            "a person of a worker's own range; one of another's",
            f"{costs.part_person * 1e6:.1f} µs; {costs.pass_person * 1e6:.1f} µs",
        ),
        ("a person and a rule, with mending the 100 largest roots", f"{costs.judge * 1e9:.0f} ns"),
        ("a part, however few people (50,000 settings, 5,000 groups, 100 rules)", f"{costs.fixed:.2f} s"),
        ("what travels, a person", f"{costs.sent_person:.0f} bytes"),
        ("a person's findings put together and written as JSON", f"{costs.add_person * 1e6:.1f} µs"),
        ("an event", f"{costs.event * 1e6:.2f} µs of one processor, {costs.event_bytes:.0f} bytes of Parquet"),
        (
            "what a share of a log has counted (200,000 people)",
            f"{costs.part_state / 2**20:.1f} MiB, {costs.add_state * 1000:.0f} ms to add up",
        ),
        ("what the scheduler takes for a part (4,000 that do nothing)", f"{costs.task * 1000:.2f} ms"),
    ]
    return "\n".join(
        [
            "| what | measured here |",
            "| --- | --- |",
            *(f"| {what} | {how} |" for what, how in shown),
            "",
            "### 100 million people, 200 rules",
            "",
            *check_table(costs, 100_000_000, 200),
            "",
            "### 10 billion sign-ins",
            "",
            *replay_table(costs, 10_000_000_000),
        ]
    )


def main() -> None:
    """Measures, plays, and writes the page."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "--data", type=Path, default=ROOT / "bench-data", help="where the benchmark's data lies, or is made"
    )
    arguments = parser.parse_args()
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    shown = page(measured(arguments.data))
    print(shown)
    PAGE.write_text(MARK.sub(lambda found: found[1] + shown + found[2], PAGE.read_text("utf-8")), "utf-8")


if __name__ == "__main__":
    main()
