"""Reviews of guests from outside: the demo's, what spreadsheets do to worksheets, and what is refused."""

from __future__ import annotations

import csv
import io
import json
import re
import subprocess
from collections.abc import Callable
from datetime import date, datetime
from email import policy
from email.parser import BytesParser
from pathlib import Path
from random import Random
from typing import Any

import pytest
import yaml

from tests.program import call
from usher_gate.files.written.cells import from_round_trip

ON = ("--on", "2026-11-20")


def result_of(*arguments: object, status: int = 0) -> dict[str, Any]:
    done = call("guests", *arguments, "--format", "json")
    assert done.status == status, done.err
    answer: dict[str, Any] = json.loads(done.out)
    return answer


def test_the_demo_s_guests_counted_by_hand(demo: Path) -> None:
    answer = result_of()
    # eight of the shipyard without an end, three of them without a sponsor, six not reviewed since 2024; one of the
    # coastguard ends soon
    assert {state: many for state, many in answer["states"].items() if many} == {
        "unsponsored": 3, "due": 6, "endless": 8, "ends-soon": 1, "fine": 5
    }  # fmt: skip
    assert {one["id"]: (one["guests"], one["rows"]) for one in answer["reviewers"]} == {
        "N1171": (3, 3), "N1179": (6, 7), "N1180": (8, 8)
    }  # fmt: skip
    assert answer["nobody_to_ask"] == []
    [soon] = result_of("--state", "ends-soon")["guests"]  # until 2026-12-09T23:00:00Z, at 2026-11-20T06:00:00Z
    assert (soon["id"], soon["home_domain"], soon["reason"]) == ("N1231", "coastguard.example.org", "ends in 19 days")
    assert {guest["home_domain"] for guest in result_of("--group", "shipyard")["guests"]} == {"shipyard.example.com"}
    assert len(result_of("--group", "shipyard")["guests"]) == 8
    assert len(result_of("--domain", "Coastguard.example.org")["guests"]) == 6
    assert call("guests").answer.splitlines()[0] == "9 of 14 guests have to be asked about (--show guests)."


def test_the_demo_s_review_on_three_days(demo: Path) -> None:
    # one has answered, one in part, one not at all; by then nothing is due
    before = result_of("--read", "review", "--on", "2026-12-04", status=1)
    assert {one["id"]: (one["answered"], one["rows"]) for one in before["reviewers"]} == {
        "N1171": (0, 3), "N1179": (7, 7), "N1180": (4, 8)
    }  # fmt: skip
    assert before["decisions"] == {
        "end": 3, "silence-ends": 0, "pass-on": 1, "pending": 7, "keep": 7, "silence-keeps": 0
    }  # fmt: skip
    assert (before["ended"], before["removed"]) == (["N1219"], [{"group": "shipyard", "guests": ["N1219", "N1220"]}])
    after = result_of("--read", "review", "--on", "2026-12-05")
    assert after["decisions"]["silence-ends"] == 8 and after["decisions"]["pending"] == 0  # what was passed on as well
    assert after["ended"] == ["N1219", "N1223", "N1224", "N1225"]
    assert after["removed"] == [{"group": "shipyard", "guests": ["N1219", "N1220", "N1221", "N1222"]}]
    kept = {each["until"]: each["guests"] for each in after["kept"]}
    assert kept == {"2027-01-31": ["N1222"], "2027-05-31": ["N1218"], "2027-06-03": ["N1220", "N1221", "N1231"]}


def test_what_follows_can_be_rehearsed(demo: Path) -> None:
    done = call("guests", "--read", "review", "--on", "2026-11-30", "--write", "guests.yaml")
    assert done.status == 1
    made = yaml.safe_load(Path("guests.yaml").read_text())
    assert [next(iter(change)) for change in made["changes"]] == ["people", "people", "people", "people", "members"]
    assert "# 1 account ends\n" in Path("guests.yaml").read_text()
    tried = json.loads(call("rehearse", "--changes", "guests.yaml", "--format", "json").out)
    assert [each["people"] for each in tried["reach"]][:4] == [1, 1, 2, 1]
    assert not tried["verdicts"]["begun"]


