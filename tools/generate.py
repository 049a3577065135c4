"""Writes what is generated: JSON Schemas, completion, the man page, tables of the docs. `--check` only compares."""

from __future__ import annotations

import argparse
import os
import re
import sys
import tomllib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from usher_gate.files.schema_parts import schema_text
from usher_gate.files.schemas import schemas
from usher_gate.files.snapshot.catalogue import shipped_catalogue
from usher_gate.outputs.fields import Field
from usher_gate.outputs.forms import FORMS, declared, result_schemas

ROOT = Path(__file__).resolve().parent.parent
_AREAS = {
    "door": "Door: who gets into a meeting", "room": "Room: what people may do inside", "line": "Line: how it is carried", "broadcast": "Broadcast",
    "call": "Call", "contact": "Contact with outside", "app": "Apps", "file": "Files", "team": "Teams and groups", "guest": "Guests", "sign-in": "Sign-in",
}  # fmt: skip


def controls_page() -> str:
    """docs/controls.md from the catalogue."""
    catalogue = shipped_catalogue()
    parts = [
        "# The controls\n\nGenerated from the catalogue by `make docs`.\n"
        "`usher-gate baseline --controls` lists the same, and an organisation's own controls with them.\nValues are listed weakest first; a set has no order.\n"
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
                f"| `{control.id}` | {control.title} | {'words joined by `;`' if kind.name == 'set' else values} | "
                f"{control.weak} |"
            )
        parts.append(
            f"\n## {title}\n\n| control | what it is | values | what goes wrong when it is weak |\n| --- | --- | --- "
            "| --- |\n" + "\n".join(rows) + "\n"
        )
    rows = [f"| `{', '.join(f'{c} = {v}' for v in vs)}` | `{', '.join(f'{d} = {w}' for w in ws)}` | {each.because} |"
            for each in catalogue.contradictions for c, vs in [each.first] for d, ws in [each.second]]  # fmt: skip
    parts.append(
        "\n## Values that cannot work together\n\n| this | and this | because |\n| --- | --- | --- |\n"
        + "\n".join(rows)
        + "\n"
    )
    return "".join(parts)


def _whole_parser() -> argparse.ArgumentParser:
    """One parser with every verb, for completion and the man page."""
    import importlib

    import shtab

    from usher_gate.cli.main import VERBS

    os.environ["COLUMNS"] = "100"
    whole = argparse.ArgumentParser(
        prog="usher-gate",
        description="Checks meeting restrictions and sign-in requirements against a security baseline.",
    )
    verbs = whole.add_subparsers(dest="verb", metavar="VERB")
    for verb, wanted in VERBS.items():
        module = importlib.import_module(f"usher_gate.cli.{verb.replace('-', '_')}")
        parser = verbs.add_parser(verb, help=wanted, description=module.__doc__, epilog=module.EXAMPLES,
                                  formatter_class=argparse.RawDescriptionHelpFormatter)  # fmt: skip
        module.add_arguments(parser)
        for action in parser._actions:
            if action.type is Path:
                action.complete = shtab.DIR if action.metavar == "DIR" else shtab.FILE  # type: ignore[attr-defined]
    return whole


def completions() -> dict[str, str]:
    """The completion script of each shell."""
    import shtab

    from usher_gate.cli.completion import SHELLS

    return {shell: shtab.complete(_whole_parser(), shell).rstrip() + "\n" for shell in SHELLS}


def man_page() -> str:
    """The man page, from the parsers."""
    from argparse_manpage.manpage import Manpage

    whole = _whole_parser()
    whole.man_short_description = "checks collaboration settings against a security baseline"  # type: ignore[attr-defined]
    page = re.sub(r"(?m)^'", r"\\&'", str(Manpage(whole, format="pretty")))  # a line may not begin as a macro does
    return (
        re.sub(
            r"^\.TH .*$", '.TH "usher\\-gate" "1" "" "usher\\-gate" "User commands"', page, count=1, flags=re.MULTILINE
        ).rstrip()
        + "\n"
    )


