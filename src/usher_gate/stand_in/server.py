"""The stand-in's HTTP side.

SCIM 2.0, a token endpoint (RFC 6749, 4.4), settings and tables (openapi.json), and its faults.
"""

from __future__ import annotations

import base64
import binascii
import hmac
import json
import secrets
import threading
import time
from collections.abc import Callable, Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from .. import __version__
from ..core.words.record import record
from .state import World

LIST = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
ERROR = "urn:ietf:params:scim:api:messages:2.0:Error"
CONFIG = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
BANNER = "usher-gate stand-in: a practice ground with made-up people; nothing here is real"
MANNERS = {
    "429": "too many requests, with Retry-After",
    "503": "unavailable, with Retry-After",
    "cut": "the connection breaks in the middle of an answer",
    "slow": "an answer takes three seconds",
    "broken-json": "an answer stops being JSON",
    "wrong-total": "totalResults is one too many, always",
    "repeat": "a page holds people of the page before, always",
    "skip": "a page leaves someone out, always",
    "vanish": "someone vanishes between two pages, always",
    "shrink": "only one person in ten is there, always, as after a bad night",
    "new-ids": "each page holds the people of the first page under new ids, always",
    "one-cursor": "pages come by cursor, and the next cursor is always the same",
    "slow-headers": "the headers of an answer come at one byte a second",
    "wrong-shapes": "a value of an answer is a list, an object, a number or nothing where it must not be",
    "expired-token": "a token is refused before its time",
    "leak": "errors repeat the token that was shown",
}
_ALWAYS = ("wrong-total", "repeat", "skip", "vanish", "shrink", "new-ids", "one-cursor")
_WRONG: tuple[Any, ...] = (["x"], {"x": 1}, 7, None, [["x"]], "x", True)
_LARGEST_PAGE = 2000
_TOKEN_LASTS = 300


@record
class Options:
    """Describes how the stand-in behaves: every n-th request meets the next of its faults."""

    client_id: str = "practice"
    client_secret: str = "practice-secret"
    page: int = 200
    cursor: bool = False
    misbehave: tuple[str, ...] = ()
    every: int = 3
    rate: float = 0.0
    latency: float = 3.0
    open: bool = False


