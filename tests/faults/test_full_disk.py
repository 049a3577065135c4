"""A disk that is full, read-only or broken.

The file and the cause are named, status 4, what was there stays whole, nothing is left behind.
"""

from __future__ import annotations

import errno
import re
import resource
import shutil
import subprocess
from pathlib import Path
from random import Random

import pytest

from tests.faults import VERBS, FaultyDisk
from tests.program import PROGRAM, call

OPS = ("write", "fsync", "rename", "mkdir", "create")
CAUSES = {
    errno.ENOSPC: "no space left on device",
    errno.EIO: "input/output error",
    errno.EROFS: "read-only file system",
    errno.EDQUOT: "disk quota exceeded",
}
RECORDS = ("snapshots/.lock", "snapshots/last-gather.json", "history.db-journal")


def tree(folder: Path) -> dict[str, bytes]:
    """Every file below a folder (and each folder, as no bytes), but for what is kept on purpose and what SQLite alone
    reads.
    """
    found = {}
    for path in sorted(folder.rglob("*")):
        name = str(path.relative_to(folder))
        if name not in RECORDS and name != "history.db":
            found[name] = b"" if path.is_dir() or path.is_symlink() else path.read_bytes()
    found.pop("snapshots", None)
    return found


@pytest.mark.parametrize("verb", VERBS)
def test_what_cannot_be_written_is_said_and_leaves_nothing(
    disk: FaultyDisk, made: Path, tmp_path: Path, verb: str
) -> None:
    arguments = VERBS[verb]
    folder = tmp_path / "folder"
    if verb == "check kept":  # another snapshot than the one that is kept
        text = (made / "snapshot/organisation.yaml").read_text().replace("2026-11-20T06", "2026-11-21T06")
    shutil.copytree(made, folder)
    if verb == "check kept":
        (folder / "snapshot/organisation.yaml").write_text(text)
    before = tree(folder)
    done, calls = disk.call(arguments, folder)
    assert done.status in (0, 1, 3), done.err
    assert calls, "it writes nothing"
    draw, tried = Random(verb), 0
    for op in OPS:
        count = calls.count(op[0])
        causes = [*CAUSES.items()]
        first = causes if op == "write" else [draw.choice(causes)]
        for number, (code, cause) in [
            *((1, each) for each in first),
            (draw.randint(1, count or 1), draw.choice(causes)),
        ]:
            if not count:
                continue
            shutil.rmtree(folder)
            shutil.copytree(made, folder)
            if verb == "check kept":
                (folder / "snapshot/organisation.yaml").write_text(text)
            fault = {"FAULT_OP": op, "FAULT_ERRNO": str(code), "FAULT_FROM": str(number)}
            done, _ = disk.call(arguments, folder, fault)
            what = f"{verb}: {op} {number} of {count}: {errno.errorcode[code]}: {done.status}\n{done.err}"
            if done.status in (0, 1) and op == "fsync" and number == count:
                continue  # the folder's own, which not every file system can
            if verb == "check kept" and done.status == 1:  # a file that SQLite can do without
                assert len(call("history", "--format", "csv", cwd=folder).out.splitlines()) == 3, what
                continue
            tried += 1
            assert done.status == 4, what
            line = done.err.splitlines()[-1]
            assert "cannot write " in line, what
            assert "bug" not in done.err and "Traceback" not in done.err, what
            if verb != "check kept":  # SQLite has words of its own
                assert cause in line, what
            after = tree(folder)
            assert {name for name in after if after[name] != before.get(name)} == set(), what
            assert before.keys() == after.keys(), what
            if verb == "check kept":
                assert call("history", "--verify", cwd=folder).status == 0
                assert len(call("history", "--format", "csv", cwd=folder).out.splitlines()) == 2, what
    assert tried >= 6


@pytest.mark.parametrize(("op", "first"), [("write", 40), ("mkdir", 4), ("create", 1)])
def test_the_demo_is_whole_or_not_there(disk: FaultyDisk, tmp_path: Path, op: str, first: int) -> None:
    fault = {"FAULT_OP": op, "FAULT_ERRNO": str(errno.ENOSPC), "FAULT_FROM": str(first)}
    done, _ = disk.call(("demo", "new/northmere"), tmp_path, fault)
    assert (done.status, list(tmp_path.iterdir())) == (4, []), done.err
    assert re.search(r"cannot write new/northmere\S*: no space left on device", done.err), done.err


def test_a_full_standard_output_is_no_bug_and_no_drift(disk: FaultyDisk, made: Path) -> None:
    for arguments in (
        ("check",),
        ("check", "--format", "json"),
        ("--help",),
        ("--version",),
        ("why", "P1"),
        ("exceptions",),
    ):
        with Path("/dev/full").open("w") as full:
            done = subprocess.run(
                [PROGRAM, *arguments], cwd=made, stdout=full, stderr=subprocess.PIPE, text=True, check=False
            )
        assert (done.returncode, done.stderr.splitlines()[-1]) == (
            4, "usher-gate: error: cannot write standard output: no space left on device")  # fmt: skip


def test_nothing_can_be_written_anywhere(disk: FaultyDisk, made: Path, tmp_path: Path) -> None:
    """A read-only container without a folder for temporary files: what only reads goes on, and a bug is one line."""
    everywhere = {"FAULT_UNDER": "/", "FAULT_OP": "create", "FAULT_ERRNO": str(errno.EROFS)}
    for arguments in (("check",), ("why", "P1"), ("history",), ("baseline",), ("door",)):
        done, _ = disk.call(arguments, made, everywhere)
        assert done.status in (0, 1, 3), (arguments, done.err)
    done, _ = disk.call(("report", "--out", "page.html"), made, everywhere)
    assert done.status == 4 and "cannot write page.html: read-only file system" in done.err, done.err


def test_a_file_that_may_grow_no_further(made: Path, tmp_path: Path) -> None:
    folder = tmp_path / "folder"
    shutil.copytree(made, folder)
    before = tree(folder)
    limit = lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (300, 300))  # noqa: E731
    for verb in ("check JSON", "report", "worksheets", "exception", "baseline"):
        done = subprocess.run(
            [PROGRAM, *VERBS[verb]], cwd=folder, capture_output=True, text=True, check=False, preexec_fn=limit
        )
        assert (done.returncode, done.stderr.splitlines()[-1].partition(": file too")[2]) == (4, " large"), (
            verb,
            done.stderr,
        )
        assert tree(folder) == before
