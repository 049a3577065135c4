"""The snapshot: one folder with everything known about the organisation at one time."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path
from typing import Any

import numpy as np

from ...core.organisation.build.credentials import AUTHENTICATORS, PASSES, build_authenticators, build_passes
from ...core.organisation.build.groups import GROUPS, MEMBERS, GroupsBuilt, build_groups
from ...core.organisation.build.meetings import MEETINGS, build_meetings
from ...core.organisation.build.partners import PARTNERS, build_partners
from ...core.organisation.build.people import PEOPLE, PeopleRegister, build_people
from ...core.organisation.build.settings import OBSERVATIONS, SETTINGS, build_observations, build_settings
from ...core.organisation.build.table import Table, piece_of
from ...core.organisation.build.units import UNITS, unit_names, with_listed_units
from ...core.organisation.columns import Longs, Texts
from ...core.organisation.networks import Networks, Span, span_of
from ...core.organisation.part import part_of
from ...core.organisation.snapshot import Snapshot
from ...core.words.catalogue import Catalogue
from ...core.words.faults import Fault, Faults, nearest, quoted
from ...core.words.record import record
from ...core.words.vocabulary import ELSEWHERE
from ..faults import BadInput, stop_if_any
from ..place import Place, Url
from ..tables import FORMATS, PrefetchingReader
from ..yamltree import Fields, read_yaml
from .access_rules import read_access_rules
from .catalogue import read_controls, shipped_catalogue
from .last_gather import failed_since
from .manifest import GATHERED, Manifest, read_manifest
from .manifest import NAME as MANIFEST
from .parsed import keep_parsed, key_of, read_parsed
from .services import read_services

_OF_NAMES = re.compile(r"\b(networks|resources|controls)\b")  # what other files name of organisation.yaml
TABLES = (
    "people",
    "units",
    "groups",
    "members",
    "settings",
    "observations",
    "authenticators",
    "passes",
    "partners",
    "meetings",
    "sign_ins",
)
_NOTHING_HANGS_ON = ("units",)  # without it no verdict becomes unknown
_YAML = ("organisation", "services", "access-rules")
READ_FILES = frozenset((*TABLES, *_YAML, "manifest")) - {"sign_ins"}


@record
class SettingPlaces:
    """Describes what the settings table says besides its settings.

    Its file's name (and those of its pieces, with their first rows), and of each row the line, what someone wrote
    there, and to which set it belongs.
    """

    file: str
    lines: Sequence[int]
    notes: Texts | None
    pieces: Sequence[tuple[str, int]] = ()
    sets: Texts | None = None


@record
class ReadSnapshot:
    """A snapshot, and the tables that it was made from (only where they are asked for)."""

    snapshot: Snapshot
    tables: Mapping[str, Table]
    settings: SettingPlaces | None

    def setting_note(self, row: int) -> str:
        """Return what someone wrote beside a setting."""
        if self.settings is None or row < 0 or self.settings.notes is None:
            return ""
        return self.settings.notes.take(np.array([row]))[0]

    def settings_by_set(self) -> dict[str, list[int]]:
        """Return the rows of settings by the set that they belong to.

        What the column `set` says, else the column `note`.
        """
        if self.settings is None:
            return {}
        every = np.arange(len(self.settings.lines))
        sets, notes = (
            [""] * len(every) if texts is None else texts.take(every)
            for texts in (self.settings.sets, self.settings.notes)
        )
        found: dict[str, list[int]] = {}
        for row, name in enumerate(one or other for one, other in zip(sets, notes, strict=True)):
            if name:
                found.setdefault(name, []).append(row)
        return found

    def setting_line(self, row: int) -> str:
        """Return the place of a setting, as FILE:LINE."""
        if self.settings is None or row < 0:
            return ""
        piece = piece_of(self.settings.pieces, row)
        return f"{self.settings.file}{f'/{piece}' if piece else ''}:{self.settings.lines[row]}"


@record
class _Organisation:
    name: str
    taken_at: int
    taken_text: str
    domains: frozenset[str] | None
    privileged: frozenset[str] | None
    catalogue: Catalogue
    networks: Networks = field(default_factory=lambda: Networks({}))
    resources: dict[str, frozenset[str]] = field(default_factory=dict)
    second_factor_default: bool = False


def read_snapshot(folder: Place, keep_tables: bool = False) -> ReadSnapshot:
    """Reads a snapshot folder, here or in a store; raises BadInput with every fault.

    `keep_tables` keeps every table as it was read.
    """
    if isinstance(folder, Url):
        return _read_fetched(folder, keep_tables)
    faults = Faults()
    if (
        folder.is_dir()
        and not (folder / "organisation.yaml").exists()
        and (folder / "snapshot/organisation.yaml").exists()
    ):
        raise BadInput([Fault(str(folder), 0, f"is no snapshot, but holds one; name {folder / 'snapshot'}")])
    if not folder.is_dir():
        what = "is not a folder" if folder.exists() else "does not exist"
        raise BadInput([Fault(str(folder), 0, f"{what}; name the folder that holds organisation.yaml and people")])
    if folder.is_symlink():  # what it leads to may change while we read
        folder = folder.parent / folder.readlink()
    manifest = read_manifest(folder, faults)
    _links_lead_somewhere(folder, faults)
    stop_if_any(faults)
    key = None if keep_tables else key_of(folder, READ_FILES)
    if key is not None and isinstance(kept := read_parsed(folder, key), list):
        snapshot, places = kept
        return ReadSnapshot(
            replace(snapshot, stale=_stale(folder, manifest, snapshot.taken_at)), {}, _thawed_places(places)
        )
    read = _read_anew(folder, manifest, faults, keep_tables)
    if key is not None:
        keep_parsed(folder, key, [read.snapshot, _frozen_places(read.settings)])
    return read


def _read_fetched(folder: Url, keep_tables: bool, cut: _Cut = None) -> ReadSnapshot:
    """Return a snapshot in a store: its files are copied here, and read; raises BadInput."""
    from ..write import scratch_folder

    with scratch_folder() as scratch:
        here = scratch / (folder.name or "snapshot")
        here.mkdir()
        for each in folder.inside():
            if each.stem in READ_FILES and each.suffix:
                each.fetch(here / each.name)
            elif each.stem in TABLES and each.stem in READ_FILES:
                (here / each.name).mkdir()
                for piece in each.inside():
                    piece.fetch(here / each.name / piece.name)
            elif each.suffix:  # that it is there may be worth a note; its contents are not read
                (here / each.name).touch()
        try:
            faults = Faults()
            manifest = read_manifest(here, faults)
            stop_if_any(faults)
            read = _read_anew(here, manifest, faults, keep_tables, cut)
            read = replace(read, snapshot=replace(read.snapshot, content=_content_digest(here)))
        except BadInput as error:
            faults_here = [replace(fault, file=fault.file.replace(str(here), str(folder))) for fault in error.faults]
            raise BadInput(faults_here) from None
    return read


def _content_digest(folder: Path) -> str:
    """Return a digest of the names and bytes of all files in a folder, at any depth."""
    whole = hashlib.blake2b(digest_size=16)
    for path in sorted(path for path in folder.rglob("*") if path.is_file()):
        with path.open("rb") as stream:
            name = str(path.relative_to(folder)).encode()
            whole.update(name + b"\n" + hashlib.file_digest(stream, hashlib.blake2b).digest())
    return whole.hexdigest()


_FrozenPlaces = tuple[str, Longs, Texts | None, list[tuple[str, int]]]


def read_part(folder: Place, first: int, last: int) -> Snapshot:
    """Return the active people from one number to before another of a snapshot that someone has read whole and found
    good, with all that they share with the others; raises BadInput.
    """
    cut = first, last
    if isinstance(folder, Url):
        return _read_fetched(folder, False, cut).snapshot
    key = key_of(folder, READ_FILES)
    if key is not None and isinstance(kept := read_parsed(folder, key), list):
        whole: Snapshot = kept[0]
        return part_of(whole, first, last)
    faults = Faults()
    return _read_anew(folder, read_manifest(folder, faults), faults, False, cut).snapshot


_Cut = tuple[int, int] | None


def _frozen_places(places: SettingPlaces | None) -> _FrozenPlaces | None:
    if places is None:
        return None
    return (
        places.file,
        np.fromiter((places.lines[row] for row in range(len(places.lines))), np.int64),
        places.notes,
        list(places.pieces),
    )


def _thawed_places(places: _FrozenPlaces | None) -> SettingPlaces | None:
    if places is None:
        return None
    return SettingPlaces(places[0], places[1].tolist(), places[2], [(name, first) for name, first in places[3]])


def _stale(folder: Path, manifest: Manifest | None, taken_at: int) -> str:
    return failed_since(folder, taken_at) if manifest is not None else ""


def _read_anew(
    folder: Path, manifest: Manifest | None, faults: Faults, keep_tables: bool, cut: _Cut = None
) -> ReadSnapshot:
    """Read a snapshot's files without the kept serialised form; raises BadInput with every fault that was found."""
    shelf = PrefetchingReader(folder, (PEOPLE, MEMBERS, SETTINGS, OBSERVATIONS, AUTHENTICATORS))
    organisation = _read_organisation(folder / "organisation.yaml", faults)
    names_known = organisation is not None and not any(_OF_NAMES.search(fault.message) for fault in faults.found)
    people = _people_table(shelf, faults)
    listed = shelf.table(UNITS, faults)
    units = unit_names(listed, faults)
    register = None if people is None else with_listed_units(build_people(people, faults, cut), units)
    groups, members = shelf.table(GROUPS, faults), shelf.table(MEMBERS, faults)
    built = build_groups(groups, members, register, faults)
    if register is None:
        stop_if_any(faults)
        raise AssertionError("a snapshot without people names a fault")
    if not names_known:  # other files that name its networks, resources or controls are not at fault
        stop_if_any(faults)
    draft = replace(_draft(organisation, register, built), unit_names=units)
    snapshot, tables = _rest(draft, folder, shelf, register, built, manifest, faults)
    stop_if_any(faults)
    _note_strays(folder, faults)
    tables |= {"people": people, "units": listed, "groups": groups, "members": members}
    kept = {name: table for name, table in tables.items() if table is not None} if keep_tables else {}
    missing = tuple(sorted({*snapshot.missing, *_missing(folder, tables)}))
    snapshot = replace(snapshot, notes=tuple(faults.notes), missing=missing)
    return ReadSnapshot(snapshot, kept, _places_in(tables["settings"]))


