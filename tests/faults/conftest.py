"""The disk that fails, and a folder in which every verb has something to write."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.faults import FaultyDisk
from tests.program import call
from tests.tiny import ORGANISATION, PEOPLE, SETTINGS, TEXTS, write_tiny

GATHER = """
[[gather.source]]
name = "register"
kind = "files"
paths = ["exports/organisation.yaml", "exports/people.csv"]
"""
CHANGES = """usher-gate: changes/1
title: Hosts first
changes:
  - set: {service: tidecall, control: door.waiting-room, scope: organisation, value: hosts}
"""
GUEST = "id,login,kind,unit,mfa,roles,active,sponsor\n" + "".join(
    f"{row},true,{'P1' if row.startswith('P4') else ''}\n" for row in PEOPLE.splitlines()[1:]
)
OLD = ("out.txt", "out.json", "page.html", "plan.yaml", "new.yaml", "history.txt", "answers.yaml")


@pytest.fixture(scope="module")
def disk(tmp_path_factory: pytest.TempPathFactory) -> Iterator[FaultyDisk]:
    found = FaultyDisk(tmp_path_factory.mktemp("faults"))
    yield found
    found.close()


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A working folder in which every verb has something to write, and something that is there already."""
    folder = tmp_path_factory.mktemp("working") / "folder"
    write_tiny(folder, {"snapshot/people.csv": GUEST, "snapshot/settings.csv": SETTINGS.replace("guests,true", "everyone,"), "changes.yaml": CHANGES, "usher-gate.toml": TEXTS["usher-gate.toml"] + GATHER,
                        "exports/organisation.yaml": ORGANISATION, "exports/people.csv": PEOPLE})  # fmt: skip
    assert call("check", "--keep", cwd=folder).status == 1
    assert call("guests", "--ask", "review", "--on", "2026-11-20", cwd=folder).status == 0
    (sheet,) = (folder / "review").glob("*.csv")
    sheet.write_text(re.sub(r",,,,$", ",end,,,", sheet.read_text("utf-8-sig"), flags=re.MULTILINE))
    for name in OLD:
        (folder / name).write_text("what was there before\n")
    return folder