def methods_page() -> str:
    """docs/methods.md from the tables of authenticator types and of what logs call them."""
    from usher_gate.core.organisation.proofs import TYPES
    from usher_gate.files.sign_ins.methods import AMR, FACTORS

    names = {0: "Unknown", 1: "SMS", 2: "Security Question", 3: "Phone Call", 4: "Biometric", 5: "Push Notification", 6: "Hardware Token", 7: "OTP",
             8: "Email", 9: "U2F", 10: "WebAuthn", 11: "Password", 99: "Other"}  # fmt: skip
    yes = {True: "yes", False: ""}
    types = [
        f"| `{name}` | {each.factor} | {yes[each.phishing_resistant]} | {yes[each.hardware]} | {yes[each.restricted]} |"
        for name, each in TYPES.items()
    ]
    amr = [f"| `{word}` | {f'`{kind}`' if kind else 'nothing by itself'} |" for word, kind in AMR.items()]
    factors = [
        f"| {number} {names[number]} | {f'`{kind}`' if kind else 'nothing by itself'} |"
        for number, kind in FACTORS.items()
    ]
    return (
        "# Authenticator types, and what logs call them\n\nGenerated by `make docs`. Types follow NIST SP 800-63B.\n\n"
        "| type | a second factor | phishing-resistant | hardware | restricted |\n| --- | --- | --- | --- | --- |\n" + "\n".join(types)
        + "\n\nIf a word leaves more than one type open, it is read as the one that is worth least.\n"
        "So no one is taken to have shown more than is known.\n"
        "`mfa` (and `is_mfa`) says that several factors were used, but not which.\n"
        "If nothing better is known, it is read as `multi-factor-otp`, which is worth just that.\n\n## `amr` values (RFC 8176)\n\n| value | read as |\n| --- | --- |\n" + "\n".join(amr)
        + "\n\n## `auth_factors[].factor_type_id` (OCSF 1.x)\n\n| value | read as |\n| --- | --- |\n" + "\n".join(factors) + "\n"
    )  # fmt: skip


def type_words(schema: dict[str, Any]) -> str:
    """Return the type of a field in a few words."""
    if "const" in schema:
        return f"`{schema['const']}`"
    if "enum" in schema:
        return ", ".join(f"`{word}`" for word in schema["enum"])
    if "anyOf" in schema:
        parts = [type_words(each) for each in schema["anyOf"]]
        return " or ".join(dict.fromkeys(parts))
    if schema["type"] == "array":
        return f"list of {type_words(schema['items'])}"
    words = {"string": "text", "integer": "whole number", "boolean": "true or false", "null": "null"}
    return words.get(schema["type"], str(schema["type"]))


def field_rows(fields: Iterable[Field], above: str = "") -> Iterator[str]:
    """Yield a row for each field, those inside it after it."""
    for field in fields:
        is_list = field.type.schema.get("type") == "array"
        name = f"{above}{field.name}"
        optional = "; left out where it does not apply" if field.optional else ""
        yield f"| `{name}` | {type_words(field.type.schema)}{optional} | {field.says} |\n"
        yield from field_rows(field.type.members, f"{name}{'[]' if is_list else ''}.")


def forms_page() -> str:
    """docs/forms.md: every field of every result, from the declarations."""
    parts = [
        "# Every field of every result\n\nGenerated by `make docs` from the declarations in `src/usher_gate/outputs/results/`.\n"
        "`--format json` writes one object.\nIt begins with `usher-gate` (the name of the form), `organisation` and `taken_at` (when the snapshot was taken).\n"
        "`--format csv` writes a row for each entry; a list in a cell is joined by `; `.\n"
        "The JSON Schemas in `src/usher_gate/schemas/` are made from the same declarations.\n"
    ]  # fmt: skip
    for result in declared().values():
        parts.append(f"\n## `{result.schema}`\n\n{result.says}\n\n| field | type | meaning |\n| --- | --- | --- |\n")
        parts += field_rows(result.fields)
    parts.append("\n## Columns of CSV\n")
    for forms in FORMS.values():
        for rows in forms["csv"].load().csv if "csv" in forms else ():
            columns = "".join(f"| `{column.name}` | {column.says} |\n" for column in rows.columns)
            parts.append(f"\n### {rows.says}\n\n| column | meaning |\n| --- | --- |\n{columns}")
    return "".join(parts)


