"""The plain reference of the door: gate by gate, one visitor at a time, over the raw rows.

It shares nothing with the program but the names of the words. What is not known is tried out: every value that it could
have.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import product
from typing import Any

from tests.reference import Leaf, Reference, Row, Value

KINDS = ("scheduled", "instant", "personal", "webinar", "broadcast")
STANDINGS = ("nobody", "outsider", "partner", "guest", "member")
HOLDINGS = ("number", "link", "invitation")
WAYS = ("app", "browser", "telephone", "room-system")
OUTCOMES = ("enters", "waits", "refused")
PASSES, WAITS, REFUSED = 0, 1, 2
ROOMS = ("scheduled", "instant", "personal")

_FLAGS = {
    "door.may-start": "off", "door.host-first": "on", "door.personal-room": "off", "door.anonymous-join": "off",
    "door.passcode-scheduled": "on", "door.passcode-instant": "on", "door.passcode-personal-room": "on",
    "door.passcode-telephone": "on", "door.passcode-in-link": "off", "door.telephone-waits": "on",
    "line.dial-in": "off", "line.browser": "off", "line.room-systems": "off",
}  # fmt: skip
CONTROLS: dict[str, Row] = {
    **{name: {"kind": "flag", "strict": strict} for name, strict in _FLAGS.items()},
    "door.start": {"kind": "level", "values": ["everyone", "members", "named-people"]},
    "door.identity": {"kind": "level", "values": ["anyone", "any-account", "listed-domains", "own-organisation"]},
    "door.waiting-room": {"kind": "level", "values": ["everyone", "partners", "guests", "members", "invitees", "hosts"]},
    "door.listed-domains": {"kind": "set"},
    "door.refused-domains": {"kind": "set"},
    "line.encryption": {"kind": "level", "values": ["transport", "end-to-end"]},
    "broadcast.audience": {"kind": "level", "values": ["public", "organisation", "named-people"]},
    "broadcast.webinar-audience": {"kind": "level", "values": ["public", "organisation", "named-people"]},
    "room.share-screen": {"kind": "level", "values": ["everyone", "members", "hosts"]},
    "room.chat": {"kind": "level", "values": ["everyone", "members", "with-hosts", "off"]},
}  # fmt: skip


def _a(word: str) -> str:
    return f"{'an' if word[0] in 'aeiou' else 'a'} {word}"


def words_of(control: str) -> list[str]:
    """All values, weakest first."""
    kind = CONTROLS[control]
    if kind["kind"] == "flag":
        return ["off", "on"] if kind["strict"] == "on" else ["on", "off"]
    return list(kind["values"])


@dataclass
class Gate:
    """What one gate gives at least and at most, and the controls that it asks, its own first."""

    name: str
    control: str
    least: int
    most: int
    asks: tuple[str, ...] = ()


@dataclass
class Room:
    """One host's, or one meeting's, values.

    For each supported control its possible rivals (None: not known), the cause of the first, and whether that is
    pinned.
    """

    service: Row
    values: dict[str, list[str | None]]
    causes: dict[str, Value] = field(default_factory=dict)

    def put(self, control: str, value: str) -> Room:
        return Room(self.service, {**self.values, control: [value]}, self.causes)


@dataclass
class Met:
    """What a visitor meets.

    The gates, the least and the greatest outcome, and whether there is a room (None: not known).
    """

    gates: list[Gate]
    least: int
    most: int
    there: bool | None

    @property
    def outcome(self) -> str:
        known = self.least == self.most and (self.there is True or self.least == REFUSED)
        return OUTCOMES[self.least] if known else "unknown"

    @property
    def deciding(self) -> Gate | None:
        if self.outcome == "enters":
            return None
        if self.outcome != "unknown":
            return next((gate for gate in self.gates if gate.least == self.least), None)
        if self.there is not True:
            return Gate("room", "door.personal-room", 0, 2)
        return next((gate for gate in self.gates if gate.most > self.least), None)


Visit = tuple[str, str, str, str, str]  # kind, standing, holding, way, moment


class Doors(Reference):
    """Answers about doors. The organisation has `domains` and `meetings` besides."""

    domains: tuple[str, ...] = ()
    meetings: Sequence[Row] = ()

    # what a service has

    def has(self, service: Row, control: str) -> bool:
        return self.supported(service, control)

    def kinds(self, service: Row) -> list[str]:
        said = (service.get("door") or {}).get("kinds")
        if said:
            return [kind for kind in KINDS if kind in said]
        five = (
            "door.waiting-room",
            "door.identity",
            "door.anonymous-join",
            "door.passcode-scheduled",
            "door.passcode-instant",
        )
        found = ["scheduled", "instant"] if any(self.has(service, control) for control in five) else []
        if found and self.has(service, "door.personal-room"):
            found.append("personal")
        if self.has(service, "broadcast.webinar-audience"):
            found.append("webinar")
        return found + (["broadcast"] if self.has(service, "broadcast.audience") else [])

    def ways(self, service: Row) -> list[str]:
        said = (service.get("door") or {}).get("ways")
        if said:
            return [way for way in WAYS if way in said]
        found = ["app", "browser"]
        if self.has(service, "line.dial-in"):
            found.append("telephone")
        return found + (["room-system"] if self.has(service, "line.room-systems") else [])

    def visits(self, kinds: Sequence[str], ways: Sequence[str]) -> Iterator[Visit]:
        for kind, standing, holding, way, moment in product(KINDS, STANDINGS, HOLDINGS, WAYS, ("before", "there")):
            if kind not in kinds or way not in ways:
                continue
            if way in ("telephone", "room-system") and standing != "nobody":
                continue
            if way == "telephone" and holding == "link":
                continue
            yield kind, standing, holding, way, moment

    # values

    def value(self, person: Row, service: Row, control: str) -> tuple[list[str | None], Value, bool]:
        """Every rival of the value, the value itself with its cause, and whether the walk is ended (by a pin or a
        licence).
        """
        licence = self.licence(person, service, control)
        if licence == "no-fact" or (licence and "without" not in licence):
            return [None], Value(None), True
        if licence:
            return [licence["without"]], Value(licence["without"], "licence", True), True
        every = self.effective(person, service, control)
        return [each.value for each in every], every[0], every[0].pinned or self.pinned_gap(person, service, control)

    def pinned_gap(self, person: Row, service: Row, control: str) -> bool:
        """Whether a level without data has a pinned setting that ends the walk."""
        rows = self.settings_of(service["id"], control)
        for level, scopes in self.steps(person, service):
            here = [
                row
                for row in rows
                if (row["scope"].startswith(level + ":") if scopes is None else row["scope"] in scopes)
            ]
            if scopes is None and any(self.pinned(row) for row in here):
                return True
            if scopes is not None and here and self.pinned(sorted(here, key=self.order)[0]):
                return False
        return False

    def room(self, person: Row, service: Row, meeting: Row | None = None) -> Room:
        made = Room(service, {})
        for control in CONTROLS:
            if not self.has(service, control):
                continue
            values, cause, ended = self.value(person, service, control)
            if meeting is not None and not ended:
                own = [
                    row
                    for row in self.settings_of(service["id"], control)
                    if row["scope"] == f"meeting:{meeting['id']}"
                ]
                for row in own:
                    values, cause = [row["value"]], Value(row["value"], row, self.pinned(row))
            made.values[control], made.causes[control] = values, cause
        return made

    def is_host(self, person: Row, service: Row) -> bool:
        if self.chosen(service["accounts"], person, True) is False:
            return False
        room = self.room(person, service)
        if room.values.get("door.may-start") == ["off"]:
            return False
        return not (room.values.get("door.start") == ["members"] and person["kind"] == "guest")

    # gates

    def meet(self, room: Room, visit: Visit, domain: str | None = None) -> Met:
        """What a visitor meets: of rivals of a contested set the weakest."""
        refused = room.values.get("door.refused-domains", [None])
        every = [
            self.meet_one(room.put("door.refused-domains", rival), visit, domain)
            for rival in refused
            if rival is not None
        ]
        if len(every) > 1:
            first = every[0]
            least, most = min(each.least for each in every), min(each.most for each in every)
            gates = [
                Gate(
                    gate.name,
                    gate.control,
                    min(each.gates[n].least for each in every),
                    min(each.gates[n].most for each in every),
                    gate.asks,
                )
                for n, gate in enumerate(first.gates)
            ]
            return Met(gates, least, most, first.there)
        return self.meet_one(room, visit, domain)

    def meet_one(self, room: Room, visit: Visit, domain: str | None) -> Met:
        kind, standing, holding, way, moment = visit
        gates: list[Gate] = []

        def gate(name: str, asks: tuple[str, ...], gives: Any) -> None:
            """Adds a gate: `gives` says what it gives for known values of its controls.

            All that they could be is tried.
            """
            possible = [
                room.values[control] if room.values[control][0] is not None else words_of(control) for control in asks
            ]
            results = [found for values in product(*possible) for found in gives(*values)]
            gates.append(Gate(name, asks[0], min(results), max(results), asks))

        has = room.values.keys()
        own = {"telephone": "line.dial-in", "browser": "line.browser", "room-system": "line.room-systems"}.get(way)
        if own in has:
            assert own is not None
            gate("way", (own,), lambda value: [REFUSED if value == "off" else PASSES])
        if own and "line.encryption" in has:
            gate("way", ("line.encryption",), lambda value: [PASSES, REFUSED] if value == "end-to-end" else [PASSES])
        if domain and "door.refused-domains" in has:
            listed = room.values["door.refused-domains"][0]
            names = None if listed is None else {name.lower() for name in listed.split(";")}
            least, most = (
                (PASSES, REFUSED) if names is None else (REFUSED,) * 2 if domain.lower() in names else (PASSES,) * 2
            )
            gates.append(Gate("domain", "door.refused-domains", least, most))
        if kind in ("webinar", "broadcast"):
            control = "broadcast.webinar-audience" if kind == "webinar" else "broadcast.audience"
            ours = standing in ("member", "guest")
            if control in has:
                gate("audience", (control,), lambda value: [
                    PASSES if value == "public" or (value == "organisation" and ours)
                    or (value == "named-people" and ours and holding == "invitation") else REFUSED])  # fmt: skip
            return self.met(gates, True)
        bound = way in ("app", "browser") or bool((room.service.get("door") or {}).get("asks-callers"))
        if bound and standing == "nobody" and "door.anonymous-join" in has:
            gate("account", ("door.anonymous-join",), lambda value: [REFUSED if value == "off" else PASSES])
        if bound and "door.identity" in has:
            shut = {"anyone": (), "any-account": ("nobody",), "listed-domains": ("nobody", "outsider"),
                    "own-organisation": ("nobody", "outsider", "partner")}  # fmt: skip
            gate("identity", ("door.identity",), lambda value: [REFUSED if standing in shut[value] else PASSES])
        self.passcode(room, visit, gate)
        if moment == "before" and "door.host-first" in has:
            gate("host", ("door.host-first",), lambda value: [WAITS if value == "on" else PASSES])
        if way == "telephone" and "door.telephone-waits" in has:
            gate("waiting-room", ("door.telephone-waits",), lambda value: [WAITS if value == "on" else PASSES])
        elif "door.waiting-room" in has:
            past = {"everyone": STANDINGS, "partners": ("partner", "guest", "member"), "guests": ("guest", "member"),
                    "members": ("member",), "invitees": ("member",) if holding == "invitation" else (), "hosts": ()}  # fmt: skip
            gate("waiting-room", ("door.waiting-room",), lambda value: [PASSES if standing in past[value] else WAITS])
        there: bool | None = True
        if kind == "personal" and "door.personal-room" in has:
            there = {"on": True, "off": False, None: None}[room.values["door.personal-room"][0]]
        return self.met(gates, there)

    def passcode(self, room: Room, visit: Visit, gate: Any) -> None:
        kind, _, holding, way, _ = visit
        control = (
            "door.passcode-telephone"
            if way == "telephone"
            else f"door.passcode-{'personal-room' if kind == 'personal' else kind}"
        )
        if control not in room.values:
            return
        if holding == "number":
            gate("passcode", (control,), lambda value: [REFUSED if value == "on" else PASSES])
        elif holding == "link" and "door.passcode-in-link" in room.values:
            gate(
                "passcode",
                (control, "door.passcode-in-link"),
                lambda value, link: [REFUSED if (value, link) == ("on", "off") else PASSES],
            )
        else:
            gate("passcode", (control,), lambda _: [PASSES])

    @staticmethod
    def met(gates: list[Gate], there: bool | None) -> Met:
        return Met(gates, max([0, *(gate.least for gate in gates)]), max([0, *(gate.most for gate in gates)]), there)

    # doors

    def open(self, room: Room, kind: str, moment: str = "there") -> bool | None:
        """Whether a stranger enters; None where one may."""
        perhaps = False
        for visit in self.visits((kind,), self.ways(room.service)):
            if visit[1] in ("nobody", "outsider") and visit[2] in ("link", "number") and visit[4] == moment:
                met = self.meet(room, visit)
                if met.there is True and met.outcome == "enters":
                    return True
                perhaps |= met.outcome == "unknown" and met.least == PASSES and met.there is not False
        return None if perhaps else False

    def strangers(self, room: Room, kind: str) -> list[Visit]:
        return [visit for visit in self.visits((kind,), self.ways(room.service))
                if visit[1] in ("nobody", "outsider") and visit[2] in ("link", "number") and visit[4] == "there"]  # fmt: skip

    def waiting_control(self, room: Room, visit: Visit) -> str:
        if visit[0] == "webinar":
            return "broadcast.webinar-audience"
        if visit[0] == "broadcast":
            return "broadcast.audience"
        return (
            "door.telephone-waits"
            if visit[3] == "telephone" and "door.telephone-waits" in room.values
            else "door.waiting-room"
        )

    def root(self, room: Room, visit: Visit, good: Any) -> tuple[str, str | None]:
        """The control that mends a visit alone by being stricter (or weaker, where too much is asked), and the value
        nearest to what is.
        """
        kind, _, _, way, _ = visit
        passcode = (
            "door.passcode-telephone"
            if way == "telephone"
            else f"door.passcode-{'personal-room' if kind == 'personal' else kind}"
        )
        line = {"telephone": "line.dial-in", "browser": "line.browser", "room-system": "line.room-systems"}.get(way, "")
        middle = () if kind in ("webinar", "broadcast") else ("door.identity", "door.anonymous-join", passcode)
        met = self.meet(room, visit)
        for control in (self.waiting_control(room, visit), *middle, line):
            now = room.values.get(control, [None])[0]
            if now is None:
                continue
            for value in words_of(control)[words_of(control).index(now) + 1 :]:
                then = self.meet(room.put(control, value), visit)
                if all(good(each) for each in range(then.least, then.most + 1)):
                    return control, value
        first = next((gate for gate in met.gates if gate.least == met.least and met.least > 0), None)
        now = room.values[first.control][0] if first is not None else None
        if first is not None and now is not None and CONTROLS[first.control]["kind"] != "set":
            for value in reversed(words_of(first.control)[: words_of(first.control).index(now)]):
                then = self.meet(room.put(first.control, value), visit)
                if all(good(each) for each in range(then.least, then.most + 1)):
                    return first.control, value
        return "door", None

    # leaves

    def door_leaf(self, leaf: Row, rule: Row, room: Room) -> Leaf:
        """What a leaf says of one host's (or one meeting's) doors."""
        asked = leaf["door"]

        def wanted(key: str, value: str, everything: Sequence[str]) -> bool:
            said = asked.get(key, "any")
            return value in (everything if said == "any" else [said] if isinstance(said, str) else said)

        operands = leaf["operands"]

        def good(outcome: int) -> bool:
            word = OUTCOMES[outcome]
            if leaf["operator"] == "no-weaker-than":
                return outcome >= OUTCOMES.index(operands)
            return word == operands if leaf["operator"] == "is" else word in operands

        every = [
            visit
            for visit in self.visits(leaf.get("kinds") or self.kinds(room.service), self.ways(room.service))
            if wanted("kind", visit[0], ROOMS) and wanted("standing", visit[1], STANDINGS) and wanted("holding", visit[2], HOLDINGS)
            and wanted("way", visit[3], WAYS) and wanted("moment", visit[4], ("before", "there"))
        ]  # fmt: skip
        unknown = loose = None
        for visit in every:
            met = self.meet(room, visit)
            outcome, least, most = met.outcome, met.least, met.most
            if met.there is False:
                continue
            may_fail = not all(good(each) for each in range(least, most + 1))
            if outcome != "unknown" and may_fail:
                control, _ = self.root(room, visit, good)
                cause = self.told_cause(room, control)
                root = room.service["id"], control, cause[0] if cause else None, cause[1] if cause else None
                return Leaf("drifts", "open-door", self.text(outcome, visit), cause, root)
            if may_fail and unknown is None:
                unknown = Leaf("unknown", "no-value", self.text("unknown", visit))
            if loose is None and rule.get("pinned") in ("true", "strict"):
                loose = self.loose(rule, room, met, visit, outcome, good)
        return unknown or loose or Leaf("meets")

    def loose(self, rule: Row, room: Room, met: Met, visit: Visit, outcome: str, good: Any) -> Leaf | None:
        """Whether the host could open enough gates; the cause is that of the first that could be."""
        kept, first = list[Gate](), None
        for gate in met.gates:
            if any(self.changeable(rule, room, control) for control in gate.asks):
                if first is None and gate.most > 0:
                    first = gate
            else:
                kept.append(gate)
        left = self.met(kept, met.there)
        if all(good(each) for each in range(left.least, left.most + 1)):
            return None
        return Leaf(
            "loose", "changeable", self.text(outcome, visit), self.told_cause(room, first.control) if first else None
        )

    def changeable(self, rule: Row, room: Room, control: str) -> bool:
        if room.causes[control].pinned:
            return False
        keys = room.service["self-service"]
        fits = keys is None or any(
            key == control or (key.endswith("*") and control.startswith(key[:-1])) for key in keys
        )
        return rule["pinned"] == "strict" or fits

    @staticmethod
    def told_cause(room: Room, control: str) -> tuple[str, str, bool] | None:
        value = room.causes.get(control)
        if value is None or value.value is None:
            return None
        return value.cause if isinstance(value.cause, str) else value.cause["scope"], value.value, value.pinned

    @staticmethod
    def text(outcome: str, visit: Visit) -> str:
        kind, standing, holding, way, moment = visit
        rooms = {"personal": "a personal room", "webinar": "a webinar", "broadcast": "a broadcast"}
        into = rooms.get(kind) or _a(f"{kind} meeting")
        who = "nobody" if standing == "nobody" else _a(standing)
        return f"{outcome}: {who} with {_a(holding)} by {way} into {into} {'before the host' if moment == 'before' else 'with the host there'}"

    # planned meetings

    def planned(self) -> list[Row]:
        """Those that are judged: ahead or recurring, of an active organiser, on a service that is there."""
        services = {service["id"] for service in self.org.services or ()}
        return [
            row for row in self.meetings
            if (row["starts_at"] >= self.org.taken_at or row.get("recurring") == "true")
            and row["service"] in services and self.organiser(row) is not None
        ]  # fmt: skip

    def organiser(self, meeting: Row) -> Row | None:
        named = meeting["organiser"].lower()
        return next((each for each in self.active if named in (each["id"].lower(), each["login"].lower())), None)

    def meeting_room(self, meeting: Row) -> Room:
        service = next(each for each in self.org.services or () if each["id"] == meeting["service"])
        organiser = self.organiser(meeting)
        assert organiser is not None
        return self.room(organiser, service, meeting)

    def invited(self, meeting: Row) -> dict[str, tuple[list[str], str, bool, bool]]:
        """Each invited address with its possible standings, its domain, whether both standings are rivals, and whether
        it is of elsewhere.
        """
        organiser = self.organiser(meeting)
        assert organiser is not None
        found: dict[str, tuple[list[str], str, bool, bool]] = {}
        seen = {organiser["login"].lower()}
        logins = {each["login"].lower() for each in self.org.people}
        by_id = {each["id"].lower(): each["login"] for each in self.org.people}
        given = [each for each in (meeting.get("invitees") or "").split(";") if each]
        for address in sorted({each if each.lower() in logins else by_id.get(each.lower(), each) for each in given}):
            if not address or address.lower() in seen:
                continue
            seen.add(address.lower())
            domain = address.rpartition("@")[2] if "@" in address else ""
            person = next((each for each in self.active if each["login"].lower() == address.lower()), None)
            ours = {each.lower() for each in self.domains}
            if person is not None and person["kind"] == "guest":
                home = person.get("home_domain") or person["login"].rpartition("@")[2]
                found[address] = ["guest"], home, False, False
            elif person is not None or (domain and domain.lower() in ours):
                found[address] = ["member"], domain, False, False
            else:
                room = self.meeting_room(meeting)
                lists = room.values.get("door.listed-domains", [""]) if domain else [""]
                if lists == [None]:
                    found[address] = ["partner", "outsider"], domain, False, True
                else:
                    said = {
                        domain.lower() in {each.lower() for each in (rival or "").split(";")} if domain else False
                        for rival in lists
                    }
                    found[address] = (
                        (
                            ["partner"]
                            if said == {True}
                            else ["outsider"]
                            if said == {False}
                            else ["partner", "outsider"]
                        ),
                        domain,
                        len(said) > 1,
                        True,
                    )
        return found

    def fate(self, meeting: Row, address: str) -> tuple[str, bool]:
        """What meets an invitee, and whether only an account keeps them from being refused."""
        room, kind = self.meeting_room(meeting), meeting.get("kind") or "scheduled"
        standings, domain, rivals, elsewhere = self.invited(meeting)[address]
        mets = [self.meet(room, (kind, standing, "invitation", "app", "there"), domain) for standing in standings]
        least = min(met.least for met in mets)
        most = (min if rivals else max)(met.most for met in mets)
        outcome = Met([], least, most, mets[0].there).outcome
        if mets[0].there is False:
            outcome = "refused"
        bare = self.meet(room, (kind, "nobody", "invitation", "app", "there")).outcome
        return outcome, elsewhere and bare == "refused" and outcome != "refused"

    def meeting_open(self, meeting: Row) -> bool | None:
        room, kind = self.meeting_room(meeting), meeting.get("kind") or "scheduled"
        if kind == "personal" and room.values.get("door.personal-room") == ["off"]:
            return False
        return self.open(room, kind)
