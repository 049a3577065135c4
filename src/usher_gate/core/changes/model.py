"""What a file of changes says, change by change, each checked against the snapshot that it is for."""

from __future__ import annotations

from collections.abc import Mapping

from ..organisation.access_rules import AccessRule
from ..organisation.selector import Selector
from ..words.record import record


@record
class ChosenPeople:
    """The people that a change is about.

    A selector, and ids or logins (all that is given must hold; None: everyone).
    """

    selector: Selector | None
    names: tuple[str, ...] | None


@record
class Set:
    """A setting at a place; `pinned` and `rank` None: as the setting there has, else not pinned and blank."""

    service: str
    control: str
    scope: str
    value: str
    pinned: bool | None = None
    rank: int | None = None


@record
class Unset:
    """No setting at a place any more."""

    service: str
    control: str
    scope: str


@record
class PeopleChange:
    """Cells of people: by column the text, "" for an empty cell.

    And words added to and removed from `licences` and `roles`.
    """

    who: ChosenPeople
    cells: Mapping[str, str]
    added: Mapping[str, tuple[str, ...]]
    removed: Mapping[str, tuple[str, ...]]


@record
class RegisterChange:
    """At least so many authenticators of a type."""

    who: ChosenPeople
    type: str
    count: int


@record
class Members:
    """Direct members of a group: people by id or login, groups as `group:ID`."""

    group: str
    add: tuple[str, ...]
    remove: tuple[str, ...]


@record
class PartnerFlags:
    """Flags of a partner, by column `true` or `false`; `home_factor` one of HOME_FACTORS."""

    domain: str
    flags: Mapping[str, str]


@record
class Rules:
    """The access rules as they are after the change, and what was done to them in words."""

    rules: tuple[AccessRule, ...]
    what: str


@record
class SecondFactor:
    """Says whether everyone must show a second factor."""

    on: bool


Change = Set | Unset | PeopleChange | RegisterChange | Members | PartnerFlags | Rules | SecondFactor


@record
class Changes:
    """A whole file.

    What it is called, when it is going to be made (microseconds; None: not said), and the changes in order; each with
    the line that it is on.
    """

    title: str
    start: int | None
    changes: tuple[Change, ...]
    lines: tuple[int, ...]


def in_words(change: Change) -> str:
    """Return what a change does, in words."""
    if isinstance(change, Set):
        hold = {True: ", pinned", False: ", not pinned", None: ""}[change.pinned]
        return f"{change.service}: {change.control} = {change.value or '-'} at {change.scope}{hold}"
    if isinstance(change, Unset):
        return f"{change.service}: {change.control} no longer set at {change.scope}"
    if isinstance(change, PeopleChange):
        parts = [f"{name} {text or '(empty)'}" for name, text in change.cells.items()]
        parts += [f"{name} and {' '.join(words)}" for name, words in change.added.items() if words]
        parts += [f"{name} without {' '.join(words)}" for name, words in change.removed.items() if words]
        return f"{people_in_words(change.who)}: {', '.join(parts)}"
    if isinstance(change, RegisterChange):
        return f"{people_in_words(change.who)}: {change.count} of {change.type}"
    if isinstance(change, Members):
        said = [
            f"with {' '.join(change.add)}" if change.add else "",
            f"without {' '.join(change.remove)}" if change.remove else "",
        ]
        return f"group {change.group} {' '.join(part for part in said if part)}"
    if isinstance(change, PartnerFlags):
        return f"partner {change.domain}: {', '.join(f'{name} {flag}' for name, flag in change.flags.items())}"
    if isinstance(change, Rules):
        return change.what
    return f"second factor for everyone: {'on' if change.on else 'off'}"


def people_in_words(who: ChosenPeople) -> str:
    """Return the people that a change is about, in words."""
    parts = [who.selector.text] if who.selector is not None else []
    if who.names is not None:
        parts.append(" or ".join(who.names))
    return " and ".join(parts) or "everyone"