_KEYS = "<!-- every key, generated by `make docs` -->"


def gather_page() -> str:
    """docs/gather.md with its table of every key of every kind of source."""
    from usher_gate.sources.settings import KEYS, SOURCE_KINDS, keys_of

    rows = []
    for key, what in KEYS.items():
        needed = [kind for kind in SOURCE_KINDS if key in keys_of(kind)[0]]
        may = [kind for kind in SOURCE_KINDS if key in keys_of(kind)[1]]
        of = (
            "all"
            if len(needed) + len(may) == len(SOURCE_KINDS) and not (needed and may)
            else ", ".join([*(f"**{kind}**" for kind in needed), *may])
        )
        rows.append(f"| `{key}` | {f'**{of}**' if of == 'all' and needed else of} | {what} |\n")
    before, _, after = (ROOT / "docs/gather.md").read_text("utf-8").split(_KEYS)
    table = "| key | of | what it says |\n| --- | --- | --- |\n" + "".join(rows)
    return f"{before}{_KEYS}\n\n{table}\n{_KEYS}{after}"


def lowest_versions() -> str:
    """constraints-lowest.txt.

    The lowest version of everything that pyproject.toml allows but the checkers, for `make test-lowest`.
    """
    project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
    extras = [extra for name, extra in project["optional-dependencies"].items() if name != "dev"]
    wanted = [*project["dependencies"], *(each for extra in extras for each in extra)]
    made = set()
    for each in wanted:
        found = re.fullmatch(r"([A-Za-z0-9_.-]+)(?:\[[^]]*\])?>=([0-9.]+)", each)
        if found is None:
            raise SystemExit(
                f"pyproject.toml: {each} is not of the form name>=version, so its lowest version is not known"
            )
        made.add(f"{found[1]}=={found[2]}\n")
    return "# Generated from pyproject.toml by `make docs`: the lowest versions that it allows.\n" + "".join(
        sorted(made, key=str.lower)
    )


def main() -> int:
    """Writes, or says what is out of date."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true", help="write nothing; exit with 1 if anything is out of date")
    check = parser.parse_args().check
    folder = ROOT / "src" / "usher_gate" / "schemas"
    made = {folder / f"{name}.schema.json": schema_text(each) for name, each in (schemas() | result_schemas()).items()}
    made[ROOT / "docs" / "controls.md"] = controls_page()
    made[ROOT / "docs" / "methods.md"] = methods_page()
    made[ROOT / "docs" / "forms.md"] = forms_page()
    made[ROOT / "docs" / "gather.md"] = gather_page()
    made[ROOT / "constraints-lowest.txt"] = lowest_versions()
    made |= {
        ROOT / "src" / "usher_gate" / "completion" / f"usher-gate.{shell}": text
        for shell, text in completions().items()
    }
    made[ROOT / "src" / "usher_gate" / "completion" / "usher-gate.1"] = man_page()
    stale = [path for path, text in made.items() if not path.exists() or path.read_text("utf-8") != text]
    for path in stale:
        if check:
            print(f"{path.relative_to(ROOT)} is out of date; run make docs")
        else:
            path.parent.mkdir(exist_ok=True)
            path.write_text(made[path], "utf-8")
            print(f"wrote {path.relative_to(ROOT)}")
    return 1 if check and stale else 0


if __name__ == "__main__":
    sys.exit(main())
