"""Sign-ins from OCSF 1.x events of the class Authentication (3002), one JSON object a line.

Docs/rehearse.md says what is read.

Source: the Open Cybersecurity Schema Framework, class authentication, objects user, device, os, service,
network_endpoint, auth_factor.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from operator import attrgetter
from typing import Annotated, Any

import msgspec
import numpy as np

from ...core.organisation.columns import MISSING, Ints
from ...core.sign_in.rehearsal import RESULTS
from ...core.words.vocabulary import CLIENTS, DEVICES, PLATFORMS, RISKS
from ..place import Place
from .interface import BAD, Batch, Coder, LogPart, Meanings, Unread, counted_by
from .lines import blocks, each_line
from .methods import AMR, FACTORS, SOME_SECOND_FACTOR, WHOLE

AUTHENTICATION, LOGON = 3002, 1
_LATEST = 253_402_300_800_000  # the year 10000, in milliseconds


class _Part(msgspec.Struct, frozen=True, gc=False):
    """A part of an event; what is not named here is passed over."""


class _User(_Part, frozen=True, gc=False):
    uid: str | None = None
    email_addr: str | None = None
    name: str | None = None
    risk_level_id: int | None = None


class _System(_Part, frozen=True, gc=False):
    type_id: int | None = None


class _Device(_Part, frozen=True, gc=False):
    os: _System | None = _System()
    is_managed: bool | None = None
    is_compliant: bool | None = None
    is_trusted: bool | None = None


class _Service(_Part, frozen=True, gc=False):
    name: str | None = None
    uid: str | None = None


class _Source(_Part, frozen=True, gc=False):
    ip: str | None = None


class _Target(_Part, frozen=True, gc=False):
    svc_name: str | None = None
    name: str | None = None


class _Request(_Part, frozen=True, gc=False):
    user_agent: str | None = None


class _Factor(_Part, frozen=True, gc=False):
    factor_type_id: int | None = None


class _Unmapped(_Part, frozen=True, gc=False):
    amr: list[str] | str | None = None
    client: str | None = None


class _Metadata(_Part, frozen=True, gc=False):
    version: str | None = None


class Event(msgspec.Struct, gc=False):
    """Describes what is read of one event."""

    class_uid: int
    time: Annotated[int, msgspec.Meta(ge=-_LATEST, le=_LATEST)]
    activity_id: int | None = None
    status_id: int | None = None
    auth_protocol_id: int | None = None
    is_mfa: bool | None = None
    metadata: _Metadata | None = _Metadata()
    user: _User | None = _User()
    device: _Device | None = _Device()
    service: _Service | None = _Service()
    src_endpoint: _Source | None = _Source()
    dst_endpoint: _Target | None = _Target()
    http_request: _Request | None = _Request()
    auth_factors: list[_Factor] | None = None
    unmapped: _Unmapped | None = _Unmapped()


_EMPTY: dict[str, Any] = {
    "user": _User(),
    "device": _Device(),
    "service": _Service(),
    "src_endpoint": _Source(),
    "dst_endpoint": _Target(),
    "http_request": _Request(),
    "unmapped": _Unmapped(),
}
_SYSTEMS = {100: "windows", 101: "windows", 200: "linux", 201: "android", 300: "macos", 301: "ios", 302: "ios"}
_RISKS = {0: "none", 1: "low", 2: "medium", 3: "high", 4: "high"}
_PASSWORD_ONLY = (3, 7, 8)  # Digest, PAP, CHAP
_STATUS = {1: RESULTS.index("allowed"), 2: RESULTS.index("failed")}


class _Made(dict[Any, int]):
    """Numbers what a column holds by a function, each distinct thing once."""

    def __init__(self, number: Callable[[Any], int]) -> None:
        super().__init__()
        self._number = number

    def __missing__(self, key: Any) -> int:
        found = self[key] = self._number(key)
        return found


def _first_known(coder: Coder) -> _Made:
    """Return the first of several names for one thing that is known; BAD if none is."""
    return _Made(lambda names: next((number for name in names if (number := coder[name]) >= 0), _none(names)))


def _none(names: tuple[str | None, ...]) -> int:
    return BAD if any(names) else MISSING


def _platform(system: object) -> int:
    if system in (None, 0):
        return MISSING
    return PLATFORMS.index(_SYSTEMS.get(system, "other"))  # type: ignore[call-overload]


def _client(parts: tuple[str | None, str | None, int | None]) -> int:
    said, agent, protocol = parts
    if said in CLIENTS:
        return CLIENTS.index(said)
    if agent:
        return CLIENTS.index("browser" if agent.startswith("Mozilla/") else "app")
    return CLIENTS.index("legacy") if protocol in _PASSWORD_ONLY else MISSING


def _device(parts: tuple[bool | None, bool | None, bool | None]) -> int:
    managed, compliant, trusted = parts
    if managed is None and compliant is None and trusted is None:
        return MISSING
    if managed:
        return DEVICES.index("healthy" if compliant else "managed")
    return DEVICES.index("registered" if trusted else "unknown")


def types_of(amr: Sequence[str] | None, factors: Sequence[int | None], is_mfa: bool | None) -> frozenset[str]:
    """Return the authenticator types that an event shows."""
    amr = amr or ()
    found = {AMR.get(word) for word in amr if word != WHOLE} | {FACTORS.get(factor or 0) for factor in factors}
    types = frozenset(kind for kind in found if kind is not None)
    if (is_mfa or WHOLE in amr) and not types - {"memorized-secret"}:
        return types | {SOME_SECOND_FACTOR}
    return types


class _Reading:
    """Turns events into columns of numbers."""

    def __init__(self, meanings: Meanings) -> None:
        coders, replay = meanings.coders, meanings.replay
        self._one = {name: coders[name] for name in ("person", "resource", "address")}
        self._many = {name: _first_known(coders[name]) for name in ("person", "resource")}
        self._client, self._device, self._system = _Made(_client), _Made(_device), _Made(_platform)
        self._risk = _Made(lambda risk: RISKS.index(_RISKS[risk]) if risk in _RISKS else MISSING)
        self._result = _Made(lambda status: _STATUS.get(status, MISSING))
        self._shown = _Made(lambda shown: replay.types_shown(types_of(*shown)))

    def columns(self, events: Sequence[Any]) -> dict[str, Ints]:
        """Return the columns of a batch; raises AttributeError where a part of an event is null."""
        person, resource, address = self._one.values()
        client, device, system, risk = self._client, self._device, self._system, self._risk
        result, shown = self._result, self._shown
        values = {
            "person": [person[e.user.uid] for e in events],
            "resource": [resource[e.service.name] for e in events],
            "address": [address[e.src_endpoint.ip] for e in events],
            "client": [client[e.unmapped.client, e.http_request.user_agent, e.auth_protocol_id] for e in events],
            "device": [device[(d := e.device).is_managed, d.is_compliant, d.is_trusted] for e in events],
            "platform": [system[e.device.os.type_id] for e in events],
            "risk": [risk[e.user.risk_level_id] for e in events],
            "result": [result[e.status_id] for e in events],
            "shown": [
                shown[
                    None if (amr := e.unmapped.amr) is None else _words(amr),
                    tuple(map(_FACTOR, e.auth_factors)) if e.auth_factors else (),
                    e.is_mfa,
                ]
                for e in events
            ],
        }
        found = {name: np.array(numbers, np.int32) for name, numbers in values.items()}
        for name, names in (("person", _names_of_person), ("resource", _names_of_resource)):
            for row in np.flatnonzero(found[name] < 0).tolist():
                found[name][row] = self._many[name][names(events[row])]
        return found


_FACTOR = attrgetter("factor_type_id")


def _names_of_person(event: Any) -> tuple[str | None, ...]:
    return event.user.uid, event.user.email_addr, event.user.name


def _names_of_resource(event: Any) -> tuple[str | None, ...]:
    return event.service.name, event.service.uid, event.dst_endpoint.svc_name, event.dst_endpoint.name


def _words(amr: list[str] | str) -> tuple[str, ...]:
    return (amr,) if isinstance(amr, str) else tuple(amr)


def _value(event: Any, column: str) -> str:
    """Return what stood where the person, resource or address is looked for."""
    names = {
        "person": _names_of_person(event),
        "resource": _names_of_resource(event),
        "address": (event.src_endpoint.ip,),
    }
    return next((name for name in names.get(column, ()) if name), "")


def _other(kind: tuple[int, int | None, str | None]) -> str | None:
    """Return why an event of some class, activity and version is no sign-in; None for one that is."""
    class_uid, activity, version = kind
    if class_uid != AUTHENTICATION:
        return f"is of class {class_uid}, not Authentication ({AUTHENTICATION})"
    if activity not in (None, LOGON):
        return f"is no sign-in (activity_id {activity})"
    if version is not None and not version.startswith("1."):
        return f"is of OCSF {version[:20]}, not 1.x"
    return None


def read_ocsf(part: LogPart, meanings: Meanings, unread: Unread) -> Iterator[Batch]:
    """Yield the sign-ins of a file of OCSF events; others are counted as unread, with the reason."""
    decoder = msgspec.json.Decoder(Event)
    reading, path = _Reading(meanings), part.path
    for data, first in blocks(part):
        events, lines = _decoded(decoder, data, first, path, unread)
        events, lines = _sign_ins(events, lines, path, unread)
        try:
            columns = reading.columns(events)
        except AttributeError:
            _fill(events)
            columns = reading.columns(events)
        time = np.array([e.time for e in events], np.int64) * 1000

        def value(name: str, row: int, events: Sequence[Event] = events) -> str:
            _fill([events[row]])
            return _value(events[row], name)

        yield meanings.batch(columns, time, None, counted_by(value), lines.__getitem__, path, unread)


def _fill(events: Sequence[Event]) -> None:
    """Puts empty parts where an event says null."""
    for event in events:
        for name, empty in _EMPTY.items():
            if getattr(event, name) is None:
                setattr(event, name, empty)
        if event.device is not None and event.device.os is None:
            event.device = msgspec.structs.replace(event.device, os=_System())


def _decoded(
    decoder: msgspec.json.Decoder[Event], data: bytes, first: int, path: Place, unread: Unread
) -> tuple[list[Event], Sequence[int]]:
    """Return the events of a block and their lines; what is none is counted."""
    try:
        events = decoder.decode_lines(data)
        if len(events) == data.count(b"\n") + (not data.endswith(b"\n")):
            return events, range(first, first + len(events))
    except (msgspec.DecodeError, UnicodeDecodeError):
        pass
    events, lines = [], []
    for line, raw in each_line(data, first):
        try:
            events.append(decoder.decode(raw))
            lines.append(line)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            unread.read += 1
            wrong = isinstance(error, msgspec.ValidationError)
            why = f"is not as OCSF has it: {error}" if wrong else "is not JSON"
            unread.add(why, "", 1, path, lambda line=line: line)  # type: ignore[misc]
    return events, lines


def _sign_ins(
    events: list[Event], lines: Sequence[int], path: Place, unread: Unread
) -> tuple[list[Event], Sequence[int]]:
    """Return the events that are sign-ins; the others are counted."""
    kinds = [(e.class_uid, e.activity_id, e.metadata.version if e.metadata else None) for e in events]
    others = {kind: why for kind in set(kinds) if (why := _other(kind)) is not None}
    if not others:
        return events, lines
    kept = []
    for row, kind in enumerate(kinds):
        if kind in others:
            unread.read += 1
            unread.add(others[kind], "", 1, path, lambda row=row: lines[row])  # type: ignore[misc]
        else:
            kept.append(row)
    return [events[row] for row in kept], [lines[row] for row in kept]
