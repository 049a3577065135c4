"""Writes what is generated: the JSON Schemas, the page of controls, the command reference. `--check` only compares."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path

from usher_gate.files.catalogue import shipped_catalogue
from usher_gate.files.schemas import schema_texts

ROOT = Path(__file__).resolve().parent.parent
_AREAS = {
    "door": "Door: who gets into a meeting", "room": "Room: what people may do inside", "line": "Line: how it is carried", "broadcast": "Broadcast",
    "call": "Call", "contact": "Contact with outside", "app": "Apps", "file": "Files", "team": "Teams and groups", "guest": "Guests", "sign-in": "Sign-in",
}  # fmt: skip


def controls_page() -> str:
    """docs/controls.md from the catalogue."""
    catalogue = shipped_catalogue()
    parts = [
        "# The controls\n\nGenerated from the catalogue by `make docs`; `usher-gate baseline --controls` lists the same, and an organisation's own\n"
        "controls with them. Values stand with the weakest first; a set has no order.\n"
    ]
    for area, title in _AREAS.items():
        rows = []
        for control in catalogue.controls:
            if control.area != area:
                continue
            kind = control.kind
            values = (
                " < ".join(f"`{word}`" for word in kind.words)
                or {True: "a number, higher is stricter", False: "a number, lower is stricter"}[kind.higher]
            )
            rows.append(
                f"| `{control.id}` | {control.title} | {'words joined by `;`' if kind.name == 'set' else values} | {control.weak} |"
            )
        parts.append(
            f"\n## {title}\n\n| control | what it is | values | what goes wrong when it is weak |\n| --- | --- | --- | --- |\n"
            + "\n".join(rows)
            + "\n"
        )
    rows = [f"| `{', '.join(f'{c} = {v}' for v in vs)}` | `{', '.join(f'{d} = {w}' for w in ws)}` | {each.because} |"
            for each in catalogue.contradictions for c, vs in [each.first] for d, ws in [each.second]]  # fmt: skip
    parts.append(
        "\n## Values that cannot work together\n\n| this | and this | because |\n| --- | --- | --- |\n"
        + "\n".join(rows)
        + "\n"
    )
    return "".join(parts)


def commands_page() -> str:
    """docs/commands.md from `--help`."""
    import importlib

    from usher_gate.cli.main import VERBS, usage
    from usher_gate.cli.parser import Parser

    os.environ["COLUMNS"] = "100"
    parts = [f"# The commands\n\nGenerated from `--help` by `make docs`.\n\n```text\n{usage()}```\n"]
    for verb in VERBS:
        module = importlib.import_module(f"usher_gate.cli.{verb.replace('-', '_')}")
        parser = Parser(verb, module.__doc__, module.EXAMPLES, getattr(module, "TAKES", ""))
        module.add_arguments(parser)
        parts.append(f"\n## usher-gate {verb}\n\n```text\n{parser.format_help()}```\n")
    return "".join(parts)


def main() -> int:
    """Writes, or says what is out of date."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true", help="write nothing; exit with 1 if anything is out of date")
    check = parser.parse_args().check
    made = {ROOT / "src" / "usher_gate" / path: text for path, text in schema_texts().items()}
    made |= {ROOT / "docs" / "controls.md": controls_page(), ROOT / "docs" / "commands.md": commands_page()}
    stale = [path for path, text in made.items() if not path.exists() or path.read_text("utf-8") != text]
    for path in stale:
        if check:
            print(f"{path.relative_to(ROOT)} is out of date; run make docs")
        else:
            path.write_text(made[path], "utf-8")
            print(f"wrote {path.relative_to(ROOT)}")
    return 1 if check and stale else 0


if __name__ == "__main__":
    sys.exit(main())
