"""The tables settings and observations: what is set, where, and what was really seen."""

from __future__ import annotations

import difflib
from collections.abc import Collection, Iterable, Mapping, Sequence

import numpy as np

from ...words.catalogue import Catalogue
from ...words.faults import Faults, nearest, quoted
from ...words.record import record
from ...words.values import BadValue
from ..columns import MISSING, NO_RANK, NO_TIME, Bools, Coded, Ints, Longs
from ..services import Service
from ..settings import GROUP, MEETING, ORGANISATION, PERSON, UNIT, IgnoredSettings, Observations, Settings
from .checks import checked, filled, flags, times, unit_fault
from .listcolumn import ListColumn
from .people import PeopleRegister
from .table import FLAG, TIME, VALUE, WHOLE, Spec, Table

SETTINGS = Spec(
    "settings",
    ("service", "control", "scope", "value"),
    ("pinned", "rank", "active", "changed_at", "note", "set"),
    {"pinned": FLAG, "active": FLAG, "rank": WHOLE, "changed_at": TIME, "value": VALUE},
)
OBSERVATIONS = Spec(
    "observations", ("person", "service", "control", "value", "seen_at"), (), {"seen_at": TIME, "value": VALUE}
)
SCOPE_KINDS = {"organisation": ORGANISATION, "unit": UNIT, "group": GROUP, "person": PERSON, "meeting": MEETING}


def _scope_fault(scope: str) -> str | None:
    kind, colon, name = scope.partition(":")
    if kind == "organisation" and not colon:
        return None
    if kind not in SCOPE_KINDS or kind == "organisation" or not name:
        return f"{quoted(scope)} is no scope; write organisation, unit:/PATH, group:ID, person:ID or meeting:ID"
    return unit_fault(name) if kind == "unit" else None


def _numbers(coded: Coded, names: Iterable[str]) -> Ints:
    """Return for each row the number of its word among `names`; MISSING where it is none of them."""
    index = {name: number for number, name in enumerate(names)}
    return np.array([*(index.get(word, MISSING) for word in coded.words), MISSING], np.int32)[coded.codes]


def _service_column(table: Table, services: tuple[Service, ...] | None, faults: Faults) -> Ints:
    if services is None:
        faults.note(f"{table.name} cannot be used without services.yaml")
        return np.full(table.rows, MISSING, np.int32)
    known = [service.id for service in services]
    coded = checked(
        table,
        "service",
        faults,
        lambda word: None if word in known else f"there is no service {quoted(word)}; {nearest(word, known)}",
    )
    assert coded is not None
    return _numbers(coded, known)


def _control_column(table: Table, catalogue: Catalogue, faults: Faults) -> Coded:
    coded = checked(
        table,
        "control",
        faults,
        lambda word: (
            None if word in catalogue.index else f"there is no control {quoted(word)}; {nearest(word, catalogue.index)}"
        ),
    )
    assert coded is not None
    return coded


@record
class _Values:
    """For each row the number of its value (int32); the values as canonical texts, and the control of each."""

    number: Ints
    texts: tuple[str, ...]
    controls: tuple[int, ...]


def _values(table: Table, control: Coded, catalogue: Catalogue, faults: Faults) -> _Values:
    """Return the distinct values of a table; values that are not valid are faults."""
    value = table.columns["value"].coded()
    keys = control.codes.astype(np.int64) * (len(value.words) + 1) + value.codes
    there = (control.codes != MISSING) & (value.codes != MISSING)
    distinct, first, which = np.unique(np.where(there, keys, -1), return_index=True, return_inverse=True)
    known: dict[tuple[int, str], int] = {}
    places = []
    for key, row in zip(distinct.tolist(), first.tolist(), strict=True):
        place = MISSING
        if key >= 0:
            code, word = int(control.codes[row]), value.words[int(value.codes[row])]
            found = catalogue.index.get(control.words[code])
            if found is not None:
                try:
                    place = known.setdefault((code, found.kind.parse(word)), len(known))
                except BadValue as right:
                    for bad in np.flatnonzero(keys == key)[:50].tolist():
                        table.fault(bad, f"value: {quoted(word)} is no value of {found.id}; write {right}", faults)
        places.append(place)
    return _Values(
        np.array(places, np.int32)[which.reshape(-1)],
        tuple(text for _, text in known),
        tuple(code for code, _ in known),
    )


