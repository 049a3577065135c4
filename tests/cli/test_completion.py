"""Completion in real shells, and the man page."""

from __future__ import annotations

import subprocess
from importlib.resources import files
from pathlib import Path

import pytest

from tests.program import call
from usher_gate.cli.completion import SHELLS
from usher_gate.cli.main import VERBS

FOLDER = Path(str(files("usher_gate").joinpath("completion")))


def shell(*words: str) -> str:
    done = subprocess.run(words, capture_output=True, text=True, check=True, timeout=60)
    assert not done.stderr, done.stderr
    return done.stdout


def bash(*words: str) -> list[str]:
    line = " ".join(words)
    script = f"source {FOLDER / 'usher-gate.bash'}; COMP_WORDS=({line}); COMP_CWORD={len(words) - 1}; _shtab_usher_gate usher-gate '{words[-1]}'; echo \"${{COMPREPLY[@]}}\""
    return shell("bash", "--norc", "-c", script).split()


@pytest.mark.parametrize("name", SHELLS)
def test_the_script_is_printed_and_written(tmp_path: Path, name: str) -> None:
    printed = call("completion", name)
    assert (printed.status, printed.out) == (0, (FOLDER / f"usher-gate.{name}").read_text())
    assert call("completion", name, "--out", tmp_path / "script").status == 0
    assert (tmp_path / "script").read_text() == printed.out
    assert call("completion", "csh").status == 2


def test_bash_completes_verbs_and_options() -> None:
    assert bash("usher-gate", "me") == ["mend"]
    assert bash("usher-gate", "mend", "--tur") == ["--turn-away"]
    assert set(bash("usher-gate", "check", "--format", "o")) == {"oscal", "ocsf", "openmetrics"}
    assert set(VERBS) <= set(bash("usher-gate", "''")) | {*bash("usher-gate", "c"), *bash("usher-gate", "")}


def test_fish_completes_verbs_and_options() -> None:
    def fish(line: str) -> set[str]:
        shown = shell("fish", "--no-config", "-c", f"source {FOLDER / 'usher-gate.fish'}; complete -C '{line}'")
        return {row.split("\t")[0] for row in shown.splitlines()}

    assert set(VERBS) <= fish("usher-gate ")
    assert "--state" in fish("usher-gate guests --st")


def test_zsh_takes_the_script() -> None:
    assert shell("zsh", "-n", str(FOLDER / "usher-gate.zsh")) == ""


def test_the_man_page_names_every_verb() -> None:
    text = (FOLDER / "usher-gate.1").read_text()
    for verb in VERBS:
        assert verb.replace("-", "\\-") in text
    assert not [line for line in text.splitlines() if line.startswith("'")]
