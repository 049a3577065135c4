"""The exceptions file: agreed departures, each with a reason, an approver and an end."""

from __future__ import annotations

from pathlib import Path

from ...core.organisation.snapshot import Snapshot
from ...core.verdicts.rules import AgreedException, Baseline
from ...core.words.faults import Faults
from ..faults import BadInput, stop_if_any
from ..snapshot.selectors import read_selector, service_ids
from ..yamltree import YamlNode, once_each, read_yaml


def read_exceptions(
    path: Path, baseline: Baseline, snapshot: Snapshot | None
) -> tuple[tuple[AgreedException, ...], tuple[str, ...]]:
    """Return the exceptions, sorted by id, and notes about them; raises BadInput with every fault."""
    faults = Faults()
    top = read_yaml(path, str(path), "exceptions/1", faults)
    if top is None:
        raise BadInput(faults.found)
    fields = top.fields(("usher-gate", "exceptions"))
    items = fields["exceptions"].items() if "exceptions" in fields and not fields["exceptions"].empty else []
    found = once_each(items, "exception", lambda item: read_exception(item, baseline, snapshot))
    stop_if_any(faults)
    return found, tuple(faults.notes)


def read_exception(item: YamlNode, baseline: Baseline, snapshot: Snapshot | None) -> AgreedException | None:
    """Read one exception; None, with faults, where it is not whole."""
    before = len(item.faults.found)
    fields = item.fields(("id", "rules", "reason", "approved_by", "until"), ("who", "partners", "services"))
    name = fields.text("id", "an id")
    rules = fields.among("rules", "rule", [rule.id for rule in baseline.rules]) or ()
    reason, approver = (
        fields[key].text(due) if key in fields else None
        for key, due in (("reason", "a reason"), ("approved_by", "an approver"))
    )
    until = fields.day("until")
    if ("who" in fields) == ("partners" in fields):
        item.fault("an exception has either who (people) or partners (domains); write one of them")
    who = fields.read("who", lambda node: read_selector(node, snapshot), None)
    partners = fields.texts("partners", "a domain", 1)
    services = fields.among("services", "service", service_ids(snapshot))
    if len(item.faults.found) > before or not name or not reason or not approver or until is None:
        return None
    return AgreedException(
        id=name,
        rules=tuple(sorted(set(rules))),
        who=who,
        partners=partners,
        services=services,
        reason=reason,
        approved_by=approver,
        until=until,
    )
