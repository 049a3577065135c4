"""Every section of the specification that code, tests and tools cite exists."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parent.parent
SPECIFICATION = ROOT / "docs" / "specification"
_NUMBERS = r"\d+(?:\.\d+)*"
_CITATION = re.compile(rf"Spec:\s+([a-z-]+)\s+({_NUMBERS}(?:(?:,| and| to)\s+{_NUMBERS})*)")


def sections() -> dict[str, set[str]]:
    """Return the numbers of the headings by page; of a page without any the numbers of its items."""
    found = {}
    for page in SPECIFICATION.glob("*.md"):
        text = page.read_text("utf-8")
        numbers = re.findall(rf"(?m)^#+ ({_NUMBERS})\.? ", text) or re.findall(r"(?m)^(\d+)\. ", text)
        assert len(numbers) == len(set(numbers)), f"{page.name}: two sections of one number"
        found[page.stem] = set(numbers)
    return found


def citations(text: str) -> Iterator[tuple[str, str]]:
    for page, cited in _CITATION.findall(text):
        yield from ((page, number) for number in re.findall(_NUMBERS, cited))


def test_every_section_that_is_cited_exists() -> None:
    known = sections()
    wrong, count = [], 0
    for folder in ("src", "tests", "tools"):
        for path in (ROOT / folder).rglob("*.py"):
            text = path.read_text("utf-8")
            assert len(_CITATION.findall(text)) == text.count("Spec: ") - text.count('"Spec: ') or path == Path(
                __file__
            )
            for page, number in citations(text):
                count += 1
                if number not in known.get(page, ()):
                    wrong.append(f"{path.relative_to(ROOT)}: {page} {number}")
    assert not wrong
    assert count > 50


@pytest.mark.parametrize("path", sorted(SPECIFICATION.glob("*.md")), ids=lambda path: path.stem)
def test_links_and_sections_that_pages_name_exist(path: Path) -> None:
    known = sections()
    for name, number in re.findall(rf"\[([a-z-]+)\]\(\1\.md\)(?: ({_NUMBERS}))?", path.read_text("utf-8")):
        assert name in known, f"{path.name}: {name}.md"
        assert not number or number in known[name], f"{path.name}: {name} {number}"
