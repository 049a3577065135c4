"""Names lines of the documentation over 120 characters; tables and lines with a link are excepted."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
LONGEST = 120


def long_lines(text: str) -> Iterator[tuple[int, int]]:
    """Yield the number and the length of each line that is too long."""
    for number, line in enumerate(text.splitlines(), 1):
        if len(line) > LONGEST and not line.startswith("|") and "](" not in line and "://" not in line:
            yield number, len(line)


def main() -> int:
    """Print them; return 1 if there are any."""
    names = subprocess.run(["git", "ls-files", "*.md"], cwd=ROOT, check=True, capture_output=True, text=True).stdout
    found = [
        f"{name}:{number}: {length} characters; at most {LONGEST}"
        for name in names.split()
        for number, length in long_lines((ROOT / name).read_text("utf-8"))
    ]
    print("\n".join(found), end="\n" if found else "")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
