"""What all tests share."""

from __future__ import annotations

import fcntl
import os
import shutil
import signal
from collections.abc import Callable
from itertools import islice
from pathlib import Path

import pytest
from hypothesis import Phase, settings

from tests.program import call, process
from usher_gate.demo.write import write_demo

# A shell that runs us in the background ignores SIGINT, and every process that we start would inherit that.
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)

settings.register_profile(
    "project", deadline=None, print_blob=True, phases=(Phase.explicit, Phase.reuse, Phase.generate)
)  # shrinking takes minutes
settings.load_profile("project")

PLANNED = "usher-gate mend --format json --out plan.json"
# The modules that take longest: each is begun by one of the processes before anything else. What is left over is shared
# as they get free.
LONGEST = ("test_cluster", "test_report", "test_verbs")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Puts the longest tests first: one module of them at the beginning of the share that each process gets."""
    if "USHER_GATE_IN_ORDER" in os.environ:  # as tools/mutants.py asks for them
        return
    count = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))
    rest = iter([item for item in items if item.path.stem not in LONGEST])
    ordered: list[pytest.Item] = []
    for number in range(count):
        for name in LONGEST[number::count]:
            ordered += [item for item in items if item.path.stem == name]
        ordered += islice(rest, max(0, len(items) * (number + 1) // count - len(ordered)))
    items[:] = [*ordered, *rest]


def once(factory: pytest.TempPathFactory, name: str, make: Callable[[Path], object]) -> Path:
    """A folder that is made once, whichever of several processes asks first; no one may change it.

    The demo and its twelve weeks may be there already (tools/planting.py): they take longer than most tests.
    """
    base = factory.getbasetemp()
    folder = (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / name
    if name in ("northmere", "run") and "USHER_GATE_MADE" in os.environ:
        folder = Path(os.environ["USHER_GATE_MADE"]) / name
    with folder.with_suffix(".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.exists():
            half = folder.with_suffix(".half")
            make(half)
            half.rename(folder)
    return folder


@pytest.fixture(scope="session")
def demo_made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo folder."""
    return once(tmp_path_factory, "northmere", write_demo)


@pytest.fixture(scope="session")
def demo_history(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The history that the demo has."""

    return demo_run(tmp_path_factory)[0] / "history.db"


def demo_run(factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """The folder that `usher-gate demo` makes, and what it prints."""

    def make(folder: Path) -> None:
        folder.mkdir()
        done = process("demo", cwd=folder)
        assert done.status == 0, done.err
        (folder / "printed").write_text(done.out)

    made = once(factory, "run", make)
    return made / "northmere", (made / "printed").read_text()


@pytest.fixture(scope="session")
def demo_plan(demo_made: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What mend finds on the demo, as JSON: an example of its help, as it is."""

    def make(folder: Path) -> None:
        shutil.copytree(demo_made, folder)
        assert call(*PLANNED.split()[1:], cwd=folder).status in (0, 1)

    return once(tmp_path_factory, "plan", make) / "plan.json"


@pytest.fixture
def demo(demo_made: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A fresh demo folder, in which the test runs."""
    folder = tmp_path / "northmere"
    shutil.copytree(demo_made, folder)
    monkeypatch.chdir(folder)
    return folder
