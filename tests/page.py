"""A page as its texts and elements."""

from __future__ import annotations

from html.parser import HTMLParser


class Page(HTMLParser):
    """Reads a page."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.texts, self.tags = list[str](), set[str]()
        self._inside = ""
        self.feed(text)

    def handle_starttag(self, tag: str, _attributes: list[tuple[str, str | None]]) -> None:
        self.tags.add(tag)
        self._inside = tag

    def handle_data(self, data: str) -> None:
        if self._inside not in ("script", "style") and data.strip():
            self.texts.append(data)
