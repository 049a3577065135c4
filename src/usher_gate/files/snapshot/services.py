"""services.yaml: each service's own way of resolving settings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from ...core.organisation.columns import HOUR
from ...core.organisation.services import DoorKeys, Need, Service
from ...core.organisation.snapshot import Snapshot
from ...core.words.catalogue import Catalogue
from ...core.words.faults import Faults, nearest, quoted
from ...core.words.values import BadValue
from ...core.words.vocabulary import DOOR_WAYS, LEVELS, MEETING_KINDS
from ..faults import stop_if_any
from ..yamltree import Fields, YamlNode, once_each, read_yaml
from .selectors import read_selector

_OPTIONAL = (
    "title",
    "accounts",
    "precedence",
    "settle-hours",
    "supports",
    "factory",
    "self-service",
    "needs",
    "door",
    "pins",
    "batch",
)


def read_services(path: Path, snapshot: Snapshot, faults: Faults) -> tuple[Service, ...] | None:
    """Return the services, sorted by id; None where the file does not exist (or, with faults, cannot be used)."""
    if not path.exists():
        return None
    top = read_yaml(path, str(path), "services/1", faults)
    if top is None:
        return None
    fields = top.fields(("usher-gate", "services"))
    items = fields.nodes("services")
    return once_each(items, "service", lambda item: _read_service(item, snapshot), "keep one")


def ids_of(path: Path) -> set[str]:
    """Return the services that a file names, and nothing more of it; none where it does not exist. Raises BadInput."""
    faults = Faults()
    top = read_yaml(path, str(path), "services/1", faults) if path.exists() else None
    fields = top.fields(("usher-gate", "services")) if top is not None else Fields()
    items = fields.nodes("services")
    ids = [item.entries()["id"].text("an id") for item in items if item.is_mapping and "id" in item.entries()]
    stop_if_any(faults)
    return {name for name in ids if name}


def _read_service(item: YamlNode, snapshot: Snapshot) -> Service | None:
    """Read one service, with service defaults for what is left out."""
    fields = item.fields(("id",), _OPTIONAL)
    name = fields.text("id", "an id")
    if name is None:
        return None
    catalogue = snapshot.catalogue
    title = fields.text("title", "a title", default=name)
    everything = frozenset(catalogue.index)
    supports = fields.read("supports", lambda node: _patterns(node, catalogue), everything)
    factory = fields.mapping("factory")
    settle = fields.number("settle-hours", default=24.0)
    return Service(
        id=name,
        title=title or name,
        accounts=fields.read("accounts", lambda node: read_selector(node, snapshot), None),
        precedence=fields.read("precedence", _precedence, LEVELS),
        settle=round((settle or 0.0) * HOUR),
        controls=supports,
        factory=_factory(factory, catalogue),
        self_service=fields.read("self-service", lambda node: _patterns(node, catalogue), None),
        needs=fields.read("needs", lambda node: _needs(node, catalogue), {}),
        door=fields.read("door", _door, None),
        pins=fields["pins"].truth() is not False if "pins" in fields else True,
        batch=fields.whole("batch", 1),
        factory_lines={control: value.key_line for control, value in factory.items()},
    )


def _door(place: YamlNode) -> DoorKeys:
    fields = place.fields((), ("kinds", "ways", "asks-callers"))
    kinds, ways = (
        tuple(word for item in fields[key].items(1) if (word := item.choice(words)) is not None)
        if key in fields
        else None
        for key, words in (("kinds", MEETING_KINDS), ("ways", DOOR_WAYS))
    )
    return DoorKeys(kinds, ways, "asks-callers" in fields and fields["asks-callers"].truth() is True)


def _precedence(place: YamlNode) -> tuple[str, ...]:
    levels = place.texts("a level", 1)
    for item, found in zip(place.items(), levels, strict=False):
        if found not in LEVELS:
            item.fault(f"{quoted(found)} is no level; {nearest(found, LEVELS)}")
    if len(set(levels)) < len(levels):
        place.fault("a level occurs here twice; write each once, the widest first")
    if levels and levels[0] != "organisation":
        place.fault(f"{quoted(levels[0])} is first; organisation is always the widest, so write it first")
    return tuple(found for found in levels if found in LEVELS)


def _pattern(text: str, place: YamlNode, catalogue: Catalogue, line: int | None = None) -> frozenset[str]:
    found = catalogue.matching(text)
    if not found and text.endswith("*"):
        areas = {f"{control.rpartition('.')[0]}.*" for control in catalogue.index}
        place.faults.note(
            f"{place.file_name}:{line or place.line}: no control begins with {quoted(text)}; {nearest(text, areas)}"
        )
    elif not found:
        place.faults.add(
            place.file,
            line or place.line,
            f"{place.path}: no such control: {quoted(text)}; {nearest(text, catalogue.index)}",
        )
    return found


def _patterns(place: YamlNode, catalogue: Catalogue) -> frozenset[str]:
    found: Iterable[frozenset[str]] = [
        _pattern(text, item, catalogue) for item in place.items() if (text := item.text("a control")) is not None
    ]
    return frozenset().union(*found)


def read_value(place: YamlNode, control: str, catalogue: Catalogue) -> str | None:
    """Return a value of a control, in its canonical text; a set may also be written as a list."""
    kind = catalogue.index[control].kind
    text = ";".join(place.texts()) if place.is_list and kind.name == "set" else place.value(f"a value of {control}")
    if text is None:
        return None
    try:
        return kind.parse(text)
    except BadValue as right:
        place.fault(f"{quoted(text)} is no value of {control}; write {right}")
        return None


def _factory(entries: Mapping[str, YamlNode], catalogue: Catalogue) -> dict[str, str]:
    found = {}
    for control, value in entries.items():
        if control not in catalogue.index:
            value.faults.add(
                value.file,
                value.key_line,
                f"{value.path}: no such control: {quoted(control)}; {nearest(control, catalogue.index)}",
            )
            continue
        text = read_value(value, control, catalogue)
        if text is not None:
            found[control] = text
    return found


def _needs(place: YamlNode, catalogue: Catalogue) -> dict[str, Need]:
    """Return for each control that needs a licence, the key that counts: the id itself, else the longest star."""
    needs: dict[str, Need] = {}
    for pattern, entry in place.entries().items():
        controls = _pattern(pattern, entry, catalogue, entry.key_line)
        fields = entry.fields(("licences",), ("without",))
        licences = frozenset(fields["licences"].texts("a licence", 1)) if "licences" in fields else frozenset()
        for control in controls:
            without = read_value(fields["without"], control, catalogue) if "without" in fields else None
            before = needs.get(control)
            if (
                before is None
                or pattern == control
                or (before.pattern != control and len(pattern) > len(before.pattern))
            ):
                needs[control] = Need(pattern, licences, without)
    return needs
