"""HTTP for sources: JSON with retries (RFC 9110: Retry-After), bearer tokens and OAuth 2.0 client credentials (RFC 6749, 4.4)."""

from __future__ import annotations

import json
import time
from collections.abc import Generator, Mapping
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import quote, urlsplit

import msgspec

from ..core.words.record import record
from ..files.faults import UsherError
from .interface import Context, SourceFailed

try:
    import httpx2 as httpx
except ImportError:  # pragma: no cover
    raise UsherError("sources over HTTP need httpx2; pip install 'usher-gate[gather]'") from None

_TRIES = 6
_LONGEST_WAIT = 60.0
_LEEWAY = 30.0  # seconds before its end in which a token is renewed
_LARGEST = 256 * 1024 * 1024
_AGAIN = (429, 500, 502, 503, 504)


@record
class Access:
    """Where a source is and how it is asked: `token` or client credentials by the names of their secrets."""

    url: str
    token: str = ""
    client_id: str = ""
    client_secret: str = ""
    token_url: str = ""
    scope: str = ""
    ca: str = ""
    timeout: float = 30.0
    plain: bool = False


class _Bearer(httpx.Auth):
    """A token that somebody issued."""

    def __init__(self, token: str) -> None:
        self._token = token

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        request.headers["Authorization"] = f"Bearer {self._token}"
        yield request


class _ClientCredentials(httpx.Auth):
    """A token by client credentials, renewed before it ends and once when it is refused."""

    requires_response_body = True

    def __init__(self, access: Access, context: Context) -> None:
        self._access, self._secrets = access, context.secrets
        self._token, self._ends = "", 0.0

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        if not self._token or time.monotonic() > self._ends - _LEEWAY:
            yield from self._renew()
        request.headers["Authorization"] = f"Bearer {self._token}"
        response = yield request
        if response.status_code == 401:
            yield from self._renew()
            request.headers["Authorization"] = f"Bearer {self._token}"
            yield request

    def _renew(self) -> Generator[httpx.Request, httpx.Response, None]:
        import base64

        access = self._access
        secret = self._secrets.fetch(access.client_secret)
        pair = f"{quote(access.client_id, safe='')}:{quote(secret, safe='')}"  # RFC 6749, 2.3.1
        basic = base64.b64encode(pair.encode()).decode()
        self._secrets.keep(basic)
        form = "grant_type=client_credentials" + (f"&scope={quote(access.scope, safe='')}" if access.scope else "")
        headers = {
            "Authorization": f"Basic {basic}",
            "Content-Type": "application/x-www-form-urlencoded",
            "Accept": "application/json",
        }
        response = yield httpx.Request("POST", access.token_url, headers=headers, content=form.encode())
        try:
            answer = json.loads(response.content)
            token, lasts = answer["access_token"], float(answer.get("expires_in", 300))
            if not isinstance(token, str) or not token or str(answer.get("token_type", "bearer")).lower() != "bearer":
                raise ValueError
        except (ValueError, KeyError, TypeError):
            raise SourceFailed(f"{access.token_url} gave no token (status {response.status_code})") from None
        self._secrets.keep(token)
        self._token, self._ends = token, time.monotonic() + lasts


def is_loopback(url: str) -> bool:
    """Whether an address is on this very machine."""
    return urlsplit(url).hostname in ("127.0.0.1", "::1", "localhost")


class Web:
    """Asks one server for JSON."""

    def __init__(self, access: Access, context: Context) -> None:
        for url in (access.url, access.token_url):
            if url.startswith("http://") and not (access.plain or is_loopback(url)):
                raise UsherError(f"{url} is not encrypted; write https://, or plain = true if it must be")
        self._access, self._context = access, context
        auth: httpx.Auth | None = None
        if access.token:
            auth = _Bearer(context.secrets.fetch(access.token))
        elif access.client_id:
            context.secrets.fetch(access.client_secret)  # before anything is asked
            auth = _ClientCredentials(access, context)
        verify: Any = True
        if access.ca:
            import ssl

            try:
                verify = ssl.create_default_context(cafile=context.folder / access.ca)
            except OSError as error:
                raise UsherError(
                    f"the certificates in {access.ca} cannot be read ({error.__class__.__name__})"
                ) from None
        self._client = httpx.Client(auth=auth, verify=verify, timeout=access.timeout, follow_redirects=False)

    def __enter__(self) -> Web:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def json(self, path: str, query: Mapping[str, str | int] | None = None) -> dict[str, Any]:
        """The object at a path; raises SourceFailed after all tries."""
        url = self._access.url.rstrip("/") + path
        why = ""
        for number in range(_TRIES):
            wait = min(0.25 * 2**number, _LONGEST_WAIT)
            try:
                with self._client.stream(
                    "GET", url, params=dict(query or {}), headers={"Accept": "application/scim+json, application/json"}
                ) as response:
                    if response.status_code == 200:
                        return self._object(response)
                    why = self._refusal(response)
                    if response.status_code not in _AGAIN:
                        break
                    wait = max(wait, _retry_after(response.headers.get("Retry-After", "")))
            except _Broken as error:
                why = str(error)
            except httpx.TimeoutException:
                why = f"no answer within {self._access.timeout:g} seconds"
            except httpx.HTTPError as error:
                why = _network_words(error)
            if wait > _LONGEST_WAIT:
                why += f"; it asks to wait {wait:.0f} seconds, which is too long"
                break
            if number < _TRIES - 1:
                time.sleep(wait)
        raise SourceFailed(self._context.secrets.hide(f"{url}: {why}"))

    def _object(self, response: httpx.Response) -> dict[str, Any]:
        data = bytearray()
        for piece in response.iter_bytes():
            data += piece
            if len(data) > _LARGEST:
                raise SourceFailed(f"{response.request.url}: answers with more than {_LARGEST >> 20} MiB")
        try:
            found = msgspec.json.decode(data)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            raise _Broken("what came is not JSON") from None
        if not isinstance(found, dict):
            raise _Broken("what came is no JSON object")
        return found

    def _refusal(self, response: httpx.Response) -> str:
        """A server's refusal in one line; what it says itself is shortened, and never shown if it could hold a secret."""
        try:
            said = json.loads(response.read()[:10_000])
            text = str(said.get("detail") or said.get("error_description") or said.get("error") or "")
        except (ValueError, AttributeError, RecursionError, httpx.HTTPError):
            text = ""
        text = "".join(char if char.isprintable() else " " for char in self._context.secrets.hide(text))[:120]
        return f"status {response.status_code}" + (f" ({text})" if text else "")


class _Broken(Exception):
    """An answer that may be better the next time."""


def _retry_after(text: str) -> float:
    """Seconds to wait (RFC 9110, 10.2.3: a number of seconds, or a date)."""
    if text.strip().isdigit():
        return float(text)
    try:
        return max(0.0, parsedate_to_datetime(text).timestamp() - time.time())
    except (ValueError, TypeError):
        return 0.0


def _network_words(error: Exception) -> str:
    text = str(error)
    if "CERTIFICATE_VERIFY_FAILED" in text or "certificate verify failed" in text:
        return "its certificate cannot be verified; name the certificate authority's file as ca"
    if isinstance(error, httpx.ConnectError):
        return "nobody answers there"
    return (
        "the connection broke"
        if isinstance(error, httpx.RemoteProtocolError | httpx.ReadError)
        else error.__class__.__name__
    )
