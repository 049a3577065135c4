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
from ...core.words.faults import as_key
from ...core.words.times import rfc3339
from ...core.words.vocabulary import CONDITION_WORDS
from ..binary import LARGEST_LOG, open_file, read_text
from ..snapshot.manifest import NAME as MANIFEST
from ..snapshot.manifest import with_files
from ..tables import FORMATS, IN_PIECES
from ..write import new_bytes, new_file, whole_folder, writing

ORGANISATION, RULES = "organisation.yaml", "access-rules.yaml"


def write_snapshot(
    folder: Path,
    into: Path,
    before: Snapshot,
    after: Snapshot,
    tables: Mapping[str, Table],
    changed: Mapping[str, Table],
) -> None:
    """Writes the snapshot after changes into a folder that is not there yet, or empty, whole or not at all.

    A manifest then lists the new files; what was missing when the snapshot was gathered is still missing.
    """
    with whole_folder(into) as inside:
        _write_inside(inside, folder, before, after, tables, changed)


def _write_inside(
    into: Path,
    folder: Path,
    before: Snapshot,
    after: Snapshot,
    tables: Mapping[str, Table],
    changed: Mapping[str, Table],
) -> None:
    """Write the files of the changed snapshot: copies of those that stay, and new tables for those that change."""
    new = {name: table for name, table in changed.items() if tables.get(name) is not table}
    changed_default = after.second_factor_default != before.second_factor_default
    changed_rules = after.access_rules != before.access_rules
    made_anew = {MANIFEST} | ({ORGANISATION} if changed_default else set()) | ({RULES} if changed_rules else set())
    for path in sorted(folder.iterdir()):
        if path.is_dir() and path.name in IN_PIECES and path.name not in new:
            with writing(into / path.name):
                (into / path.name).mkdir(mode=0o700)
            for piece in sorted(each for each in path.iterdir() if each.is_file()):
                _copy(piece, into / path.name / piece.name)
        elif path.is_file() and path.name not in made_anew and not (path.suffix in FORMATS and path.stem in new):
            _copy(path, into / path.name)
    for name, table in new.items():
        with new_file(into / f"{name}.csv") as stream:
            writer = csv.writer(stream, lineterminator="\n")
            writer.writerow(table.columns)
            writer.writerows(zip(*(cells_of(table, column) for column in table.columns), strict=True))
    if changed_default:
        with new_file(into / ORGANISATION) as stream:
            stream.write(_with_default(read_text(folder / ORGANISATION), after.second_factor_default))
    if changed_rules:
        rules = [rule_object(rule) for rule in after.access_rules or ()]
        with new_file(into / RULES) as stream:
            yaml.safe_dump(
                {"usher-gate": "access-rules/1", "rules": rules}, stream, sort_keys=False, allow_unicode=True
            )

    if (folder / MANIFEST).is_file():
        with new_file(into / MANIFEST) as stream:
            stream.write(with_files(read_text(folder / MANIFEST), into))


def _copy(path: Path, to: Path) -> None:
    with open_file(path, LARGEST_LOG) as source, new_bytes(to) as stream:
        shutil.copyfileobj(source, stream, 1 << 20)


def _with_default(text: str, on: bool) -> str:
    word = "on" if on else "off"
    line = f'second_factor_default: "{word}"'
    found = re.subn(r"(?m)^second_factor_default\s*:.*$", line, text)
    return found[0] if found[1] else f"{text.rstrip()}\n{line}\n"


def rule_object(rule: AccessRule) -> dict[str, Any]:
    """Return an access rule as it is written."""
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
        outcome["require"] = {as_key(rule.require.operator): list(rule.require.proofs)}
    session: dict[str, Any] = {}
    if rule.longest_hours is not None:
        session["longest_hours"] = rule.longest_hours
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
    """Return a selector as it is written."""
    if selector.key == "not":
        return {"not": selector_object(selector.parts[0])}
    if selector.parts:
        return {as_key(selector.key): [selector_object(part) for part in selector.parts]}
    if selector.key in ("any", "break-glass"):
        return {as_key(selector.key): selector.values[0] == "true"}
    key = selector.key if selector.key.startswith("attr.") else as_key(selector.key)
    return {key: list(selector.values)}
