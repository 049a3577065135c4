"""Answers at borders that generated faults crossed without any other test noticing."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests import tiny
from tests.program import call
from tests.tiny import write_tiny
from usher_gate.files.tables import csv_

HEAD = "usher-gate: changes/1\ntitle: Trial\nchanges:\n"


@pytest.fixture(autouse=True)
def _here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)


def test_lines_of_a_large_table_are_those_of_the_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    settings = tiny.SETTINGS.replace("guests,true", "everyone,").replace("\n", "\r\n", 1)
    write_tiny(tmp_path, {"snapshot/settings.csv": settings})
    small = json.loads(call("check", "--format", "json").out)["roots"]
    monkeypatch.setattr(csv_, "SMALL", 1)
    assert json.loads(call("check", "--format", "json").out)["roots"] == small
    assert "settings.csv:2" in {root["where"] for root in small}


def test_a_table_that_is_only_read_by_rehearse_is_not_missing_and_a_stray_link_is_nothing(tmp_path: Path) -> None:
    write_tiny(tmp_path, {"snapshot/sign_ins.csv": "time,person,resource\n"})
    (tmp_path / "snapshot" / "notes.txt").symlink_to("nowhere")
    done = call("check", "--format", "json")
    assert done.status in (0, 1, 3), done.err
    missing = json.loads(done.out)["snapshot"]["missing"]
    assert "sign_ins" not in missing and "authenticators" in missing


def test_a_baseline_without_a_snapshot_may_choose_a_unit(tmp_path: Path) -> None:
    baseline = tiny.BASELINE.replace("{kind: member}", "{unit: /Fleet}")
    write_tiny(tmp_path, {"baseline.yaml": baseline, "usher-gate.toml": 'baseline = "baseline.yaml"\n'})
    done = call("baseline")
    assert (done.status, done.err) == (0, "")


def test_keys_are_read_with_hyphens_and_with_underscores_but_not_both(tmp_path: Path) -> None:
    answers = []
    for key in ("no-weaker-than", "no_weaker_than"):
        write_tiny(tmp_path, {"baseline.yaml": tiny.BASELINE.replace("no-weaker-than", key)})
        answers.append(call("check", "--format", "json").out.replace(key, "KEY"))
    assert json.loads(answers[0])["findings"] == json.loads(answers[1])["findings"]
    twice = tiny.SERVICES + "    self_service: []\n"
    write_tiny(tmp_path, {"snapshot/services.yaml": twice})
    done = call("check")
    assert (
        done.status == 2
        and "services.yaml:7: services[0]: the key 'self_service' occurs here twice (first in line 6)" in done.err
    )


@pytest.mark.parametrize(("hours", "said"), [("0", False), ("48", True)])
def test_a_notice_says_how_long_a_change_takes_only_where_it_takes_time(tmp_path: Path, hours: str, said: bool) -> None:
    write_tiny(tmp_path, {"snapshot/services.yaml": tiny.SERVICES + f"    settle_hours: {hours}\n"})
    change = "set: {service: tidecall, control: door.waiting-room, scope: organisation, value: hosts}"
    (tmp_path / "c.yaml").write_text(f"{HEAD}  - {change}\n")
    assert call("rehearse", "--changes", "c.yaml", "--notices", "n").status in (0, 1)
    texts = "".join(path.read_text() for path in (tmp_path / "n").glob("*.eml"))
    assert "Tidecall" in texts or "tidecall" in texts
    assert (f"up to {hours} hours" in " ".join(texts.split())) == said and "up to 0 hours" not in texts


def test_the_same_instant_with_another_offset_changes_nothing(tmp_path: Path) -> None:
    first, *rows = tiny.PEOPLE.splitlines()
    times = ["2026-11-01T06:00:00Z" if row.startswith("P4") else "" for row in rows]
    lines = [f"{first},reviewed_at", *(f"{row},{time}" for row, time in zip(rows, times, strict=True))]
    people = "\n".join(lines) + "\n"
    write_tiny(tmp_path, {"snapshot/people.csv": people})
    (tmp_path / "c.yaml").write_text(
        HEAD + '  - people: {who: {kind: guest}, reviewed_at: "2026-11-01T08:00:00+02:00"}\n'
    )
    done = call("rehearse", "--changes", "c.yaml")
    assert "change 1: changes nothing" in done.err


def test_a_rule_that_no_longer_has_to_be_supported_is_weaker(tmp_path: Path) -> None:
    strict = tiny.BASELINE.replace("    pinned: true\n", "    pinned: true\n    must_support: true\n")
    write_tiny(tmp_path, {"baseline.yaml": strict, "new.yaml": tiny.BASELINE})
    answer = json.loads(call("rehearse", "--baseline", "new.yaml", "--format", "json").out)
    assert [(each["id"], each["direction"]) for each in answer["baseline"]["rules"]] == [("R1", "weaker")]


def test_a_range_of_addresses_written_as_ipv6_is_of_ipv4(tmp_path: Path) -> None:
    write_tiny(
        tmp_path,
        {
            "snapshot/organisation.yaml": tiny.ORGANISATION.replace("192.0.2.0/24", '"::ffff:192.0.2.0/120"'),
            "snapshot/access-rules.yaml": """\
