"""What Northmere Ferries has planned: meetings as its calendars hold them (described in docs/demo.md)."""

from __future__ import annotations

from collections.abc import Iterator

COLUMNS = ("id", "service", "organiser", "kind", "starts_at", "ends_at", "recurring", "invitees", "label")

_OURS = "@northmere.example"
# id, organiser, day and hour, recurring, invitees (one without a domain is ours), label; all scheduled ones on Tidecall
_SCHEDULED = (
    ("handover", "asta.brandt@northmere.example", "2026-11-02T05:30", True, "bjarke.holmvik cilla.nerheim", "Watch handover"),
    ("rota", "N1005", "2026-11-23T08:00", True, "N1006 N1007 N1008", "Deck rota"),
    ("moorings", "N1011", "2026-11-24T13:00", False, "berths@harbour.example.net", "Berths for the winter timetable"),
    ("engines", "N1055", "2026-11-25T06:00", True, "N1056 N1057", "Engine round"),
    ("spares", "N1060", "2026-11-26T10:00", False, "folke.rosvik@shipyard.example.com parts@pumps.example.net", "Spare pumps"),
    ("galley", "N1090", "2026-11-23T07:00", False, "N1091 N1092", "Menus (by someone who only joins)"),
    ("north-gate", "N1118", "2026-11-23T05:00", True, "N1117 N1119", "North terminal, first boat"),
    ("harbour-day", "N1139", "2026-11-28T10:00", False, "visitors@harbour.example.net press@tidings.example.net", "Open harbour day"),
    ("south-gate", "N1138", "2026-11-23T05:00", True, "N1140 N1141", "South terminal, first boat"),
    ("crew-list", "N1150", "2026-11-27T09:00", False, "agency@crews.example.net N1151", "Crews for the new year"),
    ("drill", "N1155", "2026-11-25T13:00", False, "liaison@coastguard.example.org N1187", "Drill with the coastguard"),
    ("books", "N1160", "2026-11-30T09:00", True, "N1161 N1162", "Books of the month"),
    ("audit", "N1163", "2026-12-03T09:00", False, "post@ledgers.example.net", "The yearly audit"),
    ("dock-plans", "N1171", "2026-11-24T09:00", False,
     "folke.rosvik@shipyard.example.com yard@shipyard.example.com survey@drydock.example.net", "Plans for the dry dock"),
    ("changes", "N1172", "2026-11-24T15:00", True, "N1173 N1174", "What changes on Thursday"),
    ("links", "N1175", "2026-11-26T14:00", False, "help@masts.example.net", "Radio links"),
    ("near-miss", "N1183", "2026-11-24T07:30", True, "N1184 liaison@coastguard.example.org", "Near misses"),
    ("safety-day", "N1185", "2026-12-08T08:00", False, "N1001 N1055 N1090 N1118", "Safety day"),
    ("board", "N1188", "2026-12-02T13:00", True, "N1189 N1190 N1191", "The board"),
    ("charter", "N1189", "2026-12-04T10:00", False, "desk@charters.example.net", "A charter for the summer"),
    ("fog", "N1193", "2026-11-22T05:00", False, "N1194 watch@coastguard.example.org", "Fog on Sunday"),
    ("tugs", "N1196", "2026-11-24T11:00", False, "tug.one@towing.example.net tug.two@towing.example.net", "Two tugs for the dock"),
    ("crane", "N1207", "2026-11-25T09:00", False, "N1208", "The crane"),
    ("paint", "N1209", "2026-11-27T11:00", False, "colours@paints.example.net N1210", "Paint for the hull"),
    ("past", "N1171", "2026-11-13T09:00", False, "survey@drydock.example.net", "Plans so far"),
)  # fmt: skip
# The same with service and kind.
_OTHERS = (
    ("pilot-room", "tidecall", "N1203", "personal", "2026-09-01T04:00", True, "pilots watch@coastguard.example.org", "The pilots' standing room"),
    ("race", "beaconcast", "N1003", "broadcast", "2026-11-30T12:00", False, "", "The winter race"),
    ("quarter", "beaconcast", "N1150", "broadcast", "2026-12-01T08:00", False, "asta.brandt investor@quay.example.net", "The quarter in figures"),
    ("thanks", "beaconcast", "N1188", "broadcast", "2026-12-18T12:00", False, "N1189", "Thanks at the end of the year"),
    ("joining", "beaconcast", "N1151", "webinar", "2026-12-07T09:00", False, "new@crews.example.net", "Joining Northmere"),
    ("timetable", "beaconcast", "N1121", "webinar", "2026-12-09T17:00", False, "", "The new timetable"),
)  # fmt: skip


def meetings(login_of: dict[str, str]) -> Iterator[tuple[str, ...]]:
    """Yield a row for each; `login_of` gives the login of a person's id."""

    def addresses(words: str) -> str:
        found = [login_of.get(word, word) for word in words.split()]
        return ";".join(word if "@" in word else word + _OURS for word in found)

    for name, organiser, starts, recurring, invitees, label in _SCHEDULED:
        again = "true" if recurring else "false"
        yield name, "tidecall", organiser, "scheduled", f"{starts}:00Z", "", again, addresses(invitees), label
    for name, service, organiser, kind, starts, recurring, invitees, label in _OTHERS:
        again = "true" if recurring else "false"
        yield name, service, organiser, kind, f"{starts}:00Z", "", again, addresses(invitees), label