def _places_in(table: Table | None) -> SettingPlaces | None:
    if table is None:
        return None
    every = np.arange(table.rows)
    notes, sets = (table.columns[name].texts(every) if name in table.columns else None for name in ("note", "set"))
    return SettingPlaces(file=table.name, lines=_Lines(table), notes=notes, pieces=table.pieces, sets=sets)


class _Lines(Sequence[int]):
    """The lines of a table's rows, found when they are asked for."""

    def __init__(self, table: Table) -> None:
        self._table = table

    def __len__(self) -> int:
        return self._table.rows

    def __getitem__(self, row: Any) -> Any:
        return self._table.line_of(row)


def _rest(
    draft: Snapshot,
    folder: Path,
    shelf: PrefetchingReader,
    register: PeopleRegister,
    groups: GroupsBuilt,
    manifest: Manifest | None,
    faults: Faults,
) -> tuple[Snapshot, dict[str, Table | None]]:
    """Return the snapshot with all that is read once people are known, and its tables."""
    before = len(faults.found)
    services = read_services(folder / "services.yaml", draft, faults)
    if len(faults.found) > before:  # likewise services
        stop_if_any(faults)
    not_gathered = manifest.not_gathered if manifest is not None else frozenset[str]()
    if services is not None and manifest is not None and manifest.services is not None:
        not_gathered |= {service.id for service in services} - manifest.services
    if services is not None and not_gathered:  # no settings of theirs, so no service default either
        services = tuple(
            replace(service, factory={}) if service.id in not_gathered else service for service in services
        )
    specs = (PARTNERS, SETTINGS, OBSERVATIONS, AUTHENTICATORS, PASSES, MEETINGS)
    tables = {spec.name: shelf.table(spec, faults) for spec in specs}
    partners = build_partners(tables["partners"], faults)
    service_names = [service.id for service in services or ()]
    settings = build_settings(
        tables["settings"], draft.catalogue, services, register, groups.ids, groups.known, faults
    ).without(service_names, not_gathered)
    snapshot = replace(
        draft,
        services=services,
        settings=settings.active,
        inactive_settings=settings.inactive,
        ignored=settings.ignored,
        observations=build_observations(tables["observations"], draft.catalogue, services, register, faults),
        partners=partners,
        partner_columns=frozenset(tables["partners"].columns if tables["partners"] is not None else ()),
        authenticators=build_authenticators(tables["authenticators"], register, faults),
        passes=build_passes(tables["passes"], register, draft.taken_at, faults),
        meetings=build_meetings(tables["meetings"], services, register, faults),
        access_rules=read_access_rules(folder / "access-rules.yaml", draft, draft.networks, draft.resources, faults),
        people_whole=manifest is None or manifest.people_whole,
        manifest=manifest.sha256 if manifest is not None else None,
        partial=_partial(manifest, not_gathered),
        stale=_stale(folder, manifest, draft.taken_at),
        missing=tuple(f"service:{service}" for service in sorted(not_gathered)),
    )
    return snapshot, tables


