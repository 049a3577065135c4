"""HTTP for sources.

JSON with retries (RFC 9110: Retry-After), bearer tokens and OAuth 2.0 client credentials (RFC 6749, 4.4).
"""

from __future__ import annotations

import json
import os
import socket
import threading
import time
import zlib
from collections.abc import Callable, Mapping
from contextlib import suppress
from email.utils import parsedate_to_datetime
from typing import Any, TypeVar
from urllib.parse import quote

import msgspec

from ..core.words.record import record
from ..files.faults import UsherError
from .address import address_of, web_address
from .interface import Context, SourceFailed
from .tls import tls_fault

try:
    import httpx2 as httpx
except ImportError:  # pragma: no cover
    raise UsherError("sources over HTTP need httpx2; pip install 'usher-gate[gather]'") from None

_TRIES = 6
_LONGEST_WAIT = 60.0
_LEEWAY = 30.0  # seconds before its end in which a token is renewed
_LARGEST = 256 * 1024 * 1024  # bytes of an answer, unpacked
_LONGEST_ANSWER = 600.0  # seconds for one request as a whole: connection, headers, interim responses and body
_AGAIN = (429, 500, 502, 503, 504)
_T = TypeVar("_T")


@record
class Access:
    """Says where a source is and how it is asked: `token` or client credentials by the names of their secrets."""

    url: str
    token: str = ""
    client_id: str = ""
    client_secret: str = ""
    token_url: str = ""
    scope: str = ""
    ca: str = ""
    timeout: float = 30.0
    plain: bool = False


@record
class _Asked:
    """One question to a server."""

    method: str
    url: str
    headers: Mapping[str, str]
    content: bytes | None = None


