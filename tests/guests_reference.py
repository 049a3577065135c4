"""Guests by the text, one at a time over raw rows: states, who is asked, and what answers come to."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Any

Row = dict[str, Any]
STATES = ("ended", "refused", "unsponsored", "never", "silent", "due", "endless", "ends-soon", "unknown", "fine")
ADVICE = {"ended": "end", "refused": "end", "never": "end", "silent": "end", "fine": "keep"}


def whole_days(later: datetime, earlier: datetime) -> int:
    return (later - earlier) // timedelta(days=1)


def active(people: list[Row], name: str | None) -> Row | None:
    """The active person of an id, else of a login whatever its case."""
    if not name:
        return None
    there = [person for person in people if person.get("active") != "false"]
    for person in there:
        if person["id"] == name:
            return person
    return next((person for person in there if person["login"].casefold() == name.casefold()), None)


def states(
    guest: Row, people: list[Row], columns: set[str], partners: list[Row] | None, taken: datetime, policy: Row
) -> list[str]:
    found: set[str] = set()
    unknown = False
    ends, made, came, reviewed = (
        guest.get(name) for name in ("expires_at", "created_at", "last_sign_in_at", "reviewed_at")
    )
    if "expires_at" not in columns:
        unknown = True
    elif ends is None:
        found.add("endless")
    elif ends <= taken:
        found.add("ended")
    elif whole_days(ends, taken) <= policy["ends-soon-days"]:
        found.add("ends-soon")
    if partners is None:
        unknown = True
    else:
        home = guest.get("home_domain") or guest["login"].rpartition("@")[2]
        rows = {row["domain"].casefold(): row for row in partners}
        row = rows.get(home.casefold(), rows.get("*"))
        if row is not None and row.get("guests_in") == "false":
            found.add("refused")
    if "sponsor" not in columns:
        unknown = True
    else:
        sponsor = active(people, guest.get("sponsor"))
        if sponsor is None or sponsor is guest or sponsor["kind"] != "member":
            found.add("unsponsored")
    if "last_sign_in_at" not in columns:
        unknown = True
    elif came is not None:
        if whole_days(taken, came) > policy["silent-days"]:
            found.add("silent")
    elif made is None:
        unknown = True
    elif whole_days(taken, made) > policy["silent-days"]:
        found.add("never")
    since = reviewed if reviewed is not None else made
    if since is None:
        unknown = True
    elif whole_days(taken, since) > policy["review-every-days"]:
        found.add("due")
    if unknown:
        found.add("unknown")
    return [state for state in STATES if state in found] or ["fine"]


def member_of(person: str, members: list[Row]) -> tuple[set[str], set[str]]:
    """The groups that someone is in directly, and all of them."""
    direct = {row["group"] for row in members if row["type"] == "person" and row["member"] == person}
    every, waiting = set(direct), list(direct)
    while waiting:
        inner = waiting.pop()
        for row in members:
            if row["type"] == "group" and row["member"] == inner and row["group"] not in every:
                every.add(row["group"])
                waiting.append(row["group"])
    return direct, every


def reviewer(guest: Row, group: Row | None, people: list[Row], fallback: list[str]) -> str | None:
    """Who is asked: the owner of the group, else the sponsor, who must be a member, else the first of the fallback.

    Never a guest.
    """
    names = [group.get("owner") if group is not None else None, guest.get("sponsor")]
    for name in names:
        one = active(people, name)
        if name is names[1] and one is not None and one["kind"] != "member":
            continue
        if one is not None and one is not guest and one["kind"] != "guest":
            return str(one["id"])
    return fallback[0] if fallback else None


FATES = ("end", "silence-ends", "pass-on", "pending", "keep", "silence-keeps")


def fate(decision: str, on: date, due: date, on_silence: str) -> str:
    if decision and (decision != "pass-on" or on <= due):
        return decision
    if on <= due:
        return "pending"
    return "silence-ends" if on_silence == "end" else "silence-keeps"