def _partial(manifest: Manifest | None, not_gathered: frozenset[str]) -> tuple[str, ...]:
    """Return what gathering could not bring, in words."""
    if manifest is None:
        return ()
    tables = {table for source in manifest.missing for table in source.tables}
    return (*sorted(tables - {"settings"}), *(f"the settings of {service}" for service in sorted(not_gathered)))


def _missing(folder: Path, tables: Mapping[str, Table | None]) -> Iterator[str]:
    """Yield the files and tables that are not there, and the columns that those which are do not have."""
    yield from (f"{name}.yaml" for name in _YAML if not (folder / f"{name}.yaml").exists())
    for name in TABLES:
        table = tables.get(name)
        if table is not None:
            yield from (f"{name}.{column}" for column in table.spec.optional if column not in table.columns)
        elif name not in _NOTHING_HANGS_ON and not any(
            (folder / f"{name}{ending}").exists() for ending in ("", *FORMATS)
        ):
            yield name


def _people_table(shelf: PrefetchingReader, faults: Faults) -> Table | None:
    """Return the table people, without which there is no snapshot."""
    table = shelf.table(PEOPLE, faults)
    if table is None and not any(fault.file.startswith(str(shelf.folder / "people")) for fault in faults.found):
        faults.add(str(shelf.folder), 0, "has no people table; write people.csv with the columns id, login and kind")
    return table


