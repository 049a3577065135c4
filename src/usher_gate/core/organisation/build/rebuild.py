"""A snapshot built again from tables of which some were changed in memory: the same checks, the same columns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from ...words.faults import Faults
from ..snapshot import Snapshot
from .credentials import build_authenticators, build_passes
from .groups import build_groups
from .meetings import build_meetings
from .partners import build_partners
from .people import build_people
from .settings import build_observations, build_settings
from .table import Table
from .units import unit_names, with_listed_units


def build_again(before: Snapshot, tables: Mapping[str, Table], faults: Faults) -> Snapshot:
    """Return the snapshot of these tables; all that does not stand in a table is as before."""
    names = unit_names(tables.get("units"), faults)
    register = with_listed_units(build_people(tables["people"], faults), names)
    groups = build_groups(tables.get("groups"), tables.get("members"), register, faults)
    services, catalogue = before.services, before.catalogue
    settings = build_settings(tables.get("settings"), catalogue, services, register, groups.ids, groups.known, faults)
    return replace(
        before,
        people=register.people,
        inactive=register.inactive,
        units=register.units,
        groups=groups.groups,
        unit_paths=register.unit_paths,
        unit_names=names,
        group_ids=tuple(groups.ids),
        group_titles=groups.titles,
        group_names_known=groups.known,
        settings=settings.active,
        inactive_settings=settings.inactive,
        ignored=settings.ignored,
        observations=build_observations(tables.get("observations"), catalogue, services, register, faults),
        partners=build_partners(tables.get("partners"), faults),
        authenticators=build_authenticators(tables.get("authenticators"), register, faults),
        passes=build_passes(tables.get("passes"), register, before.taken_at, faults),
        meetings=build_meetings(tables.get("meetings"), services, register, faults),
    )
