"""The starter baselines that ship with the package: plain baseline files, to be copied and changed."""

from __future__ import annotations

import re
from pathlib import Path

STRENGTHS = ("every-organisation", "high-assurance")


def starter_path(strength: str) -> Path:
    """Return the path of a starter baseline."""
    return Path(__file__).parent / f"{strength}.yaml"


def starter_text(strength: str) -> str:
    """Return the text of a starter baseline."""
    return starter_path(strength).read_text("utf-8")


def keep_rules(text: str, wanted: frozenset[str]) -> str:
    """Return the text of a baseline with only the rules of these ids; comments and order stay."""
    head, *rules = re.split(r"(?m)^(?=  - id: )", text)
    return head + "".join(rule for rule in rules if rule.split("\n", 1)[0].removeprefix("  - id: ").strip() in wanted)
