"""`usher-gate rehearse`: drafts, logs in every form, what cannot be used, and what OCSF and RFC 8176 words mean."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.compared import many
from tests.program import call, process
from tests.tiny import write_tiny
from usher_gate.files.sign_ins.interface import LogPart
from usher_gate.files.sign_ins.lines import blocks
from usher_gate.files.sign_ins.ocsf import types_of

RULES = """\
usher-gate: access-rules/1
rules:
  - id: A1
    mode: enforce
    people: {include: {any: true}}
    resources: {include: [console]}
    outcome: {require: {all_of: [mfa]}}
  - id: A2
    mode: observe
    people: {include: {any: true}}
    resources: {include: any}
    when: {client: [legacy]}
    outcome: {deny: true}
"""
HEAD = "time,person,resource,address,client,device,risk,shown,result\n"
AUTHENTICATORS = "person,type\nP1,multi-factor-otp\n"
PASSES = "person,issued_at,expires_at\n"
TIME = "2026-11-19T08:00:00Z"


@pytest.fixture
def tiny(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    write_tiny(
        tmp_path,
        {
            "snapshot/access-rules.yaml": RULES,
            "snapshot/authenticators.csv": AUTHENTICATORS,
            "snapshot/passes.csv": PASSES,
        },
    )
    monkeypatch.chdir(tmp_path)
    return tmp_path


def rehearse(*options: object) -> dict[str, Any]:
    done = call("rehearse", "--format", "json", *options)
    assert done.status in (0, 1, 3), done.err
    found: dict[str, Any] = json.loads(done.out)
    return found


def event(**changes: Any) -> dict[str, Any]:
    made = {
        "class_uid": 3002, "category_uid": 3, "activity_id": 1, "type_uid": 300201, "severity_id": 1, "time": 1763539200000, "status_id": 1,
        "metadata": {"version": "1.3.0", "product": {"vendor_name": "Northmere", "name": "log"}},
        "user": {"uid": "P1"}, "service": {"name": "console"}, "src_endpoint": {"ip": "192.0.2.7"},
        "http_request": {"user_agent": "Mozilla/5.0"}, "device": {"os": {"type_id": 100}, "is_managed": True},
    }  # fmt: skip
    return {key: value for key, value in {**made, **changes}.items() if value != "none"}


def ocsf(folder: Path, *events: dict[str, Any] | str) -> Path:
    path = folder / "log.jsonl"
    path.write_text("".join((each if isinstance(each, str) else json.dumps(each)) + "\n" for each in events))
    return path


def outcomes(result: dict[str, Any]) -> dict[tuple[str, str], int]:
    return {(each["now"], each["then"]): each["sign_ins"] for each in result["changes"]}


def test_the_snapshot_s_own_table_is_tried_on_the_observed_rules(tiny: Path) -> None:
    rows = [
        f"{TIME},P1,console,192.0.2.7,browser,,,memorized-secret;multi-factor-otp,allowed",
        f"{TIME},P2,meetings,192.0.2.7,legacy,,,,allowed",
    ]
    (tiny / "snapshot/sign_ins.csv").write_text(HEAD + "\n".join(rows) + "\n")
    result = rehearse()
    assert outcomes(result) == {("allowed", "allowed"): 1, ("allowed", "denied"): 1}
    assert [(each["id"], each["denied"], each["people"]) for each in result["rules"]] == [("A2", 1, 1)]
    assert [(each["name"], each["denied"]) for each in result["resources"]] == [("meetings", 1)]
    assert result["people"] == [
        {"id": "P2", "login": "ben@northmere.example", "challenged": 0, "stuck": 0, "denied": 1, "unknown": 0}
    ]
    assert result["days"] == [
        {"day": "2026-11-19", "sign_ins": 2, "got_in": 2, "challenged": 0, "stuck": 0, "denied": 1, "unknown": 0}
    ]
    shown = process("rehearse", cwd=tiny)
    assert shown.status == 0
    assert shown.answer.startswith("Of 2 sign-ins that got in, 1 would not any more (1 denied, 0 stuck): 1 person (")
    assert (
        call("rehearse", "--format", "csv").out
        == "person,login,challenged,stuck,denied,unknown\nP2,ben@northmere.example,0,0,1,0\n"
    )


def test_a_draft_takes_the_place_of_the_rules_and_says_whom_it_would_lock_out(tiny: Path) -> None:
    (tiny / "snapshot/sign_ins.csv").write_text(HEAD + f"{TIME},P2,console,192.0.2.7,browser,,,,denied\n")
    (tiny / "draft.yaml").write_text(RULES.replace("require: {all_of: [mfa]}", "deny: true"))
    result = rehearse("--draft", "draft.yaml")
    assert outcomes(result) == {("stuck", "denied"): 1}
    assert result["would_be"]["denied"] == 0  # it had not got in
    [lockout] = result["lockouts"]
    assert lockout == {
        "resource": "console",
        "people": ["P1"],
        "of": "privileged",
        "all": True,
        "rules": [{"id": "A1", "changed_at": None}],
    }
    (tiny / "eased.yaml").write_text("usher-gate: access-rules/1\nrules: []\n")
    assert rehearse("--draft", "eased.yaml")["would_be"]["eased"] == 1
    (tiny / "wrong.yaml").write_text(RULES.replace("[console]", "[consol]"))
    done = call("rehearse", "--draft", "wrong.yaml")
    assert done.status == 2
    assert "wrong.yaml:6" in done.err
    assert "'console'" in done.err


def parquet_log(path: Path, count: int, **columns: Any) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    times = [f"2026-11-19T08:{number // 60 % 60:02}:{number % 60:02}Z" if number % 7 else "" for number in range(count)]
    made = {"time": times, "person": ["P1"] * count, "resource": ["console"] * count, **columns}
    pq.write_table(
        pa.table({name: pa.array(cells) if isinstance(cells, list) else cells for name, cells in made.items()}),
        path,
        row_group_size=count // 14 + 1,
    )


def as_text(cells: list[Any]) -> Any:
    """Texts that claim to be UTF-8, and need not be."""
    import pyarrow as pa

    binary = pa.array([cell if isinstance(cell, bytes) else cell.encode() for cell in cells], pa.binary())
    return pa.StringArray.from_buffers(len(cells), *binary.buffers()[1:], binary.buffers()[0])


def test_a_parquet_log_of_many_row_groups_loses_no_event(tiny: Path) -> None:
    parquet_log(tiny / "log.parquet", 20_000)
    result = rehearse("--sign-ins", "log.parquet")
    assert (result["events"]["read"], result["events"]["decided"]) == (
        20_000,
        20_000 - 2_858,
    )  # every seventh has no time
    assert [(each["why"], each["value"], each["events"]) for each in result["unused"]] == [("says no time", "", 2_858)]


@pytest.mark.parametrize("form", ["parquet", "large.parquet", "jsonl"])
def test_a_null_among_what_was_shown_is_no_authenticator(tiny: Path, form: str) -> None:
    shown = [["memorized-secret", None], ["memorized-secret"], [], None]
    if form != "jsonl":
        import pyarrow as pa

        kind = pa.large_list(pa.string()) if form == "large.parquet" else pa.list_(pa.string())
        parquet_log(tiny / f"log.{form}", 4, time=[TIME] * 4, shown=pa.array(shown, kind))
    else:
        rows = [{"time": TIME, "person": "P1", "resource": "console", "shown": each} for each in shown]
        (tiny / "log.jsonl").write_text("".join(f"{json.dumps(row)}\n" for row in rows))
    unused = rehearse("--sign-ins", f"log.{form}")["unused"]
    assert [(each["value"], each["events"], each["first"]) for each in unused] == [
        ("memorized-secret;null", 1, f"log.{form}:1")
    ]


def test_arrow_s_errors_are_told_apart(tiny: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import pyarrow as pa

    parquet_log(tiny / "log.parquet", 1_000)
    whole = (tiny / "log.parquet").read_bytes()
    for damaged in (whole[:-40], b"PAR1" + whole[4:-8] + b"\0\0\0\x7fPAR1"):
        (tiny / "damaged.parquet").write_bytes(damaged)
        done = call("rehearse", "--sign-ins", "damaged.parquet")
        assert done.status == 2
        assert "damaged.parquet: is not a whole Parquet file; write it anew" in done.err
    other: dict[str, list[Any]] = {"person": ["P1"] * 14 + [b"P\xff"], "time": [TIME] * 13 + [b"\xff", TIME]}
    parquet_log(tiny / "other.parquet", 15, **{name: as_text(cells) for name, cells in other.items()})
    unused = rehearse("--sign-ins", "other.parquet")["unused"]
    assert {(each["value"], each["first"].rpartition(":")[2]) for each in unused} == {("\\xff", "14"), ("P\\xff", "15")}
    (tiny / "logs").mkdir()
    parquet_log(tiny / "logs/numbers.parquet", 15, client=[[1]] * 15)
    assert "the column client holds list<element: int64>; text is due" in call("rehearse", "--sign-ins", "logs").err

    def ours(*_: object) -> None:
        raise pa.ArrowInvalid("a mistake of ours")

    monkeypatch.setattr("usher_gate.files.sign_ins.interface.Meanings.batch", ours)
    assert "this is a bug" in call("rehearse", "--sign-ins", "log.parquet").err


def test_events_that_cannot_be_used_are_counted_and_placed(tiny: Path) -> None:
    rows = [
        f"{TIME},P9,console,,,,,,", f"{TIME},P1,consol,,,,,,", f"{TIME[:-1]},P1,console,,,,,,", f"{TIME},P1,console,192.0.2,,,,,", f"{TIME},,console,,,,,,",
        f"{TIME},P1,console,,telex,,,,", f"{TIME},P1,console,,,,,charm,", f"{TIME},P1,console", f"{TIME},eve@NORTHMERE.example,meetings,,browser,,,,allowed",
    ]  # fmt: skip
    (tiny / "snapshot/sign_ins.csv").write_text(HEAD + "\n".join(rows) + "\n")
    result = rehearse()
    assert (result["events"]["read"], result["events"]["decided"]) == (9, 1)  # a login will do for an id
    done = call("rehearse")
    assert done.status == 3
    assert done.answer.startswith("Only 1 of 9 events could be used: 1 event ")
    found = {
        (each["why"].split(" of ")[0], each["value"]): (each["events"], each["first"].rpartition(":")[2])
        for each in result["unused"]
    }
    assert found == {
        ("names a person who does not exist", "P9"): (1, "2"),
        ("names a resource that does not exist", "consol"): (1, "3"),
        ("says no time with an offset", TIME[:-1]): (1, "4"),
        ("names no IPv4 or IPv6 address", "192.0.2"): (1, "5"),
        ("says no person", ""): (1, "6"),
        ("says a client that is none", "telex"): (1, "7"),
        ("shows what is no authenticator type", "charm"): (1, "8"),
        ("has not 9 cells, as the first line has", ""): (1, "9"),
    }


def test_a_folder_is_read_whole_and_gives_the_same_in_every_form(tiny: Path) -> None:
    import pyarrow.csv as pacsv
    import pyarrow.parquet as pq

    rows = [
        f"{TIME},P{1 + number % 5},{('console', 'meetings')[number % 2]},192.0.2.{number % 250},app,managed,none,,"
        for number in range(300)
    ]
    logs = tiny / "logs"
    logs.mkdir()
    (logs / "a.csv").write_text(HEAD + "\n".join(rows) + "\n")
    table = pacsv.read_csv(logs / "a.csv", convert_options=pacsv.ConvertOptions(strings_can_be_null=True))
    pq.write_table(table, logs / "b.parquet", row_group_size=50)
    lines = [
        json.dumps({**{key: value for key, value in row.items() if value is not None}, "time": TIME})
        for row in table.to_pylist()
    ]
    (logs / "c.jsonl").write_text("\n".join(lines) + "\n")
    alone = [rehearse("--sign-ins", path) for path in sorted(logs.iterdir())]
    assert [each["changes"] for each in alone] == [alone[0]["changes"]] * 3
    both = rehearse("--sign-ins", logs)
    assert both["events"] == {
        "files": 3,
        "read": 900,
        "decided": 900,
        "unused": 0,
        "got_in": alone[0]["events"]["got_in"] * 3,
    }


@pytest.mark.parametrize(
    ("changes", "expected"),
    [
        ({}, ("challenged", "challenged")),  # nothing shown, but a second factor is registered
        ({"auth_factors": [{"factor_type_id": 11}, {"factor_type_id": 5}]}, ("allowed", "allowed")),
        ({"auth_factors": [{"factor_type_id": 11}, {"factor_type_id": 10}]}, ("allowed", "allowed")),  # WebAuthn
        ({"unmapped": {"amr": ["pwd", "mfa"]}}, ("allowed", "allowed")),
        ({"is_mfa": True}, ("allowed", "allowed")),
        ({"unmapped": {"amr": "pwd"}}, ("challenged", "challenged")),
        ({"user": {"uid": "8f3", "email_addr": "ADA@northmere.example"}}, ("challenged", "challenged")),
        ({"user": {"uid": "P2"}, "service": {"name": "Meetings room", "uid": "meetings"}}, ("allowed", "allowed")),
        (
            {"user": {"uid": "P2"}, "service": {"name": "meetings"}, "http_request": "none", "auth_protocol_id": 7},
            ("allowed", "denied"),
        ),
        (
            {"user": {"uid": "P2"}, "service": {"name": "meetings"}, "http_request": "none"},
            ("allowed", "unknown"),
        ),  # client not known
        (
            {
                "user": {"uid": "P2"},
                "service": {"name": "meetings"},
                "http_request": None,
                "device": None,
                "src_endpoint": None,
            },
            ("allowed", "unknown"),
        ),
    ],
)
def test_what_an_ocsf_event_says(tiny: Path, changes: dict[str, Any], expected: tuple[str, str]) -> None:
    result = rehearse("--sign-ins", ocsf(tiny, event(**changes)))
    assert outcomes(result) == {expected: 1}
    assert result["events"]["unused"] == 0


@pytest.mark.parametrize(
    ("odd", "why"),
    [
        (event(activity_id=2), "is no sign-in (activity_id 2)"),
        (event(class_uid=3001), "is of class 3001, not Authentication (3002)"),
        (event(metadata={"version": "0.9"}), "is of OCSF 0.9, not 1.x"),
        (event(time="yesterday"), "is not as OCSF has it: Expected `int`, got `str` - at `$.time`"),
        ('{"class_uid": 3002, "time": ', "is not JSON"),
        (event(user={"uid": "nobody"}), "names a person who does not exist"),
        (event(service={}), "says no resource"),
    ],
)
def test_an_odd_ocsf_event_is_counted_with_its_reason_and_line(tiny: Path, odd: dict[str, Any] | str, why: str) -> None:
    result = rehearse("--sign-ins", ocsf(tiny, event(), odd, event()))
    assert result["events"] == {"files": 1, "read": 3, "decided": 2, "unused": 1, "got_in": 2}
    assert [(each["why"], each["first"].rpartition(":")[2]) for each in result["unused"]] == [(why, "2")]


@pytest.mark.parametrize(
    ("amr", "factors", "is_mfa", "types"),
    [
        (["pwd", "otp"], [], None, {"memorized-secret", "single-factor-otp"}),
        (["pwd", "otp", "mfa"], [], None, {"memorized-secret", "single-factor-otp"}),
        (["pwd", "mfa"], [], None, {"memorized-secret", "multi-factor-otp"}),
        (["sc", "face", "user", "made-up"], [], None, {"multi-factor-crypto-device"}),
        ([], [1, 3, 11], True, {"out-of-band-sms", "out-of-band-voice", "memorized-secret"}),
        ([], [4, 8, 0, None], None, set()),
    ],
)
def test_methods_are_read_as_the_least_that_they_can_be(
    amr: list[str], factors: list[int | None], is_mfa: bool | None, types: set[str]
) -> None:
    assert types_of(amr, factors, is_mfa) == types


def test_the_demo_s_log_is_what_ocsf_says(demo: Path) -> None:
    import jsonschema
    from ocsf_json_schema import OcsfJsonSchemaEmbedded, get_ocsf_schema

    schema = OcsfJsonSchemaEmbedded(get_ocsf_schema("1.3.0")).get_class_schema("authentication", ["host"])
    lines = (demo / "logs/2026-11-19.ocsf.jsonl").read_text().splitlines()
    for line in lines[::80]:
        jsonschema.validate(json.loads(line), schema)
    of_the_day = rehearse("--sign-ins", "logs")
    assert of_the_day["events"]["decided"] == len(lines)
    table = next(each for each in rehearse()["days"] if each["day"] == "2026-11-19")
    assert table["sign_ins"] == len(lines)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("--sign-ins", "nowhere"), "nowhere: does not exist"),
        (("--sign-ins", "usher-gate.toml"), "of no known kind"),
        (("--sign-ins", "snapshot/empty"), "holds no file that ends in .csv"),
        ((), "has no table sign_ins; write --sign-ins PATH"),
        (("--sign-ins", "wrong.csv"), "wrong.csv:1: unknown column 'persom'; did you mean 'person'?"),
        (("--sign-ins", "wrong.jsonl"), "wrong.jsonl:1: unknown column 'persom'; did you mean 'person'?"),
        (("--sign-ins", "wrong.parquet"), "is not a whole Parquet file"),
        (("--draft", "nowhere.yaml", "--sign-ins", "wrong.csv"), "nowhere.yaml does not exist"),
    ],
)
def test_files_that_cannot_be_used_at_all(tiny: Path, arguments: tuple[str, ...], message: str) -> None:
    (tiny / "snapshot/empty").mkdir()
    (tiny / "wrong.csv").write_text("time,persom,resource\n")
    (tiny / "wrong.jsonl").write_text(json.dumps({"time": TIME, "persom": "P1"}) + "\n")
    (tiny / "wrong.parquet").write_bytes(b"PAR1 and then nothing")
    done = call("rehearse", *arguments)
    assert done.status == 2
    assert message in done.err
    assert "Traceback" not in done.err


@given(
    st.lists(st.text(st.characters(min_codepoint=97, max_codepoint=122), max_size=40), max_size=30),
    st.integers(1, 6),
    st.booleans(),
)
@settings(max_examples=many(200))
def test_the_parts_of_a_file_hold_each_line_once_with_its_number(
    tmp_path_factory: pytest.TempPathFactory, lines: list[str], pieces: int, ends: bool
) -> None:
    path = tmp_path_factory.mktemp("parts") / "x.jsonl"
    path.write_text("\n".join(lines) + ("\n" if ends else ""))
    size = path.stat().st_size
    cuts = [size * number // pieces for number in range(pieces)]
    found = []
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("usher_gate.files.sign_ins.lines.BLOCK", 16)
        for first, last in zip(cuts, [*cuts[1:], None], strict=True):
            for data, line in blocks(LogPart(path, first, last)):
                found += list(enumerate(data.decode().removesuffix("\n").split("\n"), line))
    assert [each for each in found if each[1]] == [each for each in enumerate(lines, 1) if each[1]]


@pytest.mark.parametrize("ending", ["jsonl", "parquet", "csv"])
def test_the_answer_is_the_same_with_any_number_of_processes(
    demo: Path, monkeypatch: pytest.MonkeyPatch, ending: str
) -> None:
    import pyarrow.csv as pacsv
    import pyarrow.parquet as pq

    logs = demo / "more"
    logs.mkdir()
    table = pacsv.read_csv(demo / "snapshot/sign_ins.csv", convert_options=pacsv.ConvertOptions(include_columns=["time", "person", "resource", "client"],
                           column_types={"time": "string"}))  # fmt: skip
    if ending == "parquet":
        pq.write_table(table, logs / "a.parquet", row_group_size=1500)
    else:
        rows = (
            [json.dumps(row) for row in table.to_pylist()]
            if ending == "jsonl"
            else (demo / "snapshot/sign_ins.csv").read_text().splitlines()
        )
        (logs / f"a.{ending}").write_text("\n".join(rows) + "\n")
    (logs / "b.csv").write_text((demo / "snapshot/sign_ins.csv").read_text())
    alone = process("rehearse", "--sign-ins", "more", "--format", "json").out
    monkeypatch.setattr("usher_gate.engine.replaying.SMALL", 0)
    monkeypatch.setattr("os.sched_getaffinity", lambda _: set(range(3)))
    together = call("rehearse", "--sign-ins", "more", "--format", "json").out
    assert alone == together
    assert json.loads(alone)["events"]["read"] == 40_000


def test_which_of_very_many_unusable_things_are_named_depends_on_nothing_but_them(
    tiny: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """However the log is shared out: the same ones, with all their events, and the first place of each."""
    monkeypatch.setattr("usher_gate.files.sign_ins.interface._KEPT", 20)
    logs = tiny / "logs"
    logs.mkdir()
    for name, first, last in (("a", 60, 70), ("b", 0, 90), ("c", 40, 160), ("d", 65, 66)):
        rows = [
            f"{TIME},nobody-{number},console,,,,,,\n" for number in [*range(first, last), *range(last - 1, first, -1)]
        ]
        (logs / f"{name}.csv").write_text(HEAD + "".join(rows))
    monkeypatch.setattr("usher_gate.engine.replaying.SMALL", 0)
    received = []
    for count in (1, 2, 3):
        monkeypatch.setenv("USHER_GATE_PROCESSES", str(count))
        received.append(call("rehearse", "--sign-ins", "logs", "--format", "json"))
    assert received[1:] == received[:1] * 2
    unused = json.loads(received[0].out)["unused"]
    assert len(unused) == 21
    (others,) = (each for each in unused if each["value"] == "…")
    assert sum(each["events"] for each in unused) == 19 + 179 + 239 + 1
    assert others["first"].startswith("logs/a.csv:")
    for each in unused:
        number = int(each["value"].removeprefix("nobody-")) if each is not others else -1
        if number in range(60, 70):
            assert each["first"] == f"logs/a.csv:{2 + number - 60}"
        elif 0 <= number < 90:
            assert each["first"] == f"logs/b.csv:{2 + number}"
        elif number >= 90:
            assert each["first"] == f"logs/c.csv:{2 + number - 40}"


def test_a_damaged_file_stops_all_processes(tiny: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("usher_gate.engine.replaying.SMALL", 0)
    monkeypatch.setattr("os.sched_getaffinity", lambda _: {0, 1})
    logs = tiny / "logs"
    logs.mkdir()
    (logs / "a.csv").write_text(HEAD)
    (logs / "b.csv").write_text("time,persom,resource\n")
    done = call("rehearse", "--sign-ins", "logs")
    assert (done.status, "b.csv:1: unknown column 'persom'" in done.err) == (2, True)


@pytest.mark.parametrize("ending", ["csv", "jsonl", "parquet"])
def test_common_spellings_and_times_in_seconds_are_read_and_said(tiny: Path, ending: str) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    rows = [
        {"time": 1_763_539_200 + n, "person": "P1", "resource": "console", "shown": "Password", "result": "SUCCESS"}
        for n in range(3)
    ]
    path = tiny / f"log.{ending}"
    if ending == "csv":
        path.write_text(",".join(rows[0]) + "\n" + "".join(",".join(map(str, row.values())) + "\n" for row in rows))
    elif ending == "jsonl":
        path.write_text("".join(json.dumps({**row, "shown": [row["shown"]]}) + "\n" for row in rows))
    else:
        pq.write_table(pa.Table.from_pylist(rows), path)
    result = rehearse("--sign-ins", path)
    assert (result["events"]["decided"], result["events"]["got_in"], result["days"][0]["day"]) == (3, 3, "2025-11-19")
    received = call("rehearse", "--sign-ins", path).out
    assert "result SUCCESS as allowed" in received
    assert "time a number as seconds or milliseconds since 1970" in " ".join(received.split())


def test_a_json_array_is_refused_with_what_would_be_right(tiny: Path) -> None:
    (tiny / "log.jsonl").write_text('[{"time": 1}]')
    (tiny / "log.json").write_text("[]")
    assert "log.jsonl:1: is a JSON array; write one object a line" in call("rehearse", "--sign-ins", "log.jsonl").err
    assert "write one object a line, and call it NAME.jsonl" in call("rehearse", "--sign-ins", "log.json").err


def test_who_got_in_although_the_rules_as_they_are_would_not_have_let_them_is_named(tiny: Path) -> None:
    (tiny / "snapshot/sign_ins.csv").write_text(
        HEAD + f"{TIME},P1,console,,legacy,,,,allowed\n{TIME},P1,console,,browser,,,,allowed\n"
    )
    [one] = rehearse()["against"]
    assert (one["id"], one["login"]) == ("P1", "ada@northmere.example")
    assert one["kept_out"] + one["challenged"] == 2
    assert "ada@northmere.example" in call("rehearse").out
