"""A Matplotlib figure as a piece of a page.

No styles of its own, ids that nothing else has, colours that the page decides.

Under a strict content security policy a page may have no style attributes; so each becomes the presentation attribute
of the same name (SVG 2, section 6.6), and the colours that the page knows become its classes, which also makes the
figure fit a dark page.
"""

from __future__ import annotations

import io
import re
from collections.abc import Mapping
from typing import Any
from xml.etree import ElementTree

_SVG, _LINK = "http://www.w3.org/2000/svg", "http://www.w3.org/1999/xlink"
_COLOURED = ("fill", "stroke")
_POINTS = re.compile(r"^(\d+(?:\.\d+)?)pt$")


def page_svg(figure: Any, name: str, title: str, colours: Mapping[str, str]) -> str:
    """Return a figure as SVG for the inside of a page.

    `name` begins its ids, `title` says what it shows, `colours` names a class for each colour (as #rrggbb) that is the
    page's to choose.
    """
    written = io.StringIO()
    figure.savefig(written, format="svg", metadata={"Date": None, "Creator": None}, transparent=True)
    ElementTree.register_namespace("", _SVG)
    root = ElementTree.fromstring(written.getvalue())
    for parent in root.iter():
        for child in list(parent):
            if child.tag in (f"{{{_SVG}}}metadata", f"{{{_SVG}}}style"):
                parent.remove(child)
    for element in root.iter():
        _plain(element, name, colours)
    width, height = (float(_POINTS.sub(r"\1", root.attrib.pop(key))) for key in ("width", "height"))
    root.attrib.pop("version", None)
    root.set("viewBox", f"0 0 {width:g} {height:g}")
    root.set("role", "img")
    root.set("stroke-linejoin", "round")
    root.set("aria-label", title)
    return ElementTree.tostring(root, encoding="unicode")


def _plain(element: ElementTree.Element, name: str, colours: Mapping[str, str]) -> None:
    """Styles as attributes, colours as classes, ids and what points to them with the figure's name before them."""
    for part in element.attrib.pop("style", "").split(";"):
        key, colon, value = part.partition(":")
        if colon:
            element.set(key.strip(), value.strip())
    for key in _COLOURED:
        word = colours.get(element.get(key, "").lower())
        if word is not None:
            element.attrib.pop(key)
            element.set("class", " ".join(filter(None, (element.get("class"), f"{key}-{word}"))))
    if "id" in element.attrib:
        element.set("id", f"{name}-{element.attrib['id']}")
    link = element.attrib.pop(f"{{{_LINK}}}href", None) or element.get("href")
    if link is not None and link.startswith("#"):
        element.set("href", f"#{name}-{link[1:]}")
    clip = element.get("clip-path", "")
    if clip.startswith("url(#"):
        element.set("clip-path", f"url(#{name}-{clip[5:]}")
