"""Draws identifiers and comments of the program at random, to be read by someone who does not see the code.

The same seed draws the same ones. What cannot be understood alone is to be renamed or reworded (CONTRIBUTING.md).
"""

from __future__ import annotations

import argparse
import ast
import io
import sys
import tokenize
from collections.abc import Iterator
from pathlib import Path
from random import Random

SRC = Path(__file__).resolve().parent.parent / "src" / "usher_gate"


def identifiers(path: Path) -> Iterator[str]:
    """Yield each class, function, parameter and assigned name of a module once."""
    names: dict[str, None] = {}
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.ClassDef | ast.FunctionDef):
            names[node.name] = None
        elif isinstance(node, ast.arg):
            names[node.arg] = None
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            names[node.id] = None
    yield from (name for name in names if not name.startswith("__") and len(name) > 1)


def comments(path: Path) -> Iterator[str]:
    """Yield each comment and the first line of each docstring of a module."""
    text = path.read_text("utf-8")
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        if token.type == tokenize.COMMENT and not token.string.startswith(("# fmt:", "# type:", "# noqa")):
            yield token.string.removeprefix("# ")
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef) and (said := ast.get_docstring(node)):
            yield said.splitlines()[0]


def main() -> int:
    """Print so many of each, with their files."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=1, metavar="S", help="which ones (default: 1)")
    parser.add_argument("--count", type=int, default=20, metavar="N", help="how many of each (default: 20)")
    arguments = parser.parse_args()
    random = Random(arguments.seed)
    for read in (identifiers, comments):
        every = [(path, found) for path in sorted(SRC.rglob("*.py")) for found in read(path)]
        print(f"{read.__name__}: {arguments.count} of {len(every):,}")
        for path, found in random.sample(every, arguments.count):
            print(f"  {path.relative_to(SRC)}: {found}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
