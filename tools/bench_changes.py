"""Changes and mending for the benchmark: against one whole check of the same organisation."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

_STEPS = """
import sys, time
from pathlib import Path
import numpy as np
from usher_gate.core.mend.components import components
from usher_gate.core.mend.optimum import solve
from usher_gate.core.mend.constraints import MendingConstraints
from usher_gate.core.verdicts.trial import Remembered
from usher_gate.files.snapshot.folder import read_snapshot
from usher_gate.files.written.baseline import read_baseline
folder = Path(sys.argv[1])
snapshot = read_snapshot(folder / 'snapshot').snapshot
baseline, _ = read_baseline(folder / 'baseline.yaml', snapshot.catalogue, snapshot)
terms = MendingConstraints(lambda rule, service: True, np.ones(len(snapshot.people), bool))
found = [solve(each, time.monotonic, time.monotonic() + 5, compare=True) for each in components(Remembered(snapshot, baseline), terms)]
print(len(found), sum(len(each.weighed.plan) for each in found), sum(each.greedy or 0 for each in found),
      sum(each.weighed.left for each in found), sum(each.gap for each in found))
"""


def change_rows(
    folder: Path, ratio: Callable[..., None], check_cost: Callable[[Path], Any], cost: Callable[..., Any], program: Path
) -> None:
    """The rows about changes; `folder` is that of the 200k organisation in Parquet."""
    places = ["--snapshot", folder / "snapshot", "--baseline", folder / "baseline.yaml", "--format", "json"]
    changes = folder / "changes.yaml"
    changes.write_text(
        "usher-gate: changes/1\ntitle: Ten controls\nchanges:\n"
        + "".join(
            f"  - set: {{service: beta, control: bench.c{number}, scope: organisation, value: guarded, pinned: true}}\n"
            for number in range(10, 40, 3)
        )
    )
    whole = check_cost(folder)
    tried = cost([program, "rehearse", "--changes", changes, *places, "--out", folder / "rehearsed.json"])
    ratio(
        "`rehearse --changes` (ten settings), 200k people x 100 rules, against the whole check",
        tried.seconds / whole.seconds,
        1.5,
        f"{tried.seconds:.2f} / {whole.seconds:.2f} s; {tried.peak:.0f} / {whole.peak:.0f} MiB",
    )
    mended = cost([program, "mend", *places, "--out", folder / "mended.json"], 1)
    done = subprocess.run([sys.executable, "-c", _STEPS, str(folder)], capture_output=True, text=True, check=True)
    parts, edits, stepped, left, gap = (int(word) for word in done.stdout.split())
    sure = "proven fewest" if not gap else f"at most {gap} more than the fewest"
    ratio(
        f"`mend`, 200k people, some 1,700 drifting roots in {parts} components: {edits} edits ({sure}, {left} left; "
        f"step by step {stepped}), "
        "against the whole check",
        mended.seconds / whole.seconds,
        10,
        f"{mended.seconds:.1f} / {whole.seconds:.2f} s; {mended.peak:.0f} / {whole.peak:.0f} MiB",
    )