class Web:
    """Asks one server for JSON.

    Nothing secret is sent in the clear, or anywhere but to the server and to where it gets its tokens.
    """

    def __init__(self, access: Access, context: Context) -> None:
        self._where = web_address(access.url, access.plain)
        token_from = web_address(access.token_url, access.plain) if access.token_url else self._where
        self._encrypted = self._where.encrypted or token_from.encrypted
        self._access, self._context = access, context
        self._token, self._ends = "", float("inf")
        if access.token:
            self._token = context.secrets.fetch(access.token)
        elif access.client_id:
            context.secrets.fetch(access.client_secret)  # before anything is asked
            self._ends = 0.0
        # Proxies of the environment are used for what is encrypted, and never for this machine.
        mounts = dict.fromkeys(("http://", "all://localhost", "all://127.0.0.1", "all://[::1]"))
        self._connection = _Connection()
        self._client = httpx.Client(
            verify=self._verified(), timeout=access.timeout, follow_redirects=False, mounts=mounts
        )

    def _verified(self) -> Any:
        """Return how the server's certificate is verified.

        Where nothing is encrypted no one is trusted: to load who would be takes its time.
        """
        import ssl

        if not self._access.ca:
            return self._encrypted or ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        try:
            return ssl.create_default_context(cafile=self._context.folder / self._access.ca)
        except OSError as error:
            what = error.__class__.__name__
            raise UsherError(f"the certificates in {self._access.ca} cannot be read ({what})") from None

    def __enter__(self) -> Web:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def json(self, path: str, query: Mapping[str, str | int] | None = None) -> dict[str, Any]:
        """Return the object at a path; raises SourceFailed after all tries."""
        url = httpx.URL(self._access.url.rstrip("/") + path, params=dict(query or {}))
        if not address_of(str(url)).same_server(self._where):
            raise SourceFailed(f"{self._access.url}: leads to {url.host}, which is another server")
        return self._get(url, "application/scim+json, application/json", lambda data, _: _object(data))

    def file(self) -> tuple[bytes, str]:
        """Return what is at the address, and its media type (RFC 9110, 8.3); raises SourceFailed after all tries."""
        return self._get(httpx.URL(self._access.url), "*/*", lambda data, media_type: (data, media_type))

    def _get(self, url: httpx.URL, accept: str, read: Callable[[bytes, str], _T]) -> _T:
        headers, shown = {"Accept": accept}, str(url.copy_with(query=None))
        for renewed in (False, True):
            if renewed or time.monotonic() > self._ends - _LEEWAY:
                self._renew()
            bearer = {"Authorization": f"Bearer {self._token}"} if self._token else {}
            try:
                return self._ask(_Asked("GET", str(url), {**headers, **bearer}), shown, read)
            except _Unauthorised as error:
                if renewed or not self._access.client_id or self._access.token:
                    raise SourceFailed(f"{shown}: {error}") from None
        raise AssertionError("a token is renewed once")

    def _renew(self) -> None:
        """A token by client credentials (RFC 6749, 4.4), asked for with the same patience as everything else."""
        import base64

        access, secrets = self._access, self._context.secrets
        secret = secrets.fetch(access.client_secret)
        pair = f"{quote(access.client_id, safe='')}:{quote(secret, safe='')}"  # RFC 6749, 2.3.1
        basic = base64.b64encode(pair.encode()).decode()
        secrets.keep(basic)
        form = "grant_type=client_credentials" + (f"&scope={quote(access.scope, safe='')}" if access.scope else "")
        headers = {
            "Authorization": f"Basic {basic}",
            "Content-Type": "application/x-www-form-urlencoded",
            "Accept": "application/json",
        }
        try:
            asked = _Asked("POST", access.token_url, headers, form.encode())
            answer = self._ask(asked, access.token_url, lambda data, _: _object(data))
        except _Unauthorised:
            raise SourceFailed(f"{access.token_url} gave no token (status 401)") from None
        try:
            token, lasts = answer["access_token"], float(answer.get("expires_in", 300))
            if not isinstance(token, str) or not token or str(answer.get("token_type", "bearer")).lower() != "bearer":
                raise ValueError
        except (ValueError, KeyError, TypeError, OverflowError):
            raise SourceFailed(f"{access.token_url} gave no token") from None
        secrets.keep(token)
        self._token, self._ends = token, time.monotonic() + lasts

    def _ask(self, asked: _Asked, shown: str, read: Callable[[bytes, str], _T]) -> _T:
        """Return what `read` makes of an answer's bytes and media type, after as many tries as it takes.

        Raises SourceFailed, or _Unauthorised at once. `read` raises _Broken for what may be better the next time.
        """
        why = ""
        for number in range(_TRIES):
            wait = min(0.25 * 2**number, _LONGEST_WAIT)
            deadline = _Deadline(self._connection, _LONGEST_ANSWER)
            try:
                headers = {**asked.headers, "Accept-Encoding": "gzip"}
                with (
                    deadline,
                    self._client.stream(
                        asked.method,
                        asked.url,
                        headers=headers,
                        content=asked.content,
                        extensions={"trace": self._connection.trace},
                    ) as response,
                ):
                    if response.status_code == 200:
                        media_type = response.headers.get("Content-Type", "").partition(";")[0].strip().lower()
                        return read(self._body(response, _LARGEST), media_type)
                    why = self._refusal(response)
                    if response.status_code == 401:
                        raise _Unauthorised(self._context.secrets.hide(why))
                    if response.status_code not in _AGAIN:
                        break
                    wait = max(wait, _retry_after(response.headers.get("Retry-After", "")))
            except _Broken as error:
                why = str(error)
            except httpx.TimeoutException:
                why = f"no answer within {self._access.timeout:g} seconds"
            except httpx.HTTPError as error:
                why = _network_words(error)
            if deadline.has_passed:
                why = f"takes more than {_LONGEST_ANSWER:.0f} seconds to answer"
                break
            if wait > _LONGEST_WAIT:
                why += f"; it asks to wait {wait:.0f} seconds, which is too long"
                break
            if number < _TRIES - 1:
                time.sleep(wait)
        raise SourceFailed(self._context.secrets.hide(f"{shown}: {why}"))

    def _body(self, response: httpx.Response, most: int) -> bytes:
        """Return an answer's bytes, unpacked; raises SourceFailed where there are more than `most`, packed or not."""
        packed = response.headers.get("Content-Encoding", "identity").strip().lower()
        if packed not in ("", "identity", "gzip", "x-gzip"):
            raise _Broken(f"what came is packed as {packed[:20]!r}, which was not asked for")
        unpack = zlib.decompressobj(wbits=31) if "gzip" in packed else None
        data, read = bytearray(), 0
        try:
            for raw in response.iter_raw():
                read += len(raw)
                data += raw if unpack is None else unpack.decompress(raw, most + 1 - len(data))
                if len(data) > most or read > most or (unpack is not None and unpack.unconsumed_tail):
                    raise SourceFailed(f"{_shown(response)}: answers with more than {most >> 20} MiB")
        except zlib.error:
            raise _Broken("what came is no gzip") from None
        except (httpx.RemoteProtocolError, httpx.ReadError):
            raise _Broken(f"the answer ended after {_size(read)}, before it was whole") from None
        if unpack is not None and not unpack.eof:
            raise _Broken("what came was cut short")
        return bytes(data)

    def _refusal(self, response: httpx.Response) -> str:
        """Return a server's refusal in one line.

        What it says itself is shortened, and never shown if it could hold a secret.
        """
        try:
            said = json.loads(self._body(response, 1 << 20))
            text = str(said.get("detail") or said.get("error_description") or said.get("error") or "")
        except (ValueError, AttributeError, RecursionError, httpx.HTTPError, _Broken, SourceFailed):
            text = ""
        text = "".join(char if char.isprintable() else " " for char in self._context.secrets.hide(text))[:120]
        return f"status {response.status_code}" + (f" ({text})" if text else "")


