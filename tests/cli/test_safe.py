"""What others put in our way: names, links, drafts, other writers at the same time; and who may read what we write."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import stat
from email import message_from_bytes
from email.policy import default
from pathlib import Path
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests import tiny
from tests.faults.conftest import CHANGES
from tests.program import call, forked, started
from tests.tiny import write_tiny
from usher_gate.core.words.addresses import is_address, misleading_logins
from usher_gate.files import write
from usher_gate.files.faults import BadInput
from usher_gate.files.written import edit_exceptions
from usher_gate.files.written.cells import for_round_trip, for_spreadsheet, from_round_trip
from usher_gate.files.written.exceptions import read_exceptions

CONTROL = "\x1b[31m\x07\x7f\x9b2J\u202e\u2066\u061c"
BAD_LOGINS = ("N1171, evil@evil.example", "a@b@northmere.example", "eve @northmere.example", "eve\n@northmere.example", "Eve <eve@northmere.example>",
              "eve;x@northmere.example", ".eve@northmere.example", "eve@northmere..example", "eve\r\nBcc: x@evil.example@northmere.example")  # fmt: skip


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = tmp_path / "here"
    folder.mkdir()
    monkeypatch.chdir(write_tiny(folder))
    return folder


# addresses


def people(rows: list[list[str]]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([["id", "login", "kind", "name", "sponsor", "active"], *rows])
    return out.getvalue()


@pytest.mark.parametrize("login", BAD_LOGINS)
def test_a_login_that_is_no_address_gets_no_message(tmp_path: Path, login: str) -> None:
    rows = [["P1", login, "member", "Eve", "", "true"], ["P2", "ben@northmere.example", "member", "Ben", "", "true"],
            ["G1", "dag@partner.example", "guest", "Dag", "P1", "true"], ["G2", "liv@partner.example", "guest", "Liv", "P2", "true"]]  # fmt: skip
    organisation = tiny.ORGANISATION.replace("name: Tiny", 'name: "Tiny\\nBcc: x@evil.example"')
    folder = write_tiny(tmp_path / "here", {"snapshot/people.csv": people(rows), "snapshot/members.csv": "group,member\n", "snapshot/organisation.yaml": organisation,
                                            "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n", "baseline.yaml": tiny.BASELINE.partition("  - id: R2")[0], "changes.yaml": CHANGES})  # fmt: skip
    done = call("guests", "--ask", "asked", cwd=folder)
    assert done.status == 0 and "no address: " in done.err, done.err
    sheets, drafts = sorted((folder / "asked").glob("*.csv")), sorted((folder / "asked").glob("*.eml"))
    assert (len(sheets), len(drafts)) == (2, 1)  # one of them is informed by hand
    checked = call("check", cwd=folder)
    assert "1 login is no mail address, so no message can be drafted: " in checked.err
    assert call("rehearse", "--changes", "changes.yaml", "--notices", "notices", cwd=folder).status in (0, 1)
    index = {
        row["person"]: row["file"] for row in csv.DictReader(io.StringIO((folder / "notices/index.csv").read_text()))
    }
    assert index["P1"] == "no address"
    known = {"ben@northmere.example", "dag@partner.example", "liv@partner.example"}
    for path in [*drafts, *(folder / "notices").glob("*.eml")]:
        message = message_from_bytes(path.read_bytes(), policy=default)
        assert set(message.keys()) <= {
            "Subject",
            "To",
            "Bcc",
            "X-Unsent",
            "Content-Type",
            "Content-Transfer-Encoding",
            "MIME-Version",
        }
        assert {
            address.addr_spec for name in ("To", "Bcc") if message[name] for address in message[name].addresses
        } <= known


@given(st.text(alphabet=st.sampled_from('ab.@,; \n\r<>"()x\x00é'), max_size=12))
def test_the_quick_look_at_logins_is_the_careful_one(login: str) -> None:
    plain = "@" not in login and not re.search(r"[ ,;:<>()\[\]\"\\\x00-\x1f]", login)
    assert misleading_logins(["a@b.example", login]) == ([] if plain or is_address(login) else [login])
    if is_address(login):
        assert len(message_from_bytes(f"To: {login}\n\n".encode(), policy=default)["To"].addresses) == 1


# two writers, and links


def add(number: int) -> list[str]:
    return ["exceptions", "add", f"Z{number}", "--rule", "R2", "--person", "P3", "--reason", "r", "--approved-by", "a", "--until", "2026-12-20"]  # fmt: skip


def test_writers_of_exceptions_at_once_lose_nothing(folder: Path) -> None:
    ended = [
        (started(*add(number), cwd=folder, said=folder.with_name(f"said-{number}")), number) for number in range(12)
    ]
    added = set()
    for one, number in ended:
        one.join(60)
        said = folder.with_name(f"said-{number}.err").read_text()
        assert one.exitcode == 0 or "another call is changing" in said, said
        if one.exitcode == 0:
            added.add(f"Z{number}")
    found = {
        row["exception"] for row in json.loads(call("exceptions", "--format", "json", cwd=folder).out)["exceptions"]
    }
    assert found == added | {"X1"} and len(added) >= 10
    assert [path.name for path in folder.iterdir() if path.name.startswith(".")] == []


def test_another_program_that_changes_the_file_meanwhile_is_noticed(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    read = read_exceptions

    def meanwhile(*arguments: object) -> object:
        (folder / "exceptions.yaml").write_text(tiny.EXCEPTIONS + "# edited by hand\n")
        return read(*arguments)  # type: ignore[arg-type]

    monkeypatch.setattr(edit_exceptions, "read_exceptions", meanwhile)
    done = call(*add(1), cwd=folder)
    assert (done.status, "was changed by another program meanwhile" in done.err) == (2, True)
    assert (folder / "exceptions.yaml").read_text().endswith("# edited by hand\n")


def test_links_at_the_names_that_drafts_used_to_have_are_not_followed(folder: Path) -> None:
    theirs = folder.parent / "theirs"
    theirs.write_text("not yours")
    for name in (".exceptions.yaml.draft", f".out.json.{os.getpid()}.0"):
        (folder / name).symlink_to(theirs)
    assert call(*add(1), cwd=folder).status == 0
    assert call("check", "--format", "json", "--out", "out.json", cwd=folder).status in (0, 1)
    assert theirs.read_text() == "not yours"


PLACES = ("link.txt", "in/out.txt", "hop.txt")


@pytest.mark.parametrize("name", PLACES)
@pytest.mark.parametrize("sticky", [True, False])
def test_a_link_of_another_user_in_a_shared_folder_is_not_followed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str, sticky: bool
) -> None:
    mine, shared, folder = (
        tmp_path / "mine",
        tmp_path / "shared",
        write_tiny(tmp_path / "here", {"snapshot/settings.csv": tiny.SETTINGS.replace("guests,true", "everyone,")}),
    )
    mine.mkdir()
    shared.mkdir()
    (mine / "out.txt").write_text("precious")
    (shared / "link.txt").symlink_to(mine / "out.txt")
    (shared / "in").symlink_to(mine)
    (shared / "hop.txt").symlink_to("link.txt")
    shared.chmod(0o1777 if sticky else 0o777)
    if os.geteuid() == 0:  # links of someone who is neither the caller nor root
        for link in ("link.txt", "in", "hop.txt"):
            os.lchown(shared / link, 65534, 65534)
    else:
        others = os.geteuid() + 1
        monkeypatch.setattr(os, "geteuid", lambda: others)
    for arguments in (
        ("check", "--out", shared / name),
        ("report", "--out", shared / name),
        ("mend", "--write", shared / name),
    ):
        done = call(*arguments, cwd=folder)
        assert done.status == 2 and "is a link of another user, and leads to " in done.err, done.err
        assert str(shared) in done.err and (str(mine) in done.err or "link.txt" in done.err)
    assert (mine / "out.txt").read_text() == "precious"
    shared.chmod(0o755)  # no one else can have planted it there
    if os.geteuid() == 0 or shared.stat().st_uid == os.geteuid():
        assert call("check", "--out", shared / name, cwd=folder).status == 1
        assert (mine / "out.txt").read_text() != "precious" and (shared / name).exists()


def test_links_of_ones_own_are_followed_and_stay(folder: Path) -> None:
    (folder / "real.txt").write_text("old")
    (folder / "one").symlink_to("two")
    (folder / "two").symlink_to(folder / "real.txt")
    assert call("check", "--out", "one", cwd=folder).status == 0
    assert (
        (folder / "one").is_symlink() and (folder / "two").is_symlink() and (folder / "real.txt").read_text() != "old"
    )
    (folder / "loop").symlink_to("loop")
    assert "Too many levels" in call("check", "--out", "loop", cwd=folder).err
    assert write.write_target(Path("one/../two")) == folder / "real.txt"


def test_a_draft_that_somebody_holds_is_left_alone_and_an_abandoned_one_goes(folder: Path) -> None:
    abandoned = folder / f".out.txt.0123{write.DRAFT}"
    abandoned.write_text("half")
    with write.whole_file(folder / "held.txt") as stream:
        stream.write("mine")
        held = [path for path in folder.iterdir() if path.name.startswith(".held")]
        assert call("check", "--out", "out.txt", cwd=folder).status == 0
        assert not abandoned.exists() and len(held) == 1 and held[0].exists()
    assert (folder / "held.txt").read_text() == "mine" and not held[0].exists()


# what is gone


@pytest.mark.parametrize(
    "name", ["people.csv", "settings.csv", "members.parquet", "access-rules.yaml", "organisation.yaml"]
)
@pytest.mark.parametrize("target", ["nowhere", "itself"])
def test_a_table_that_is_a_link_to_nothing_is_an_error(folder: Path, name: str, target: str) -> None:
    path = folder / "snapshot" / name
    path.unlink(missing_ok=True)
    path.symlink_to(name if target == "itself" else "gone")
    done = call("check", cwd=folder)
    assert done.status == 2 and f"snapshot/{name}: is a link that leads nowhere" in done.err, done.err


def test_a_gathered_snapshot_without_its_manifest_is_an_error(folder: Path) -> None:
    (folder / "organisation.yaml").write_text(tiny.ORGANISATION)
    (folder / "usher-gate.toml").write_text(
        tiny.TEXTS["usher-gate.toml"].replace('"snapshot"', '"new"')
        + '[[gather.source]]\nname = "all"\nkind = "files"\npaths = ["organisation.yaml", "snapshot/people.csv"]\n'
    )
    assert call("gather", cwd=folder).status == 0
    assert "gathered: true" in (folder / "new/organisation.yaml").read_text()
    assert call("check", "--rule", "R2", cwd=folder).status == 0
    changes = "usher-gate: changes/1\ntitle: t\nchanges:\n  - people: {who: {person: [P3]}, mfa: offered}\n"
    (folder / "c.yaml").write_text(changes)
    assert call("rehearse", "--changes", "c.yaml", "--write-snapshot", "after", cwd=folder).status == 1
    assert call("check", "--rule", "R2", "--snapshot", "after", cwd=folder).status == 1  # with a manifest of its own
    for snapshot in ("new", "after"):
        (folder / snapshot / "manifest.json").unlink()
        done = call("check", "--snapshot", snapshot, cwd=folder)
        assert (
            done.status == 2
            and "organisation.yaml:" in done.err
            and "its manifest.json is missing; gather again" in done.err
        )


# spreadsheets, terminals, and whatever else opens what we write


@given(st.text(alphabet=st.sampled_from("a=+-@';|\t\n\r 1"), max_size=9))
def test_no_separator_makes_a_formula_of_a_cell(text: str) -> None:
    assert from_round_trip(for_round_trip(text)) == text
    for cell in (for_spreadsheet(text), for_round_trip(text)):
        for separator in ",;|\t\n\r":
            assert (
                not [part for part in cell.split(separator) if part.strip(" ")[:1] in ("=", "+", "-", "@")]
                or separator == ","
            )


FORMS = {"check": ("csv", "json", "markdown", "sarif", "junit", "oscal", "ocsf", "openmetrics", "table"), "guests": ("csv", "json", "markdown", "table"),
         "why": ("json", "table"), "door": ("csv", "json", "markdown", "table"), "exceptions": ("csv", "json", "table")}  # fmt: skip
WHY = (["P1"], ["P1", "door.waiting-room"], ["P1", "--rule", f"R1{CONTROL}"])
RAW = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def test_no_output_holds_a_control_character(tmp_path: Path) -> None:
    name = f"Bob;=1+1;x{CONTROL}"
    rows = [
        ["P1", f"ada{CONTROL}@northmere.example", "member", name, "", "true"],
        ["G1", "dag@partner.example", "guest", name, "P1", "true"],
    ]
    groups, members = f'id,name\ng1,"{name}"\n', "group,member\ng1,P1\ng1,G1\n"
    rules = tiny.BASELINE.replace("Outsiders wait", json.dumps("Outsiders wait" + CONTROL)).partition("  - id: R2")[0]
    rules = rules.replace("id: R1", f"id: {json.dumps('R1' + CONTROL)}")
    folder = write_tiny(tmp_path / "here", {"snapshot/people.csv": people(rows), "snapshot/groups.csv": groups, "snapshot/members.csv": members, "baseline.yaml": rules,
                                            "snapshot/settings.csv": tiny.SETTINGS.replace("guests,true", "everyone,"), "changes.yaml": CHANGES,
                                            "exceptions.yaml": "usher-gate: exceptions/1\nexceptions: []\n"})  # fmt: skip
    made = 0
    for verb, forms in FORMS.items():
        for form, more in [(form, more) for form in forms for more in ([[]] if verb != "why" else WHY)]:
            out = folder / f"{verb}.{form}"
            done = call(verb, *more, "--format", form, "--out", out, cwd=folder)
            assert done.status in (0, 1, 3), done.err
            text = out.read_text("utf-8")
            assert not RAW.search(text), (verb, form)
            made += "U+001B" in text or "\\u001b" in text
            if form in ("json", "sarif", "oscal"):
                assert json.loads(text)
    assert made >= 11
    assert call("report", "--out", "page.html", cwd=folder).status == 0
    assert call("guests", "--ask", "asked", cwd=folder).status == 0
    assert call("rehearse", "--changes", "changes.yaml", "--notices", "notices", cwd=folder).status in (0, 1)
    for path in [folder / "page.html", *(folder / "asked").iterdir(), *(folder / "notices").iterdir()]:
        text = path.read_bytes().decode("utf-8-sig").replace("\r\n", "\n")
        decoded = (
            ""
            if path.suffix != ".eml"
            else message_from_bytes(path.read_bytes(), policy=default).as_string().replace("\r\n", "\n")
        )
        assert not RAW.search(text + decoded), path
    answered = (folder / "asked").glob("*.csv")
    for path in answered:
        path.write_text(re.sub(r",,,,$", ",keep,,,", path.read_text("utf-8-sig"), flags=re.MULTILINE))
    assert call("guests", "--read", "asked", cwd=folder).status == 0
    rows_of = [
        cell for row in csv.reader(io.StringIO((folder / "check.csv").read_text()), delimiter=";") for cell in row
    ]
    assert not [cell for cell in rows_of if cell.strip()[:1] in ("=", "+", "@")]


# who may read it


def test_what_says_who_drifts_is_its_owners(folder: Path) -> None:
    before = os.umask(0o022)
    try:
        (folder / "changes.yaml").write_text(CHANGES)
        assert call("check", "--keep", "--out", "result.txt", cwd=folder).status == 0
        assert call("guests", "--ask", "asked", cwd=folder).status == 0
        assert call(
            "rehearse", "--changes", "changes.yaml", "--notices", "notices", "--write-snapshot", "after", cwd=folder
        ).status in (0, 1)
    finally:
        os.umask(before)
    private = [
        folder / "history.db",
        *(path for name in ("asked", "notices", "after") for path in (folder / name).iterdir()),
    ]
    assert {stat.S_IMODE(path.stat().st_mode) for path in private} == {0o600} and len(private) >= 10
    assert {stat.S_IMODE((folder / name).stat().st_mode) for name in ("asked", "notices", "after")} == {0o700}
    assert stat.S_IMODE((folder / "result.txt").stat().st_mode) == 0o644  # as the umask says


# damaged files


@pytest.mark.parametrize("name", ["baseline.yaml", "exceptions.yaml", "usher-gate.toml", "snapshot/people.csv", "snapshot/organisation.yaml",
                                  "snapshot/settings.csv", "snapshot/services.yaml", "snapshot/access-rules.yaml"])  # fmt: skip
@pytest.mark.parametrize("special", ["/proc/self/mem", "/proc/kmsg", "/proc/self/environ"])
def test_odd_special_files_are_named(folder: Path, name: str, special: str) -> None:
    (folder / name).unlink(missing_ok=True)
    (folder / name).symlink_to(special)
    done = forked("check", cwd=folder)
    assert done.status == 2 and "bug" not in done.err and Path(name).name in done.err, done.err


@pytest.mark.parametrize("digits", [30, 400, 5000])
def test_integers_of_any_length_are_named(folder: Path, digits: int) -> None:
    number = "9" * digits
    for name, text in (("usher-gate.toml", f"{tiny.TEXTS['usher-gate.toml']}x = {number}\n"), ("baseline.yaml", tiny.BASELINE.replace('"1"', number)),
                       ("exceptions.yaml", tiny.EXCEPTIONS.replace("2026-12-01", number)), ("plan.json", f'{{"usher-gate": {number}}}'),
                       ("snapshot/manifest.json", f'{{"usher-gate": {number}}}'), ("snapshot/settings.csv", tiny.SETTINGS + f"tidecall,call.retention-days,organisation,{number},\n")):  # fmt: skip
        before = (folder / name).read_text() if (folder / name).exists() else None
        (folder / name).write_text(text)
        for arguments in ("check", "report --out p.html --plan plan.json", "history"):
            done = call(*arguments.split(), cwd=folder)
            assert "bug" not in done.err, (name, done.err)
        (folder / name).unlink() if before is None else (folder / name).write_text(before)
    for arguments in (
        f"check --rows {number}",
        "history --since ²",
        f"history --since {number}",
        f"mend --edits {number}",
    ):
        done = call(*arguments.split(), cwd=folder)
        assert done.status in (0, 2) and "bug" not in done.err, done.err


def test_a_history_in_which_anything_is_altered_is_damaged_and_no_bug(folder: Path) -> None:
    import sqlite3

    assert call("check", "--keep", cwd=folder).status == 0
    kept, draw = (folder / "history.db").read_bytes(), Random(2)
    with sqlite3.connect(folder / "history.db") as database:
        columns = [
            (table, row[1])
            for table in ("checks", "counts", "spells")
            for row in database.execute(f"PRAGMA table_info({table})")
        ]
    named = 0
    for table, column in columns:
        value = draw.choice(("'zz'", "NULL", "x'ff00'", "-5", "CAST(x'ff' AS TEXT)", "1e300"))
        (folder / "history.db").write_bytes(kept)
        with sqlite3.connect(folder / "history.db") as database:
            try:
                database.execute(f'UPDATE {table} SET "{column}" = {value}')
            except sqlite3.IntegrityError:
                continue
        for arguments in (("history",), ("history", "--verify"), ("check",), ("report", "--out", "page.html")):
            done = call(*arguments, cwd=folder)
            assert "bug" not in done.err and done.status in (0, 1, 2, 3), (table, column, value, done.err)
            named += "is damaged" in done.err
    for _ in range(40):
        data = bytearray(kept)
        data[draw.randrange(len(data))] ^= 1 << draw.randrange(8)
        (folder / "history.db").write_bytes(data)
        done = call("history", "--verify", cwd=folder)
        assert "bug" not in done.err and done.status in (0, 1, 2), done.err
    assert named > 10


def test_what_cannot_be_told_where_to_go_is_refused(folder: Path) -> None:
    with pytest.raises(BadInput), write.whole_file(folder / "no" / "file"):
        pass
    assert call("check", "--out", "no/file", cwd=folder).status == 2


# secrets in addresses

SECRET = "hunter2hunter2"


@pytest.mark.parametrize(
    "query",
    ["password", "passwd", "token", "access_token", "api_key", "apiKey", "secret", "sig", "client_secret", "key"],
)
def test_no_url_holds_a_secret(folder: Path, query: str) -> None:
    toml = tiny.TEXTS["usher-gate.toml"]
    (folder / "usher-gate.toml").write_text(
        f'{toml}[history]\nurl = "postgresql+psycopg://keeper@127.0.0.1:1/gate?{query}={SECRET}"\n'
    )
    done = call("check", "--keep", cwd=folder)
    assert done.status == 4 or done.status == 2
    assert "usher-gate.toml:5: history.url: holds a secret" in done.err and SECRET not in done.err + done.out, done.err
    source = f'[[gather.source]]\nname = "d"\nkind = "scim"\nurl = "https://127.0.0.1:1/scim?{query}={SECRET}"\n'
    (folder / "usher-gate.toml").write_text(toml + source)
    done = call("gather", cwd=folder)
    assert done.status == 2 and "holds a secret in its query" in done.err and SECRET not in done.err, done.err
    (folder / "usher-gate.toml").write_text(toml)
    done = call("check", "--snapshot", f"s3://bucket/snapshot?{query}={SECRET}", cwd=folder)
    assert done.status == 2 and "holds a secret" in done.err and SECRET not in done.err, done.err
