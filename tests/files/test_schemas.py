"""The shipped schemas accept what the readers accept, and refuse a few things that they refuse."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from random import Random
from typing import Any

import jsonschema
import pytest
import yaml
from hypothesis import given, settings

import usher_gate
from tests.organisations import organisations, write_org
from tests.program import call
from tests.reference import Org
from usher_gate.baselines import STRENGTHS, starter_text
from usher_gate.files.schema_parts import schema_text
from usher_gate.files.schemas import schemas
from usher_gate.outputs.forms import result_schemas

PACKAGE = Path(usher_gate.__file__).parent


class Loader12(yaml.SafeLoader):
    """YAML as version 1.2 reads it: on, off, yes and no are words, and days and times are texts."""


Loader12.yaml_implicit_resolvers = {
    key: [(tag, pattern) for tag, pattern in rules if not tag.endswith((":timestamp", ":bool"))]
    for key, rules in yaml.SafeLoader.yaml_implicit_resolvers.items()
}
Loader12.add_implicit_resolver("tag:yaml.org,2002:bool", __import__("re").compile("^(true|false)$"), list("tf"))


def validate(name: str, data: Any) -> None:
    schema = json.loads((PACKAGE / "schemas" / f"{name}.schema.json").read_text())
    jsonschema.Draft202012Validator(schema).validate(data)


def load(path: Path) -> Any:
    return yaml.load(path.read_text(), Loader12)


def validate_folder(folder: Path) -> None:
    for name, path in (("snapshot", "snapshot/organisation.yaml"), ("services", "snapshot/services.yaml"),
                       ("baseline", "baseline.yaml"), ("exceptions", "exceptions.yaml")):  # fmt: skip
        if (folder / path).exists():
            validate(name, load(folder / path))


def test_the_demo_and_its_check_fit_the_schemas(demo: Path) -> None:
    validate_folder(demo)
    for path in sorted((demo / "changes").iterdir()):
        validate("changes", load(path))
    validate("check", json.loads(call("check", "--format", "json").out))


def test_what_gathering_reads_and_writes_fits_the_schemas(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(demo / "practice")
    validate("mapping", load(Path("roster-map.yaml")))
    assert call("gather").status == 0
    validate("manifest", json.loads(Path("snapshot/manifest.json").read_text()))
    with pytest.raises(jsonschema.ValidationError):
        validate(
            "mapping", {"usher-gate": "mapping/1", "into": [{"table": "people", "columns": {"id": {"form": "x"}}}]}
        )


@pytest.mark.parametrize("strength", STRENGTHS)
def test_the_starter_baselines_fit_the_schema(strength: str) -> None:
    validate("baseline", yaml.load(starter_text(strength), Loader12))


@settings(max_examples=40)
@given(organisations())
def test_what_the_readers_accept_fits_the_schemas(made: tuple[Org, Random]) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(made[0], folder, made[1], ("csv",))
        validate_folder(folder)
        done = call("check", "--snapshot", folder / "snapshot", "--baseline", folder / "baseline.yaml",
                    "--exceptions", folder / "exceptions.yaml", "--format", "json")  # fmt: skip
        validate("check", json.loads(done.out))


@pytest.mark.parametrize(
    "expect", [{"control": "a.b"}, {"person": "shoe-size", "is": "1"}, {"all-of": []}, {"count": {}, "is": 1}]
)
def test_the_baseline_schema_refuses_what_is_no_condition(expect: Any) -> None:
    rule = {"id": "R", "title": "t", "expect": expect}
    with pytest.raises(jsonschema.ValidationError):
        validate("baseline", {"usher-gate": "baseline/1", "name": "n", "version": "1", "rules": [rule]})


def test_the_shipped_schemas_are_the_generated_ones() -> None:
    for name, schema in (schemas() | result_schemas()).items():
        assert (PACKAGE / "schemas" / f"{name}.schema.json").read_text() == schema_text(schema)


RESULTS = [
    "check --rule DOOR-01", "why asta.brandt@northmere.example door.waiting-room", "why N1171 --rule SIGN-02", "why N1171 line.encryption", "why N1171",
    "why --control broadcast.audience --value public", "why --set confidential", "check --compare unit:/Fleet --compare service:quaychat",
    "sign-in asta.brandt@northmere.example", "sign-in asta.brandt@northmere.example --resource cargo-portal", "sign-in N1171 --resource directory-console --network head-office",
    "sign-in --kind guest --home-domain coastguard.example.org --resource meetings", "holes", "holes --proof mfa", "rehearse", "door", "door N1171", "door --meeting dock-plans", "door --meetings",
    "rehearse --draft drafts/cargo-portal.yaml", "rehearse --changes changes/own-organisation-only.yaml", "rehearse --changes changes/partners.yaml", "mend --rule DOOR-01 --rule SIGN-11", "check --keep", "history", "history --since 0", "guests", "guests --ask asked --on 2026-11-20", "guests --read review --on 2026-12-05", "exceptions", "baseline", "baseline --rule DOOR-01", "baseline --controls", "baseline --uncovered",
]  # fmt: skip


def test_every_json_form_has_the_same_head_and_fits_its_schema(demo: Path, demo_plan: Path) -> None:
    seen = set()
    for line in RESULTS:
        data = json.loads(demo_plan.read_text() if line == "mend" else call(*line.split(), "--format", "json").out)
        assert list(data)[:3] == ["usher-gate", "organisation", "taken_at"], line
        assert (data["organisation"], data["taken_at"]) == ("Northmere Ferries", "2026-11-20T06:00:00Z")
        name, _, version = data["usher-gate"].partition("/")
        name = name if version == "1" else f"{name}-{version}"
        validate(name, data)
        seen.add(name)
    assert seen == set(result_schemas())
