"""The pages keep their word: the organisation described by hand gives the answer that its page tells."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path

import pytest

from tests.cli.test_verbs import examples
from tests.program import call

DOCS = Path(__file__).resolve().parents[2] / "docs"


def test_the_organisation_of_five_gives_the_answer_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
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
    assert done.out.startswith("2 of 5 people drift")
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


def demo_calls() -> list[str]:
    """Every call that the page about the demo gives; those that are examples of a verb's help as well are tried there."""
    found = set(re.findall(r"`usher-gate ([^`]+)`", (DOCS / "demo.md").read_text()))
    return sorted(found - {line.removeprefix("usher-gate ") for line in examples()})


@pytest.mark.parametrize("line", demo_calls())
def test_every_call_on_the_demo_s_page_shows_something(
    demo: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch, line: str
) -> None:
    if line == "gather":
        monkeypatch.chdir(demo / "practice")
        assert call("gather").status == 0
        return
    if line.split()[0] in ("history", "report"):
        shutil.copy(request.getfixturevalue("demo_history"), demo)
    done = call(*line.split())
    if line == "report":
        assert (done.status, done.out) == (0, "") and (demo / "report.html").stat().st_size > 100_000
        return
    assert done.status in (0, 1, 3), done.err
    assert len(done.out.splitlines()) > 3


@pytest.mark.parametrize("page", sorted([*DOCS.glob("*.md"), DOCS.parent / "README.md"]), ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for link in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        assert (page.parent / link).exists(), link