usher-gate: access-rules/1
rules:
  - {id: A1, mode: enforce, people: {include: {any: true}}, resources: {include: any}, when: {network: [office]}, outcome: {deny: true}}
""",
        },
    )
    for address, is_inside in (("192.0.2.9", True), ("192.0.3.9", False)):
        done = call("sign-in", "P3", "--resource", "meetings", "--address", address, "--format", "json")
        answer = json.loads(done.out)
        assert ({row["decision"]["outcome"] for row in answer["rows"]} == {"denied"}) == is_inside, address


def test_a_pass_that_starts_now_is_live_and_not_to_come(tmp_path: Path) -> None:
    passes = "person,issued_at,starts_at,expires_at,single_use\nP2,2026-11-19T06:00:00Z,2026-11-20T06:00:00Z,2026-11-21T06:00:00Z,true\n"
    rules = "".join(
        f"  - {{id: R{n}, title: t, audience: {{login: 'ben@*'}}, expect: {{person: passes.{name}, is: {n}}}}}\n"
        for n, name in enumerate(("coming", "live"))
    )
    write_tiny(
        tmp_path,
        {
            "usher-gate.toml": 'snapshot = "snapshot"\nbaseline = "baseline.yaml"\n',
            "snapshot/passes.csv": passes,
            "baseline.yaml": tiny.BASELINE[: tiny.BASELINE.index("  - id")] + rules,
        },
    )
    done = call("check", "--format", "json")
    assert json.loads(done.out)["findings"] == []


def test_who_has_a_value_where_the_licence_is_not_known(tmp_path: Path) -> None:
    write_tiny(
        tmp_path, {"snapshot/services.yaml": tiny.SERVICES + "    needs: {door.waiting-room: {licences: [plus]}}\n"}
    )
    done = call("why", "--control", "door.waiting-room", "--value", "guests", "--format", "json")
    people = json.loads(done.out)["people"]
    assert [(each["id"], each["has"]) for each in people] == [(f"P{n}", False) for n in range(1, 6)]


def test_the_first_person_may_be_a_sponsor_and_a_rank_may_have_eighteen_digits(tmp_path: Path) -> None:
    first, *rows = tiny.PEOPLE.splitlines()
    people = "\n".join(
        [f"{first},sponsor", *(f"{row},{'ada@northmere.example' if row.startswith('P4') else ''}" for row in rows)]
    )
    settings = (
        tiny.SETTINGS.replace("pinned", "pinned,rank")
        .replace("guests,true", "guests,true,123456789012345678")
        .replace("on,\n", "on,,\n")
    )
    write_tiny(tmp_path, {"snapshot/people.csv": people + "\n", "snapshot/settings.csv": settings})
    answer = json.loads(call("guests", "--on", "2026-11-20", "--format", "json").out)
    assert [each["sponsor"] for each in answer["guests"]] == ["P1"]