class StandIn(ThreadingHTTPServer):
    """A server on loopback."""

    daemon_threads = True
    request_queue_size = 64

    def __init__(self, port: int, world: World, options: Options) -> None:
        super().__init__(("127.0.0.1", port), _Handler)
        self.world, self.options = world, options
        self.tokens: dict[str, float] = {}
        self.requests = 0
        self.lock = threading.Lock()
        self._bucket, self._filled = options.rate, time.monotonic()

    @property
    def url(self) -> str:
        """Return where it is."""
        return f"http://127.0.0.1:{self.server_address[1]}"

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A client that went away is no matter."""

    def manner(self) -> str:
        """Return the ill manner that the next request meets, if any."""
        with self.lock:
            self.requests += 1
            once = [manner for manner in self.options.misbehave if manner not in _ALWAYS]
            if not once or self.requests % self.options.every:
                return ""
            return once[self.requests // self.options.every % len(once)]

    def too_fast(self) -> bool:
        """Return whether more requests come than the rate allows."""
        if not self.options.rate:
            return False
        with self.lock:
            now = time.monotonic()
            self._bucket = min(self.options.rate, self._bucket + (now - self._filled) * self.options.rate)
            self._filled = now
            if self._bucket < 1:
                return True
            self._bucket -= 1
            return False


class _Refused(Exception):
    def __init__(self, status: int, detail: str, headers: Mapping[str, str] | None = None) -> None:
        super().__init__(detail)
        self.status, self.headers = status, headers or {}


class _Handler(BaseHTTPRequestHandler):
    server: StandIn
    protocol_version = "HTTP/1.1"
    wbufsize = -1  # one write for head and body, or each answer waits for an acknowledgement
    disable_nagle_algorithm = True
    server_version = f"usher-gate-stand-in/{__version__}"

    def log_message(self, format: str, *args: Any) -> None:
        """Nothing is logged."""

    def do_GET(self) -> None:
        self._answer(self._get)

    def do_POST(self) -> None:
        self._answer(self._post)

    def do_PATCH(self) -> None:
        self._answer(self._patch)

    def _answer(self, work: Callable[[], Any]) -> None:
        """Answer a request, with the faults that the options inject."""
        manner = self.server.manner()
        try:
            if manner == "slow":
                time.sleep(self.server.options.latency)
            if manner in ("429", "503"):
                raise _Refused(int(manner), "come back later", {"Retry-After": "1"})
            if self.server.too_fast():
                raise _Refused(429, "too many requests", {"Retry-After": "1"})
            body = work()
            if manner == "wrong-shapes":
                _distort(body, self.server.requests)
            self._send(200, body, {}, manner)
        except _Refused as refused:
            shown = self.headers.get("Authorization", "") if "leak" in self.server.options.misbehave else ""
            self._send(
                refused.status,
                {"schemas": [ERROR], "status": str(refused.status), "detail": f"{refused} {shown}".strip()},
                refused.headers,
            )

    def _send(self, status: int, body: Any, headers: Mapping[str, str], manner: str = "") -> None:
        """Send a response, cut or slowed as the injected fault says."""
        data = json.dumps(body).encode()
        if manner == "broken-json":
            data = data[: len(data) // 2] + b'"}}'
        if manner == "slow-headers":
            for byte in b"HTTP/1.1 200 OK\r\nX-Slow: " + b"." * 100_000:
                self.wfile.write(bytes((byte,)))
                self.wfile.flush()
                time.sleep(1)
        self.send_response(status)
        self.send_header("Content-Type", "application/scim+json" if "/scim/" in self.path else "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.send_header("X-Practice-Ground", BANNER)
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        if manner == "cut":
            self.wfile.write(data[: len(data) // 2])
            self.wfile.flush()
            self.connection.close()
            self.close_connection = True
            return
        self.wfile.write(data)

    # What is asked for

    def _query(self) -> dict[str, str]:
        return {
            name: values[-1] for name, values in parse_qs(urlsplit(self.path).query, keep_blank_values=True).items()
        }

    def _authorised(self) -> None:
        if self.server.options.open:
            return
        token = self.headers.get("Authorization", "").removeprefix("Bearer ")
        with self.server.lock:
            good = self.server.tokens.get(token, 0.0) > time.monotonic()
            if "expired-token" in self.server.options.misbehave and self.server.requests % 5 == 4:
                self.server.tokens.pop(token, None)
                good = False
        if not good:
            raise _Refused(401, "the token is not valid", {"WWW-Authenticate": 'Bearer error="invalid_token"'})

    def _get(self) -> Any:
        """Return the answer to a GET request."""
        path = urlsplit(self.path).path
        if path == "/":
            return {
                "what": BANNER,
                "scim": "/scim/v2",
                "token": "/token",
                "settings": "/v1/services",
                "description": "/openapi.json",
            }
        if path == "/openapi.json":
            return json.loads((Path(__file__).parent / "openapi.json").read_text("utf-8"))
        self._authorised()
        if path.startswith("/scim/v2/"):
            return self._scim(path.removeprefix("/scim/v2/"))
        parts = [unquote(part) for part in path.strip("/").split("/")]
        world = self.server.world
        if parts == ["v1", "services"]:
            return {"services": sorted(world.services)}
        if parts[:2] == ["v1", "services"] and parts[3:] == ["settings"] and parts[2] in world.services:
            return self._page("settings", world.settings(parts[2]))
        if parts[:2] == ["v1", "tables"] and len(parts) == 3 and parts[2] in world.tables:
            return self._page("rows", world.tables[parts[2]])
        raise _Refused(404, "there is nothing here")

    def _page(self, key: str, rows: list[dict[str, str]]) -> dict[str, Any]:
        query = self._query()
        after, limit = int(query.get("after", 0)), max(1, min(int(query.get("limit", 1000)), 1000))
        return {key: rows[after : after + limit], "total": len(rows) + ("wrong-total" in self.server.options.misbehave)}

    def _scim(self, kind: str) -> Any:
        """Return a page of users or groups, with the faults that the options inject."""
        options, world = self.server.options, self.server.world
        if kind == "ServiceProviderConfig":
            pagination = {
                "cursor": options.cursor or "one-cursor" in options.misbehave,
                "index": True,
                "defaultPaginationMethod": "index",
                "maxPageSize": options.page,
            }
            unsupported = {name: {"supported": False} for name in ("patch", "changePassword", "sort", "etag")}
            limits = {
                "bulk": {"supported": False, "maxOperations": 0, "maxPayloadSize": 0},
                "filter": {"supported": False, "maxResults": options.page},
            }
            return {"schemas": [CONFIG], "pagination": pagination, "authenticationSchemes": [], **unsupported, **limits}
        if kind not in ("Users", "Groups"):
            raise _Refused(404, "there is nothing here")
        resources = world.users if kind == "Users" else world.groups
        if "shrink" in options.misbehave and kind == "Users":
            resources = resources[::10]
        query = self._query()
        count = max(0, min(int(query.get("count", options.page)), options.page, _LARGEST_PAGE))
        if "cursor" in query:
            return self._by_cursor(resources, query["cursor"], count, query.get("attributes", ""))
        start = max(1, int(query.get("startIndex", 1)))
        page = resources[start - 1 : start - 1 + count]
        total = len(resources)
        if "vanish" in options.misbehave and start > 1:
            total, page = total - 1, resources[start : start + count]
        if "repeat" in options.misbehave and start > 1:
            page = resources[max(0, start - 3) : start - 3 + count]
        if "new-ids" in options.misbehave and start > 1:
            page = [{**user, "id": f"{user['id']}-{start}"} for user in resources[: len(page)]]
        if "skip" in options.misbehave and start > 1:
            page = page[1:]
        page = [_chosen(item, query.get("attributes", "")) for item in page]
        total += "wrong-total" in options.misbehave
        return {
            "schemas": [LIST],
            "totalResults": total,
            "startIndex": start,
            "itemsPerPage": len(page),
            "Resources": page,
        }

    def _by_cursor(self, resources: list[dict[str, Any]], cursor: str, count: int, attributes: str) -> Any:
        one_cursor = "one-cursor" in self.server.options.misbehave
        if not self.server.options.cursor and not one_cursor:
            raise _Refused(400, "pagination by cursor is not offered")
        try:
            start = int(base64.urlsafe_b64decode(cursor)) if cursor else 0
        except (ValueError, binascii.Error):
            raise _Refused(400, "this cursor is none of mine") from None
        page = [_chosen(resource, attributes) for resource in resources[start : start + count]]
        answer = {"schemas": [LIST], "totalResults": len(resources), "itemsPerPage": len(page), "Resources": page}
        if one_cursor:
            answer["nextCursor"] = base64.urlsafe_b64encode(b"1").decode()
        elif start + count < len(resources):
            answer["nextCursor"] = base64.urlsafe_b64encode(str(start + count).encode()).decode()
        return answer

    # What is sent

    def _body(self) -> bytes:
        return self.rfile.read(min(int(self.headers.get("Content-Length", 0)), 1 << 20))

    def _post(self) -> Any:
        """Return an access token for valid client credentials (RFC 6749, section 4.4)."""
        body = self._body()
        if urlsplit(self.path).path != "/token":
            raise _Refused(404, "there is nothing here")
        options = self.server.options
        try:
            pair = (
                base64.b64decode(self.headers.get("Authorization", "").removeprefix("Basic ")).decode().partition(":")
            )
        except (ValueError, binascii.Error):
            pair = ("", "", "")
        good = hmac.compare_digest(unquote(pair[0]), options.client_id) & hmac.compare_digest(
            unquote(pair[2]), options.client_secret
        )
        if not good:
            raise _Refused(401, "invalid_client")
        if parse_qs(body.decode("utf-8", "replace")).get("grant_type") != ["client_credentials"]:
            raise _Refused(400, "unsupported_grant_type")
        token = secrets.token_urlsafe(24)
        with self.server.lock:
            self.server.tokens[token] = time.monotonic() + _TOKEN_LASTS
        return {"access_token": token, "token_type": "Bearer", "expires_in": _TOKEN_LASTS}

    def _patch(self) -> Any:
        body = self._body()
        self._authorised()
        parts = [unquote(part) for part in urlsplit(self.path).path.strip("/").split("/")]
        if parts[:2] != ["v1", "services"] or parts[3:] != ["settings"] or parts[2] not in self.server.world.services:
            raise _Refused(404, "there is nothing here")
        try:
            row = json.loads(body)
            change = {name: str(row[name]) for name in ("control", "scope", "value")}
        except (ValueError, KeyError, TypeError):
            raise _Refused(400, "a change has control, scope and value") from None
        stamp = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
        self.server.world.change({"service": parts[2], **change, "changed_at": stamp})
        return {"arrives_after_seconds": self.server.world.arrive_after}


def _distort(body: Any, number: int) -> None:
    """Put a wrong value somewhere in an answer; which and where depends on the number alone."""
    wrong, number = _WRONG[number % len(_WRONG)], number // len(_WRONG)
    for name in ("Resources", "members", ""):
        found = body.get(name) if isinstance(body, dict) else None
        if isinstance(found, list) and found and isinstance(found[0], dict) and number % 4:
            body, number = found[number % len(found)], number // 4
    if isinstance(body, dict) and body:
        body[sorted(body)[number % len(body)]] = wrong


def _chosen(resource: dict[str, Any], attributes: str) -> dict[str, Any]:
    """Return a resource with the attributes that were asked for (RFC 7644, 3.9)."""
    if not attributes:
        return resource
    wanted = [name.lower() for name in attributes.split(",")]
    kept = {"schemas": resource["schemas"], "id": resource["id"]}
    for name, value in resource.items():
        lower = name.lower()
        if lower in wanted or any(word.startswith(f"{lower}.") for word in wanted):
            kept[name] = value
        elif isinstance(value, dict) and name.startswith("urn:"):
            some = {inner: cell for inner, cell in value.items() if f"{lower}:{inner.lower()}" in wanted}
            kept |= {name: some} if some else {}
    return kept
