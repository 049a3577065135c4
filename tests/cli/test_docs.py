"""The pages keep their word: the organisation described by hand gives the answer that its page shows."""

from __future__ import annotations

import json
import re
from pathlib import Path

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


def test_every_call_on_the_demo_s_page_is_tried() -> None:
    """By test_golden, which compares its output, or as an example of a verb's help."""
    found = set(re.findall(r"`usher-gate ([^`]+)`", (DOCS / "demo.md").read_text()))
    assert found <= {*map(called, CALLS), *(line.removeprefix("usher-gate ") for line in examples())}


@pytest.mark.parametrize("page", sorted([*DOCS.glob("*.md"), DOCS.parent / "README.md"]), ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for link in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        assert (page.parent / link).exists(), link
