"""The exit status of every verb for every outcome: one table. People script against these."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.program import call
from tests.tiny import BASELINE, EXCEPTIONS, PEOPLE, SETTINGS, write_tiny

NONE = "usher-gate: exceptions/1\nexceptions: []\n"
CHANGES = "usher-gate: changes/1\ntitle: t\nchanges:\n  - set: {{service: tidecall, control: door.waiting-room, scope: organisation, value: {}, pinned: true}}\n"
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
DRIFT = {"snapshot/people.csv": PEOPLE.replace("P4,dag@partner.example,guest,,,\n", "")}  # P2: the second factor
OPEN = {"snapshot/settings.csv": SETTINGS.replace("guests,true", "everyone,true")}  # everybody: the waiting room
UNKNOWN = {"baseline.yaml": BASELINE.replace("audience: {kind: member}", "audience: {any: true}"),
           "snapshot/people.csv": PEOPLE.replace("offered", "required")}  # fmt: skip
OUTSIDE = {"snapshot/people.csv": PEOPLE.replace("offered", "required").replace("guest,,,", "guest,,offered,"),
           "baseline.yaml": BASELINE.replace("audience: {kind: member}", "audience: {any: true}")}  # fmt: skip


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


@pytest.mark.parametrize(("arguments", "changes", "status"), [
    # a check: 1 for what drifts at the threshold or above, 3 where nothing does and something is not known
    (("check",), DRIFT, 1), (("check", "--fail-at", "medium"), DRIFT, 1), (("check", "--fail-at", "high"), DRIFT, 0),
    (("check", "--fail-at", "low"), DRIFT, 1), (("check", "--fail-at", "critical"), OPEN, 0), (("check", "--fail-at", "high"), OPEN, 1),
    (("check", "--severity", "high"), DRIFT, 0), (("check", "--rule", "R1"), DRIFT, 0), (("check", "--rule", "r2"), DRIFT, 1),
    (("check", "--person", "P1"), DRIFT, 0), (("check", "--person", "BEN@northmere.example"), DRIFT, 1),
    (("check", "--unit", "/Fleet"), DRIFT, 1), (("check", "--unit", "/Fleet/Deck"), DRIFT, 0), (("check", "--group", "g1"), DRIFT, 0),
    (("check", "--group", "g1", "--group", "g2"), DRIFT, 2), (("check", "--verdict", "unknown"), DRIFT, 1), (("check", "--verdict", "bad"), {}, 2),
    (("check",), UNKNOWN, 3), (("check", "--fail-at", "high"), UNKNOWN, 0), (("check", "--fail-at", "medium"), UNKNOWN, 3),
    (("check", "--severity", "high"), UNKNOWN, 0), (("check", "--unit", "/Fleet"), UNKNOWN, 0), (("check", "--person", "P4"), UNKNOWN, 3),
    (("check",), FINE | {"snapshot/settings.csv": None}, 3), (("check",), FINE | {"snapshot/services.yaml": None}, 3),
    (("check",), DRIFT | {"snapshot/settings.csv": None}, 1), (("check", "--max-age", "1"), DRIFT, 1),
    (("check",), DRIFT | {"exceptions.yaml": None, "usher-gate.toml": 'snapshot = "snapshot"\nbaseline = "baseline.yaml"\n'}, 1),
    (("check",), {"exceptions.yaml": None}, 2), (("check",), {"baseline.yaml": None}, 2), (("check",), {"usher-gate.toml": None}, 2),
    # why, sign-in, door: who or what is asked about must be there
    (("why", "P9"), {}, 2), (("why", "P1", "door.waiting-rom"), {}, 2), (("why", "P1", "--rule", "R9"), {}, 2), (("why",), {}, 2),
    (("why", "P2", "--rule", "R2"), DRIFT, 0), (("why", "P1", "--service", "quaychat"), {}, 2), (("why", "--meeting", "m", "door.waiting-room"), {}, 2),
    (("why", "--control", "door.waiting-room", "--value", "some"), {}, 2), (("why", "--set", "none"), {}, 2),
    (("sign-in", "P9"), {}, 2), (("sign-in", "P1", "--resource", "harbour"), {}, 2), (("sign-in", "P1", "--address", "300.1.1.1"), {}, 2),
    (("sign-in", "--kind", "guest", "--home-domain", "coastguard.example.org"), {}, 0), (("sign-in", "P1", "--kind", "guest"), {}, 2),
    (("sign-in", "P1", "--address", "192.0.2.1", "--network", "office"), {}, 2), (("sign-in", "P1", "--network", "office"), {}, 0),
    (("door", "P9"), {}, 2), (("door", "--meeting", "m"), {}, 2), (("door", "--from", "coastguard.example.org"), {}, 2),
    (("holes", "--rule", "R9"), {}, 2), (("holes", "--proof", "magic"), {}, 2), (("holes", "--proof", "mfa"), {}, 0), (("holes", "--log", "no.csv"), {}, 2),
    # rehearse: 1 for whom a change hurts
    (("rehearse", "--changes", "weaker.yaml"), {}, 1), (("rehearse", "--changes", "same.yaml"), {}, 0), (("rehearse", "--changes", "tighter.yaml"), OPEN, 0),
    (("rehearse", "--changes", "no.yaml"), {}, 2), (("rehearse",), {}, 2), (("rehearse", "--baseline", "no.yaml"), {}, 2),
    (("rehearse", "--changes", "same.yaml", "--write-snapshot", "snapshot"), {}, 2), (("rehearse", "--changes", "same.yaml", "--draft", "no.yaml"), {}, 2),
    # mend: 1 for what is left
    (("mend",), OPEN, 0), (("mend", "--edits", "0"), OPEN, 1), (("mend", "--edits", "-1"), OPEN, 2), (("mend", "--seconds", "-1"), OPEN, 2),
    (("mend", "--verdict", "drifts"), OPEN, 2), (("mend",), DRIFT, 0), (("mend", "--write", "no/such/plan.yaml"), OPEN, 2),
    # guests
    (("guests", "--on", "2026-11-20"), {}, 0), (("guests",), OUTSIDE, 0), (("guests", "--on", "tomorrow"), {}, 2), (("guests", "--read", "no"), {}, 2),
    (("guests", "--state", "lost"), {}, 2), (("guests", "--domain", "partner.example"), {}, 0), (("guests", "--write", "w.yaml"), {}, 2),
    # the record, exceptions, baselines
    (("history",), {}, 2), (("history", "--since", "1"), {}, 2), (("history", "--verify"), {}, 2),
    (("exceptions", "end", "X1"), {"exceptions.yaml": EXCEPTIONS}, 0), (("exceptions", "end", "X9"), {}, 2), (("exceptions", "remove", "X1"), {}, 2),
    (("exceptions", "add", "X2", "--rule", "R2", "--person", "P2", "--reason", "r", "--approved-by", "a", "--until", "2026-12-01"), {}, 0),
    (("exceptions", "add", "X1", "--rule", "R2", "--person", "P2", "--reason", "r", "--approved-by", "a", "--until", "2026-12-01"),
     {"exceptions.yaml": EXCEPTIONS}, 2),
    (("exceptions", "add", "X2", "--rule", "R9", "--person", "P2", "--reason", "r", "--approved-by", "a", "--until", "2026-12-01"), {}, 2),
    (("exceptions", "add", "X2", "--rule", "R2", "--person", "P2", "--approved-by", "a", "--until", "2026-12-01"), {}, 2),
    (("exceptions", "add", "X2", "--rule", "R2", "--person", "P2", "--reason", "r", "--approved-by", "a", "--until", "2026-11-19"), {}, 2),
    (("baseline",), {}, 0), (("baseline", "--rule", "R1"), {}, 0), (("baseline", "--rule", "R9"), {}, 2), (("baseline", "--start", "meetings"), {}, 0),
    (("baseline", "--start", "harbour"), {}, 2), (("baseline", "--controls"), {}, 0), (("baseline", "--uncovered"), {}, 0),
    (("baseline",), {"baseline.yaml": BASELINE.replace("is: required", "is: maybe")}, 2),
    # what needs no organisation
    (("completion", "bash"), {}, 0), (("completion", "dish"), {}, 2), (("completion",), {}, 2), (("demo", "snapshot"), {}, 2), (("--version",), {}, 0),
    (("help",), {}, 0), (("chek",), {}, 2), (("--bogus",), {}, 2), (("report", "--plan", "no.json"), {}, 2),
    (("stand-in", "--misbehave", "dance"), {}, 2), (("stand-in", "--snapshot", "nowhere"), {}, 2), (("stand-in", "--port", "70000"), {}, 2),
    # gather
    (("gather",), {}, 2), (("gather", "--try", "crew"), {}, 2), (("gather", "--accept", "crew"), {}, 2),
])  # fmt: skip
def test_status(arguments: tuple[str, ...], changes: dict[str, str | bytes | None], status: int, at: Path) -> None:
    write_tiny(at, FINE | {"snapshot/people.csv": PEOPLE} | changes)
    done = call(*arguments)
    assert done.status == status, (done.out[:600], done.err)
    assert (done.out == "") == (status in (2, 4)), done.out
    assert ("usher-gate: error: " in done.err) == (status in (2, 4)), done.err
