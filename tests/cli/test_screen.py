"""The first screen of a check: how long it is, and that every count of people can be listed as it says."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import pty
import re
import shlex
import shutil
import subprocess
from pathlib import Path
from unittest import mock

import pytest

from tests.program import PROGRAM, call, process


def screen(width: int, *options: str) -> list[str]:
    with mock.patch.dict(os.environ, COLUMNS=str(width)):
        return call("check", *options).out.splitlines()


@pytest.mark.parametrize(("width", "most"), [(80, 45), (99, 45), (100, 40), (160, 40)])
def test_it_fits_one_screen(demo: Path, demo_history: Path, width: int, most: int) -> None:
    lines = screen(width)
    assert len(lines) <= most and max(map(len, lines)) <= width
    assert lines[0].startswith("Northmere Ferries, 2026-11-20 06:00 UTC, against ")
    assert " ".join(lines).index("is locked out") < " ".join(lines).index("of 236 people drift")
    assert sum(bool(re.match(r"  (critical|high|medium|low) ", line)) for line in lines) >= 3


@pytest.mark.parametrize("width", [80, 100, 120])
def test_on_a_terminal_the_same_is_coloured_and_notes_are_one_line(demo: Path, width: int) -> None:
    piped = process("check", width=width)
    shown = on_a_terminal("check", width=width)
    plain = re.sub(r" +$", "", re.sub(r"\x1b\[[0-9;]*m", "", shown), flags=re.MULTILINE)
    notes = json.loads(call("check", "--format", "json").out)["notes"]
    assert plain == f"{piped.out}usher-gate: {len(notes)} notes (--show all, or --format json)\n"
    for label, colour in (("locked out", "1;31"), ("open", "1;31"), ("ignored", "33"), ("not known", "2")):
        assert f"\x1b[{colour}m{label}" in shown, label
    assert "\x1b" not in piped.out + on_a_terminal("check", "--no-colour", width=width)


def on_a_terminal(*arguments: str, width: int) -> str:
    """What a call prints on a terminal, with its colours, and then its notes."""
    ours, its = pty.openpty()
    done = subprocess.Popen(
        [PROGRAM, *arguments],
        stdin=its,
        stdout=its,
        stderr=subprocess.PIPE,
        env={**os.environ, "TERM": "xterm-256color", "COLUMNS": str(width), "LINES": "50"},
    )
    os.close(its)
    read = b""
    with contextlib.suppress(OSError):  # the end of a terminal
        while piece := os.read(ours, 65_536):
            read += piece
    os.close(ours)
    return read.decode().replace("\r\n", "\n") + done.communicate()[1].decode()


def labelled() -> dict[str, str]:
    """The labelled lines by label, each in one line."""
    found: dict[str, str] = {}
    label = ""
    for line in screen(400)[3:]:
        if not line:
            break
        label = line[2:15].strip() or label
        found[label] = f"{found.get(label, '')} {line[15:]}".strip()
    return found


def logins(*options: str) -> set[str]:
    """The logins in what a call prints below its answer."""
    return set(re.findall(r"[\w.-]+@[\w.]+", "\n".join(screen(400, *options, "--rows", "0")[1:])))


def test_every_count_of_people_is_listed_by_the_option_that_its_line_names(demo: Path) -> None:
    said = labelled()
    for label in ("not known", "not held", "settling"):
        number, options = re.fullmatch(r"([\d,]+) verdicts.*\((.*)\)", said[label]).groups()  # type: ignore[union-attr]
        rows = [*csv.DictReader(io.StringIO(call("check", *shlex.split(options), "--format", "csv").out))]
        assert len(rows) == int(number.replace(",", "")), label
        people = re.search(r"of (\d+) people", said[label])
        assert people is None or len({row["subject"] for row in rows}) == int(people[1])
    assert len(logins("--show", "stranded")) == int(said["stuck"].split()[0]) == 22
    contested, clashing = map(int, re.findall(r"(\d+) people", said["conflicts"]))
    tables = "\n".join(screen(4000, "--show", "conflicts", "--rows", "0")).split("Values that cannot work together")
    assert [len(set(re.findall(r"[\w.-]+@", table))) for table in tables] == [contested, clashing]
    wholes = sum(map(int, re.findall(r"\d+", said["as a whole"])))
    assert sum("drifts as a whole" in line for line in screen(400, "--show", "groups", "--rows", "0")) == wholes


def test_what_a_cause_ends_is_what_the_edit_ends(demo: Path) -> None:
    """The fix that the screen names, made in the file and judged again."""
    row = next(
        line for line in screen(400, "--rows", "0", "--ids") if "group:deck" in line and "door.waiting-room" in line
    )
    value, line, ends, clears = re.search(r"set (\S+) \(settings\.csv:(\d+)\) +(\d+) +(\d+)", row).groups()  # type: ignore[union-attr]
    settings = demo / "snapshot" / "settings.csv"
    lines = settings.read_text().splitlines(keepends=True)
    before = call("check", "--show", "causes").out
    lines[int(line) - 1] = lines[int(line) - 1].replace(",everyone,", f",{value},")
    settings.write_text("".join(lines))
    after = call("check", "--show", "causes").out
    findings = [int(re.search(r"of (\d+) findings", text)[1]) for text in (before, after)]  # type: ignore[index]
    drifting = [int(re.search(r"(\d+) of 236 people", text)[1]) for text in (before, after)]  # type: ignore[index]
    assert (findings[0] - findings[1], drifting[0] - drifting[1]) == (int(ends), int(clears))


PAGES = (
    "door",
    "door N1171",
    "door --meeting dock-plans",
    "door --meetings",
    "holes",
    "mend",
    "rehearse",
    "rehearse --changes changes/own-organisation-only.yaml",
    "rehearse --changes changes/second-factor-1.yaml",
    "rehearse --baseline drafts/every-service.yaml --exceptions drafts/no-exceptions.yaml",
    "guests",
    "guests --read review --on 2026-12-04",
    "history",
    "history --since 2026-10-02",
    "why dagny.nerheim@northmere.example",
)


def page(words: str, width: int) -> list[str]:
    with mock.patch.dict(os.environ, COLUMNS=str(width)):
        return call(*shlex.split(words)).out.splitlines()


@pytest.mark.parametrize("words", PAGES)
def test_every_verb_fits_one_screen_and_lists_all_that_it_counts(demo: Path, demo_history: Path, words: str) -> None:
    """The people that a line counts, and names an option for, are in a table that the option shows, and no one else."""
    shutil.copy(demo_history, demo)
    for width, most in ((80, 45), (100, 40)):
        lines = page(words, width)
        assert len(lines) <= most and max(map(len, lines)) <= width, width
    text = "\n".join(page(words, 10_000))
    more = re.findall(r"^More: --show (.*)", text, re.MULTILINE)
    named = [f"--show {word}" for line in more for word in line.split(" | ")]
    counted = re.findall(r"(\d+)(?: of \d+)? (?:people|person|hosts?|guests?)\b[^()]*\(([^()]*--[^()]*)\)", text)
    shown = {
        options: "\n".join(page(f"{words} {options.replace(',', '')}", 10_000))
        for options in dict.fromkeys([*named, *re.findall(r"\((--[^()]*)\)", text)])
    }
    for options, found in shown.items():
        assert "Nothing to show" not in found and found.count("\n") > 2, options
    for number, options in counted:
        tables = shown[options].split("\n\n")[1:]
        sizes = {len(set(re.findall(r"[\w.-]+@[\w.]+", table.split("\n", 2)[2]))) for table in tables}
        if words.startswith("rehearse") and options == "--show people":
            sizes = drifting(shown[options])
        assert int(number) in sizes, (number, options)


def drifting(found: str) -> set[int]:
    """How many drift in a rehearsal now, afterwards, newly and no longer, by its table of people."""
    alike = re.search(r"Every row: drifts (.*)", found)
    newly, no_longer, still = (
        sum("@" in line and (line.endswith(f" {word}") or (alike is not None and alike[1] == word)) for line in lines)
        for lines in [found.splitlines()]
        for word in ("newly", "no longer", "still")
    )
    return {newly, no_longer, still + no_longer, still + newly}