def test_worksheets_and_drafts_of_messages(demo: Path) -> None:
    assert call("guests", "--ask", "asked", *ON).status == 0
    names = sorted(path.name for path in Path("asked").iterdir())
    assert names == [
        "001-N1171.csv",
        "001-N1171.eml",
        "002-N1179.csv",
        "002-N1179.eml",
        "003-N1180.csv",
        "003-N1180.eml",
        "review.json",
    ]
    with Path("asked/001-N1171.csv").open(newline="") as stream:
        assert {row["home_domain"] for row in csv.DictReader(stream)} == {"shipyard.example.com"}
    message = BytesParser(policy=policy.default).parsebytes(Path("asked/002-N1179.eml").read_bytes())
    assert (message["To"], message["X-Unsent"]) == ("kalle.hauk@northmere.example", "1")
    body = message.get_body(("plain",))
    assert body is not None and "Friday, 4 December 2026" in body.get_content()
    (attached,) = list(message.iter_attachments())
    assert attached.get_filename() == "002-N1179.csv"
    assert attached.get_payload(decode=True) == Path("asked/002-N1179.csv").read_bytes()
    again = call("guests", "--ask", "asked", *ON)
    assert again.status == 2 and "is there already" in again.err


def _answer(path: Path, fill: Callable[[int, dict[str, str]], None], **form: Any) -> None:
    """Fills a worksheet in, and saves it in a form."""
    head, *rows = csv.reader(io.StringIO(path.read_text("utf-8-sig"), newline=""))
    made = []
    for number, row in enumerate(rows):
        cells = dict(zip(head, row, strict=True))
        fill(number, cells)
        made.append([cells[name] for name in head])
    with path.open("w", newline="", encoding=form.pop("encoding", "utf-8")) as stream:
        csv.writer(stream, **form).writerows([head, *made])


SAVED = {
    "semicolons": "59,34,76",
    "tabs": "9,34,76",
    "windows-1252": "44,34,1",
    "utf-16": "44,34,65535",
    "all quoted": "59,34,76,1,,0,true",
}


def test_a_real_spreadsheet_saves_what_was_decided(demo: Path, tmp_path: Path) -> None:
    people = Path("snapshot/people.csv")
    odd = {
        "N1218": "=HYPERLINK(1)",
        "N1219": "007",
        "N1220": "+Åse",
        "N1221": "@home",
        "N1222": "'quoted",
        "N1223": "1e5",
    }
    rows = [*csv.reader(io.StringIO(people.read_text(), newline=""))]
    for row in rows[1:]:
        row[2] = odd.get(row[0], row[2])
    with people.open("w", newline="") as stream:
        csv.writer(stream).writerows(rows)
    assert call("guests", "--ask", "asked", *ON).status == 0
    words = ("keep", "end", "", "pass-on")

    def fill(number: int, cells: dict[str, str]) -> None:
        cells["decision"] = words[number % 4]
        cells["until"] = "2027-01-31" if cells["decision"] == "keep" else ""
        cells["note"] = "'=1+1" if number % 2 else 'Ja, für\'s Erste; "bald"'

    for path in sorted(Path("asked").glob("*.csv")):
        _answer(path, fill, encoding="utf-8-sig")
    expected = result_of("--read", "asked", *ON, status=1)["rows"]
    assert {row["note"] for row in expected} == {"=1+1", 'Ja, für\'s Erste; "bald"'}
    for name, options in SAVED.items():
        saved = tmp_path / name.replace(" ", "-")
        saved.mkdir()
        (saved / "review.json").write_bytes(Path("asked/review.json").read_bytes())
        subprocess.run(
            ["soffice", f"-env:UserInstallation=file://{tmp_path}/profile", "--headless", "--infilter=Text - txt - csv (StarCalc):44,34,76,1",
             "--convert-to", f"csv:Text - txt - csv (StarCalc):{options}", "--outdir", saved, *sorted(Path("asked").glob("*.csv"))],
            check=True, capture_output=True, timeout=120,
        )  # fmt: skip
        assert len(list(saved.glob("*.csv"))) == 3, name
        found = result_of("--read", saved, *ON, status=1)["rows"]
        plain = [{key: row[key] for key in ("guest", "place", "decision", "until", "note")} for row in found]
        assert plain == [
            {key: row[key] for key in ("guest", "place", "decision", "until", "note")} for row in expected
        ], name


