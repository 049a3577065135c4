"""The snapshot: one folder with everything known about the organisation at one time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from ...core.organisation.build.credentials import AUTHENTICATORS, PASSES, build_authenticators, build_passes
from ...core.organisation.build.groups import GROUPS, MEMBERS, GroupsBuilt, build_groups
from ...core.organisation.build.meetings import MEETINGS, build_meetings
from ...core.organisation.build.partners import PARTNERS, build_partners
from ...core.organisation.build.people import PEOPLE, Register, build_people
from ...core.organisation.build.settings import OBSERVATIONS, SETTINGS, build_observations, build_settings
from ...core.organisation.build.table import Table
from ...core.organisation.networks import Networks, Span, span_of
from ...core.organisation.snapshot import Snapshot
from ...core.words.catalogue import Catalogue
from ...core.words.faults import Fault, Faults, nearest, quoted
from ...core.words.vocabulary import ELSEWHERE
from ..faults import BadInput, stop_if_any
from ..tables import FORMATS, Shelf
from ..yamltree import Cursor, read_yaml
from .access_rules import read_access_rules
from .catalogue import read_controls, shipped_catalogue
from .manifest import Manifest, read_manifest
from .services import read_services

TABLES = (
    "people",
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
NOT_YET = ("meetings",)
_YAML = ("organisation", "services", "access-rules")


@dataclass(frozen=True)
class Read:
    """A snapshot, and the tables that it was made from (only settings, unless all are asked for)."""

    snapshot: Snapshot
    tables: Mapping[str, Table]

    def setting_line(self, row: int) -> str:
        """Where a setting stands, as FILE:LINE."""
        settings = self.tables.get(SETTINGS.name)
        return "" if settings is None or row < 0 else f"{settings.name}:{settings.line_of(row)}"


@dataclass(frozen=True)
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


def read_snapshot(folder: Path, keep_tables: bool = False) -> Read:
    """Reads a snapshot folder; raises BadInput with all faults of all files. `keep_tables` keeps every table as it was read."""
    faults = Faults()
    if not folder.is_dir():
        what = "is not a folder" if folder.exists() else "does not exist"
        raise BadInput([Fault(str(folder), 0, f"{what}; name the folder that holds organisation.yaml and people")])
    if folder.is_symlink():  # what it leads to may change while we read
        folder = folder.parent / folder.readlink()
    manifest = read_manifest(folder, faults)
    stop_if_any(faults)
    shelf = Shelf(folder, (PEOPLE, MEMBERS, SETTINGS, OBSERVATIONS, AUTHENTICATORS))
    organisation = _read_organisation(folder / "organisation.yaml", faults)
    people = _people_table(shelf, faults)
    register = None if people is None else build_people(people, faults)
    groups, members = shelf.table(GROUPS, faults), shelf.table(MEMBERS, faults)
    built = build_groups(groups, members, register, faults)
    if register is None:
        stop_if_any(faults)
        raise AssertionError("a snapshot without people names a fault")
    draft = _draft(organisation, register, built)
    snapshot, tables = _rest(draft, folder, shelf, register, built, manifest, faults)
    stop_if_any(faults)
    _note_strays(folder, faults)
    tables |= {"people": people, "groups": groups, "members": members}
    kept = {name: table for name, table in tables.items() if table is not None and (keep_tables or name == "settings")}
    return Read(replace(snapshot, notes=tuple(faults.notes)), kept)


def _rest(
    draft: Snapshot,
    folder: Path,
    shelf: Shelf,
    register: Register,
    groups: GroupsBuilt,
    manifest: Manifest | None,
    faults: Faults,
) -> tuple[Snapshot, dict[str, Table | None]]:
    """The snapshot with all that is read once people are known, and the tables that it stands in."""
    services = read_services(folder / "services.yaml", draft, faults)
    if services is not None and manifest is not None and manifest.untold:
        # no settings of theirs, so no factory values either
        services = tuple(
            replace(service, factory={}) if service.id in manifest.untold else service for service in services
        )
    specs = (PARTNERS, SETTINGS, OBSERVATIONS, AUTHENTICATORS, PASSES, MEETINGS)
    tables = {spec.name: shelf.table(spec, faults) for spec in specs}
    partners = build_partners(tables["partners"], faults)
    active, inactive = build_settings(
        tables["settings"], draft.catalogue, services, register, groups.ids, groups.known, faults
    )
    snapshot = replace(
        draft,
        services=services,
        settings=active,
        inactive_settings=inactive,
        observations=build_observations(tables["observations"], draft.catalogue, services, register, faults),
        partners=partners,
        partner_columns=frozenset(tables["partners"].columns if tables["partners"] is not None else ()),
        authenticators=build_authenticators(tables["authenticators"], register, faults),
        passes=build_passes(tables["passes"], register, draft.taken_at, faults),
        meetings=build_meetings(tables["meetings"], services, register, faults),
        access_rules=read_access_rules(folder / "access-rules.yaml", draft, draft.networks, draft.resources, faults),
        people_whole=manifest is None or manifest.people_whole,
    )
    return snapshot, tables


def _people_table(shelf: Shelf, faults: Faults) -> Table | None:
    """The table people, without which there is no snapshot."""
    table = shelf.table(PEOPLE, faults)
    if table is None and not any(fault.file.startswith(str(shelf.folder / "people")) for fault in faults.found):
        faults.add(str(shelf.folder), 0, "has no people table; write people.csv with the columns id, login and kind")
    return table


def _draft(organisation: _Organisation | None, register: Register, groups: GroupsBuilt) -> Snapshot:
    """The snapshot so far: enough for selectors to be checked against."""
    known = organisation or _Organisation("", 0, "", None, None, shipped_catalogue())
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
    top = read_yaml(path, str(path), "snapshot/1", faults)
    if top is None:
        return None
    fields = top.fields(
        ("usher-gate", "name", "taken_at"),
        ("domains", "privileged_roles", "second_factor_default", "networks", "resources", "controls"),
    )
    name = fields["name"].text("a name") if "name" in fields else None
    taken = fields["taken_at"].time() if "taken_at" in fields else None
    domains = frozenset(fields["domains"].texts("a domain")) if "domains" in fields else None
    privileged = frozenset(fields["privileged_roles"].texts("a role")) if "privileged_roles" in fields else None
    if "second_factor_default" in fields:
        fields["second_factor_default"].choice(("on", "off", "true", "false"))
    default = "second_factor_default" in fields and fields["second_factor_default"].raw in ("on", "true")
    networks, resources = _read_networks(fields), _read_resources(fields)
    catalogue = read_controls(fields["controls"], shipped_catalogue()) if "controls" in fields else shipped_catalogue()
    text = "" if name is None or taken is None else str(fields["taken_at"].raw)
    return _Organisation(name or "", taken or 0, text, domains, privileged, catalogue, networks, resources, default)


def _read_networks(fields: dict[str, Cursor]) -> Networks:
    spans: dict[str, list[Span]] = {}
    for name, entry in (fields["networks"].entries() if "networks" in fields else {}).items():
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


def _read_resources(fields: dict[str, Cursor]) -> dict[str, frozenset[str]]:
    entries = fields["resources"].entries() if "resources" in fields else {}
    return {name: frozenset(entry.texts("a tag")) for name, entry in entries.items()}


def _note_strays(folder: Path, faults: Faults) -> None:
    """Names files that look like a part of a snapshot and are none: a misspelt table would be missing without a word."""
    for path in sorted(folder.iterdir()):
        if path.suffix in FORMATS and path.stem not in TABLES:
            faults.note(f"{path.name} is no table of a snapshot, and is not read; {nearest(path.stem, TABLES)}")
        elif path.suffix in (".yaml", ".yml") and (path.stem not in _YAML or path.suffix == ".yml"):
            faults.note(
                f"{path.name} is no part of a snapshot, and is not read; {nearest(path.name, [f'{stem}.yaml' for stem in _YAML])}"
            )
        elif path.suffix in FORMATS and path.stem in NOT_YET:
            faults.note(f"{path.name} is not used by this version")