def _ranks(table: Table, faults: Faults) -> Longs:
    """Return the rank of each setting, or NO_RANK for an empty cell."""
    if "rank" not in table.columns:
        return np.full(table.rows, NO_RANK, np.int64)
    coded = checked(
        table,
        "rank",
        faults,
        lambda word: (
            None
            if word.lstrip("-").isdecimal() and word.isascii() and len(word) <= 18 and word.count("-") <= 1
            else f"{quoted(word)} is not a whole number; write one such as 10"
        ),
    )
    assert coded is not None
    try:
        return np.array([*(int(word) for word in coded.words), NO_RANK], np.int64)[coded.codes]
    except ValueError:
        return np.full(table.rows, NO_RANK, np.int64)


@record
class _Targets:
    """For each row the kind and the target of its scope (int32); the scopes (codes) whose target does not exist."""

    kind: Ints
    target: Ints
    nowhere: list[int]


def _targets(scope: Coded, register: PeopleRegister, groups: Mapping[str, int], groups_known: bool) -> _Targets:
    """Return what the scopes of the rows mean."""
    kinds, targets = np.full(len(scope.words) + 1, MISSING, np.int32), np.full(len(scope.words) + 1, MISSING, np.int32)
    units = register.units.index if register.units is not None else {}
    persons: list[tuple[int, str]] = []
    nobody: list[int] = []
    for number, word in enumerate(scope.words):
        kind, _, name = word.partition(":")
        kinds[number] = SCOPE_KINDS.get(kind, MISSING)
        if kind == "person":
            persons.append((number, name))
        elif kind == "unit":
            targets[number] = units.get(name, MISSING)
            if register.units is not None and name not in register.unit_paths:
                nobody.append(number)
        elif kind == "group":
            targets[number] = groups.get(name, MISSING)
            if groups_known and name not in groups:
                nobody.append(number)
    if persons:
        found, exists = register.numbers(ListColumn([name for _, name in persons]))
        places = np.array([number for number, _ in persons])
        targets[places] = found
        nobody += places[~exists].tolist()
    return _Targets(kinds[scope.codes], targets[scope.codes], sorted(nobody))


_MOST_NAMED = 50  # of so many scopes that do not exist, the nearest that does is looked for
_MOST_COMPARED = 5_000  # among so many names of their kind


def _ignored(
    table: Table,
    scope: Coded,
    active: Bools,
    nowhere: Sequence[int],
    known: Mapping[str, Sequence[str]],
    faults: Faults,
) -> IgnoredSettings | None:
    """Return the active settings that apply to nothing, with a note; `known` names by kind of scope what exists."""
    rows = np.flatnonzero(active & np.isin(scope.codes, np.array(nowhere, np.int32)))
    if not len(rows):
        return None
    known_codes, which = np.unique(scope.codes[rows], return_inverse=True)
    words = tuple(scope.words[code] for code in known_codes.tolist())
    nearest_of = tuple(_nearest_scope(word, known) if place < _MOST_NAMED else "" for place, word in enumerate(words))
    first = words[int(which.reshape(-1)[0])]
    near = nearest_of[int(which.reshape(-1)[0])]
    faults.note(
        f"{table.where(int(rows[0]))}: {len(rows):,} setting{'s' if len(rows) > 1 else ''} for a unit, group or "
        f"person that does not exist (here {quoted(first)}{f', the nearest is {quoted(near)}' if near else ''}); "
        "ignored"
    )
    return IgnoredSettings(rows.astype(np.int32), Coded(which.reshape(-1).astype(np.int32), words), nearest_of)


def _nearest_scope(scope: str, known: Mapping[str, Sequence[str]]) -> str:
    """Return the scope of the same kind whose name is nearest; "" where none is near."""
    kind, _, name = scope.partition(":")
    close = difflib.get_close_matches(name[:80], known.get(kind, ())[:_MOST_COMPARED], 1, 0.6)
    return f"{kind}:{close[0]}" if close else ""


def _by_id(scope: Coded, register: PeopleRegister) -> Coded:
    """Return the scopes with every person by id, whichever of id and login was written."""
    persons = [(number, word[7:]) for number, word in enumerate(scope.words) if word.startswith("person:")]
    if not persons:
        return scope
    by_id = ListColumn([name for _, name in persons]).index_in(register.ids)
    persons = [person for person, row in zip(persons, by_id.tolist(), strict=True) if row == MISSING]
    words = list(scope.words)
    rows = register.rows(ListColumn([name for _, name in persons]))
    for (number, _), row in zip(persons, rows.tolist(), strict=True):
        if row != MISSING:
            words[number] = f"person:{register.id_of(row)}"
    if words == list(scope.words):
        return scope
    known: dict[str, int] = {}
    places = np.array([*(known.setdefault(word, len(known)) for word in words), MISSING], np.int32)
    return Coded(places[scope.codes], tuple(known))