def test_a_workbook_keeps_every_cell_as_text_and_comes_back_from_a_real_spreadsheet(demo: Path, tmp_path: Path) -> None:
    people = Path("snapshot/people.csv")
    odd = {
        "N1218": "=HYPERLINK(1)",
        "N1219": "007",
        "N1220": "Bob;=1+1;x",
        "N1222": "'quoted",
        "N1223": "1e5",
        "N1221": "2026-01-02",
    }
    rows = [*csv.reader(io.StringIO(people.read_text(), newline=""))]
    for row in rows[1:]:
        row[2] = odd.get(row[0], row[2])
    with people.open("w", newline="") as stream:
        csv.writer(stream).writerows(rows)
    assert call("guests", "--ask", "csv", *ON).status == 0
    assert call("guests", "--ask", "asked", "--as", "xlsx", *ON).status == 0
    plain = {key: row for folder in ("csv",) for path in Path(folder).glob("*.csv")
             for row in csv.DictReader(io.StringIO(path.read_text("utf-8-sig"))) for key in [(row["guest"], row["place"])]}  # fmt: skip
    import openpyxl

    books, cells = sorted(Path("asked").glob("*.xlsx")), 0
    assert len(books) == 3 and len(list(Path("asked").glob("*.eml"))) == 3
    for path in books:
        book = openpyxl.load_workbook(path)
        sheet = book.active
        header = [cell.value for cell in sheet[1]]
        for line in range(2, sheet.max_row + 1):
            row = {name: sheet.cell(line, place) for place, name in enumerate(header, 1)}
            assert all(
                cell.data_type in ("s", "n") and (cell.value is None or cell.data_type == "s") for cell in row.values()
            )
            asked = plain[row["guest"].value, row["place"].value]
            assert str(row["name"].value or "") == from_round_trip(asked["name"])
            row["decision"].value = "end" if line % 2 else "keep"
            cells += 1
        book.save(path)
    assert cells == len(plain)
    answers = result_of("--read", "asked", *ON, status=0)["rows"]
    assert {row["decision"] for row in answers} == {"end", "keep"} and len(answers) == cells
    saved = tmp_path / "saved"  # opened and saved by a real spreadsheet program
    subprocess.run(
        ["soffice", f"-env:UserInstallation=file://{tmp_path}/profile", "--headless", "--convert-to", "xlsx", "--outdir", saved, *books],
        check=True, capture_output=True, timeout=120,
    )  # fmt: skip
    (saved / "review.json").write_bytes(Path("asked/review.json").read_bytes())
    assert result_of("--read", saved, *ON, status=0)["rows"] == answers
    damaged = saved / "damaged.xlsx"
    damaged.write_bytes(books[0].read_bytes()[:900])
    done = call("guests", "--read", saved, *ON)
    assert done.status == 0 and "damaged.xlsx is no worksheet" in done.err


