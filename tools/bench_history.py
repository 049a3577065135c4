"""A history for the benchmark: 200,000 people, checked every day of a year.

Of some 300,000 findings 1,000 differ each day.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

DAYS, DIFFERENCES = 365, 1_000
_YEAR = """
import io, json, sys, time
from dataclasses import replace
from pathlib import Path
from random import Random
import numpy as np
import sqlalchemy as sa
from usher_gate.cli.keeping import to_keep
from usher_gate.core.verdicts.check import check
from usher_gate.core.verdicts.run import Narrowing
from usher_gate.files.history.store import Store
from usher_gate.files.snapshot.folder import read_snapshot
from usher_gate.files.written.baseline import read_baseline
from usher_gate.outputs.check.json_ import write_json
from usher_gate.outputs.render_options import RenderOptions

folder, place, days, differences = Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3]), int(sys.argv[4])
snapshot = read_snapshot(folder / 'snapshot').snapshot
baseline, _ = read_baseline(folder / 'baseline.yaml', snapshot.catalogue, snapshot)
began = time.perf_counter()
result = check(snapshot, baseline, (), Narrowing())
judged = time.perf_counter() - began


def timed(what):
    began = time.perf_counter()
    made = what()
    return time.perf_counter() - began, made


writing = min(timed(lambda: write_json(result, io.StringIO(), RenderOptions(100, False, 0)))[0] for _ in range(3))
gathering, kept = timed(lambda: to_keep(result, folder / 'snapshot', folder / 'baseline.yaml', None))
place.unlink(missing_ok=True)
store = Store(sa.make_url(f'sqlite:///{place}'))
first, _ = timed(lambda: store.keep(kept))
size = place.stat().st_size
rnd, later = Random(1), []
found = {lot: set(names) for lot, names in kept.findings.items()}
keys, gone = [(lot, name) for lot, names in found.items() for name in names], set()
for day in range(1, days):
    for lot, name in rnd.sample(keys, differences):
        found[lot] ^= {name}
    digests = {**kept.digests, 'snapshot': str(day)}
    again = replace(kept, findings={lot: sorted(names) for lot, names in found.items()}, taken_at=kept.taken_at + day * 86_400_000_000,
                    time=f'day {day}', digests=digests)
    counts = dict(kept.counts)
    for each in rnd.sample(sorted(counts), differences // 2):  # what is counted moves with what differs
        counts[each] += rnd.choice((-1, 1))
    again = replace(again, counts=counts)
    later.append(timed(lambda: store.keep(again))[0])
rules = frozenset(rule.id for rule in result.rules)
checks = store.checks()
sql = min(timed(lambda: (store.between(len(checks) - min(7, days - 1), len(checks), rules, rules), store.counts(('rule',))))[0] for _ in range(3))
print(json.dumps({'judged': judged, 'writing': writing, 'gathering': gathering, 'first': first, 'later': sorted(later)[len(later) // 2],
                  'size': size, 'year': place.stat().st_size, 'sql': sql, "findings": sum(map(len, kept.findings.values()))}))
"""


def history_rows(
    folder: Path, ratio: Callable[..., None], check_cost: Callable[[Path], Any], cost: Callable[..., Any], program: Path
) -> None:
    """The rows about the history and the report; `folder` is that of the 200k organisation in Parquet."""
    place = folder / "history" / "history.db"
    place.parent.mkdir(exist_ok=True)
    done = subprocess.run(
        [sys.executable, "-c", _YEAR, folder, place, str(DAYS), str(DIFFERENCES)],
        capture_output=True,
        text=True,
        check=True,
    )
    shown = json.loads(done.stdout)
    whole = check_cost(folder)
    ratio(
        f"keeping a check of 200k people ({shown['findings']:,} findings) for the first time, its bytes hashed, "
        "against writing its JSON",
        (shown["gathering"] + shown["first"]) / shown["writing"],
        1.5,
        f"{shown['gathering']:.2f} + {shown['first']:.2f} / {shown['writing']:.2f} s",
    )
    ratio(
        f"recording a later one, {DIFFERENCES:,} differences, against the same",
        shown["later"] / shown["writing"],
        0.4,
        f"{shown['later']:.2f} / {shown['writing']:.2f} s",
    )
    ratio(
        f"a year of them ({DAYS}) against the first alone",
        shown["year"] / shown["size"],
        3,
        f"{shown['year'] / 2**20:.0f} / {shown['size'] / 2**20:.0f} MiB",
    )
    ratio(
        "asking that year for `history --since`, against the whole check",
        shown["sql"] / whole.seconds,
        1 / whole.seconds,
        f"{shown['sql']:.2f} / {whole.seconds:.2f} s; the goal is 1 s",
    )
    page = folder / "history" / "report.html"
    report = cost(
        [program, "report", "--snapshot", folder / "snapshot", "--baseline", folder / "baseline.yaml", "--out", page], 1
    )
    ratio(
        "`report` of 200k people, against the whole check",
        report.seconds / whole.seconds,
        2,
        f"{report.seconds:.1f} / {whole.seconds:.2f} s; {report.peak:.0f} / {whole.peak:.0f} MiB; a page of "
        f"{page.stat().st_size / 1e6:.1f} MB",
    )