def _name_repeated(table: Table, keys: Longs, active: Bools, scope: Coded, faults: Faults) -> None:
    rows = np.flatnonzero(active)
    rows = rows[np.argsort(keys[rows], kind="stable")]
    same = np.flatnonzero(keys[rows][1:] == keys[rows][:-1])
    for place in same[:50].tolist():
        first, second = int(rows[place]), int(rows[place + 1])
        table.fault(
            second,
            f"the same service, control and scope ({scope.words[int(scope.codes[second])]}) stand here and in "
            f"{table.line(first)}; keep one, or make the other inactive",
            faults,
        )


@record
class SettingsBuilt:
    """The active settings, the inactive ones, and the active ones that apply to nothing; None where there are none."""

    active: Settings | None = None
    inactive: Settings | None = None
    ignored: IgnoredSettings | None = None

    def without(self, services: Sequence[str], left_out: Collection[str]) -> SettingsBuilt:
        """Return the same without the settings of some services, which were not gathered.

        What is there of them is not all that there is.
        """
        numbers = [number for number, service in enumerate(services) if service in left_out]
        if not numbers:
            return self

        def rest(settings: Settings | None) -> Settings | None:
            return None if settings is None else settings.at(np.flatnonzero(~np.isin(settings.service, numbers)))

        return SettingsBuilt(rest(self.active), rest(self.inactive), self.ignored)


def build_settings(
    table: Table | None,
    catalogue: Catalogue,
    services: tuple[Service, ...] | None,
    register: PeopleRegister,
    groups: Mapping[str, int],
    groups_known: bool,
    faults: Faults,
) -> SettingsBuilt:
    """Return the settings of a table; nothing where there is no such table, or where services are not known."""
    if table is None:
        return SettingsBuilt()
    filled(table, faults)
    service, control = _service_column(table, services, faults), _control_column(table, catalogue, faults)
    written = checked(table, "scope", faults, _scope_fault)
    assert written is not None
    scope = _by_id(written, register)
    values = _values(table, control, catalogue, faults)
    pinned, active = flags(table, "pinned", False, faults), flags(table, "active", True, faults)
    rank, changed = _ranks(table, faults), times(table, "changed_at", faults)
    if active is None:
        active = np.ones(table.rows, bool)
    keys = (table.columns["service"].coded().codes.astype(np.int64) * len(control.words) + control.codes) * len(
        scope.words
    ) + scope.codes
    _name_repeated(table, keys, active, scope, faults)
    if faults.found or services is None:
        return SettingsBuilt()
    targets = _targets(scope, register, groups, groups_known)
    ignored = None
    if targets.nowhere:
        units = sorted(register.unit_paths)
        logins = register.people.logins.take(np.arange(min(len(register.people), _MOST_COMPARED), dtype=np.int32))
        known = {"unit": units, "group": sorted(groups), "person": sorted(logins)}
        ignored = _ignored(table, scope, active, targets.nowhere, known, faults)
    pins = np.zeros(table.rows, bool) if pinned is None else pinned
    when = np.full(table.rows, NO_TIME, np.int64) if changed is None else changed

    def part(kept: Longs) -> Settings:
        """Return the settings at some rows of the table."""
        return Settings(
            service=service[kept],
            control=control.codes[kept],
            kind=targets.kind[kept],
            target=targets.target[kept],
            scope=Coded(scope.codes[kept], scope.words),
            value=values.number[kept],
            pinned=pins[kept],
            rank=rank[kept],
            changed=when[kept],
            row=kept.astype(np.int32),
            controls=control.words,
            values=values.texts,
            value_controls=values.controls,
            timed=changed is not None,
        )

    return SettingsBuilt(part(np.flatnonzero(active)), part(np.flatnonzero(~active)), ignored)


def build_observations(
    table: Table | None,
    catalogue: Catalogue,
    services: tuple[Service, ...] | None,
    register: PeopleRegister,
    faults: Faults,
) -> Observations | None:
    """Return what was seen of active people; None where there is no such table."""
    if table is None:
        return None
    filled(table, faults)
    service, control = _service_column(table, services, faults), _control_column(table, catalogue, faults)
    values = _values(table, control, catalogue, faults)
    value, texts = values.number, values.texts
    seen = times(table, "seen_at", faults)
    person, exists = register.numbers(table.columns["person"])
    if faults.found or seen is None:
        return None
    lost = np.flatnonzero(~exists)
    if len(lost):
        faults.note(
            f"{table.where(int(lost[0]))}: {len(lost)} observation{'s' if len(lost) > 1 else ''} of a person who "
            "does not "
            "exist; ignored"
        )
    kept = np.flatnonzero((person != MISSING) & (service != MISSING))
    return Observations(
        person=person[kept],
        service=service[kept],
        control=control.codes[kept],
        value=value[kept],
        seen=seen[kept],
        controls=control.words,
        values=texts,
    )
