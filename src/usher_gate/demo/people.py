"""The people and groups of Northmere Ferries, the same every time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

_FIRST = (
    "Asta",
    "Bjarke",
    "Cilla",
    "Dagny",
    "Eskil",
    "Frida",
    "Gorm",
    "Hedda",
    "Ivar",
    "Jorun",
    "Kalle",
    "Liv",
    "Magne",
    "Nanna",
    "Odd",
    "Petra",
    "Runa",
    "Sten",
    "Tove",
    "Ulf",
    "Vera",
    "Ylva",
    "Arne",
    "Birte",
    "Dines",
    "Ebba",
    "Folke",
    "Greta",
)
_LAST = (
    "Brandt",
    "Dahl",
    "Ekholm",
    "Fjeld",
    "Grann",
    "Holmvik",
    "Juell",
    "Kvist",
    "Lunde",
    "Moberg",
    "Nerheim",
    "Ostby",
    "Palmgren",
    "Rosvik",
    "Sandvik",
    "Tangen",
    "Ulsrud",
    "Vik",
    "Wiborg",
    "Aasen",
    "Berge",
    "Strand",
    "Hauk",
)

# Unit, how many people, group of the crew or office.
_UNITS = (
    ("/Fleet/Deck", 52, "deck"),
    ("/Fleet/Engine", 34, "engine"),
    ("/Fleet/Catering", 28, "catering"),
    ("/Terminals/North", 18, "terminal-north"),
    ("/Terminals/South", 16, "terminal-south"),
    ("/Shore/Crewing", 12, "crewing"),
    ("/Shore/Finance", 10, "finance"),
    ("/Shore/Technology", 9, "technology"),
    ("/Shore/Safety", 8, "safety"),
    ("/Shore/Board", 4, "board"),
    ("/Pilots", 14, "pilots"),
    ("/Contractors", 12, "contractors"),
)
_GUESTS = (("shipyard.example.com", 8, "shipyard"), ("coastguard.example.org", 6, "coastguard-liaison"))
_SERVICE_ACCOUNTS = ("scanner-north", "scanner-south", "timetable-feed", "tide-gauge")

GROUPS = (
    ("deck", "Deck crews"),
    ("engine", "Engine crews"),
    ("catering", "Catering crews"),
    ("fleet", "Everyone at sea"),
    ("terminal-north", "North terminal"),
    ("terminal-south", "South terminal"),
    ("terminals", "Both terminals"),
    ("crewing", "Crewing office"),
    ("finance", "Finance office"),
    ("technology", "Technology"),
    ("safety", "Safety office"),
    ("board", "Board"),
    ("shore", "Shore offices"),
    ("pilots", "Harbour pilots"),
    ("contractors", "Contractors"),
    ("shipyard", "Shipyard guests"),
    ("coastguard-liaison", "Coastguard liaison"),
    ("operations", "Everyone who keeps the ferries running"),
    ("manifests", "Cargo manifests"),
    ("control-room", "Control room"),
    ("pilots-liaison", "Pilots' liaison"),
    ("watch", "Duty watch"),
    ("trial-crews", "Crews trying new settings"),
    ("legacy-scanners", "Ticket scanners"),
)
# Who answers for who is in a group, where someone does.
OWNERS = {"shipyard": "N1180", "technology": "N1171"}
# Which groups contain which; watch and control-room contain each other, as happens in real directories.
NESTED = (
    ("fleet", "deck"),
    ("fleet", "engine"),
    ("fleet", "catering"),
    ("terminals", "terminal-north"),
    ("terminals", "terminal-south"),
    ("shore", "crewing"),
    ("shore", "finance"),
    ("shore", "technology"),
    ("shore", "safety"),
    ("shore", "board"),
    ("operations", "fleet"),
    ("operations", "terminals"),
    ("operations", "pilots"),
    ("watch", "control-room"),
    ("control-room", "watch"),
    ("pilots-liaison", "pilots"),
)


@dataclass
class DemoPerson:
    """One row of people.csv."""

    id: str
    login: str
    name: str
    kind: str
    unit: str = ""
    group: str = ""
    roles: str = ""
    licences: str = "standard"
    active: str = "true"
    break_glass: str = "false"
    home_domain: str = ""
    sponsor: str = ""
    mfa: str = "required"
    protection: str = "standard"
    created_at: str = "2024-02-01T08:00:00Z"
    last_sign_in_at: str = "2026-11-19T07:30:00Z"
    expires_at: str = ""
    reviewed_at: str = ""
    owner: str = ""  # attr.owner
    manifests: bool = field(default=False)

    def row(self) -> list[str]:
        """Return the cells, in the order of COLUMNS."""
        return [getattr(self, name.removeprefix("attr.")) for name in COLUMNS]


COLUMNS = (
    "id",
    "login",
    "name",
    "kind",
    "unit",
    "roles",
    "licences",
    "active",
    "break_glass",
    "home_domain",
    "sponsor",
    "mfa",
    "protection",
    "created_at",
    "last_sign_in_at",
    "expires_at",
    "reviewed_at",
    "attr.owner",
)


def _names() -> Iterator[tuple[str, str]]:
    """Yield first and last names, each pair once."""
    for number in range(len(_FIRST) * len(_LAST)):
        yield _FIRST[number % len(_FIRST)], _LAST[(number * 5 + number // len(_FIRST)) % len(_LAST)]


def people() -> list[DemoPerson]:
    """Return everyone, in the order of their ids."""
    names = _names()
    found: list[DemoPerson] = []
    used: set[str] = set()

    def account(kind: str, unit: str, group: str, domain: str = "northmere.example") -> DemoPerson:
        while True:
            first, last = next(names)
            login = f"{first}.{last}@{domain}".lower()
            if login not in used:
                used.add(login)
                break
        person = DemoPerson(
            id=f"N{len(found) + 1001}", login=login, name=f"{first} {last}", kind=kind, unit=unit, group=group
        )
        found.append(person)
        return person

    for unit, count, group in _UNITS:
        for number in range(count):
            _member(account("member", unit, group), number)
    for domain, count, group in _GUESTS:
        for number in range(count):
            _guest(account("guest", "", group, domain), number, domain)
    for name in _SERVICE_ACCOUNTS:
        found.append(
            DemoPerson(
                id=f"N{len(found) + 1001}",
                login=f"{name}@northmere.example",
                name="",
                kind="service",
                unit="/Terminals/North" if "scanner" in name else "",
                group="legacy-scanners" if "scanner" in name else "",
                licences="",
                mfa="absent",
            )
        )
    for name in ("harbour-lamp-one", "harbour-lamp-two"):
        found.append(
            DemoPerson(
                id=f"N{len(found) + 1001}",
                login=f"{name}@northmere.example",
                name="Sealed account",
                kind="member",
                unit="/Shore/Technology",
                group="",
                roles="directory-admin",
                break_glass="true",
                last_sign_in_at="2026-11-12T03:10:00Z" if name.endswith("one") else "2026-09-30T09:00:00Z",
            )
        )
    return found


def _member(person: DemoPerson, number: int) -> None:
    """What is particular about some members, by their place in their unit."""
    unit = person.unit
    if unit == "/Shore/Board":
        person.licences = "standard;plus"
    if unit == "/Shore/Technology":
        person.licences = "standard;plus"
        person.roles = ("directory-admin", "meeting-admin", "meeting-admin", "helpdesk")[number] if number < 4 else ""
        person.mfa = "offered" if number == 1 else "required"  # an administrator who may skip it
        person.protection = "heightened" if number == 0 else "standard"
        person.owner = ("crew-0171", "crew-0172", "", "crew-0174", "crew-0171")[number] if number < 5 else ""
    if unit == "/Contractors":
        person.licences, person.mfa = "basic", "offered" if number % 3 == 0 else "required"
    if unit.startswith("/Fleet"):
        person.mfa = "offered" if number % 6 == 2 else "required"
    if unit == "/Terminals/South" and number < 4:
        person.mfa = ""  # the directory does not say
    if unit == "/Pilots" and number in (3, 9):
        person.mfa = "absent"
    person.manifests = unit == "/Terminals/North" and number % 2 == 0
    if unit == "/Terminals/North" and number in (4, 10):
        person.mfa = "offered"  # who handle cargo manifests
    if unit == "/Fleet/Catering" and number in (5, 17):
        person.last_sign_in_at = "2026-05-04T10:00:00Z"  # no one has missed them
    if unit == "/Contractors" and number == 11:
        person.active = "false"


def _guest(person: DemoPerson, number: int, domain: str) -> None:
    person.home_domain, person.licences, person.created_at = domain, "", "2023-06-12T08:00:00Z"
    shipyard = domain.startswith("shipyard")
    person.sponsor = "" if shipyard and number >= 5 else "N1179"
    person.expires_at = "" if shipyard else "2027-03-31T00:00:00Z"
    person.reviewed_at = "2024-01-15T09:00:00Z" if shipyard and number < 6 else "2026-09-01T09:00:00Z"
    person.mfa = "offered" if shipyard else "required"
    if not shipyard and number == 5:
        person.expires_at = "2026-12-10T00:00:00Z"


def memberships(everybody: list[DemoPerson]) -> list[tuple[str, str, str]]:
    """Return rows of members.csv: group, member, type."""
    rows = [(person.group, person.id, "person") for person in everybody if person.group]
    rows += [("manifests", person.id, "person") for person in everybody if person.manifests]
    of_group: dict[str, list[DemoPerson]] = {}
    for person in everybody:
        of_group.setdefault(person.group, []).append(person)
    rows += [("control-room", person.id, "person") for person in of_group["safety"][:4]]
    rows += [("watch", person.id, "person") for person in of_group["deck"][:3]]
    rows += [("trial-crews", person.id, "person") for person in (*of_group["engine"][:6], *of_group["catering"][:2])]
    return rows + [(outer, inner, "group") for outer, inner in NESTED]


def authenticators(everybody: list[DemoPerson]) -> list[tuple[str, str, str]]:
    """Return rows of authenticators.csv: person, type, id.

    Guests bring theirs from home; the one key of the person under heightened protection is listed twice, and is one all
    the same.
    """
    rows: list[tuple[str, str, str]] = []
    for number, person in enumerate(everybody):
        if person.kind != "member" or person.mfa in ("absent", ""):
            continue
        if person.roles:
            kinds = ["multi-factor-crypto-device"] * (1 if person.protection == "heightened" else 2)
            kinds = ["out-of-band-app"] if person.mfa == "offered" else kinds
        elif number % 23 == 7:
            kinds = ["out-of-band-sms"]
        else:
            kinds = [("single-factor-otp", "out-of-band-app", "multi-factor-crypto-software")[number % 3]]
        if person.login.startswith("harbour-lamp-two"):
            kinds = []  # no one registered its key
        mine = [(person.id, kind, f"K-{person.id[1:]}-{place}") for place, kind in enumerate(kinds, 1)]
        rows += mine * 2 if person.protection == "heightened" else mine
    return rows
