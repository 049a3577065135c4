"""A file of changes: what is going to be made, in order, checked against the snapshot that it is for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...core.changes.model import (
    Change,
    Changes,
    ChosenPeople,
    Members,
    PartnerFlags,
    PeopleChange,
    RegisterChange,
    Rules,
    SecondFactor,
    Set,
    Unset,
)
from ...core.organisation.access_rules import AccessRule
from ...core.organisation.build.settings import SCOPE_KINDS
from ...core.organisation.build.table import Table
from ...core.organisation.partners import HOME_FACTOR, HOME_FACTORS, PARTNER_COLUMNS
from ...core.organisation.proofs import TYPES
from ...core.organisation.snapshot import Snapshot
from ...core.words.faults import Faults, nearest, nearest_key, quoted
from ...core.words.plural import truth_word
from ...core.words.times import parse_time
from ...core.words.values import BadValue
from ...core.words.vocabulary import MFA_WORDS, MODES, PROTECTION_WORDS
from ..faults import BadInput, stop_if_any
from ..snapshot.access_rules import read_access_rule, read_access_rules
from ..snapshot.selectors import SELECTOR_KEYS, read_selector
from ..yamltree import YamlNode, read_yaml

MOST = 100_000  # changes in one file
_KINDS = (
    "set",
    "unset",
    "people",
    "register",
    "members",
    "partner",
    "access-rule",
    "access-rules",
    "second-factor-default",
)
_WORDS = {"mfa": MFA_WORDS, "protection": PROTECTION_WORDS}
_LISTS = ("licences", "roles")


@dataclass
class _Known:
    """Describes what changes may speak of, and the access rules as they are after those read so far."""

    snapshot: Snapshot
    people: frozenset[str]
    folder: Path
    rules: tuple[AccessRule, ...] | None


def read_changes(path: Path, snapshot: Snapshot, tables: Mapping[str, Table], faults: Faults) -> Changes:
    """Return a file of changes; raises BadInput with every fault."""
    top = read_yaml(path, str(path), "changes/1", faults)
    if top is None:
        raise BadInput(faults.found)
    fields = top.fields(("usher-gate", "title", "changes"), ("from",))
    title = fields.text("title", "a title")
    start = fields.time("from")
    every = np.arange(tables["people"].rows)
    ids, logins = (tables["people"].columns[name].texts().take(every) for name in ("id", "login"))
    known = _Known(
        snapshot, frozenset(ids) | {login.casefold() for login in logins}, path.parent, snapshot.access_rules
    )
    items = fields.nodes("changes")
    if "changes" in fields and not items and not faults.found:
        faults.note(f"{path}: changes is empty, so nothing is changed")
    if len(items) > MOST:
        fields["changes"].fault(f"holds {len(items):,} changes; a file holds at most {MOST:,}")
        items = []
    read = [(item, _change(item, known)) for item in items]
    stop_if_any(faults)
    made = [(change, item.line) for item, change in read if change is not None]
    return Changes(title or "", start, tuple(change for change, _ in made), tuple(line for _, line in made))


def _change(item: YamlNode, known: _Known) -> Change | None:
    """Read one change by the key that names its kind; None after reporting a fault."""
    entries = item.entries("a change", _KINDS)
    if not item.is_mapping:
        return None
    if len(entries) != 1 or next(iter(entries)) not in _KINDS:
        wrong = next((key for key in entries if key not in _KINDS), None)
        hint = nearest_key(wrong, _KINDS) if wrong else "write one change an entry"
        item.fault(f"a change has one key, which says what is changed; {hint}")
        return None
    kind, place = next(iter(entries.items()))
    readers: Mapping[str, Callable[[YamlNode, _Known], Change | None]] = {
        "set": _set,
        "unset": _unset,
        "people": _people,
        "register": _register,
        "members": _members,
        "partner": _partner,
        "access-rule": _access_rule,
        "access-rules": _access_rules,
        "second-factor-default": _second_factor,
    }
    return readers[kind](place, known)


def _place(fields: Mapping[str, YamlNode], known: _Known) -> tuple[str, str, str] | None:
    found = [fields[key].text() if key in fields else None for key in ("service", "control", "scope")]
    service, control, scope = found
    catalogue = known.snapshot.catalogue
    if control is not None and control not in catalogue.index:
        fields["control"].fault(f"there is no control {quoted(control)}; {nearest(control, catalogue.index)}")
        return None
    if scope is not None:
        kind, colon, name = scope.partition(":")
        if kind not in SCOPE_KINDS or (kind == "organisation") == bool(colon) or (colon and not name):
            right = "organisation, unit:/PATH, group:ID, person:ID or meeting:ID"
            fields["scope"].fault(f"{quoted(scope)} is no scope; write {right}")
            return None
    return None if service is None or control is None or scope is None else (service, control, scope)


def _set(place: YamlNode, known: _Known) -> Change | None:
    fields = place.fields(("service", "control", "scope", "value"), ("pinned", "rank"))
    found = _place(fields, known)
    if found is None or "value" not in fields:
        return None
    kind = known.snapshot.catalogue.index[found[1]].kind
    cell = fields["value"]
    text = ";".join(cell.texts()) if kind.name == "set" and cell.is_list else cell.value()
    pinned = fields.truth("pinned")
    rank = fields.whole("rank")
    try:
        return None if text is None else Set(*found, kind.parse(text), pinned, rank)
    except BadValue as right:
        cell.fault(f"{quoted(text or '')} is no value of {found[1]}; write {right}")
        return None


def _unset(place: YamlNode, known: _Known) -> Change | None:
    found = _place(place.fields(("service", "control", "scope")), known)
    return None if found is None else Unset(*found)


def _who(place: YamlNode, known: _Known) -> ChosenPeople | None:
    """Return a selector, which here may also say `person: ID or login, or a list`."""
    entries = place.entries("a selector", SELECTOR_KEYS)
    if not place.is_mapping:
        return None
    if not entries:
        place.fault("an empty selector chooses no one; write any: true for everyone")
        return None
    names = None
    if "person" in entries:
        names = entries.pop("person").one_or_more("an id or login")
        for name in names:
            if name not in known.people and name.casefold() not in known.people:
                place.fault(f"there is no person {quoted(name)}; write an id or a login")
                return None
        if not entries:
            return ChosenPeople(None, names)
    before = len(place.faults.found)
    selector = read_selector(place.without("person"), known.snapshot)
    return None if selector is None or len(place.faults.found) > before else ChosenPeople(selector, names)


def _people(place: YamlNode, known: _Known) -> Change | None:
    """Read a change of people's cells and lists; None after reporting a fault."""
    cells = ("mfa", "protection", "active", "expires_at", "reviewed_at", "sponsor")
    fields = place.fields(("who",), (*cells, *_LISTS))
    who = fields.read("who", lambda node: _who(node, known), None)
    if len(fields) < 2:
        place.fault(f"says nothing that changes; write one of {', '.join((*cells, *_LISTS))}")
    texts = {name: _cell(name, fields[name], known) for name in cells if name in fields}
    added, removed = {}, {}
    for name in _LISTS:
        if name in fields:
            lists = fields[name].fields((), ("add", "remove"))
            added[name] = lists.texts("add")
            removed[name] = lists.texts("remove")
    if who is None or None in texts.values():
        return None
    return PeopleChange(who, {name: text for name, text in texts.items() if text is not None}, added, removed)