def _draft(organisation: _Organisation | None, register: PeopleRegister, groups: GroupsBuilt) -> Snapshot:
    """Return the snapshot so far: enough for selectors to be checked against."""
    known = organisation or _Organisation(
        name="", taken_at=0, taken_text="", domains=None, privileged=None, catalogue=shipped_catalogue()
    )
    return Snapshot(
        people=register.people,
        inactive=register.inactive,
        units=register.units,
        groups=groups.groups,
        privileged=known.privileged,
        unit_paths=register.unit_paths,
        group_ids=tuple(groups.ids),
        group_titles=groups.titles,
        group_names_known=groups.known,
        name=known.name,
        taken_at=known.taken_at,
        taken_text=known.taken_text,
        catalogue=known.catalogue,
        domains=known.domains,
        networks=known.networks,
        resources=known.resources,
        second_factor_default=known.second_factor_default,
    )


def _read_organisation(path: Path, faults: Faults) -> _Organisation | None:
    """Read organisation.yaml; None if it is no YAML of that form."""
    top = read_yaml(path, str(path), "snapshot/1", faults)
    if top is None:
        return None
    fields = top.fields(
        ("usher-gate", "name", "taken_at"),
        ("domains", "privileged_roles", "second_factor_default", "networks", "resources", "controls", GATHERED),
    )
    if GATHERED in fields and fields[GATHERED].truth() and not (path.parent / MANIFEST).exists():
        fields[GATHERED].fault(f"this snapshot was gathered, and its {MANIFEST} is missing; gather again")
    name = fields.text("name", "a name")
    taken = fields.time("taken_at")
    domains = frozenset(fields["domains"].texts("a domain")) if "domains" in fields else None
    privileged = frozenset(fields["privileged_roles"].texts("a role")) if "privileged_roles" in fields else None
    if "second_factor_default" in fields:
        fields["second_factor_default"].choice(("on", "off", "true", "false"))
    default = "second_factor_default" in fields and fields["second_factor_default"].raw in ("on", "true")
    networks, resources = _read_networks(fields), _read_resources(fields)
    catalogue = fields.read("controls", lambda node: read_controls(node, shipped_catalogue()), shipped_catalogue())
    text = "" if name is None or taken is None else str(fields["taken_at"].raw)
    return _Organisation(
        name=name or "",
        taken_at=taken or 0,
        taken_text=text,
        domains=domains,
        privileged=privileged,
        catalogue=catalogue,
        networks=networks,
        resources=resources,
        second_factor_default=default,
    )


