"""Gathering from servers that are not ours: OpenLDAP's slapd over TLS, and an independent SCIM 2.0 server."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.program import call
from tests.sources.ground import says_nothing, settings, source, write
from tests.sources.test_files import ORGANISATION, SERVICES, table
from usher_gate.files.snapshot.folder import read_snapshot

SLAPD = "/usr/sbin/slapd"
PEOPLE, BASE = 20_000, "dc=northmere,dc=example"
# A client that does not page gets 500 entries and an error; one that pages gets them all.
CONFIG = """\
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile {folder}/slapd.pid
TLSCACertificateFile {folder}/ca.pem
TLSCertificateFile {folder}/server.pem
TLSCertificateKeyFile {folder}/server.key
TLSVerifyClient try
database mdb
suffix "{base}"
directory {folder}/data
maxsize 268435456
rootdn "cn=keeper,{base}"
rootpw "{password}"
limits * size.soft=500 size.hard=500 size.prtotal=unlimited
access to attrs=userPassword by anonymous auth by * none
access to * by users read by * none
"""
PASSWORD = "the keeper of the light"


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


def wait_for(port: int, child: subprocess.Popen[bytes]) -> None:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        assert child.poll() is None, "the server ended by itself"
        with socket.socket() as found:
            if found.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.1)
    raise AssertionError("the server does not answer")


def entries() -> str:
    """20,000 people in ten units, and groups of which one contains the others, in a loop."""
    parts = [f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\no: Northmere\ndc: northmere\n"]
    parts += [f"dn: ou=u{n},{BASE}\nobjectClass: organizationalUnit\nou: u{n}\n" for n in range(10)]
    parts += [
        f"dn: uid=p{n},ou=u{n % 10},{BASE}\nobjectClass: inetOrgPerson\nuid: p{n}\ncn: Person {n}\nsn: {n}\nmail: p{n}@northmere.example\n"
        for n in range(PEOPLE)
    ]
    for n in range(4):
        members = "".join(f"member: uid=p{m},ou=u{m % 10},{BASE}\n" for m in range(n, 200, 4))
        parts.append(
            f"dn: cn=g{n},{BASE}\nobjectClass: groupOfNames\ncn: g{n}\nmember: cn=g{(n + 1) % 4},{BASE}\n{members}"
        )
    return "\n".join(parts)


@pytest.fixture(scope="module")
def slapd(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, Any]]:
    assert Path(SLAPD).exists(), "the tests need Debian's slapd: apt-get install slapd ldap-utils"
    import trustme

    folder = Path("/tmp") / f"usher-gate-slapd-{os.getpid()}"
    (folder / "data").mkdir(parents=True)
    authority = trustme.CA()
    server, client = authority.issue_cert("127.0.0.1"), authority.issue_cert("gatherer@northmere.example")
    authority.cert_pem.write_to_path(folder / "ca.pem")
    server.private_key_pem.write_to_path(folder / "server.key")
    server.cert_chain_pems[0].write_to_path(folder / "server.pem")
    client.private_key_pem.write_to_path(folder / "client.key")
    client.cert_chain_pems[0].write_to_path(folder / "client.pem")
    trustme.CA().cert_pem.write_to_path(folder / "other-ca.pem")
    (folder / "slapd.conf").write_text(CONFIG.format(folder=folder, base=BASE, password=PASSWORD))
    (folder / "all.ldif").write_text(entries())
    subprocess.run(
        ["/usr/sbin/slapadd", "-q", "-f", folder / "slapd.conf", "-l", folder / "all.ldif"],
        check=True,
        capture_output=True,
    )
    as_nobody = ["runuser", "-u", "nobody", "--"] if os.geteuid() == 0 else []
    if as_nobody:
        subprocess.run(["chown", "-R", "nobody", folder], check=True)
    plain, secure = free_port(), free_port()
    child = subprocess.Popen([*as_nobody, SLAPD, "-f", folder / "slapd.conf", "-h", f"ldap://127.0.0.1:{plain}/ ldaps://127.0.0.1:{secure}/", "-d", "0"],
                             stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
    try:
        wait_for(secure, child)
        yield {"folder": folder, "ldap": f"ldap://127.0.0.1:{plain}", "ldaps": f"ldaps://127.0.0.1:{secure}"}
    finally:
        child.terminate()
        child.wait()
        shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("KEEPER", PASSWORD)
    write(tmp_path, {"organisation.yaml": ORGANISATION, "services.yaml": SERVICES})
    return tmp_path


def gather_from(folder: Path, **keys: Any) -> tuple[int, str]:
    hand = source(name="hand", kind="files", paths=["organisation.yaml", "services.yaml"])
    (folder / "usher-gate.toml").write_text(settings(hand, says_nothing(folder), source(name="directory", **keys)))
    done = call("gather")
    return done.status, done.out + done.err


def ldap_keys(slapd: dict[str, Any], scheme: str, **more: Any) -> dict[str, Any]:
    keys = {
        "kind": "ldap",
        "url": slapd[scheme],
        "base": BASE,
        "user": f"cn=keeper,{BASE}",
        "password": "env:KEEPER",
        "ca": str(slapd["folder"] / "ca.pem"),
    }
    return {**keys, **more}


@pytest.mark.parametrize("scheme", ["ldaps", "ldap"])
def test_twenty_thousand_people_come_in_pages_over_tls(slapd: dict[str, Any], folder: Path, scheme: str) -> None:
    status, said = gather_from(folder, **ldap_keys(slapd, scheme, page=400))
    assert status == 0, said
    assert f"4 groups, 204 members, {PEOPLE:,} people" in said
    people = {row["login"]: row for row in table(folder, "people")}
    assert len(people) == PEOPLE
    assert people["p12345@northmere.example"]["unit"] == "/u5"
    assert people["p0@northmere.example"]["created_at"].endswith("Z")
    members = table(folder, "members")
    assert sum(row["type"] == "group" for row in members) == 4
    assert len(read_snapshot(folder / "snapshot").snapshot.people) == PEOPLE


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"ca": "other-ca.pem"}, "its certificate cannot be verified"),
        ({"password": "env:WRONG"}, "refuses this user and password"),
        ({"base": "dc=elsewhere,dc=example"}, "has no such base"),
        ({"url": "ldaps://127.0.0.1:9"}, "no one answers there"),
        (
            {"fields": {"kind": "mial"}},
            "no entry has the attribute mial, which fields names for kind; did you mean 'mail'? (Or write may_be_absent",
        ),
        ({"most_people": 1500}, "gives more than 1,500 people; write most_people = a larger number"),
        ({"values": {"name": {"Ada": "ada"}}, "fields": {"name": "sn"}}, "has name '"),
        ({"where": {"name": ["nobody"]}, "fields": {"name": "sn"}}, "gave no people, for which it is there"),
    ],
)
def test_a_directory_that_cannot_be_read_says_why(
    slapd: dict[str, Any], folder: Path, monkeypatch: pytest.MonkeyPatch, change: dict[str, Any], message: str
) -> None:
    monkeypatch.setenv("WRONG", "a-wrong-secret")
    keys = ldap_keys(slapd, "ldaps")
    keys |= {**change, **({"ca": str(slapd["folder"] / change["ca"])} if "ca" in change else {})}
    status, said = gather_from(folder, **keys)
    assert (status, message in said) == (4, True), said
    assert "a-wrong-secret" not in said
    assert PASSWORD not in said
    assert PASSWORD not in said
    assert not (folder / "snapshot").exists()


def test_where_takes_people_and_their_memberships(slapd: dict[str, Any], folder: Path) -> None:
    """L 79: the others are no members either, and are counted."""
    keys = ldap_keys(slapd, "ldaps", fields={"name": "sn"}, where={"name": ["0", "4", "17"]})
    status, said = gather_from(folder, **keys)
    assert status == 0, said
    assert "4 groups, 7 members, 3 people" in said and "19,997 people are left out by where" in said
    assert "nobody's DN" not in said


def test_plain_only_when_it_is_asked_for_by_name_and_external_by_certificate(
    slapd: dict[str, Any], folder: Path
) -> None:
    status, said = gather_from(folder, **ldap_keys(slapd, "ldap", tls="plain"))
    assert status == 0, said
    status, said = gather_from(
        folder, **ldap_keys(slapd, "ldap", url="ldap://directory.northmere.example", tls="starttls", timeout=1)
    )
    assert status == 4
    keys = ldap_keys(
        slapd,
        "ldaps",
        bind="external",
        certificate=str(slapd["folder"] / "client.pem"),
        key=str(slapd["folder"] / "client.key"),
    )
    status, said = gather_from(folder, **{name: key for name, key in keys.items() if name not in ("user", "password")})
    assert status == 0, said
    assert f"{PEOPLE:,} people" in said


@pytest.fixture(scope="module")
def independent() -> Iterator[str]:
    """scim2-server, filled over its own interface."""
    import httpx2

    port = free_port()
    child = subprocess.Popen(
        [Path(sys.executable).with_name("scim2-server"), "--port", str(port)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        wait_for(port, child)
        url = f"http://127.0.0.1:{port}"
        with httpx2.Client(base_url=url, headers={"Content-Type": "application/scim+json"}) as client:
            ids = []
            for n in range(130):
                user = {
                    "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"],
                    "userName": f"p{n}@northmere.example",
                    "displayName": f"Person {n}",
                    "active": n % 9 != 0,
                }
                made = client.post("/v2/Users", json=user)
                assert made.status_code == 201, made.text
                ids.append(made.json()["id"])
            group = {
                "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"],
                "displayName": "Watch",
                "members": [{"value": each} for each in ids[:40]],
            }
            assert client.post("/v2/Groups", json=group).status_code == 201
        yield f"{url}/v2"
    finally:
        child.terminate()
        child.wait()


def test_an_independent_scim_server(independent: str, folder: Path) -> None:
    status, said = gather_from(folder, kind="scim", url=independent, page=25)
    assert status == 0, said
    assert "1 groups, 40 members, 130 people" in said
    assert "directory: of 130 people none has kind, unit, roles, licences, " in said
    status, wrong = gather_from(folder, kind="scim", url=independent, page=25, fields={"kind": "displayNmae"})
    assert status == 4
    assert "no entry has the attribute displayNmae, which fields names for kind; did you mean 'displayName'?" in wrong
    status, few = gather_from(folder, kind="scim", url=independent, page=25, most_people=100)
    assert status == 4 and "gives more than 100 people" in few
    people = table(folder, "people")
    assert sorted(row["login"] for row in people) == sorted(f"p{n}@northmere.example" for n in range(130))
    assert sum(row["active"] == "false" for row in people) == 15
    assert {row["type"] for row in table(folder, "members")} == {"person"}