def test_words_dates_and_columns_as_people_and_spreadsheets_have_them(demo: Path, tmp_path: Path) -> None:
    import openpyxl

    assert call("guests", "--ask", "asked", "--as", "xlsx", *ON).status == 0
    books, number = sorted(Path("asked").glob("*.xlsx")), 0
    answers = (
        ("No ", None),
        ("YES", date(2027, 1, 31)),
        ("keep", "31.01.2027"),
        ("", None),
        ("yes", datetime(2027, 3, 1)),
    )
    wanted = [("end", None), ("keep", "2027-01-31"), ("keep", "2027-01-31"), ("", None), ("keep", "2027-03-01")]
    expected = {}
    for path in books:
        book = openpyxl.load_workbook(path)
        sheet = book.active
        sheet.insert_cols(3)  # a comment of the reviewer's own
        sheet.cell(1, 3).value = "my comment"
        header = [cell.value for cell in sheet[1]]
        for line in range(2, sheet.max_row + 1):
            row = {name: sheet.cell(line, place) for place, name in enumerate(header, 1)}
            word, until = answers[number % 5]
            row["decision"].value, row["until"].value = word, until
            if isinstance(until, date):
                row["until"].number_format = "DD.MM.YYYY"
            for name in ("last_sign_in", "reviewed", "ends"):  # what was a text is a day now
                if row[name].value and len(row[name].value) == 10:
                    row[name].value, row[name].number_format = date.fromisoformat(row[name].value), "DD/MM/YYYY"
            expected[row["guest"].value, row["place"].value] = wanted[number % 5]
            number += 1
        sheet.move_range(f"A1:A{sheet.max_row}", cols=len(header))  # the first column last
        sheet.delete_cols(1)
        book.save(path)
    said = call("guests", "--read", "asked", *ON)
    assert "the column 'my comment' is none that was asked: it is ignored" in said.err
    for form, options in (("xlsx", "xlsx"), ("csv", "csv:Text - txt - csv (StarCalc):59,34,76,1,,0,false,true,false")):
        saved = tmp_path / form
        subprocess.run(
            ["soffice", f"-env:UserInstallation=file://{tmp_path}/profile", "--headless", "--convert-to", options, "--outdir", saved, *books],
            check=True, capture_output=True, timeout=120,
        )  # fmt: skip
        (saved / "review.json").write_bytes(Path("asked/review.json").read_bytes())
        if form == "csv":  # each worksheet has the name that it was asked by
            named = json.loads((saved / "review.json").read_text())
            for one in named["reviewers"]:
                one["worksheet"] = one["worksheet"].replace(".xlsx", ".csv")
            (saved / "review.json").write_text(json.dumps(named))
            for path in saved.glob("*.csv"):  # days to come that it wrote with slashes would be refused, as below
                path.write_text(re.sub(r"(\d\d)/(\d\d)/(2027)", r"\2.\1.\3", path.read_text("utf-8-sig")))
        rows = result_of("--read", saved, *ON, status=1)["rows"]
        found = {
            (row["guest"], row["place"]): (row["decision"] if row["decision"] != "pending" else "", row["until"])
            for row in rows
        }
        assert found == expected, form
    sheets = sorted((tmp_path / "csv").glob("*.csv"))
    sheet_of_slashes = next(sheet for sheet in sheets if "31.01.2027" in sheet.read_text())
    sheet_of_slashes.write_text(sheet_of_slashes.read_text().replace("31.01.2027", "31/01/2027"))
    done = call("guests", "--read", tmp_path / "csv", *ON)
    assert (
        done.status == 2
        and "because with slashes day and month cannot be distinguished; write it as 2027-01-31" in done.err
    )


def test_a_cell_that_is_another_is_named_with_both_texts(demo: Path) -> None:
    assert call("guests", "--ask", "asked", *ON).status == 0
    path = sorted(Path("asked").glob("*.csv"))[0]
    _answer(
        path,
        lambda number, cells: cells.update(login="somebody@else.example") if not number else None,
        encoding="utf-8-sig",
    )
    done = call("guests", "--read", "asked", *ON)
    assert done.status == 2 and ": login was '" in done.err and "' and is 'somebody@else.example'" in done.err


