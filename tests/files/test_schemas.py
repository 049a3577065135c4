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
from usher_gate.files.schemas import schema_texts

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
    for path, text in schema_texts().items():
        assert (PACKAGE / path).read_text() == text
