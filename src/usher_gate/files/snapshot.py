"""The snapshot: one folder with everything known about the organisation at one time."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ..core.organisation.networks import Networks, Span, span_of
from ..core.organisation.partners import PARTNER_COLUMNS, Partner
from ..core.organisation.snapshot import Snapshot
from ..core.words.catalogue import Catalogue
from ..core.words.vocabulary import ELSEWHERE
from .access_rules import read_access_rules
from .catalogue import read_controls, shipped_catalogue
from .credentials import AUTHENTICATORS, read_authenticators, read_passes
from .faults import BadInput, Fault, Faults, nearest, quoted
from .manifest import read_manifest
from .people import MEMBERS, PEOPLE, GroupsRead, Register, filled, flags, read_groups, read_people
from .services import read_services
from .settings import OBSERVATIONS, SETTINGS, read_observations, read_settings
from .tables import FORMATS, Shelf
from .tables.interface import FLAG, Spec, Table
from .yamltree import Cursor, read_yaml

PARTNERS = Spec("partners", ("domain",), tuple(PARTNER_COLUMNS), dict.fromkeys(PARTNER_COLUMNS, FLAG))
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
    """A snapshot, and what is needed to point back into its files."""

    snapshot: Snapshot
    settings: Table | None

    def setting_line(self, row: int) -> str:
        """Where a setting stands, as FILE:LINE."""
        return "" if self.settings is None or row < 0 else f"{self.settings.name}:{self.settings.line_of(row)}"


@dataclass(frozen=True)
class _Organisation:
    name: str
    taken_at: int
    taken_text: str
    privileged: frozenset[str] | None
    catalogue: Catalogue
    networks: Networks = field(default_factory=lambda: Networks({}))
    resources: dict[str, frozenset[str]] = field(default_factory=dict)
    second_factor_default: bool = False


def read_snapshot(folder: Path) -> Read:
    """Reads a snapshot folder; raises BadInput with all faults of all files."""
    faults = Faults()
    if not folder.is_dir():
        what = "is not a folder" if folder.exists() else "does not exist"
        raise BadInput([Fault(str(folder), 0, f"{what}; name the folder that holds organisation.yaml and people")])
    if folder.is_symlink():  # what it leads to may change while we read
        folder = folder.parent / folder.readlink()
    manifest = read_manifest(folder, faults)
    faults.stop_if_any()
    shelf = Shelf(folder, (PEOPLE, MEMBERS, SETTINGS, OBSERVATIONS, AUTHENTICATORS))
    organisation = _read_organisation(folder / "organisation.yaml", faults)
    register = read_people(shelf, faults)
    groups = read_groups(shelf, register, faults)
    catalogue = organisation.catalogue if organisation is not None else shipped_catalogue()
    draft = _draft(organisation, register, groups, catalogue)
    services = read_services(folder / "services.yaml", draft, faults) if draft is not None else None
    if (
        services is not None and manifest is not None and manifest.untold
    ):  # no settings of theirs, so no factory values either
        services = tuple(replace(each, factory={}) if each.id in manifest.untold else each for each in services)
    partners = _read_partners(shelf, faults)
    if draft is None or register is None:
        faults.stop_if_any()
        raise AssertionError("a snapshot without people names a fault")
    settings, table = read_settings(shelf, catalogue, services, register, groups.ids, groups.known, faults)
    observations = read_observations(shelf, catalogue, services, register, faults)
    authenticators = read_authenticators(shelf, register, faults)
    passes = read_passes(shelf, register, draft.taken_at, faults)
    rules = read_access_rules(folder / "access-rules.yaml", draft, draft.networks, draft.resources, faults)
    faults.stop_if_any()
    _note_strays(folder, faults)
    snapshot = replace(
        draft,
        services=services,
        settings=settings,
        observations=observations,
        partners=partners,
        authenticators=authenticators,
        passes=passes,
        access_rules=rules,
        people_whole=manifest is None or manifest.people_whole,
        notes=tuple(faults.notes),
    )
    return Read(snapshot, table)


def _draft(
    organisation: _Organisation | None, register: Register | None, groups: GroupsRead, catalogue: Catalogue
) -> Snapshot | None:
    """The snapshot so far: enough for selectors to be checked against."""
    if register is None:
        return None
    known = organisation or _Organisation("", 0, "", None, catalogue)
    return Snapshot(
        known.name,
        known.taken_at,
        known.taken_text,
        catalogue,
        register.people,
        register.units,
        groups.groups,
        known.privileged,
        None,
        None,
        unit_paths=register.unit_paths,
        group_ids=tuple(groups.ids),
        group_titles=groups.titles,
        group_names_known=groups.known,
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
    if "domains" in fields:
        fields["domains"].texts("a domain")
    privileged = frozenset(fields["privileged_roles"].texts("a role")) if "privileged_roles" in fields else None
    if "second_factor_default" in fields:
        fields["second_factor_default"].choice(("on", "off", "true", "false"))
    default = "second_factor_default" in fields and fields["second_factor_default"].raw in ("on", "true")
    networks, resources = _read_networks(fields), _read_resources(fields)
    catalogue = read_controls(fields["controls"], shipped_catalogue()) if "controls" in fields else shipped_catalogue()
    if name is None or taken is None:
        return _Organisation(name or "", taken or 0, "", privileged, catalogue, networks, resources, default)
    return _Organisation(name, taken, str(fields["taken_at"].raw), privileged, catalogue, networks, resources, default)


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


def _read_partners(shelf: Shelf, faults: Faults) -> tuple[Partner, ...] | None:
    table = shelf.table(PARTNERS, faults)
    if table is None:
        return None
    filled(table, faults)
    columns = {name: flags(table, name, missing == "true", faults) for name, missing in PARTNER_COLUMNS.items()}
    domains = table.columns["domain"].texts().take(np.arange(table.rows))
    first: dict[str, int] = {}
    for row, domain in enumerate(domains):
        before = first.setdefault(domain.casefold(), row)
        if before != row and domain:
            table.fault(
                row, f"the partner {quoted(domain)} stands here and in line {table.line_of(before)}; keep one", faults
            )
    return tuple(
        Partner(
            domain,
            {name: None if column is None else "true" if column[row] else "false" for name, column in columns.items()},
        )
        for row, domain in enumerate(domains)
    )


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
