"""A snapshot written as files: what was changed in memory made anew, everything else copied as it is."""

from __future__ import annotations

import csv
import re
import shutil
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import yaml

from ...core.changes.sheet import cells_of
from ...core.organisation.access_rules import AccessRule, Conditions, ResourceChoice
from ...core.organisation.build.table import Table
from ...core.organisation.selector import Selector
from ...core.organisation.snapshot import Snapshot
from ...core.words.faults import Fault
from ...core.words.times import rfc3339
from ...core.words.vocabulary import CONDITION_WORDS
from ..faults import BadInput
from ..tables import FORMATS, IN_PIECES
from ..write import whole_file


def write_snapshot(
    folder: Path,
    into: Path,
    before: Snapshot,
    after: Snapshot,
    tables: Mapping[str, Table],
    changed: Mapping[str, Table],
) -> None:
    """Writes the snapshot after changes into a folder that is not there yet, or empty. The manifest, which speaks of the files as they were
    gathered, is left out."""
    if into.exists() and (not into.is_dir() or any(into.iterdir())):
        raise BadInput([Fault(str(into), 0, "is there already; name a folder that is not, or an empty one")])
    into.mkdir(parents=True, exist_ok=True)
    new = {name: table for name, table in changed.items() if tables.get(name) is not table}
    for path in sorted(folder.iterdir()):
        if path.is_dir() and path.name in IN_PIECES and path.name not in new:
            shutil.copytree(path, into / path.name)
        elif path.is_file() and path.name != "manifest.json" and not (path.suffix in FORMATS and path.stem in new):
            shutil.copyfile(path, into / path.name)
    for name, table in new.items():
        with whole_file(into / f"{name}.csv") as stream:
            writer = csv.writer(stream, lineterminator="\n")
            writer.writerow(table.columns)
            writer.writerows(zip(*(cells_of(table, column) for column in table.columns), strict=True))
    if after.second_factor_default != before.second_factor_default:
        _write_default(into / "organisation.yaml", after.second_factor_default)
    if after.access_rules != before.access_rules:
        rules = [rule_object(rule) for rule in after.access_rules or ()]
        with whole_file(into / "access-rules.yaml") as stream:
            yaml.safe_dump(
                {"usher-gate": "access-rules/1", "rules": rules}, stream, sort_keys=False, allow_unicode=True
            )


def _write_default(path: Path, on: bool) -> None:
    text, word = path.read_text("utf-8"), "on" if on else "off"
    line = f'second_factor_default: "{word}"'
    found = re.subn(r"(?m)^second_factor_default\s*:.*$", line, text)
    with whole_file(path) as stream:
        stream.write(found[0] if found[1] else f"{text.rstrip()}\n{line}\n")


def rule_object(rule: AccessRule) -> dict[str, Any]:
    """An access rule as it is written."""
    made: dict[str, Any] = {"id": rule.id, "title": rule.title, "mode": rule.mode}
    if rule.changed is not None:
        made["changed_at"] = rfc3339(rule.changed)
    made["people"] = {"include": selector_object(rule.include)}
    if rule.exclude is not None:
        made["people"]["exclude"] = selector_object(rule.exclude)
    made["resources"] = {"include": _choice(rule.resources_in or ResourceChoice(names=tuple(sorted(rule.resources))))}
    if rule.resources_out is not None:
        made["resources"]["exclude"] = _choice(rule.resources_out)
    when = _conditions(rule.when)
    if when:
        made["when"] = when
    made["outcome"] = _outcome(rule)
    return made


def _outcome(rule: AccessRule) -> dict[str, Any]:
    outcome: dict[str, Any] = {}
    if rule.deny:
        outcome["deny"] = True
    if rule.require is not None:
        outcome["require"] = {rule.require.operator: list(rule.require.proofs)}
    session: dict[str, Any] = {}
    if rule.longest_hours is not None:
        session["longest-hours"] = rule.longest_hours
    if rule.no_downloads:
        session["downloads"] = "deny"
    if session or not outcome:
        outcome["session"] = session
    return outcome


def _choice(choice: ResourceChoice) -> Any:
    if choice.any:
        return "any"
    return list(choice.names) if choice.names else {"tag": list(choice.tags)}


def _conditions(when: Conditions) -> dict[str, Any]:
    made: dict[str, Any] = {}
    if when.networks_in is not None or when.networks_out:
        network = {} if when.networks_in is None else {"include": sorted(when.networks_in)}
        made["network"] = network | ({"exclude": sorted(when.networks_out)} if when.networks_out else {})
    for name in CONDITION_WORDS:
        words = getattr(when, name)
        if words is not None:
            made[name] = sorted(words)
    return made


def selector_object(selector: Selector) -> dict[str, Any]:
    """A selector as it is written."""
    if selector.key == "not":
        return {"not": selector_object(selector.parts[0])}
    if selector.parts:
        return {selector.key: [selector_object(part) for part in selector.parts]}
    if selector.key in ("any", "break-glass"):
        return {selector.key: selector.values[0] == "true"}
    return {selector.key: list(selector.values)}
