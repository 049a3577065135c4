"""How Northmere Ferries stood on twelve Fridays before.

For each a file of changes that leads from today back to that week.

What came later is taken away again, what was undone since is set once more; so the history that is kept of these weeks
has drift that is new, gone, back and old, someone who left, and a rule that the baseline gained (described in
docs/demo.md).
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, timedelta

from ..baselines import keep_rules
from ..core.words.record import record

FIRST = date(2026, 8, 28)
WEEKS = tuple(FIRST + timedelta(days=7 * week) for week in range(12))
NEW_RULE, RULE_SINCE = "NM-06", date(2026, 10, 2)  # the baseline has this rule from that day on
_SOON, _LATE = date(2000, 1, 1), date(2100, 1, 1)


def _unset(service: str, control: str, scope: str) -> str:
    return f'unset: {{service: {service}, control: {control}, scope: "{scope}"}}'


@record
class _Then:
    """Changes that hold from a day on, until before another."""

    first: date
    end: date
    lines: tuple[str, ...]


def _before(day: str, *lines: str) -> _Then:
    """Return what was so before a day."""
    return _Then(_SOON, date.fromisoformat(day), lines)


def _between(first: str, end: str, *lines: str) -> _Then:
    """Return what was so from a day on, until before another."""
    return _Then(date.fromisoformat(first), date.fromisoformat(end), lines)


_TWO = "gorm.aasen@northmere.example, magne.fjeld@northmere.example"
_MEETING = "meeting:harbour-day"
_THEN = (
    # What was set only later, by the day on which it was.
    _before("2026-08-30", _unset("tidecall", "door.waiting-room", "person:N1171")),
    _before(
        "2026-09-12",
        _unset("tidecall", "line.encryption", "group:board"),
        _unset("tidecall", "line.encryption", "group:technology"),
        _unset("tidecall", "line.dial-in", "group:technology"),
    ),
    _before(
        "2026-10-01",
        "set: {service: tidecall, control: door.personal-room, scope: organisation, value: off, pinned: true}",
    ),
    _before("2026-10-05", _unset("tidecall", "door.personal-room", "person:N1203")),
    _before(
        "2026-10-20",
        _unset("tidecall", "room.share-screen", "group:trial-crews"),
        _unset("tidecall", "room.share-screen", "group:fleet"),
        _unset("quaychat", "app.third-party", "group:trial-crews"),
    ),
    _before(
        "2026-11-10",
        *(
            _unset("tidecall", control, _MEETING)
            for control in (
                "door.waiting-room", "door.identity", "door.anonymous-join", "door.passcode-scheduled", "door.host-first"
            )
        ),
    ),
    _before(
        "2026-11-20",
        "set: {service: tidecall, control: door.passcode-instant, scope: organisation, value: on, pinned: false}",
    ),
    # Sharing onwards was on for three weeks in autumn, for an agency that has gone.
    _between(
        "2026-10-26", "2026-11-16",
        "set: {service: quaychat, control: file.guest-resharing, scope: organisation, value: on}",
    ),
    # The second factor came to one unit after the other.
    _before("2026-09-07", "people: {who: {unit: /Fleet/Engine}, mfa: offered}"),
    _before("2026-09-21", "people: {who: {unit: /Terminals/South}, mfa: offered}"),
    _before("2026-10-12", "people: {who: {unit: /Fleet/Catering}, mfa: offered}"),
    # Two who handle cargo manifests had to show it, for six weeks.
    _between("2026-09-14", "2026-10-26", f"people: {{who: {{person: [{_TWO}]}}, mfa: required}}"),
    # One has left since, one came back from leave.
    _before("2026-10-08", "people: {who: {person: N1217}, active: true, mfa: offered}"),
    _before("2026-09-28", "people: {who: {person: N1052}, active: false}"),
)  # fmt: skip


def names() -> Iterator[tuple[date, str]]:
    """Yield each week, and the name of its file of changes in the working folder."""
    for day in WEEKS:
        yield day, f"weeks/{day}.yaml"


def changes_of(day: date) -> str:
    """Return the file of changes that leads from today back to a week."""
    lines = [line for then in _THEN if then.first <= day < then.end for line in then.lines]
    made = "".join(f"  - {line}\n" for line in lines)
    return f"usher-gate: changes/1\ntitle: Back to how it was on {day}\nchanges:\n{made}"


def baseline_of(day: date, text: str) -> str:
    """Return the baseline as it was in a week, from today's."""
    if day >= RULE_SINCE:
        return text
    ids = frozenset(line.removeprefix("  - id: ") for line in text.splitlines() if line.startswith("  - id: "))
    return keep_rules(text, ids - {NEW_RULE})
