"""Servers that are not the right ones, or give back what they were sent.

Each fault by its name, and no secret in a snapshot.
"""

from __future__ import annotations

import datetime
import json
import ssl
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
import trustme

from tests.program import call
from usher_gate.sources.secrets import Secrets
from usher_gate.sources.web import _retry_after

TOKEN = "a-bearer-token-of-32-characters!"
ORGANISATION = "usher-gate: snapshot/1\nname: Tiny\ntaken_at: 2026-11-20T06:00:00Z\n"
Answer = Callable[[str], tuple[int, Mapping[str, str], Any]]


def people(display: str = "Ada", login: str = "ada@northmere.example") -> Answer:
    def answer(path: str) -> tuple[int, Mapping[str, str], Any]:
        user = {"id": "P1", "userName": login, "displayName": display, "active": True, "userType": "member"}
        found = [user] if "/Users" in path else []
        return 200, {}, {"totalResults": len(found), "startIndex": 1, "itemsPerPage": len(found), "Resources": found}

    return answer


@contextmanager
def server(answer: Answer, context: ssl.SSLContext | None = None) -> Iterator[int]:
    """A web server that answers as configured; its port."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            status, headers, body = answer(self.path)
            data = json.dumps(body).encode()
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(data)))
            self.end_headers()
            self.wfile.write(data)

        def log_message(self, *_: Any) -> None:
            """Says nothing."""

    class Quiet(ThreadingHTTPServer):
        daemon_threads = True

        def handle_error(self, *_: Any) -> None:
            """Clients that go away are expected."""

    httpd = Quiet(("127.0.0.1", 0), Handler)
    if context is not None:
        httpd.socket = context.wrap_socket(httpd.socket, server_side=True)
    thread = threading.Thread(target=httpd.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield httpd.server_address[1]
    finally:
        httpd.shutdown()
        httpd.server_close()
        thread.join()


def gathered(folder: Path, port: int, scheme: str = "http", **more: str) -> tuple[int, str]:
    keys = {
        "name": "directory",
        "kind": "scim",
        "url": f"{scheme}://127.0.0.1:{port}/scim/v2",
        "token": "env:TOKEN",
        **more,
    }
    (folder / "usher-gate.toml").write_text(
        'snapshot = "snapshot"\n[[gather.source]]\nname = "hand"\nkind = "files"\npaths = ["organisation.yaml"]\n[[gather.source]]\n'
        + "".join(f"{key} = {json.dumps(value)}\n" for key, value in keys.items())
    )
    (folder / "organisation.yaml").write_text(ORGANISATION)
    done = call("gather", cwd=folder)
    return done.status, done.out + done.err


@pytest.mark.parametrize(
    ("display", "kept"),
    [(TOKEN, False), (f"Bearer {TOKEN}", False), ("Ada", True), (TOKEN[:15], True), (TOKEN[:20], True)],
)
def test_a_secret_that_a_server_gives_back_is_not_written(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, display: str, kept: bool
) -> None:
    monkeypatch.setenv("TOKEN", TOKEN)
    with server(people(display)) as port:
        status, said = gathered(tmp_path, port)
    assert TOKEN not in said
    if kept:
        assert status == 0, said
        return
    assert status == 4 and "directory gives a secret of this call as people.name of 'P1'" in said, said
    assert not (tmp_path / "snapshot").exists()
    assert TOKEN not in "".join(path.read_text("utf-8", "replace") for path in tmp_path.rglob("*") if path.is_file())


def test_of_two_secrets_the_longer_one_is_hidden_whole(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """One contains the other: else its rest would be shown."""
    monkeypatch.setenv("SHORT", "harbour")
    monkeypatch.setenv("LONG", "harbour-lamp-17")
    secrets = Secrets(tmp_path)
    for name in ("SHORT", "LONG"):
        secrets.fetch(f"env:{name}")
    hidden = secrets.hide("it said harbour-lamp-17 and harbour")
    assert "lamp" not in hidden and "harbour" not in hidden and hidden.startswith("it said ")


def test_short_secrets_are_looked_for_as_a_whole() -> None:
    secrets = Secrets(Path())
    secrets.keep("harbour8")
    secrets.keep("seven-7")
    assert secrets.found_in(["a", "harbour8", "harbour8"]) == 1
    assert secrets.found_in(["harbour8@northmere.example", "seven-7", ""]) is None
    assert Secrets(Path()).found_in(["anything"]) is None


CERTIFICATES = {
    "expired": "its certificate has expired",
    "not yet valid": "its certificate is not valid yet",
    "another host": "its certificate is for another host",
    "unknown authority": "an authority that is not known here signed it",
    "old protocol": "it speaks no TLS of version 1.2 or later",
    "no TLS": "no encrypted connection can be made with it",
    "good": "",
}


@pytest.mark.parametrize("fault", CERTIFICATES)
def test_each_fault_of_a_certificate_is_told_by_its_name(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, fault: str
) -> None:
    monkeypatch.setenv("TOKEN", TOKEN)
    authority, other = trustme.CA(), trustme.CA()
    now = datetime.datetime.now(datetime.UTC)
    times: dict[str, Any] = {
        "expired": {"not_after": now - datetime.timedelta(days=3)},
        "not yet valid": {"not_before": now + datetime.timedelta(days=3)},
    }
    signer = other if fault == "unknown authority" else authority
    certificate = signer.issue_cert(
        "elsewhere.example" if fault == "another host" else "127.0.0.1", **times.get(fault, {})
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    certificate.configure_cert(context)
    if fault == "old protocol":
        context.set_ciphers("ALL:@SECLEVEL=0")
        with pytest.warns(DeprecationWarning, match="TLSv1"):
            context.maximum_version = ssl.TLSVersion.TLSv1_1
    authority.cert_pem.write_to_path(tmp_path / "ca.pem")
    monkeypatch.setattr("time.sleep", lambda _: None)
    with server(people(), None if fault == "no TLS" else context) as port:
        status, said = gathered(tmp_path, port, "https", ca="ca.pem")
        assert (status, CERTIFICATES[fault] in said) == (4 if CERTIFICATES[fault] else 0, True), said
        if fault in ("expired", "another host", "unknown authority"):  # a directory says the same of the same
            status, said = gathered_ldap(tmp_path, port)
            assert (status, CERTIFICATES[fault] in said) == (4, True), said


def gathered_ldap(folder: Path, port: int) -> tuple[int, str]:
    (folder / "usher-gate.toml").write_text(
        'snapshot = "snapshot"\n[[gather.source]]\nname = "directory"\nkind = "ldap"\nca = "ca.pem"\nbase = "dc=northmere,dc=example"\n'
        f'url = "ldaps://127.0.0.1:{port}"\ntimeout = 5\n'
    )
    done = call("gather", cwd=folder)
    return done.status, done.out + done.err


@pytest.mark.parametrize("text", ["²", "9" * 400, "", "soon", "-1", "Fri, 99 Foo 99999 99:99:99 GMT", "١٢"])
def test_an_odd_retry_after_is_no_bug(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, text: str) -> None:
    assert _retry_after(text) >= 0.0
    monkeypatch.setenv("TOKEN", TOKEN)
    monkeypatch.setattr("time.sleep", lambda _: None)
    encoded = text.encode().decode("latin-1")  # as headers travel
    asked = list[str]()

    def answer(path: str) -> tuple[int, dict[str, str], Any]:
        asked.append(path)
        return 503, {"Retry-After": encoded}, {}

    with server(answer) as port:
        status, said = gathered(tmp_path, port)
    assert status == 4 and "status 503" in said and "bug" not in said, said
    assert len(asked) == (1 if text.startswith("9") else 6), asked  # a wait of ages is not waited for


def test_what_is_not_utf8_is_named_with_its_line(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TOKEN", TOKEN)
    with server(people()) as port:
        assert gathered(tmp_path, port)[0] == 0
        (tmp_path / "organisation.yaml").write_bytes(ORGANISATION.encode() + b"# caf\xe9\n")
        done = call("gather", cwd=tmp_path)
    assert done.status == 4 and "organisation.yaml:4: is not UTF-8 text" in done.err, done.err


def test_faults_of_what_was_gathered_name_the_source(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TOKEN", TOKEN)
    with server(people(login="")) as port:
        status, said = gathered(tmp_path, port)
    assert status in (2, 4) and "directory" in said and "bug" not in said, said
