"""Selectors as they stand in YAML, checked against what the snapshot knows."""

from __future__ import annotations

from ...core.organisation.build.checks import unit_fault
from ...core.organisation.select import find_group
from ...core.organisation.selector import KEYS, Selector
from ...core.organisation.snapshot import Snapshot
from ...core.words.faults import nearest, nearest_key, quoted
from ...core.words.plural import truth_word
from ...core.words.vocabulary import PERSON_KINDS
from ..yamltree import YamlNode

EVERYBODY = Selector("any", ("true",))


SELECTOR_KEYS = (*KEYS, "any", "any-of", "all-of", "not", "break-glass")


def read_selector(place: YamlNode, snapshot: Snapshot | None) -> Selector | None:
    """Return a selector; None, with faults, where it is none.

    Without a snapshot, groups and units are taken as they come.
    """
    entries = place.entries("a selector", SELECTOR_KEYS)
    if not place.is_mapping:
        return None
    if not entries:
        place.fault("an empty selector chooses no one; write any: true for everyone")
        return None
    parts = [_part(key, entry, snapshot) for key, entry in entries.items()]
    if any(part is None for part in parts):
        return None
    good = [part for part in parts if part is not None]
    return good[0] if len(good) == 1 else Selector("all-of", (), tuple(good))


def _part(key: str, place: YamlNode, snapshot: Snapshot | None) -> Selector | None:
    """Read one key of a selector; None after reporting a fault."""
    if key in ("any-of", "all-of"):
        parts = [read_selector(item, snapshot) for item in place.items(1)]
        good = tuple(part for part in parts if part is not None)
        return Selector(key, (), good) if good and len(good) == len(parts) else None
    if key == "not":
        part = read_selector(place, snapshot)
        return None if part is None else Selector("not", (), (part,))
    if key == "any":
        if place.truth() is False:
            place.fault("any: false chooses no one; write any: true, or another key")
            return None
        return EVERYBODY
    if key == "break-glass":
        truth = place.truth()
        return None if truth is None else Selector(key, (truth_word(truth),))
    if key not in KEYS and not (key.startswith("attr.") and len(key) > 5):
        right = nearest_key(key, (*KEYS, "attr.NAME"))
        place.faults.add(place.file, place.key_line, f"{place.path}: unknown key {quoted(key)}; {right}")
        return None
    values = _values(key, place)
    if not values:
        return None
    checked = [_check(key, value, place, snapshot) for value in values]
    return Selector(key, tuple(sorted(set(values)))) if all(checked) else None


def _values(key: str, place: YamlNode) -> tuple[str, ...]:
    if key.startswith("attr."):  # texts of any look
        found = [item.value() for item in place.items(1)] if place.is_list else [place.value()]
        return tuple(value for value in found if value is not None)
    return place.one_or_more()


def _check(key: str, value: str, place: YamlNode, snapshot: Snapshot | None) -> bool:
    """Return whether a selector's value names something that can exist; a fault is reported where it does not."""
    if key == "kind" and value not in PERSON_KINDS:
        place.fault(f"{quoted(value)} is no kind of person; {nearest(value, PERSON_KINDS)}")
        return False
    if key == "unit":
        wrong = unit_fault(value)
        if wrong is not None:
            place.fault(wrong)
            return False
        if snapshot is not None and snapshot.units is not None and value not in snapshot.unit_paths:
            place.faults.note(
                f"{place.file_name}:{place.line}: no one is in the unit {quoted(value)}; it chooses no one"
            )
    if key == "group" and snapshot is not None and snapshot.group_names_known:
        try:
            find_group(value, snapshot)
        except KeyError as error:
            place.fault(_group_fault(str(error.args[0]), snapshot))
            return False
    return True


def _group_fault(text: str, snapshot: Snapshot) -> str:
    names = [name for name in snapshot.group_titles if name is not None]
    if names.count(text) > 1:
        return f"{names.count(text)} groups have the name {quoted(text)}; write the id of the one that is meant"
    return f"there is no group {quoted(text)}; {nearest(text, [*snapshot.group_index, *names])}"


def service_ids(snapshot: Snapshot | None) -> list[str] | None:
    """Return the services that there are; None where that is not known."""
    return None if snapshot is None or snapshot.services is None else [service.id for service in snapshot.services]