def _size(count: int) -> str:
    return f"{count:,} bytes" if count < 1000 else f"{count // 1000:,} KB"


class _Connection:
    """Knows the socket of the one connection of a client, so that it can be ended from another thread."""

    def __init__(self) -> None:
        self._socket: socket.socket | None = None

    def trace(self, event: str, details: Mapping[str, Any]) -> None:
        """Take notice of a connection that was made; the HTTP library calls this."""
        if event.endswith(("connect_tcp.complete", "start_tls.complete")):
            self._socket = details["return_value"].get_extra_info("socket")

    def end(self) -> None:
        """End the connection, also while another thread waits for it."""
        if self._socket is not None:
            with suppress(OSError), socket.socket(fileno=os.dup(self._socket.fileno())) as same:
                same.shutdown(socket.SHUT_RDWR)


class _Deadline:
    """Ends a connection unless what is done in this context is done within so many seconds."""

    def __init__(self, connection: _Connection, seconds: float) -> None:
        self.has_passed = False
        self._connection = connection
        self._timer = threading.Timer(seconds, self._end)
        self._timer.daemon = True

    def __enter__(self) -> None:
        self._timer.start()

    def __exit__(self, *_: object) -> None:
        self._timer.cancel()

    def _end(self) -> None:
        self.has_passed = True
        self._connection.end()


def _shown(response: httpx.Response) -> str:
    """Return where an answer comes from, without what was asked."""
    return str(response.request.url.copy_with(query=None))


def _object(data: bytes) -> dict[str, Any]:
    """Return the JSON object of an answer."""
    try:
        found = msgspec.json.decode(data)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        raise _Broken("what came is not JSON") from None
    if not isinstance(found, dict):
        raise _Broken("what came is no JSON object")
    return found


class _Unauthorised(Exception):
    """A server does not take our token."""


class _Broken(Exception):
    """An answer that may be better the next time."""


def _retry_after(text: str) -> float:
    """Seconds to wait (RFC 9110, 10.2.3: a number of seconds, or a date)."""
    if text.isascii() and text.strip().isdecimal():
        return float(text)
    try:
        return max(0.0, parsedate_to_datetime(text).timestamp() - time.time())
    except (ValueError, TypeError, OverflowError):
        return 0.0


def _network_words(error: Exception) -> str:
    if fault := tls_fault(error):
        return fault
    if isinstance(error, httpx.ConnectError):
        return "no one answers there"
    return (
        "the connection broke"
        if isinstance(error, httpx.RemoteProtocolError | httpx.ReadError)
        else error.__class__.__name__
    )
