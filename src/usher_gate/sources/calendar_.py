"""Planned meetings from iCalendar files (RFC 5545).

Organiser, invitees, recurrence, and settings in X- properties of our own.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from ..files.faults import UsherError
from .interface import Context, Gathered, Provides, SourceFailed, open_source

CONTROL, KIND = "X-USHER-GATE-SETTING", "X-USHER-GATE-KIND"  # a value such as door.waiting-room=members
_TOO_OFTEN = ("SECONDLY", "MINUTELY", "HOURLY")
_KINDS = ("scheduled", "instant", "personal", "webinar", "broadcast")
_LARGEST = 64 * 1024 * 1024


class Calendar:
    """A file, or a folder of files, of planned meetings of one service."""

    def __init__(self, path: str, service: str, days: int = 14, most: int = 50) -> None:
        self._path, self._service, self._days, self._most = path, service, days, most
        self.gives = Provides(frozenset(("meetings", "settings")), (service,), False)

    def gather(self, context: Context) -> Gathered:
        """Return the meetings of the next days; raises SourceFailed, or UsherError for want of a library."""
        try:
            import icalendar
            import recurring_ical_events
        except ImportError:
            raise UsherError("calendars need icalendar; pip install 'usher-gate[gather]'") from None
        path = context.folder / self._path
        files = sorted(path.glob("*.ics")) if path.is_dir() else [path]
        if not files or not files[0].is_file():
            raise SourceFailed(f"{path}: is no .ics file, and no folder of them")
        found = Gathered({"meetings": [], "settings": []})
        self._zone, self._floating_count = ZoneInfo(context.time_zone) if context.time_zone else UTC, 0
        now = datetime.now(self._zone)  # the library compares times without a zone with the time on this clock
        for number, file in enumerate(files, 1):
            with open_source(file, _LARGEST) as stream:
                data = stream.read()
            try:
                calendar = icalendar.Calendar.from_ical(data)
                self._read(calendar, recurring_ical_events, now, found, file)
            except SourceFailed:
                raise
            except (ValueError, KeyError, IndexError, TypeError, AttributeError) as error:
                raise SourceFailed(
                    f"{file}: is not iCalendar as RFC 5545 has it ({error.__class__.__name__})"
                ) from None
            context.progress("files", number, len(files))
        if self._floating_count and not context.time_zone:
            meetings = "1 meeting" if self._floating_count == 1 else f"{self._floating_count:,} meetings"
            found.notes.append(
                f"{meetings} without a time zone: taken for UTC; write time_zone in [gather], such as Europe/Oslo"
            )
        return found

    def _read(self, calendar: Any, recurring: Any, now: datetime, found: Gathered, path: Path) -> None:
        """Read one calendar: each occurrence within the days to look ahead becomes a planned meeting."""
        self._refuse_floods(calendar, found, path)
        counted: dict[str, int] = {}
        settled: set[tuple[str, str]] = set()
        masters: dict[str, Any] = {}  # the first component of each series: the one that may repeat
        found.entries = (found.entries or 0) + len(calendar.walk("VEVENT"))
        for component in calendar.walk("VEVENT"):
            masters.setdefault(str(component.get("UID", "")), component)
        for event in recurring.of(calendar, skip_bad_series=True).between(now, now + timedelta(days=self._days)):
            uid = str(event.get("UID", ""))
            if str(event.get("STATUS", "")).upper() == "CANCELLED":
                continue
            counted[uid] = counted.get(uid, 0) + 1
            if not uid or counted[uid] > self._most:
                continue
            master = masters.get(uid, event)
            repeats = "RRULE" in master or "RDATE" in master
            start = self._moment(event["DTSTART"].dt)
            name = f"{uid}/{start}" if repeats else uid
            moment = event["DTSTART"].dt
            self._floating_count += not isinstance(moment, datetime) or moment.tzinfo is None
            self._add(event, name, start, repeats, found)
            if (uid, name) not in settled:
                settled.add((uid, name))
                self._settings(event, name, found, path)
        for uid, number in counted.items():
            if number > self._most:
                found.notes.append(
                    f"{path}: {uid}: {number - self._most} further occurrences within {self._days} days are left out"
                )

    def _refuse_floods(self, calendar: Any, found: Gathered, path: Path) -> None:
        """Takes out series that come so often that they are no meetings; they would take for ever."""
        floods = set[int]()
        for event in calendar.walk("VEVENT"):
            rule = event.get("RRULE")
            rules = rule if isinstance(rule, list) else [rule] * (rule is not None)
            if any(str(one_rule.get("FREQ", [""])[0]).upper() in _TOO_OFTEN for one_rule in rules):
                found.notes.append(f"{path}: {event.get('UID', '')}: comes more often than daily, and is left out")
                floods.add(id(event))
        if floods:
            calendar.subcomponents[:] = [each for each in calendar.subcomponents if id(each) not in floods]

    def _add(self, event: Any, name: str, start: str, repeats: bool, found: Gathered) -> None:
        """Add the row of one occurrence, with its organiser and the invited addresses."""
        attendees = event.get("ATTENDEE", [])
        attendees = attendees if isinstance(attendees, list) else [attendees]
        invitees = sorted({_address(attendee) for attendee in attendees if _is_invited(attendee)} - {""})
        for attendee in attendees:
            if _parameter(attendee, "CUTYPE") == "GROUP":
                note = f"{_address(attendee)} is invited as a group: one address, however many people are in it"
                found.notes += [note] if note not in found.notes else []
        kind = str(event.get(KIND, "scheduled")).lower()
        row = {
            "id": name,
            "service": self._service,
            "organiser": _address(event.get("ORGANIZER", "")),
            "kind": kind if kind in _KINDS else "scheduled",
            "starts_at": start,
            "ends_at": self._moment(event["DTEND"].dt) if "DTEND" in event else "",
            "recurring": "true" if repeats else "false",
            "invitees": ";".join(invitees),
            "label": str(event.get("SUMMARY", "")),
        }
        if not row["organiser"]:
            found.notes.append(f"{name}: has no organiser, and is left out")
            return
        found.add("meetings", {column: cell for column, cell in row.items() if cell})

    def _moment(self, value: date | datetime) -> str:
        """Return a date or a time as RFC 3339 in UTC; one without a zone is in the zone of [gather]."""
        if not isinstance(value, datetime):
            value = datetime(value.year, value.month, value.day)
        if value.tzinfo is None:
            value = value.replace(tzinfo=self._zone)
        return value.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")

    def _settings(self, event: Any, name: str, found: Gathered, path: Path) -> None:
        given = event.get(CONTROL, [])
        for item in given if isinstance(given, list) else [given]:
            control, equal, value = str(item).partition("=")
            if not equal:
                raise SourceFailed(f"{path}: {CONTROL}: {str(item)[:60]!r} is not CONTROL=VALUE")
            row = {
                "service": self._service,
                "control": control.strip(),
                "scope": f"meeting:{name}",
                "value": value.strip(),
            }
            found.add("settings", row)


_NO_INVITEES = ("ROOM", "RESOURCE")


def _is_invited(attendee: Any) -> bool:
    """Return whether an attendee is an invitee: neither a room or another thing, nor someone who has declined.

    Spec: gathering 6.
    """
    return _parameter(attendee, "CUTYPE") not in _NO_INVITEES and _parameter(attendee, "PARTSTAT") != "DECLINED"


def _parameter(attendee: Any, name: str) -> str:
    """Return a parameter of an attendee, in capitals; "" where there is none."""
    return str(getattr(attendee, "params", {}).get(name, "")).upper()


def _address(value: Any) -> str:
    text = str(value).strip()
    return text[7:].lower() if text.lower().startswith("mailto:") else ""
