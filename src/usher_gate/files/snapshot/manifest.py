"""manifest.json: what a gathered snapshot holds, byte for byte, where it came from, and what is missing from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from ...core.words.faults import Faults, quoted
from ...core.words.record import record
from ..binary import LARGEST_TABLE, LARGEST_WRITTEN, open_file, read_bytes

NAME = "manifest.json"
FORM = "manifest/1"
GATHERED = "gathered"  # the key of organisation.yaml by which a snapshot says that it must have a manifest
YOUR_OWN = f"remove {NAME} and the line {GATHERED}: true of organisation.yaml"


@record
class Missing:
    """A source that could not be read: which, why, and what is not known for want of it."""

    source: str
    why: str
    tables: tuple[str, ...]
    settings_of: tuple[str, ...]


@record
class Manifest:
    """Describes what check needs of it.

    What is missing, the services that some source was asked for (None: not said), and its own digest.
    """

    missing: tuple[Missing, ...]
    services: frozenset[str] | None
    sha256: str

    @property
    def people_whole(self) -> bool:
        """Return whether no source of people is missing."""
        return not any("people" in source.tables for source in self.missing)

    @property
    def not_gathered(self) -> frozenset[str]:
        """Return the services whose settings are not known."""
        return frozenset(service for source in self.missing for service in source.settings_of)


def digest(path: Path) -> str:
    """Return the SHA-256 of a file's bytes, in hexadecimal; raises BadInput for what is no regular file."""
    import hashlib  # only where there is a manifest

    with open_file(path, LARGEST_TABLE) as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def file_entry(path: Path, rows: int | None) -> dict[str, Any]:
    """Return what the manifest says of a file."""
    return {"name": path.name, "sha256": digest(path), "bytes": path.stat().st_size, "rows": rows}


def manifest_text(
    taken_at: str,
    finished_at: str,
    sources: Sequence[Mapping[str, Any]],
    files: Sequence[Mapping[str, Any]],
    missing: Sequence[Missing],
    services: Sequence[str],
) -> str:
    """Return the manifest as it is written."""
    import json

    lost = [
        {
            "source": source.source,
            "why": source.why,
            "tables": list(source.tables),
            "settings_of": list(source.settings_of),
        }
        for source in missing
    ]
    whole = {
        "usher-gate": FORM,
        "taken_at": taken_at,
        "finished_at": finished_at,
        "sources": list(sources),
        "services": sorted(services),
        "files": list(files),
        "missing": lost,
    }
    return json.dumps(whole, ensure_ascii=False, indent=1) + "\n"


def with_files(text: str, folder: Path) -> str:
    """Return a manifest that lists the files of another folder: of a snapshot that was gathered, and then changed.

    What is missing stays missing.
    """
    import json

    whole = json.loads(text)
    rows = {entry["name"]: (entry["sha256"], entry["rows"]) for entry in whole["files"]}
    whole["files"] = entries = [
        file_entry(path, None) for path in sorted(folder.iterdir()) if path.is_file() and path.name != NAME
    ]
    for entry in entries:
        sha256, count = rows.get(entry["name"], ("", None))
        entry["rows"] = count if sha256 == entry["sha256"] else None
    return json.dumps(whole, ensure_ascii=False, indent=1) + "\n"


def read_manifest(folder: Path, faults: Faults) -> Manifest | None:
    """Return the manifest of a snapshot, after every file was compared with it.

    None where there is none, or, with faults, where it is wrong.
    """
    path = folder / NAME
    if not path.exists() and not path.is_symlink():
        return None
    import hashlib
    import json

    data = read_bytes(path, str(path), faults, LARGEST_WRITTEN)
    if data is None:
        return None
    try:
        found = json.loads(data.decode("utf-8"))
        listed = {
            str(one_file["name"]): (str(one_file["sha256"]), int(one_file["bytes"])) for one_file in found["files"]
        }
        missing = tuple(
            Missing(str(source["source"]), str(source["why"]), tuple(source["tables"]), tuple(source["settings_of"]))
            for source in found["missing"]
        )
        services = None if found.get("services") is None else frozenset(map(str, found["services"]))
        if found["usher-gate"] != FORM:
            raise ValueError
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        faults.add(
            str(path), 0, f"is no manifest of the form {FORM}; gather again, or {YOUR_OWN} if this snapshot is your own"
        )
        return None
    for name, (sha256, size) in sorted(listed.items()):
        file = folder / name
        if "/" in name or not file.is_file():
            faults.add(str(path), 0, f"{quoted(name)} is missing: the snapshot was cut short; gather again")
        elif file.stat().st_size != size or digest(file) != sha256:
            what = "cut short" if file.stat().st_size < size else "altered"
            faults.add(
                str(file),
                0,
                f"was {what} since it was gathered; gather again, or {YOUR_OWN} if you changed it on purpose",
            )
    for file in sorted(folder.iterdir()):
        if file.name not in listed and file.name != NAME and file.suffix in (".csv", ".jsonl", ".parquet", ".yaml"):
            faults.add(str(file), 0, f"was not gathered; take it out, or {YOUR_OWN} if you put it there on purpose")
    for source in missing:
        lost = [*source.tables, *(f"settings of {service}" for service in source.settings_of)]
        faults.note(
            f"the source {source.source} could not be read when this was gathered ({source.why}): not known are "
            f"{', '.join(lost)}"
        )
    return Manifest(missing, services, hashlib.sha256(data).hexdigest())
