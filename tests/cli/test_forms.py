"""What other programs take of a check, each form held against an independent program of its own kind."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import subprocess
import sys
from collections import Counter
from pathlib import Path
from typing import Any
from unittest import mock
from xml.etree import ElementTree

import pytest
from markdown_it import MarkdownIt

from tests import tiny
from tests.page import Page
from tests.program import call
from tests.tiny import write_tiny

SARIF = Path(sys.prefix) / "share" / "sarif"  # what tools/from-npm.sh brought


def written(name: str, demo: Path, *options: object) -> str:
    done = call("check", "--format", name, *options, cwd=demo)
    assert done.status == 1, done.err
    return done.out


@pytest.fixture
def checked(demo: Path) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(call("check", "--format", "json", cwd=demo).out)
    return found


def test_junit_is_read_by_another_program(demo: Path, checked: dict[str, Any]) -> None:
    from junitparser import Failure, JUnitXml

    whole = JUnitXml.fromstring(written("junit", demo).encode())
    names = [suite.name for suite in whole]
    assert names == sorted(names) and "tidecall" in names
    failing: dict[str, set[str]] = {}
    for suite in whole:
        for case in suite:
            if any(isinstance(said, Failure) for said in case.result):
                failing.setdefault(suite.name, set()).add(case.name.split()[0])
    expected: dict[str, set[str]] = {}
    for finding in checked["findings"]:
        if finding["verdict"] == "drifts":
            expected.setdefault(finding["service"] or "without a service", set()).add(finding["rule"])
    assert failing == expected
    assert whole.failures == sum(map(len, expected.values()))


def test_openmetrics_is_read_by_another_program(demo: Path, checked: dict[str, Any]) -> None:
    from prometheus_client.openmetrics.parser import text_string_to_metric_families

    parse: Any = text_string_to_metric_families
    families = {family.name: family for family in parse(written("openmetrics", demo))}
    received = {sample.labels.get("verdict"): sample.value for sample in families["usher_gate_verdicts"].samples}
    assert received == checked["summary"]["verdicts"]
    drifting = sum(sample.value for sample in families["usher_gate_people_drifting"].samples)
    assert drifting == checked["summary"]["drifting_people"]
    doors = json.loads(call("door", "--format", "json", cwd=demo).out)
    (open_doors,) = families["usher_gate_doors_open"].samples
    assert open_doors.value == sum(each["open"] for each in doors["doors"])


def test_openmetrics_keeps_names_as_they_are(demo: Path) -> None:
    from prometheus_client.openmetrics.parser import text_string_to_metric_families

    name, path = 'North\\mere "Ferries"\\n', demo / "snapshot" / "organisation.yaml"
    path.write_text(re.sub(r"(?m)^name: .*$", lambda _: f"name: {json.dumps(name)}", path.read_text()))
    parse: Any = text_string_to_metric_families
    samples = [sample for family in parse(written("openmetrics", demo)) for sample in family.samples]
    assert {sample.labels["organisation"] for sample in samples} == {name}


def test_sarif_fits_its_schema_and_another_program_finds_no_fault(
    demo: Path, checked: dict[str, Any], tmp_path: Path
) -> None:
    path = tmp_path / "drift.sarif"
    path.write_text(written("sarif", demo))
    schema = ["--schemafile", str(SARIF / "package" / "sarif-2.1.0.json")]
    done = subprocess.run(
        [sys.executable, "-m", "check_jsonschema", *schema, str(path)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout
    report = tmp_path / "report.sarif"
    program = [
        str(SARIF / "package" / "Sarif.Multitool"),
        "validate",
        str(path),
        "--output",
        str(report),
        "--log",
        "ForceOverwrite",
    ]
    subprocess.run(
        program,
        env={"DOTNET_SYSTEM_GLOBALIZATION_INVARIANT": "1", "HOME": str(tmp_path)},
        capture_output=True,
        check=True,
        timeout=120,
    )
    faults = Counter(result["ruleId"] for result in json.loads(report.read_text())["runs"][0]["results"])
    assert set(faults) <= {"SARIF2005"}, faults  # it would like an address of ours to point at, and we make none up
    every = json.loads(path.read_text())["runs"][0]["results"]
    locked, results = every[: len(checked["lockouts"])], every[len(checked["lockouts"]) :]
    assert {result["ruleId"] for result in locked} == {"lockout"}
    assert len(results) == len(checked["roots"])
    settings = (demo / "snapshot" / "settings.csv").read_text().splitlines()
    for result, root in zip(results, checked["roots"], strict=True):
        place = result["locations"][0].get("physicalLocation")
        if place is not None:
            row = settings[place["region"]["startLine"] - 1]
            assert row.startswith(f"{root['service']},{root['control']},{root['scope']},"), row


def test_fingerprints_stay_the_same_when_people_come_and_go(demo: Path) -> None:
    def prints() -> set[str]:
        runs = json.loads(written("sarif", demo))["runs"]
        return {next(iter(result["partialFingerprints"].values())) for result in runs[0]["results"]}

    before = prints()
    people = demo / "snapshot" / "people.csv"
    people.write_text(
        "".join(row for row in people.read_text().splitlines(keepends=True) if not row.startswith("N1002,"))
    )
    assert len(before) > 20 and prints() == before


def test_oscal_is_read_by_another_program(demo: Path, checked: dict[str, Any]) -> None:
    from trestle.oscal.assessment_results import Model

    text = written("oscal", demo)
    assert text == written("oscal", demo)  # the same identifiers each time
    whole = Model.model_validate_json(text)
    (result,) = whole.assessment_results.results
    assert len(result.observations or ()) == len(checked["roots"])
    states = Counter(finding.target.status.state.value for finding in result.findings or () if finding.target.status)
    assert states["not-satisfied"] > 10 and states["satisfied"] > 0
    drifting = {finding["rule"] for finding in checked["findings"] if finding["verdict"] == "drifts"}
    for finding in json.loads(text)["assessment-results"]["results"][0]["findings"]:
        rules = finding["title"].partition(" by ")[2].split(", ")
        if finding["target"]["status"]["state"] == "satisfied":
            assert not set(rules) & drifting


def test_ocsf_fits_its_schema(demo: Path, checked: dict[str, Any]) -> None:
    import jsonschema
    from ocsf_json_schema import OcsfJsonSchemaEmbedded, get_ocsf_schema

    schema = OcsfJsonSchemaEmbedded(get_ocsf_schema(version="1.4.0")).get_class_schema(
        "compliance_finding", profiles=[]
    )
    validator = jsonschema.Draft202012Validator(schema)
    lines = [json.loads(line) for line in written("ocsf", demo).splitlines()]
    assert len(lines) == sum(finding["verdict"] == "drifts" for finding in checked["findings"])
    uids = {line["finding_info"]["uid"] for line in lines}
    assert len(uids) == len(lines)
    for line in lines[:: max(len(lines) // 40, 1)]:
        validator.validate(line)


HOSTILE = "<b>&amp;\"\\\\|`*_[x](y)\u202e'=1+1,;$(id)"  # what some form or program would read as more than a text
SHOWN = HOSTILE.replace("\u202e", "<U+202E>")


def _hostile(folder: Path) -> str:
    """An organisation whose every name is hostile, and where one person drifts; returns that person's login."""
    login = f"ben{HOSTILE}@northmere.example"
    rule = f"title: {json.dumps(HOSTILE)}\n    mend: {json.dumps(HOSTILE)}\n    because: {json.dumps(HOSTILE)}"
    write_tiny(
        folder,
        {
            "snapshot/people.csv": tiny.PEOPLE.replace("ben@northmere.example", '"' + login.replace('"', '""') + '"'),
            "snapshot/organisation.yaml": tiny.ORGANISATION.replace("Tiny", json.dumps(HOSTILE)),
            "snapshot/groups.csv": 'id,name\ng1,"' + HOSTILE.replace('"', '""') + '"\n',
            "snapshot/members.csv": "group,member\ng1,P2\n",
            "baseline.yaml": tiny.BASELINE.replace("title: The second factor is required", rule).replace(
                "Tiny baseline", json.dumps(HOSTILE)
            ),
            "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n",
        },
    )
    return login