def test_a_new_sponsor_is_named_in_the_worksheet(demo: Path) -> None:
    lost = {one["id"] for one in result_of("--state", "unsponsored")["guests"]}
    assert len(lost) == 3
    assert call("guests", "--ask", "asked", *ON).status == 0
    first = sorted(lost)[0]

    def fill(sponsor: str) -> Callable[[int, dict[str, str]], None]:
        def one(_: int, cells: dict[str, str]) -> None:
            cells["decision"] = "yes"
            cells["sponsor"] = sponsor if (cells["guest"], cells["place"]) == (first, "account") else ""

        return one

    for path in sorted(Path("asked").glob("*.csv")):
        _answer(path, fill("KALLE.hauk@northmere.example"), encoding="utf-8-sig")
    review = result_of("--read", "asked", *ON)
    assert review["sponsors"] == [{"sponsor": "N1179", "guests": [first]}]
    done = call("guests", "--read", "asked", *ON, "--write", "g.yaml")
    assert "kalle.hauk@northmere.example answers for 1 guest from now on." in done.out
    call("rehearse", "--changes", "g.yaml", "--write-snapshot", "after")
    after = {one["id"] for one in result_of("--snapshot", "after", "--state", "unsponsored")["guests"]}
    assert after == lost - {first}  # a guest kept without one stays listed
    for path in sorted(Path("asked").glob("*.csv")):
        _answer(path, fill("liaison@nowhere.example"), encoding="utf-8-sig")
    done = call("guests", "--read", "asked", *ON)
    assert done.status == 2 and "the sponsor 'liaison@nowhere.example' is no active member" in done.err


def test_states_together_and_either(demo: Path) -> None:
    either = {one["id"] for state in ("due", "endless") for one in result_of("--state", state)["guests"]}
    assert {one["id"] for one in result_of("--state", "due", "--state", "endless")["guests"]} == either
    both = {one["id"] for one in result_of()["guests"] if {"due", "endless"} <= set(one["states"])}
    assert both and {one["id"] for one in result_of("--all-states", "due,endless")["guests"]} == both
    assert call("guests", "--all-states", "dew").status == 2


def test_an_altered_row_is_refused_wherever_it_is_altered(demo: Path) -> None:
    assert call("guests", "--ask", "asked", *ON).status == 0
    sheets = sorted(Path("asked").glob("*.csv"))
    texts = {path: path.read_bytes() for path in sheets}
    rnd, tried = Random(7), 0
    for _ in range(120):
        path = rnd.choice(sheets)
        rows = [*csv.reader(io.StringIO(texts[path].decode("utf-8-sig"), newline=""))]
        line, column = rnd.randrange(1, len(rows)), rnd.randrange(12)
        cell = rows[line][column]
        rows[line][column] = rnd.choice(
            (cell + "x", "x" + cell, cell[1:] if cell else "x", cell.upper() if cell != cell.upper() else cell + ".")
        )
        with path.open("w", newline="") as stream:
            csv.writer(stream).writerows(rows)
        done = call("guests", "--read", "asked", *ON)
        assert done.status == 2 and f"{path}:{line + 1}: " in done.err, (done.err, rows[line])
        assert len(done.err.splitlines()) <= 2
        path.write_bytes(texts[path])
        tried += 1
    assert tried == 120 and call("guests", "--read", "asked", *ON).status == 1


def _cells(change: dict[str, str], only: int = 0) -> Callable[[Path], None]:
    return lambda folder: _answer(
        folder / "002-N1179.csv", lambda number, cells: cells.update(change) if number == only else None
    )


def _drop_row(folder: Path) -> None:
    path = folder / "002-N1179.csv"
    path.write_text("".join(path.read_text().splitlines(keepends=True)[:-1]))


def _json(change: dict[str, Any]) -> Callable[[Path], None]:
    def alter(folder: Path) -> None:
        data = json.loads((folder / "review.json").read_text())
        (folder / "review.json").write_text(json.dumps({**data, **change}))

    return alter


def _text(text: str) -> Callable[[Path], None]:
    def write(folder: Path) -> None:
        (folder / "review.json").write_text(text)

    return write


