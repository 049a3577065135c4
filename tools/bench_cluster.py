"""The lines of the benchmark about several processes and a Dask scheduler, on one machine, in one run."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import bench_data
import bench_gate
import numpy as np
import pyarrow.parquet as pq

from usher_gate.engine.processes import LIMIT

DASK = Path(sys.executable).with_name("dask")
FILES, EVENTS = 4, 5_000_000


@contextmanager
def workers(count: int) -> Iterator[str]:
    """A scheduler with so many workers, started as someone would by hand; its address."""
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    port = 8791
    address = f"tcp://127.0.0.1:{port}"
    began = [
        subprocess.Popen(
            [str(DASK), "scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard"],
            start_new_session=True,
            **quiet,  # type: ignore[call-overload]
        )
    ]
    time.sleep(3)
    began.append(
        subprocess.Popen(
            [str(DASK), "worker", address, "--nworkers", str(count), "--nthreads", "1", "--no-dashboard"],
            start_new_session=True,
            **quiet,  # type: ignore[call-overload]
        )
    )
    time.sleep(6)
    try:
        yield address
    finally:
        for child in reversed(began):
            os.killpg(child.pid, 9)
            child.wait()


def write_log(data: Path) -> tuple[Path, Path]:
    """The organisation of the replay, and 20 million sign-ins in four files."""
    folder = bench_gate.write(data / "replay", 200_000, 40, EVENTS)
    logs = data / "replay" / "logs"
    if not (logs / "done").exists():
        logs.mkdir(exist_ok=True)
        ids = np.array(pq.read_table(folder / "snapshot" / "people.parquet", columns=["id"])["id"].to_pylist())
        for number in range(FILES):
            table = bench_gate.sign_ins(ids, EVENTS, number)
            pq.write_table(table, logs / f"{number}.parquet", row_group_size=1 << 19)
        (logs / "done").touch()
    return folder, logs


def cluster_rows(data: Path, cost: Callable[..., Any], program: Path, ratio: Callable[..., None]) -> None:
    """Two against one, and what the split itself costs."""
    bench_data.write(data / "1M", 1_000_000, ("parquet",))
    people = data / "1M" / "parquet"
    folder, logs = write_log(data)
    calls: dict[str, tuple[list[str | Path], float]] = {
        "a check of 1M people": (
            [
                program,
                "check",
                "--snapshot",
                people / "snapshot",
                "--baseline",
                people / "baseline.yaml",
                "--format",
                "json",
            ],
            0.65,
        ),
        "a replay of 20M events": (
            [program, "rehearse", "--snapshot", folder / "snapshot", "--sign-ins", logs, "--format", "json"],
            0.6,
        ),
    }
    for what, (call, goal) in calls.items():
        os.environ[LIMIT] = "1"
        one = cost(call, 3, (0, 1, 3)).seconds
        os.environ[LIMIT] = "2"
        two = cost(call, 3, (0, 1, 3)).seconds
        del os.environ[LIMIT]
        ratio(f"{what}: two processes here against one", two / one, goal, f"{two:.1f} / {one:.1f} s")
        with workers(2) as address:
            two = cost([*call, "--scheduler", address], 3, (0, 1, 3)).seconds
        ratio(f"{what}: two workers of a scheduler against one process", two / one, goal, f"{two:.1f} / {one:.1f} s")
        with workers(1) as address:
            split = cost([*call, "--scheduler", address], 3, (0, 1, 3)).seconds
        ratio(f"{what}: a scheduler with one worker against none", split / one, 1.15, f"{split:.1f} / {one:.1f} s")