def _texts(value: Any) -> set[str]:
    """All texts in a JSON value."""
    if isinstance(value, dict):
        return set().union(*map(_texts, value.values()))
    return set().union(*map(_texts, value)) if isinstance(value, list) else {value} if isinstance(value, str) else set()


def test_hostile_names_are_text(tmp_path: Path) -> None:
    login = _hostile(tmp_path)
    shown = login.replace(HOSTILE, SHOWN)
    whole = json.loads(written("json", tmp_path))
    (drift,) = (each for each in whole["findings"] if each["verdict"] == "drifts")
    assert drift["subject"]["login"] == login and whole["rules"][1]["mend"] == whole["groups"][0]["name"] == HOSTILE
    row = next(csv.DictReader(io.StringIO(written("csv", tmp_path))))
    assert (row["login"], row["title"]) == (shown, SHOWN)
    run = json.loads(written("sarif", tmp_path))["runs"][0]
    assert run["tool"]["driver"]["rules"][1]["shortDescription"]["text"] == HOSTILE
    for form in ("oscal", "ocsf"):
        assert any(HOSTILE in text for text in _texts(json.loads(written(form, tmp_path))))
    suites = ElementTree.fromstring(written("junit", tmp_path))
    (failure,) = suites.iter("failure")
    assert failure.text is not None and failure.text.splitlines()[:2] == [shown, SHOWN]
    assert suites.get("name") == f"{SHOWN} against {SHOWN} 1"
    cells = Page(MarkdownIt("commonmark").enable("table").render(written("markdown", tmp_path, "--show", "all")))
    assert shown in cells.texts and not cells.tags & {"b", "em", "code", "a", "strong"}
    call("report", cwd=tmp_path)
    page = Page((tmp_path / "report.html").read_text())
    assert shown in page.texts and "b" not in page.tags


