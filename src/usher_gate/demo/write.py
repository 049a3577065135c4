"""Writes the made-up organisation as a working folder: snapshot, baseline, exceptions and usher-gate.toml."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path
from types import MappingProxyType

from ..baselines import keep_rules, starter_text
from ..files.snapshot.catalogue import shipped_catalogue
from ..files.write import new_file, whole_folder, writing
from . import practice, state
from .meetings import COLUMNS as MEETING_COLUMNS
from .meetings import meetings
from .people import COLUMNS, GROUPS, OWNERS, authenticators, memberships, people
from .review import write_review
from .sign_ins import COLUMNS as SIGN_IN_COLUMNS
from .sign_ins import draft, ocsf, sign_ins
from .weeks import changes_of, names


def _csv(columns: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(columns)
    writer.writerows(rows)
    return out.getvalue()


def _baseline() -> str:
    """Return the starter for every organisation, as far as Northmere's services go, and its own rules."""
    text = starter_text("every-organisation")
    ids = {line.removeprefix("  - id: ") for line in text.splitlines() if line.startswith("  - id: ")}
    supported = {"door", "room", "line", "broadcast", "contact", "app", "file", "team", "guest", "call"}
    unsupported = {control.id for control in shipped_catalogue().controls if control.area not in supported}
    blocks = text.split("  - id: ")[1:]
    left_out = {
        block.split("\n", 1)[0] for block in blocks if any(f"control: {control}," in block for control in unsupported)
    }
    kept = keep_rules(text, frozenset(ids - left_out))
    agreed = "within: [coastguard.example.org, shipyard.example.com]}     # our two partners"
    kept = kept.replace("within: []}     # write your partners' domains here", agreed, 1)
    kept = kept.replace("name: Every organisation", "name: Northmere collaboration baseline", 1)
    return (
        kept.replace(
            "# What every organisation can ask for without hindering its work. Change what does not fit: it is yours.",
            "# What Northmere Ferries asks for: the starter for every organisation, and its own rules (NM-…).",
            1,
        )
        + state.EXTRA_RULES
    )


@cache
def files() -> Mapping[str, str]:
    """Return every file of the working folder by its path, the same bytes every time (so they are made once)."""
    everybody = people()
    events = sign_ins(everybody)
    made = {
        "usher-gate.toml": state.TOML,
        "baseline.yaml": _baseline(),
        "exceptions.yaml": state.EXCEPTIONS,
        "snapshot/organisation.yaml": state.ORGANISATION,
        "snapshot/services.yaml": state.SERVICES,
        "snapshot/people.csv": _csv(COLUMNS, [person.row() for person in everybody]),
        "snapshot/units.csv": state.UNITS,
        "snapshot/groups.csv": _csv(("id", "name", "owner"), [(*group, OWNERS.get(group[0], "")) for group in GROUPS]),
        "snapshot/members.csv": _csv(("group", "member", "type"), memberships(everybody)),
        "snapshot/settings.csv": state.SETTINGS,
        "snapshot/observations.csv": state.OBSERVATIONS,
        "snapshot/meetings.csv": _csv(MEETING_COLUMNS, meetings({person.id: person.login for person in everybody})),
        "snapshot/partners.csv": state.PARTNERS,
        "snapshot/access-rules.yaml": state.ACCESS_RULES,
        "snapshot/passes.csv": state.PASSES,
        "snapshot/authenticators.csv": _csv(("person", "type", "id"), authenticators(everybody)),
        "snapshot/sign_ins.csv": _csv(SIGN_IN_COLUMNS, (event.row() for event in events)),
        "logs/2026-11-19.ocsf.jsonl": "".join(f"{line}\n" for line in ocsf(events, everybody, "2026-11-19")),
        "drafts/cargo-portal.yaml": draft(),
        "drafts/every-service.yaml": state.EVERY_SERVICE,
        "drafts/no-exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
        "changes/waiting-rooms.yaml": state.WAITING_ROOMS,
        "changes/own-organisation-only.yaml": state.OWN_ORGANISATION_ONLY,
        "changes/second-factor-1.yaml": state.SECOND_FACTOR[0],
        "changes/second-factor-2.yaml": state.SECOND_FACTOR[1],
        "changes/second-factor-3.yaml": state.SECOND_FACTOR[2],
        "changes/partners.yaml": state.PARTNERS_CHANGED,
        **{name: changes_of(day) for day, name in names()},
        **{f"practice/{name}": text for name, text in practice.files(everybody).items()},
    }
    return MappingProxyType(made)


def write_demo(folder: Path) -> None:
    """Writes the working folder, whole or not at all; raises BadInput for a folder that is there and not empty."""
    with whole_folder(folder, private=False) as inside:
        write_files(inside)


def write_files(folder: Path) -> None:
    """Writes the files of the working folder into one that is empty."""
    for name, text in files().items():
        path = folder / name
        with writing(path.parent):
            path.parent.mkdir(parents=True, exist_ok=True)
        with new_file(path, private=False) as stream:
            stream.write(text)
    write_review(folder)