def _cell(name: str, place: YamlNode, known: _Known) -> str | None:
    """Return the text of a cell; "" for null, which empties it."""
    if place.empty or place.raw in ("null", "~"):
        return ""
    if name in _WORDS:
        return place.choice(_WORDS[name])
    if name == "active":
        truth = place.truth()
        return None if truth is None else truth_word(truth)
    text = place.text("a day, or a time with an offset") if name != "sponsor" else place.text("an id or login")
    if text is None:
        return None
    if name == "sponsor":
        if text not in known.people and text.casefold() not in known.people:
            place.fault(f"there is no person {quoted(text)}; write an id or a login")
            return None
        return text
    if len(text) == 10 and parse_time(f"{text}T00:00:00Z") is not None:
        return f"{text}T00:00:00Z" if name == "reviewed_at" else f"{text}T23:59:59Z"
    if parse_time(text) is None:
        place.fault(
            f"{quoted(text)} is no day and no time with an offset; write it as 2026-11-20 or 2026-11-20T06:00:00Z"
        )
        return None
    return text


def _register(place: YamlNode, known: _Known) -> Change | None:
    fields = place.fields(("who", "type"), ("count",))
    who = fields.read("who", lambda node: _who(node, known), None)
    kind = fields.choice("type", tuple(TYPES))
    count = fields.whole("count", 1, default=1)
    return None if who is None or kind is None or count is None else RegisterChange(who, kind, count)


