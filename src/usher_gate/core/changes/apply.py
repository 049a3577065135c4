"""Applying changes to a snapshot in memory: tables in, tables and a snapshot out; no file is written.

Spec: changes 1 and 2.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from ..organisation.build.rebuild import build_again
from ..organisation.build.table import Table
from ..organisation.columns import Bools
from ..organisation.select import Unanswerable, select
from ..organisation.snapshot import Snapshot
from ..settings.resolver import Resolver
from ..words.faults import Faults, nearest, quoted
from ..words.record import record
from ..words.times import parse_time
from ..words.values import join_words, split_words
from .model import (
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
    in_words,
)
from .sheet import Sheet

Place = tuple[str, str, str]  # service, control, scope (a person's by id)


@record
class Applied:
    """The snapshot after the changes, and its tables.

    `places` are the settings that differ from before, each with the numbers (from 1) of the changes that made it so.
    `real` are the numbers of all changes that changed anything, `notes` what is worth knowing.
    `chosen_people` are the people (ids) that each change about people chose.
    """

    snapshot: Snapshot
    tables: Mapping[str, Table]
    places: Mapping[Place, tuple[int, ...]]
    real: frozenset[int]
    notes: tuple[str, ...]
    chosen_people: Mapping[int, frozenset[str]] = field(default_factory=dict)


def apply_changes(
    before: Snapshot, tables: Mapping[str, Table], changes: Changes, file: str, faults: Faults
) -> Applied | None:
    """Applies changes in order; None, with faults in `file`, where one cannot be made."""
    work = _Work(before, dict(tables), file, faults)
    for number, (change, line) in enumerate(zip(changes.changes, changes.lines, strict=True), 1):
        work.number, work.line = number, line
        work.make(change)
    if faults.found:
        return None
    made = {**tables, **{name: sheet.done() for name, sheet in work.sheets.items() if name in work.written}}
    inner = Faults()
    after = (
        build_again(replace(before, second_factor_default=work.second_factor), made, inner) if work.written else before
    )
    after = replace(after, access_rules=work.rules, second_factor_default=work.second_factor)
    if inner.found:
        for fault in inner.found[:50]:
            faults.add(file, 0, f"after the changes {fault.message}")
        return None
    work.lost_groups(after)
    if faults.found:
        return None
    dropped = _without_old_sights(before, after, made, work.places, changes.start)
    if dropped is not None:
        made["observations"] = dropped
        after = build_again(after, made, Faults())
    return Applied(
        snapshot=replace(after, notes=before.notes),
        tables=made,
        places={place: tuple(numbers) for place, numbers in work.places.items()},
        real=frozenset(work.real),
        notes=tuple(work.notes),
        chosen_people=work.chosen_people,
    )


@dataclass
class _Work:
    """Describes what has been made so far."""

    before: Snapshot
    tables: dict[str, Table]
    file: str
    faults: Faults
    number: int = 0
    line: int = 0
    sheets: dict[str, Sheet] = field(default_factory=dict)
    written: set[str] = field(default_factory=set)
    places: dict[Place, list[int]] = field(default_factory=dict)
    real: set[int] = field(default_factory=set)
    notes: list[str] = field(default_factory=list)
    _index: dict[Place, int] | None = None
    _everybody: tuple[Snapshot, list[int]] | None = None
    chosen_people: dict[int, frozenset[str]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.rules, self.second_factor = self.before.access_rules, self.before.second_factor_default
        self._by_place: dict[Place, int] = {}
        # By group the last change that takes someone out of it, and its line.
        self._members_of: dict[str, tuple[int, int]] = {}

    def fault(self, message: str) -> None:
        """Names what cannot be made."""
        self.faults.add(self.file, self.line, f"change {self.number}: {message}")

    def note(self, message: str) -> None:
        """Add a note."""
        self.notes.append(f"change {self.number}: {message}")

    def sheet(self, name: str, *columns: str) -> Sheet | None:
        """Return a table to write in.

        None, with a fault, where the snapshot does not have it, or not with these columns.
        """
        if name not in self.tables:
            self.fault(f"the snapshot has no table {name}; gather it, or write one")
            return None
        sheet = self.sheets.setdefault(name, Sheet(self.tables[name]))
        missing = [column for column in columns if not sheet.has(column)]
        if missing:
            self.fault(f"the table {name} has no column {', '.join(missing)}; add it to the snapshot first")
            return None
        return sheet

    def done(self, name: str, changed: bool) -> None:
        """Says whether a change changed anything."""
        if changed:
            self.written.add(name)
            self.real.add(self.number)
        else:
            self.note("changes nothing")

    def make(self, change: Change) -> None:
        """Makes one change."""
        makers: Mapping[type, Callable[..., None]] = {
            Set: self._set,
            Unset: self._unset,
            PeopleChange: self._people,
            RegisterChange: self._register,
            Members: self._members,
            PartnerFlags: self._partner,
            Rules: self._access_rules,
            SecondFactor: self._second_factor,
        }
        makers[type(change)](change)

    # settings

    @property
    def index(self) -> dict[Place, int]:
        """Return the row of the active setting at each place."""
        if self._index is None:
            self._index = {}
            sheet = self.sheets["settings"]
            columns = [sheet.column(name) for name in ("service", "control", "scope")]
            active = sheet.column("active") if sheet.has("active") else [None] * sheet.rows
            for row, (service, control, scope) in enumerate(zip(*columns, strict=True)):
                if active[row] != "false":
                    self._index[service or "", control or "", self.scope(scope or "")] = row
        return self._index

    def scope(self, scope: str) -> str:
        """Return a scope as results show it: a person's by id."""
        kind, _, name = scope.partition(":")
        if kind != "person":
            return scope
        return f"person:{self.ids.get(name) or self.ids.get(name.casefold()) or name}"

    @property
    def ids(self) -> dict[str, str]:
        """Return the id of everyone by id, and by login whatever its case."""
        if not hasattr(self, "_ids"):
            people = self.tables["people"]
            every = np.arange(people.rows)
            ids, logins = (people.columns[name].texts().take(every) for name in ("id", "login"))
            self._ids = {login.casefold(): one for one, login in zip(ids, logins, strict=True)} | {
                one: one for one in ids
            }
        return self._ids

    def _placed(self, change: Set | Unset) -> Place | None:
        """Return the place of a setting that is changed.

        None, with a fault, where no setting could stand or be read.
        """
        kind, _, name = change.scope.partition(":")
        service = next((one for one in self.before.services or () if one.id == change.service), None)
        if service is None:
            self.fault(
                f"there is no service {quoted(change.service)}; "
                f"{nearest(change.service, [one.id for one in self.before.services or ()])}"
            )
            return None
        if kind != "meeting" and kind not in service.precedence:
            self.fault(
                f"{change.service} reads no settings at the level {kind}; it reads {', '.join(service.precedence)}"
            )
            return None
        known: Mapping[str, object] = {
            "unit": self.before.unit_paths,
            "group": self.before.group_index,
            "person": self.ids,
            "meeting": self._meetings,
        }.get(kind, {})  # type: ignore[assignment]
        if isinstance(change, Set):
            there = name.casefold() in self.ids or name in self.ids if kind == "person" else name in known
            if kind != "organisation" and not there:
                self.fault(f"there is no {kind} {quoted(name)}; {nearest(name, list(known)[:20000])}")
                return None
            if change.control not in service.controls:
                self.fault(f"{change.service} does not support {change.control}; nothing would come of it")
                return None
            if change.pinned and not service.pins:
                self.fault(f"{change.service} cannot pin (pins: false); leave pinned out")
                return None
        return change.service, change.control, self.scope(change.scope)

    @property
    def _meetings(self) -> dict[str, int]:
        table = self.before.meetings
        return {} if table is None else dict.fromkeys(table.ids.take(np.arange(len(table))), 0)

    def _set(self, change: Set) -> None:
        """Write a value at a place of the settings table, replacing the row that is there."""
        needed = ["pinned"] if change.pinned else []
        needed += ["rank"] if change.rank is not None else []
        place, sheet = self._placed(change), self.sheet("settings", *needed)
        if place is None or sheet is None:
            return
        if place in self._by_place:
            self.note(f"change {self._by_place[place]} is about the same place; this one counts")
        self._by_place[place] = self.number
        row = self.index.get(place)
        cells = {
            "service": change.service,
            "control": change.control,
            "scope": change.scope,
            "value": change.value or "-",
        }
        if change.pinned is not None:
            cells["pinned"] = "true" if change.pinned else "false"
        if change.rank is not None:
            cells["rank"] = str(change.rank)
        if row is None:
            self.index[place] = sheet.add(cells)
            changed = True
        else:
            changed = self._rewrite(sheet, row, change)
        if changed:
            self.places.setdefault(place, []).append(self.number)
        self.done("settings", changed)

    def _rewrite(self, sheet: Sheet, row: int, change: Set) -> bool:
        kind = self.before.catalogue.index[change.control].kind
        changed = kind.parse(sheet.cell(row, "value")) != change.value
        if changed:
            sheet.write(row, "value", change.value or "-")
        if change.pinned is not None and sheet.has("pinned") and (sheet.cell(row, "pinned") == "true") != change.pinned:
            changed |= sheet.write(row, "pinned", "true" if change.pinned else "false")
        if change.rank is not None:
            now = sheet.cell(row, "rank")
            if not now or int(now) != change.rank:
                changed |= sheet.write(row, "rank", str(change.rank))
        if changed and sheet.has("changed_at"):
            sheet.write(row, "changed_at", "")
        return changed

    def _unset(self, change: Unset) -> None:
        """Take the setting at a place out of the settings table."""
        place, sheet = self._placed(change), self.sheet("settings")
        if place is None or sheet is None:
            return
        row = self.index.pop(place, None)
        if row is None:
            self.fault(
                f"{change.control} is not set at {change.scope} on {change.service}; there is nothing to take away"
            )
            return
        if place in self._by_place:
            self.note(f"change {self._by_place[place]} is about the same place; this one counts")
        self._by_place[place] = self.number
        sheet.take_out(row)
        self.places.setdefault(place, []).append(self.number)
        self.done("settings", True)

    # people

    def everybody(self) -> tuple[Snapshot, list[int]]:
        """Return the snapshot as it was, with everyone in it, inactive people too; and the row in the table of each."""
        if self._everybody is None:
            people = self.tables["people"]
            columns = {name: column for name, column in people.columns.items() if name != "active"}
            found = build_again(self.before, {**self.tables, "people": replace(people, columns=columns)}, Faults())
            rows = {one: row for row, one in enumerate(people.columns["id"].texts().take(np.arange(people.rows)))}
            self._everybody = found, [rows[one] for one in found.people.ids.take(np.arange(len(found.people)))]
        return self._everybody

    def chosen(self, who: ChosenPeople) -> list[int]:
        """Return the rows of the people that a change is about."""
        snapshot, rows = self.everybody()
        mask: Bools = np.ones(len(rows), bool)
        if who.selector is not None:
            try:
                mask &= select(who.selector, snapshot)
            except Unanswerable as gap:
                self.fault(f"who asks for {gap}, which the snapshot does not have")
                return []
        if who.names is not None:
            wanted = {self.ids[name] if name in self.ids else self.ids[name.casefold()] for name in who.names}
            mask &= np.array([one in wanted for one in snapshot.people.ids.take(np.arange(len(rows)))], bool)
        found = [rows[person] for person in np.flatnonzero(mask).tolist()]
        ids = snapshot.people.ids.take(np.flatnonzero(mask))
        self.chosen_people[self.number] = frozenset(ids)
        if not found:
            self.note("chooses no one")
        return found

    def _people(self, change: PeopleChange) -> None:
        """Change cells and lists (licences, roles) of the chosen people."""
        columns = [*change.cells, *(name for name in change.added if change.added[name] or change.removed[name])]
        sheet = self.sheet("people", *columns)
        if sheet is None:
            return
        changed, rows = False, self.chosen(change.who)
        for row in rows:
            for name, text in change.cells.items():
                changed |= self._differs(name, sheet.cell(row, name), text) and sheet.write(row, name, text)
            for name, added in change.added.items():
                now = split_words(sheet.cell(row, name))
                then = (now | set(added)) - set(change.removed[name])
                if then != now:
                    changed |= sheet.write(row, name, join_words(tuple(then)))
        if rows:
            self.done("people", changed)

    @staticmethod
    def _differs(name: str, now: str, then: str) -> bool:
        if name == "active":
            return (now == "false") != (then == "false")
        if name.endswith("_at") and now and then:
            return parse_time(now) != parse_time(then)
        return now != then

    def _register(self, change: RegisterChange) -> None:
        """Register authenticators for the chosen people, up to the number of each that the change names."""
        sheet = self.sheet("authenticators")
        if sheet is None:
            return
        people = self.tables["people"].columns["id"].texts()
        chosen = self.chosen(change.who)
        held: dict[str, int] = {}
        for row, (person, kind) in enumerate(zip(sheet.column("person"), sheet.column("type"), strict=True)):
            if kind == change.type and sheet.there(row):
                one = self.ids.get(person or "") or self.ids.get((person or "").casefold(), "")
                held[one] = held.get(one, 0) + 1
        changed = False
        for one in people.take(np.array(chosen, np.int64)):
            for _ in range(change.count - held.get(one, 0)):
                sheet.add({"person": one, "type": change.type})
                changed = True
        if chosen:
            self.done("authenticators", changed)

    def _members(self, change: Members) -> None:
        """Put members into a group and take members out, in the members table."""
        sheet = self.sheet("members", *(["type"] if any(":" in name for name in (*change.add, *change.remove)) else []))
        if sheet is None:
            return
        rows: dict[tuple[str, str], list[int]] = {}
        columns = [
            sheet.column("group"),
            sheet.column("member"),
            sheet.column("type") if sheet.has("type") else [None] * sheet.rows,
        ]
        for row, (group, member, kind) in enumerate(zip(*columns, strict=True)):
            if group == change.group and sheet.there(row):
                key = (
                    (member or "")
                    if kind == "group"
                    else self.ids.get(member or "") or self.ids.get((member or "").casefold(), "")
                )
                rows.setdefault((kind or "person", key), []).append(row)
        changed = False
        for name in change.remove:
            self._members_of[change.group] = self._members_of[name.removeprefix("group:")] = self.number, self.line
            for row in rows.pop(self._member(name), []):
                sheet.take_out(row)
                changed = True
        for name in change.add:
            kind, member = self._member(name)
            if (kind, member) not in rows:
                rows[kind, member] = [sheet.add({"group": change.group, "member": member, "type": kind})]
                changed = True
        self.done("members", changed)

    def lost_groups(self, after: Snapshot) -> None:
        """Faults for groups that only the table of members names, and that have no members any more."""
        for group in sorted(self.before.group_index.keys() - after.group_index.keys()):
            self.number, self.line = self._members_of.get(group, (self.number, 0))
            self.fault(
                f"no one is left in the group {quoted(group)}, which without a table groups is not known then; "
                "add groups (id, name) to the snapshot first"
            )

    def _member(self, name: str) -> tuple[str, str]:
        if name.startswith("group:"):
            return "group", name.partition(":")[2]
        return "person", self.ids.get(name) or self.ids[name.casefold()]

    def _partner(self, change: PartnerFlags) -> None:
        sheet = self.sheet("partners", *change.flags)
        if sheet is None:
            return
        domains = sheet.column("domain")
        row = next(
            (row for row, domain in enumerate(domains) if (domain or "").casefold() == change.domain.casefold()), None
        )
        changed = row is None
        row = sheet.add({"domain": change.domain}) if row is None else row
        for name, flag in change.flags.items():
            changed |= (sheet.cell(row, name) or None) != flag and sheet.write(row, name, flag)
        self.done("partners", changed)

    # the sign-in side

    def _access_rules(self, change: Rules) -> None:
        changed = change.rules != self.rules
        self.rules = change.rules
        if changed:
            self.real.add(self.number)
        else:
            self.note("changes nothing")

    def _second_factor(self, change: SecondFactor) -> None:
        if change.on == self.second_factor:
            self.note("changes nothing")
            return
        self.second_factor = change.on
        self.real.add(self.number)