WRONG: list[tuple[str, Callable[[Path], None], str]] = [
    ("an unknown word", _cells({"decision": "stay"}), "asked/002-N1179.csv:2: 'stay' is no decision"),
    ("until in words", _cells({"decision": "keep", "until": "next year"}), "asked/002-N1179.csv:2: 'next year' is no date; write it as 2027-01-31"),
    ("until has passed", _cells({"decision": "keep", "until": "2026-11-19"}), "asked/002-N1179.csv:2: until 2026-11-19 has passed"),
    ("until of an end", _cells({"decision": "end", "until": "2027-01-31"}), "asked/002-N1179.csv:2: until 2027-01-31 says how long to keep"),
    ("a row added", _cells({"guest": "N1999"}, 3), "asked/002-N1179.csv:5: 'N1999' at 'account' was not asked"),
    ("a row missing", _drop_row, "asked/002-N1179.csv: the row of N1231 at group:coastguard-liaison is missing; put it back"),
    ("a worksheet missing", lambda folder: (folder / "003-N1180.csv").unlink(), "asked/003-N1180.csv: the worksheet is missing"),
    ("another review", _cells({"review": "2026-01-01-0000000000"}), "asked/002-N1179.csv:2: is of the review '2026-01-01-0000000000'"),
    ("another organisation", _json({"organisation": "Southmere"}), "asked/review.json:1: is a review of 'Southmere', and the snapshot is of 'Northmere Ferries'"),
    ("a later snapshot", _json({"taken_at": "2026-12-01T06:00:00Z"}), "asked/review.json:1: is a review of 2026-12-01T06:00:00Z, and the snapshot is older"),
    ("no review", lambda folder: (folder / "review.json").unlink(), "asked/review.json: does not exist"),
    ("a review that is none", _text("{"), "asked/review.json:1: is not JSON"),
    ("a review altered", _json({"reviewers": 3}), "asked/review.json:1: was altered"),
]  # fmt: skip


@pytest.mark.parametrize(("what", "alter", "said"), WRONG, ids=[what for what, *_ in WRONG])
def test_what_is_refused(demo: Path, what: str, alter: Callable[[Path], None], said: str) -> None:
    assert call("guests", "--ask", "asked", *ON).status == 0
    alter(Path("asked"))
    done = call("guests", "--read", "asked", *ON, "--write", "out.yaml")
    assert done.status == 2 and done.err.startswith("usher-gate: error: "), what
    assert said in done.err, done.err
    assert not Path("out.yaml").exists()


def test_copies_that_disagree_other_files_and_guests_who_have_gone(demo: Path) -> None:
    assert call("guests", "--ask", "asked", *ON).status == 0
    text = Path("asked/002-N1179.csv").read_text()
    Path("asked/again.csv").write_text(text)
    _answer(Path("asked/002-N1179.csv"), lambda _, cells: cells.update(decision="keep"))
    _answer(Path("asked/again.csv"), lambda number, cells: cells.update(decision="end" if number == 0 else "keep"))
    Path("asked/notes.txt").write_text("remember the milk")
    people = Path("snapshot/people.csv")
    people.write_text(
        "".join(row for row in people.read_text().splitlines(keepends=True) if not row.startswith("N1218,"))
    )
    answer = result_of("--read", "asked", *ON, status=1)
    first = next(row for row in answer["rows"] if (row["guest"], row["place"]) == ("N1218", "account"))
    assert (first["decision"], first["where"], first["others"]) == ("end", "again.csv:2", ["002-N1179.csv:2"])
    assert answer["gone"] == ["N1218"] and answer["ended"] == []
    assert "notes.txt is no worksheet: it is ignored" in answer["notes"]


POLICIES = [
    ("silent_days = -1", "usher-gate.toml:9: guests.silent_days: -1 is no number of days"),
    ("silent-day = 9", "usher-gate.toml:9: guests.silent-day: unknown key 'silent-day'; did you mean 'silent_days'?"),
    ('on_silence = "stay"', "usher-gate.toml:9: guests.on_silence: 'stay' is none of the words"),
    ('fallback = "N1003"', "guests.fallback: is no list of people"),
    ('review_every_days = "90"', "usher-gate.toml:9: guests.review_every_days: '90' is no number of days"),
]


