"""The exit status of every verb for every outcome: one table. People script against these."""

from __future__ import annotations

import shlex
from pathlib import Path

import pytest

from tests.program import call, lines_of
from tests.tiny import BASELINE, EXCEPTIONS, PEOPLE, SETTINGS, write_tiny

NONE = "usher-gate: exceptions/1\nexceptions: []\n"
CHANGES = """\
usher-gate: changes/1
title: t
changes:
  - set: {{service: tidecall, control: door.waiting-room, scope: organisation, value: {}, pinned: true}}
"""
# Every verb that reads a snapshot, with a call that gives 0 on an organisation where nothing drifts.
READING: dict[str, tuple[str, ...]] = {
    "check": ("check",),
    "why": ("why", "P1"),
    "why a control": ("why", "P1", "door.waiting-room"),
    "why a rule": ("why", "P1", "--rule", "R1"),
    "why a value": ("why", "--control", "door.waiting-room", "--value", "guests"),
    "sign-in": ("sign-in", "P1"),
    "holes": ("holes", "--proof", "mfa"),
    "door": ("door",),
    "door of a host": ("door", "P1"),
    "rehearse": ("rehearse", "--changes", "tighter.yaml"),
    "mend": ("mend",),
    "guests": ("guests", "--on", "2026-11-20"),
    "exceptions": ("exceptions",),
    "report": ("report",),
}
FINE: dict[str, str | bytes | None] = {
    "snapshot/people.csv": PEOPLE.replace("P4,dag@partner.example,guest,,,\n", "").replace("offered", "required"),
    "exceptions.yaml": NONE,
    "snapshot/access-rules.yaml": "usher-gate: access-rules/1\nrules: []\n",
    "tighter.yaml": CHANGES.format("hosts"),
    "weaker.yaml": CHANGES.format("everyone"),
    "same.yaml": CHANGES.format("guests"),
}  # fmt: skip
MEMBERS = PEOPLE.replace("P4,dag@partner.example,guest,,,\n", "")
REQUIRED = PEOPLE.replace("offered", "required")
EVERYBODY = BASELINE.replace("audience: {kind: member}", "audience: {any: true}")
STATES: dict[str, dict[str, str | bytes | None]] = {
    "-": {},
    "known": FINE,
    "drift": {"snapshot/people.csv": MEMBERS},  # P2: the second factor
    "open": {"snapshot/settings.csv": SETTINGS.replace("guests,true", "everyone,true")},  # everyone: the waiting room
    "unknown": {"snapshot/people.csv": REQUIRED, "baseline.yaml": EVERYBODY},
    "outside": {"snapshot/people.csv": REQUIRED.replace("guest,,,", "guest,,offered,"), "baseline.yaml": EVERYBODY},
    "agreed": {"exceptions.yaml": EXCEPTIONS},
    "wrong-rule": {"baseline.yaml": BASELINE.replace("is: required", "is: maybe")},
    "exceptions-unnamed": {
        "exceptions.yaml": None,
        "usher-gate.toml": 'snapshot = "snapshot"\nbaseline = "baseline.yaml"\n',
    },
    "no-settings": {"snapshot/settings.csv": None},
    "no-services": {"snapshot/services.yaml": None},
    "no-exceptions": {"exceptions.yaml": None},
    "no-baseline": {"baseline.yaml": None},
    "no-toml": {"usher-gate.toml": None},
}
CALLS = lines_of(Path(__file__).with_name("statuses.txt"))


@pytest.fixture
def at(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    return tmp_path


@pytest.mark.parametrize("name", READING)
def test_whatever_reads_a_snapshot(name: str, at: Path) -> None:
    """Nothing drifts; older than it may be; a file is wrong or missing; a call is wrong; nothing can be written."""
    arguments = READING[name]
    write_tiny(at, FINE)
    fine = call(*arguments)
    assert (fine.status, fine.err) == (0, fine.err), fine.err
    aged = call(*arguments, "--max-age", "1")
    assert aged.status == 3 and "old" in (aged.out + aged.err).splitlines()[0]
    assert call(*arguments, "--max-age", "500000").status == 0
    for wrong in (("--bogus",), ("--max-age", "-1"), ("--snapshot", "nowhere"), ("--out", "no/such/folder/x")):
        done = call(*arguments, *wrong)
        assert done.status == 2, (wrong, done.err)
        assert done.out == "" and "usher-gate: error: " in done.err
    (at / "snapshot" / "people.csv").write_text(PEOPLE.replace("required", "sometimes"))
    done = call(*arguments)
    assert done.status == 2 and done.out == "" and "people.csv:2: " in done.err and "people.csv:6: " in done.err


@pytest.mark.parametrize("line", CALLS)
def test_status(line: str, at: Path) -> None:
    status, state, *arguments = shlex.split(line)
    files = FINE | {"snapshot/people.csv": PEOPLE}
    for word in state.split("+"):
        files |= STATES[word]
    write_tiny(at, files)
    done = call(*arguments)
    is_refused = status in ("2", "4")
    assert done.status == int(status), (done.out[:600], done.err)
    assert (done.out == "") == is_refused, done.out
    assert ("usher-gate: error: " in done.err) == is_refused, done.err