def _without_old_sights(
    before: Snapshot, after: Snapshot, tables: Mapping[str, Table], places: Mapping[Place, object], start: int | None
) -> Table | None:
    """Return the observations without what was seen of people whose value comes, before or after, from a setting that
    was changed later than they were looked at; None where all stay.
    """
    table = tables.get("observations")
    if table is None or not places:
        return None
    limit = before.taken_at if start is None else start
    moved: dict[tuple[str, str], set[str]] = {}
    for snapshot in (before, after):
        resolver, names = Resolver(snapshot), _names(snapshot)
        for service in snapshot.services or ():
            for control in {place[1] for place in places if place[0] == service.id}:
                effective = resolver.effective(service, control)
                scopes = {place[2] for place in places if place[:2] == (service.id, control)}
                mine = [
                    number
                    for number in range(len(effective))
                    if scope_by_id(effective.cause(number).scope, names) in scopes
                ]
                people = np.flatnonzero(np.isin(effective.places, mine))
                moved.setdefault((service.id, control), set()).update(snapshot.people.ids.take(people))
    sheet, names = Sheet(table), _names(after)
    for row in range(table.rows):
        person = sheet.cell(row, "person")
        who = names.get(person) or names.get(person.casefold(), "")
        seen = parse_time(sheet.cell(row, "seen_at"))
        if (
            who in moved.get((sheet.cell(row, "service"), sheet.cell(row, "control")), ())
            and seen is not None
            and seen < limit
        ):
            sheet.take_out(row)
    return sheet.done() if any(not sheet.there(row) for row in range(table.rows)) else None


def _names(snapshot: Snapshot) -> dict[str, str]:
    """Return the id of every active person by id, and by login whatever its case."""
    every = np.arange(len(snapshot.people))
    ids, logins = snapshot.people.ids.take(every), snapshot.people.logins.take(every)
    return {login.casefold(): one for one, login in zip(ids, logins, strict=True)} | {one: one for one in ids}


def scope_by_id(scope: str | None, names: Mapping[str, str]) -> str | None:
    """Return a scope with a person's id in it, not the login."""
    kind, _, name = (scope or "").partition(":")
    return f"person:{names.get(name) or names.get(name.casefold(), name)}" if kind == "person" else scope


def descriptions(changes: Changes) -> list[str]:
    """Return each change in words."""
    return [in_words(change) for change in changes.changes]