@pytest.mark.parametrize("width", [40, 66, 80, 120])
def test_the_next_call_is_read_by_a_shell_as_it_is(tmp_path: Path, width: int) -> None:
    """Copied into a real shell, at any width. A person whose login cannot be typed is named by the id."""
    program = tmp_path / "bin" / "usher-gate"
    program.parent.mkdir()
    program.write_text("#!/bin/sh\nprintf '%s\\n' \"$@\"\n")
    program.chmod(0o755)
    logins = ("ben;touch${IFS}x;`id`|$(id)'@northmere.example", "ben\u202e@northmere.example", "b b@northmere.example")
    for found in logins:
        people = tiny.PEOPLE.replace("ben@northmere.example", found)
        none = "usher-gate: exceptions/1\nexceptions: []\n"
        write_tiny(tmp_path, {"snapshot/people.csv": people, "exceptions.yaml": none})
        for arguments in (("check", "--show", "all"), ("why", "P2")):
            with mock.patch.dict(os.environ, COLUMNS=str(width)):
                text = call(*arguments, cwd=tmp_path).out.rpartition("\nNext: ")[2].partition("\nMore: ")[0]
            path = {"PATH": f"{program.parent}:/usr/bin:/bin"}
            done = subprocess.run(
                ["sh", "-c", text], cwd=tmp_path, env=path, capture_output=True, text=True, check=True
            )
            who = found if found.isprintable() else "P2"
            assert (done.stdout.splitlines(), done.stderr) == (["why", who, "--rule", "R2"], "")
            assert call(*done.stdout.splitlines(), cwd=tmp_path).status == 0
    assert sorted(path.name for path in tmp_path.iterdir()) == sorted(
        ["baseline.yaml", "bin", "exceptions.yaml", "snapshot", "usher-gate.toml"]
    )


@pytest.mark.parametrize("name", ["sarif", "junit", "oscal", "ocsf", "openmetrics"])
def test_forms_can_be_narrowed_and_written_whole(demo: Path, name: str) -> None:
    out = demo / f"drift.{name}"
    done = call("check", "--rule", "DOOR-01", "--format", name, "--out", out, cwd=demo)
    assert done.status == 1 and "DOOR-01" in out.read_text()
