"""The first screen of a check: how long it is, and that every count of people can be listed as it says."""

from __future__ import annotations

import csv
import io
import os
import re
import shlex
import shutil
from pathlib import Path
from unittest import mock

import pytest

from tests.program import call


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
def test_every_verb_fits_one_screen_and_says_how_to_see_the_rest(demo: Path, demo_history: Path, words: str) -> None:
    shutil.copy(demo_history, demo)
    for width, most in ((80, 45), (100, 40), (160, 40)):
        lines = page(words, width)
        assert len(lines) <= most and max(map(len, lines)) <= width, width
    more = next((line for line in page(words, 160) if line.startswith("More: --show ")), "More: --show all")
    for word in more.removeprefix("More: --show ").split(" | "):
        assert len(page(f"{words} --show {word}", 160)) > 3, word
    for options in re.findall(r"\((--[^()]*)\)", "\n".join(page(words, 400))):
        assert "Nothing to show" not in "\n".join(page(f"{words} {options}", 160)), options


@pytest.mark.parametrize("words", [words for words in PAGES if not words.startswith("door -")])
def test_every_count_of_people_of_every_verb_is_listed(demo: Path, demo_history: Path, words: str) -> None:
    """Whoever a line counts, and names an option for, is in the tables that the option shows, and no one else."""
    shutil.copy(demo_history, demo)
    lines = page(words, 10_000)
    for number, what, options in re.findall(
        r"(\d+)(?: of \d+)? (people|person|hosts?|guests?)\b[^()]*\(([^()]*--[^()]*)\)", "\n".join(lines)
    ):
        found = page(f"{words} {options}", 10_000)
        tables = [table.splitlines()[2:] for table in "\n".join(found).split("\n\n")[1:]]
        sizes = {len(set(re.findall(r"[\w.-]+@[\w.]+", "\n".join(table)))) for table in tables}
        if words.startswith("rehearse") and options == "--show people":
            (table,) = tables
            alike = re.search(r"Every row: drifts (.*)", "\n".join(found))
            newly, no_longer, still = (
                sum(
                    line.endswith(f" {word}") or (alike is not None and alike[1] == word and "@" in line)
                    for line in table
                )
                for word in ("newly", "no longer", "still")
            )
            sizes = {newly, no_longer, still + no_longer, still + newly}
        assert int(number) in sizes, (words, number, what, options)