@pytest.mark.parametrize(("line", "said"), POLICIES)
def test_policies_that_are_wrong(demo: Path, line: str, said: str) -> None:
    path = Path("usher-gate.toml")
    others = [other for other in path.read_text().splitlines() if other.split()[:1] != line.split()[:1]]
    path.write_text("\n".join([*others, line, ""]))
    done = call("guests")
    assert done.status == 2 and said in done.err, done.err


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("N9999", "there is no active person 'N9999'"),
        ("N1218", "'N1218' is a guest, and guests do not answer for guests"),
    ],
)
def test_a_fallback_must_be_somebody_of_ours(demo: Path, name: str, said: str) -> None:
    path = Path("usher-gate.toml")
    path.write_text(path.read_text().replace("N1171", name))
    done = call("guests")
    assert done.status == 2 and f"usher-gate.toml:8: guests.fallback: {said}" in done.err, done.err


def test_a_sponsor_who_is_a_guest_is_not_asked(demo: Path) -> None:
    people = Path("snapshot/people.csv")
    people.write_text(people.read_text().replace("shipyard.example.com,N1179,", "shipyard.example.com,N1231,", 1))
    answer = result_of()
    assert "unsponsored" in next(guest for guest in answer["guests"] if guest["id"] == "N1218")["states"]
    assert {one["id"]: one["guests"] for one in answer["reviewers"]}["N1171"] == 4


def test_without_columns_nobody_is_fine(demo: Path) -> None:
    Path("snapshot/partners.csv").unlink()
    answer = result_of()
    assert answer["states"]["fine"] == 0
    last = next(guest for guest in answer["guests"] if guest["id"] == "N1226")
    assert (last["states"], last["recommendation"], last["reason"]) == (["unknown"], "ask", "not known: partners")


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (("--write", "x.yaml"), "name their folder with --read"),
        (("--all",), "name a folder with --ask"),
        (("--on", "tomorrow"), "is no date"),
        (("--domain", "nowhere.example"), "there is no guest from 'nowhere.example'"),
    ],
)
def test_what_is_asked_wrongly(demo: Path, options: tuple[str, ...], said: str) -> None:
    done = call("guests", *options)
    assert done.status == 2 and said in done.err


def test_a_kept_check_records_which_review_decided_what(demo: Path) -> None:
    kept = call("check", "--keep")
    assert kept.status == 1 and "kept as check 1" in kept.err
    shown = json.loads(call("history", "--person", "arne.ulsrud@shipyard.example.com", "--format", "json").out)
    review = json.loads((demo / "review" / "review.json").read_text())["id"]
    assert shown["decisions"] == [
        {"review": review, "place": "account", "decision": "end", "kept": "2026-11-20"},
        {"review": review, "place": "group:shipyard", "decision": "end", "kept": "2026-11-20"},
    ]
    page = call("history", "--person", "arne.ulsrud@shipyard.example.com").out
    assert "What reviews of guests decided" in page and review in page
    assert json.loads(call("history", "--person", "N1001", "--format", "json").out)["decisions"] == []
    head = demo / "snapshot" / "organisation.yaml"
    head.write_text(
        re.sub(r"(?m)^taken_at: .*$", "taken_at: 2026-12-06T06:00:00Z", head.read_text())
    )  # silence has decided by now
    assert call("check", "--keep").status == 1
    silent = json.loads(call("history", "--person", "ebba.lunde@shipyard.example.com", "--format", "json").out)
    assert [(one["decision"], one["kept"]) for one in silent["decisions"]] == [
        ("keep", "2026-11-20"),
        ("silence-ends", "2026-12-06"),
    ]
    assert call("history", "--verify").status == 0
    head.write_text(re.sub(r"(?m)^taken_at: .*$", "taken_at: 2026-12-07T06:00:00Z", head.read_text()))
    (demo / "review" / "review.json").write_text("{")
    spoilt = call("check", "--keep")
    assert spoilt.status == 1 and "what the review in review has decided is not kept" in spoilt.err
    assert "kept as check 3" in spoilt.err
