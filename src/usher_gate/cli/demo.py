"""Shows usher-gate at work on a made-up organisation: writes Northmere Ferries into a new folder and checks it.

Writes FOLDER (default: northmere) with a snapshot, a baseline, exceptions and usher-gate.toml."""

from __future__ import annotations

import argparse
import shutil
from pathlib import Path

from ..core.words.faults import quoted
from ..files.faults import UsherError
from ..files.written.workfolder import NAME, read_workfolder
from .common import add_output

TAKES = "[FOLDER]"
EXAMPLES = """examples:
  usher-gate demo
  usher-gate demo elsewhere --no-colour"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "folder",
        metavar="FOLDER",
        nargs="?",
        type=Path,
        default=Path("northmere"),
        help="the folder to write (default: northmere)",
    )
    parser.add_argument("--fresh", action="store_true", help="replace a demo that stands there already")
    add_output(parser, "check")


def run(arguments: argparse.Namespace) -> int:
    """Writes the demo, checks it, and says what to try next; the drift it shows is no failure of the demo."""
    from ..demo.write import write_demo
    from ..outputs.safe import for_terminal

    folder: Path = arguments.folder
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        if not (arguments.fresh and _is_demo(folder)):
            raise UsherError(
                f"{quoted(str(folder))} is there already; name a new folder{', or write --fresh' if _is_demo(folder) else ''}"
            )
        shutil.rmtree(folder)
    write_demo(folder)
    _check(folder, arguments)
    shown = for_terminal(str(folder))
    print(
        f"\nThis was 'usher-gate check' in the new folder {shown}. Try next: cd {shown} && usher-gate why "
        "asta.brandt@northmere.example door.waiting-room"
    )
    return 0


def _is_demo(folder: Path) -> bool:
    from ..demo.state import TOML

    toml = folder / NAME
    return (
        toml.is_file() and toml.read_text("utf-8", "replace") == TOML and (folder / "snapshot" / "people.csv").is_file()
    )


def _check(folder: Path, arguments: argparse.Namespace) -> None:
    from . import check
    from .parser import Parser

    parser = Parser("check", check.__doc__, check.EXAMPLES)
    check.add_arguments(parser)
    where = read_workfolder(folder)
    options = [f"--{name}={getattr(where, name)}" for name in ("snapshot", "baseline", "exceptions")]
    options += ["--format", arguments.format] + (["--no-colour"] if arguments.no_colour else [])
    options += ["--out", str(arguments.out)] if arguments.out else []
    check.run(parser.parse_args(options))
