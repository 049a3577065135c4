"""What all tests share."""

from __future__ import annotations

import signal
from pathlib import Path

import pytest
from hypothesis import Phase, settings

from usher_gate.demo.write import write_demo

# Whoever runs us in the background ignores SIGINT, and every process that we start would inherit that.
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)

settings.register_profile(
    "project", deadline=None, print_blob=True, phases=(Phase.explicit, Phase.reuse, Phase.generate)
)  # shrinking takes minutes
settings.load_profile("project")


@pytest.fixture
def demo(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A fresh demo folder, in which the test stands."""
    folder = tmp_path / "northmere"
    write_demo(folder)
    monkeypatch.chdir(folder)
    return folder
