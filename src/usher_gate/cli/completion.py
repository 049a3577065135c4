"""Prints a script that completes verbs, options and files at the shell's prompt, without starting Python.

Reads nothing; writes the script to standard output or --out. A man page is beside the scripts in the package.
Places: bash: ~/.local/share/bash-completion/completions/usher-gate; zsh: _usher-gate in a folder of $fpath;
fish: ~/.config/fish/completions/usher-gate.fish"""

from __future__ import annotations

import argparse
from pathlib import Path

SHELLS = ("bash", "zsh", "fish")
TAKES = "SHELL"
EXAMPLES = """examples:
  usher-gate completion bash --out usher-gate.bash
  usher-gate completion fish"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument("shell", choices=SHELLS, metavar="SHELL", help=f"one of {', '.join(SHELLS)}")
    parser.add_argument("--out", type=Path, metavar="FILE", help="write to a file, whole or not at all")


def run(arguments: argparse.Namespace) -> int:
    """Prints the script of the shell that is named, as it ships with the package."""
    from importlib.resources import files

    from .common import output

    with output(arguments) as stream:
        stream.write(files("usher_gate").joinpath("completion", f"usher-gate.{arguments.shell}").read_text("utf-8"))
    return 0
