"""Controls from data: the catalogue that ships with the package, and an organisation's own."""

from __future__ import annotations

import json
import re
from functools import cache
from pathlib import Path
from typing import Any

from ...core.words import catalogue as shipped
from ...core.words.catalogue import Catalogue, Contradiction, Control
from ...core.words.faults import quoted
from ...core.words.values import TEXT, WORD_SET, Kind, flag, level, number
from ..yamltree import YamlNode

_ID = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*", re.ASCII)
KIND_NAMES = ("flag", "level", "number", "set")


def _kind(entry: dict[str, Any]) -> Kind:
    if entry["kind"] == "flag":
        return flag(entry["strict"])
    if entry["kind"] == "level":
        return level(*entry["values"])
    return number(entry["strict"]) if entry["kind"] == "number" else WORD_SET


@cache
def shipped_catalogue() -> Catalogue:
    """Return the catalogue that ships with the package."""
    data = json.loads((Path(shipped.__file__).parent / "controls.json").read_text("utf-8"))
    controls = tuple(
        Control(
            id=entry["id"],
            title=entry["title"],
            kind=_kind(entry),
            weak=entry["weak"],
            about=entry["about"],
            meanings=entry.get("meanings", {}),
        )
        for entry in data["controls"]
    )
    contradictions = tuple(
        Contradiction(
            (entry["first"][0], tuple(entry["first"][1])),
            (entry["second"][0], tuple(entry["second"][1])),
            entry["because"],
        )
        for entry in data["contradictions"]
    )
    return Catalogue(controls, contradictions)


def read_controls(place: YamlNode, catalogue: Catalogue) -> Catalogue:
    """Return the catalogue with an organisation's own controls added."""
    own: dict[str, Control] = {}
    for item in place.items():
        control = _read_control(item)
        if control is None:  # named once: whatever speaks of it is not held to it
            name = item.entries()["id"].raw if item.is_mapping and "id" in item.entries() else None
            if name and name not in catalogue.index:
                own.setdefault(name, Control(id=name, title=name, kind=TEXT, weak="", own=True))
            continue
        if control.id in catalogue.index:
            item.fault(f"{quoted(control.id)} is a control of the catalogue; give your own another id")
        elif control.id in own:
            item.fault(f"the control {quoted(control.id)} occurs here twice; keep one")
        else:
            own[control.id] = control
    return catalogue.with_own(own.values())


def _read_control(item: YamlNode) -> Control | None:
    fields = item.fields(("id", "title", "kind"), ("strict", "values", "weak"))
    if not {"id", "title", "kind"} <= fields.keys():
        return None
    name, title, kind = fields["id"].text("an id"), fields["title"].text("a title"), fields["kind"].choice(KIND_NAMES)
    weak = fields.text("weak", "a sentence", default="")
    if name is not None and not _ID.fullmatch(name):
        fields["id"].fault(f"{quoted(name)} is no id; write letters, digits, dots and dashes, such as dock.camera")
        return None
    made = _read_kind(item, kind, fields) if kind is not None else None
    return Control(id=name, title=title, kind=made, weak=weak or "", own=True) if name and title and made else None


def _read_kind(item: YamlNode, kind: str, fields: dict[str, YamlNode]) -> Kind | None:
    """Read the kind of values that a control has; None after reporting a fault."""
    wants = {"flag": "strict", "number": "strict", "level": "values", "set": ""}[kind]
    for key in ("strict", "values"):
        if key in fields and key != wants:
            fields[key].fault(f"a {kind} has no {key}; leave it out")
    if not wants:
        return WORD_SET
    if wants not in fields:
        item.fault(f"the key {wants} is missing; a {kind} needs it")
        return None
    if kind == "level":
        words = fields["values"].texts("a word", 2)
        if len(set(words)) < len(words):
            fields["values"].fault("a word occurs here twice; write each once, the weakest first")
        return level(*words) if len(words) >= 2 else None
    strict = fields["strict"].choice(("on", "off") if kind == "flag" else ("higher", "lower"))
    if strict is None:
        return None
    return flag(strict) if kind == "flag" else number(strict)