def _members(place: YamlNode, known: _Known) -> Change | None:
    """Read a change of a group's members; None after reporting a fault."""
    fields = place.fields(("group",), ("add", "remove"))
    group = fields.text("group", "a group")
    if group is not None and group not in known.snapshot.group_index:
        fields["group"].fault(f"there is no group {quoted(group)}; {nearest(group, known.snapshot.group_index)}")
        return None
    if len(fields) < 2:
        place.fault("says nothing that changes; write add or remove, with ids or logins of people, or group:ID")
    names: dict[str, tuple[str, ...]] = {"add": (), "remove": ()}
    for key in names:
        if key in fields:
            items = fields[key].items()
            if fields[key].is_list and not items:
                place.faults.note(f"{place.file_name}:{fields[key].line}: {key} is empty, so it does nothing")
            for item in items:
                name = item.text("a member")
                if name is not None and not _is_member(name, known):
                    item.fault(
                        f"there is no person {quoted(name)}; write an id or a login, or group:ID for a group that is "
                        "there"
                    )
                elif name is not None:
                    names[key] = (*names[key], name)
    return None if group is None else Members(group, names["add"], names["remove"])


def _is_member(name: str, known: _Known) -> bool:
    if name.startswith("group:"):
        return name.partition(":")[2] in known.snapshot.group_index
    return name in known.people or name.casefold() in known.people


def _partner(place: YamlNode, _known: _Known) -> Change | None:
    fields = place.fields(("domain",), (*PARTNER_COLUMNS, HOME_FACTOR))
    domain = fields.text("domain", "a domain")
    flags = {name: fields[name].truth() for name in PARTNER_COLUMNS if name in fields}
    factor = fields[HOME_FACTOR].choice(HOME_FACTORS) if HOME_FACTOR in fields else ""
    if not flags and factor == "":
        place.fault(f"says nothing that changes; write one of {', '.join((*PARTNER_COLUMNS, HOME_FACTOR))}")
    if domain is not None and domain != "*" and domain.startswith(("@", "*", ".")):
        fields["domain"].fault(f"{quoted(domain)} is no domain; write {quoted(domain.lstrip('@*.'))}")
        return None
    if domain is None or None in flags.values() or factor is None:
        return None
    cells = {name: "true" if flag else "false" for name, flag in flags.items()}
    return PartnerFlags(domain, cells | ({HOME_FACTOR: factor} if factor else {}))


def _rules(place: YamlNode, known: _Known) -> tuple[AccessRule, ...] | None:
    if known.rules is None:
        place.fault("the snapshot has no access-rules.yaml; write access_rules: FILE first")
    return known.rules


def _access_rule(place: YamlNode, known: _Known) -> Change | None:
    """Read a change of one access rule: its mode, a whole new rule, or its removal; None after reporting a fault."""
    fields = place.fields((), ("id", "mode", "put", "drop"))
    rules = _rules(place, known)
    if rules is None:
        return None
    ids = [rule.id for rule in rules]
    if set(fields) == {"id", "mode"}:
        name, mode = fields["id"].text("an id"), fields["mode"].choice(MODES)
        if name is None or mode is None or not _is_rule(fields["id"], name, ids):
            return None
        made = tuple(rule.with_mode(mode) if rule.id == name else rule for rule in rules)
        return _ruled(known, made, f"access rule {name}: mode {mode}")
    if set(fields) == {"drop"}:
        name = fields["drop"].text("an id")
        if name is None or not _is_rule(fields["drop"], name, ids):
            return None
        return _ruled(known, tuple(rule for rule in rules if rule.id != name), f"no access rule {name} any more")
    if set(fields) == {"put"}:
        rule = read_access_rule(fields["put"], known.snapshot)
        if rule is None:
            return None
        made = (*(each for each in rules if each.id != rule.id), rule)
        return _ruled(known, tuple(sorted(made, key=lambda each: each.id)), f"access rule {rule.id}: as it is written")
    place.fault("write id and mode, or put with a whole rule, or drop with an id")
    return None


def _ruled(known: _Known, rules: tuple[AccessRule, ...], what: str) -> Change:
    known.rules = rules
    return Rules(rules, what)


def _is_rule(place: YamlNode, name: str, ids: list[str]) -> bool:
    if name not in ids:
        place.fault(f"there is no access rule {quoted(name)}; {nearest(name, ids)}")
    return name in ids


def _access_rules(place: YamlNode, known: _Known) -> Change | None:
    name = place.text("a file of access rules")
    if name is None:
        return None
    path = known.folder / name
    if not path.is_file():
        place.fault(f"{path} does not exist; the path is relative to this file")
        return None
    snapshot = known.snapshot
    rules = read_access_rules(path, snapshot, snapshot.networks, snapshot.resources, place.faults)
    return None if rules is None else _ruled(known, rules, f"the access rules of {name}")


def _second_factor(place: YamlNode, _known: _Known) -> Change | None:
    word = place.choice(("on", "off", "true", "false"))
    return None if word is None else SecondFactor(word in ("on", "true"))
