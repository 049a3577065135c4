"""One month of sign-ins at Northmere Ferries, the same every time, with habits by unit and faults placed on purpose."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from random import Random

from . import state
from .people import DemoPerson, authenticators

COLUMNS = (
    "time",
    "person",
    "resource",
    "address",
    "network",
    "client",
    "platform",
    "device",
    "risk",
    "shown",
    "result",
)
_FIRST_DAY = datetime(2026, 10, 21, tzinfo=UTC)
_DAYS, _EVENTS = 30, 20_000
_SECRET = "memorized-secret"
_ASKS_NOBODY = "ticket-hall"  # where A-21 leaves the cargo portal open


@dataclass(frozen=True)
class DemoSignIn:
    """One row of sign_ins.csv."""

    time: str
    person: str
    resource: str
    address: str
    network: str
    client: str
    platform: str
    device: str
    risk: str
    shown: str
    result: str

    def row(self) -> list[str]:
        """Return the cells, in the order of COLUMNS."""
        return [getattr(self, name) for name in COLUMNS]


@dataclass(frozen=True)
class _Habit:
    """From where and with what people of a unit sign in, and to what."""

    networks: tuple[str, ...]
    clients: tuple[str, ...]
    platforms: tuple[str, ...]
    device: str
    resources: tuple[str, ...]


_HABITS = {
    "/Fleet": _Habit(networks=("", "", "", "terminals"), clients=("app",), platforms=("ios", "android"), device="registered", resources=("meetings", "meetings", "timesheets")),
    "/Terminals": _Habit(
        networks=("terminals", "terminals", "ticket-hall"), clients=("browser", "app"), platforms=("windows",), device="managed", resources=("cargo-portal", "meetings", "timesheets")
    ),
    "/Shore": _Habit(
        networks=("head-office", "head-office", "head-office", ""), clients=("browser", "browser", "app"), platforms=("windows", "macos"), device="healthy",
        resources=("meetings", "meetings", "timesheets", "cargo-portal"),
    ),
    "/Pilots": _Habit(networks=("", "terminals"), clients=("app",), platforms=("ios", "android"), device="registered", resources=("meetings", "cargo-portal")),
    "/Contractors": _Habit(networks=("",), clients=("browser",), platforms=("windows", "linux"), device="unknown", resources=("meetings", "timesheets")),
    "": _Habit(networks=("",), clients=("browser",), platforms=("windows", "macos", "other"), device="unknown", resources=("meetings",)),
}  # fmt: skip
_ADMINS = _Habit(
    networks=("head-office",),
    clients=("browser",),
    platforms=("windows",),
    device="managed",
    resources=("directory-console", "meeting-console", "meetings"),
)
_SCANNERS = _Habit(
    networks=("ticket-hall",), clients=("legacy",), platforms=("other",), device="unknown", resources=("cargo-portal",)
)
_FEEDS = _Habit(networks=("",), clients=("legacy",), platforms=("other",), device="unknown", resources=("timesheets",))


def _address(random: Random, network: str) -> str:
    host = random.randrange(1, 60)
    if network == "head-office":
        return f"2001:db8:10::{host:x}" if host % 3 == 0 else f"192.0.2.{host}"
    if network == "terminals":
        return f"198.51.100.{host}"
    return f"198.51.100.{64 + host}" if network == "ticket-hall" else f"203.0.113.{host * 4}"


def _habit(person: DemoPerson) -> _Habit:
    if person.kind == "service":
        return _SCANNERS if person.group == "legacy-scanners" else _FEEDS
    if "admin" in person.roles:
        return _ADMINS
    return next(habit for unit, habit in _HABITS.items() if person.unit.startswith(unit))


def _result(person: DemoPerson, resource: str, place: str, client: str, device: str, risk: str, factor: str) -> str:
    """Return what the services said, under the rules of that month."""
    if risk == "high" and person.break_glass == "false":
        return "denied"
    if client == "legacy":
        excluded = person.group == "legacy-scanners"
        return "allowed" if excluded or (resource == "cargo-portal" and person.mfa != "required") else "denied"
    if "console" in resource and device not in ("managed", "healthy"):
        return "stuck"
    strong = factor in ("multi-factor-crypto-device", "multi-factor-crypto-software")
    if "admin" in person.roles and person.break_glass == "false" and resource != "timesheets" and not strong:
        return "stuck"
    asked = resource != "cargo-portal" or place != _ASKS_NOBODY or person.mfa == "required"
    return "allowed" if factor or not asked else "stuck"


def _one(random: Random, person: DemoPerson, factor: str, day: int, old_client: bool) -> DemoSignIn:
    """Return one made-up sign-in of a person on a day."""
    habit = _habit(person)
    place, resource = random.choice(habit.networks), random.choice(habit.resources)
    client, platform, device = random.choice(habit.clients), random.choice(habit.platforms), habit.device
    if old_client and resource == "cargo-portal" and random.random() < 0.6:
        client, device = "legacy", "unknown"
    at = _FIRST_DAY + timedelta(days=day, seconds=int(random.gauss(10.5, 3.2) % 24 * 3600))
    risk = random.choices(_RISKS, (95, 3, 1.5, 0.5))[0]
    shows = factor if client != "legacy" else ""
    result = _result(person, resource, place, client, device, risk, shows)
    if result == "allowed" and random.random() < 0.02:
        result = "failed"  # a mistyped secret
    shown = ";".join(sorted({_SECRET, *([shows] if shows else [])}))
    address = _address(random, place)
    return DemoSignIn(
        time=at.strftime("%Y-%m-%dT%H:%M:%SZ"),
        person=person.id,
        resource=resource,
        address=address,
        network="",
        client=client,
        platform=platform,
        device=device,
        risk=risk,
        shown=shown,
        result=result,
    )


def sign_ins(everybody: Sequence[DemoPerson]) -> list[DemoSignIn]:
    """Return the events in order of time."""
    random = Random(1911)
    factors = {person: kind for person, kind, _ in authenticators(list(everybody))}
    factors |= {person.id: "multi-factor-otp" for person in everybody if person.home_domain == "coastguard.example.org"}
    busy = [person for person in everybody if person.active == "true" and person.last_sign_in_at >= "2026-11-19"]
    # An old program that knows no second factor: it gets in at the cargo portal, because A-21 does not speak of legacy
    # clients.
    old = {
        person.id
        for person in everybody
        if person.unit.startswith(("/Terminals", "/Pilots")) and person.mfa != "required"
    }
    made = []
    for number in range(_EVENTS - 13):
        day = random.randrange(_DAYS)
        person = random.choice(busy)
        if (_FIRST_DAY + timedelta(days=day)).weekday() >= 5 and not person.unit.startswith("/Fleet"):
            person = random.choice(busy)  # at weekends mostly the ships work
        made.append(_one(random, person, factors.get(person.id, ""), day, person.id in old and number % 3 != 0))
    lamp = next(person for person in everybody if person.break_glass == "true")
    made.append(DemoSignIn(time="2026-11-12T03:10:00Z", person=lamp.id, resource="meeting-console", address="203.0.113.77", network="", client="browser", platform="other", device="unknown", risk="none",
                       shown=f"{_SECRET};multi-factor-crypto-device", result="allowed"))  # fmt: skip  # no one knows who that was
    return sorted(
        made + _odd(made), key=lambda sign_in: (sign_in.time, sign_in.person, sign_in.resource, sign_in.address)
    )


def _odd(made: Sequence[DemoSignIn]) -> list[DemoSignIn]:
    """Events that cannot be used: of someone who is gone, to what is gone, and three that are damaged."""
    found = []
    for number, sign_in in enumerate(made[:12]):
        changes = [{"person": "N1900"}] * 6 + [{"resource": "old-wiki"}] * 3
        changes += [{"address": "198.51.100"}, {"time": sign_in.time[:-1]}]
        change = changes[number] if number < len(changes) else {}
        change = {"client": "telegraph"} if number == 11 else change
        found.append(DemoSignIn(**{name: change.get(name, getattr(sign_in, name)) for name in COLUMNS}))
    return found


_RISKS = ("none", "low", "medium", "high")
_SYSTEMS = {"windows": 100, "linux": 200, "android": 201, "macos": 300, "ios": 301, "other": 99}
_AMR = {_SECRET: "pwd", "out-of-band-sms": "sms", "out-of-band-app": "mfa", "single-factor-otp": "otp", "multi-factor-otp": "mfa",
        "multi-factor-crypto-software": "swk", "multi-factor-crypto-device": "sc"}  # fmt: skip


def ocsf(events: Sequence[DemoSignIn], everybody: Sequence[DemoPerson], day: str) -> Iterator[str]:
    """Yield the events of one day as OCSF Authentication events, one JSON object a line."""
    logins = {person.id: person.login for person in everybody}
    for past in events:
        if not past.time.startswith(day) or not past.time.endswith("Z") or past.client == "telegraph":
            continue
        at = datetime.fromisoformat(past.time)
        allowed = past.result == "allowed"
        device = {
            "type_id": 0,
            "hostname": f"device-{past.person.lower()}",
            "os": {"name": past.platform, "type_id": _SYSTEMS[past.platform]},
        }
        device |= {
            "is_managed": past.device in ("managed", "healthy"),
            "is_compliant": past.device == "healthy",
        }
        device |= {"is_trusted": past.device != "unknown"}
        agent = {"browser": "Mozilla/5.0", "app": "Quaychat/7.2"}.get(past.client)
        event = {
            "class_uid": 3002, "category_uid": 3, "activity_id": 1, "type_uid": 300201, "severity_id": 1,
            "time": int(at.timestamp() * 1000), "status_id": 1 if allowed else 2,
            "metadata": {"version": "1.3.0", "product": {"vendor_name": "Northmere Ferries", "name": "Sign-in log"}},
            "user": {"uid": past.person, "email_addr": logins.get(past.person, ""), "risk_level_id": _RISKS.index(past.risk)},
            "device": device, "service": {"name": past.resource}, "src_endpoint": {"ip": past.address},
            "auth_protocol_id": 7 if past.client == "legacy" else 4,
            "unmapped": {"amr": [_AMR[word] for word in past.shown.split(";")]},
            **({"http_request": {"user_agent": agent}} if agent else {}),
        }  # fmt: skip
        yield json.dumps(event)


def draft() -> str:
    """Access rules to try: legacy clients shut out, and the cargo portal only from managed devices."""
    head, _, rest = state.ACCESS_RULES.partition("mode: observe")
    text = f"{head}mode: enforce{rest[rest.index(chr(10)) :]}"
    return text.replace("rules:\n", "# Tried before it is made: A-30 enforced, and A-70 new.\nrules:\n", 1) + _NEW_RULE


_NEW_RULE = """\
  - id: A-70
    title: The cargo portal only from managed devices
    mode: enforce
    people:    {include: {any: true}, exclude: {group: legacy-scanners}}
    resources: {include: [cargo-portal]}
    outcome:
      require: {all_of: [managed-device]}
"""
