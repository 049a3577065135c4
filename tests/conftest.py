"""What all tests share."""

from __future__ import annotations

import shutil
import signal
from pathlib import Path

import pytest
from hypothesis import Phase, settings

from usher_gate.cli.demo import keep_weeks
from usher_gate.demo.write import write_demo

# Whoever runs us in the background ignores SIGINT, and every process that we start would inherit that.
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)

settings.register_profile(
    "project", deadline=None, print_blob=True, phases=(Phase.explicit, Phase.reuse, Phase.generate)
)  # shrinking takes minutes
settings.load_profile("project")


@pytest.fixture(scope="session")
def demo_made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo folder, made once; nobody may change it."""
    folder = tmp_path_factory.mktemp("demo") / "northmere"
    write_demo(folder)
    return folder


@pytest.fixture(scope="session")
def demo_history(demo_made: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The history that the demo has, made once for whoever asks for it."""
    folder = tmp_path_factory.mktemp("history") / "northmere"
    shutil.copytree(demo_made, folder)
    assert keep_weeks(folder) == ""
    return folder / "history.db"


@pytest.fixture
def demo(demo_made: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A fresh demo folder, in which the test stands."""
    folder = tmp_path / "northmere"
    shutil.copytree(demo_made, folder)
    monkeypatch.chdir(folder)
    return folder
