"""The pages keep their word: the organisation described by hand gives the answer that its page shows."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shlex
import shutil
import tempfile
from pathlib import Path
from unittest import mock

import pytest

from tests.cli.test_golden import CALLS, called
from tests.cli.test_verbs import examples
from tests.program import call

DOCS = Path(__file__).resolve().parents[2] / "docs"


def test_the_organisation_of_five_gives_the_answer_shown(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    page = (DOCS / "own-organisation.md").read_text()
    blocks = re.findall(r"```(?:yaml|csv|toml)\n(.*?)```", page, re.DOTALL)
    names = [
        "snapshot/organisation.yaml",
        "snapshot/services.yaml",
        "snapshot/people.csv",
        "snapshot/settings.csv",
        "baseline.yaml",
        "usher-gate.toml",
    ]
    (tmp_path / "snapshot").mkdir()
    for name, block in zip(names, blocks, strict=True):
        (tmp_path / name).write_text(block)
    monkeypatch.chdir(tmp_path)
    done = call("check")
    assert done.status == 1
    assert done.out.splitlines()[1].startswith("2 of 5 people drift")
    found = {
        (each["rule"], each["subject"]["id"]): each["verdict"]
        for each in json.loads(call("check", "--format", "json").out)["findings"]
    }
    assert found == {
        ("DOOR-01", "p1"): "drifts",
        ("DOOR-01", "p2"): "drifts",
        ("DOOR-01", "p5"): "loose",
        ("SIGN-03", "p2"): "drifts",
        ("SIGN-03", "p4"): "unknown",
    }
    assert "settings.csv:3" in call("why", "ada@northmere.example", "door.waiting-room").out


def test_every_call_on_the_demo_s_page_is_tried() -> None:
    """By test_golden, which compares its output, or as an example of a verb's help."""
    found = set(re.findall(r"`usher-gate ([^`]+)`", (DOCS / "demo.md").read_text()))
    assert found <= {*map(called, CALLS), *(line.removeprefix("usher-gate ") for line in examples())}


def _printed(line: str) -> str:
    """What a call of a page prints, as far as its `| head -N` or `| tail -N` lets it; nothing for another program."""
    words, _, part = line.partition(" | ")
    name, *arguments = shlex.split(words)
    if name != "usher-gate" or arguments == ["demo", ">", "/dev/null"]:
        return ""
    lines = call(*(word for word in arguments if word not in (">", "/dev/null"))).out.splitlines()
    if ">" in arguments:
        return ""
    end, _, number = part.partition(" -")
    lines = {"head": lines[: int(number or 0)], "tail": lines[-int(number or 0) :], "": lines}[end]
    return "".join(f"{text}\n" for text in lines)


def replayed(page: Path) -> str:
    """A page with what its calls print now, each made after the one before."""

    def block(found: re.Match[str]) -> str:
        calls = re.findall(r"^\$ (.*)", found[1], re.MULTILINE)
        if not any(line.startswith("usher-gate ") for line in calls):
            return found[0]
        return "```console\n" + "".join(f"$ {line}\n{_printed(line)}" for line in calls) + "```"

    with mock.patch.dict(os.environ, COLUMNS="100"):
        return re.sub(r"```console\n(.*?)```", block, page.read_text(), flags=re.DOTALL)


@pytest.mark.parametrize(("page", "most"), [("README.md", 120), ("docs/tour.md", 250)])
def test_a_page_shows_what_its_calls_print(page: str, most: int, demo: Path, demo_history: Path) -> None:
    """Where it does not: python -m tests.cli.test_docs"""
    shutil.copy(demo_history, demo)
    text = (DOCS.parent / page).read_text()
    assert replayed(DOCS.parent / page) == text
    assert text.count("\n") <= most and text.count("$ usher-gate") >= 3


@pytest.mark.parametrize("page", sorted([*DOCS.glob("*.md"), DOCS.parent / "README.md"]), ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for link in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        assert (page.parent / link).exists(), link


if __name__ == "__main__":
    for written in (DOCS.parent / "README.md", DOCS / "tour.md"):
        with tempfile.TemporaryDirectory() as temporary, contextlib.chdir(temporary):
            call("demo")
            os.chdir("northmere")
            written.write_text(replayed(written))