def _read_networks(fields: Fields) -> Networks:
    """Read the networks and their address ranges, with IPv4 and IPv6."""
    spans: dict[str, list[Span]] = {}
    for name, entry in fields.mapping("networks").items():
        spans[name] = []
        for item in entry.items(1):
            text = item.text("an address range")
            try:
                if text is not None:
                    spans[name].append(span_of(text))
            except ValueError:
                item.fault(f"{quoted(text or '')} is no address range; write one such as 192.0.2.0/25 or 2001:db8::/32")
        if name in (ELSEWHERE, "any"):
            entry.faults.add(
                entry.file,
                entry.key_line,
                f"{entry.path}: {name} has a meaning of its own; give the network another name",
            )
    return Networks(spans)


def _read_resources(fields: Fields) -> dict[str, frozenset[str]]:
    entries = fields.mapping("resources")
    return {name: frozenset(entry.texts("a tag")) for name, entry in entries.items()}


def _links_lead_somewhere(folder: Path, faults: Faults) -> None:
    """Names the tables and files that are links to nothing, or to themselves: they would be missing without a word."""
    mine = [path for path in sorted(folder.iterdir()) if path.stem in {*READ_FILES, *TABLES}]
    pieces = [piece for path in mine if path.is_dir() for piece in sorted(path.iterdir())]
    for path in (*mine, *pieces):
        if path.is_symlink():
            try:
                path.stat()
            except OSError as error:
                faults.add(
                    str(path),
                    0,
                    f"is a link that leads nowhere ({error.strerror}); put back what it leads to, or remove it",
                )


def _note_strays(folder: Path, faults: Faults) -> None:
    """Names files that look like a part of a snapshot and are none.

    A misspelt table would be missing without a word.
    """
    for path in sorted(folder.iterdir()):
        if path.suffix in FORMATS and path.stem not in TABLES:
            faults.note(f"{path.name} is no table of a snapshot, and is not read; {nearest(path.stem, TABLES)}")
        elif path.suffix in (".yaml", ".yml") and (path.stem not in _YAML or path.suffix == ".yml"):
            faults.note(
                f"{path.name} is no part of a snapshot, and is not read; "
                f"{nearest(path.name, [f'{stem}.yaml' for stem in _YAML])}"
            )
