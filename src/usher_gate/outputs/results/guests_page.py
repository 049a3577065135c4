"""Guests and who has to be asked, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from ...core.guests.states import ADVICE, FINE, STATES, in_state
from ...core.organisation.columns import MISSING
from ...core.words.plural import plural
from ..page import Page, about_snapshot
from ..section import COUNT, WHOLE, WORD, Column, Section, listed
from .guests import GuestsAnswer

_MEANS = {
    "ended": "the account has ended and is still active",
    "refused": "guests from there are not let in",
    "unsponsored": "no active member is responsible for the account",
    "never": "never signed in",
    "silent": "has not signed in for long",
    "due": "the review is overdue",
    "endless": "the account has no end",
    "ends-soon": "the account ends soon",
    "unknown": "something needed is not known",
    "fine": "nothing to ask",
}


def guests_page(answer: GuestsAnswer, most: int) -> Page:
    """Return how many have to be asked about, who is asked, and each guest."""
    asked = any(guest.states[0] != FINE for guest in answer.guests)
    return Page(
        first=_first(answer),
        details=tuple(_details(answer)),
        sections=tuple(_sections(answer, most)),
        about=about_snapshot(answer.snapshot),
        listed_by="--show guests" if asked else "",
    )


def _first(answer: GuestsAnswer) -> str:
    whole = len(answer.guests)
    if not whole:
        return "There is no guest."
    asked = sum(guest.states[0] != FINE for guest in answer.guests)
    have = "has" if asked == 1 else "have"
    return (
        f"{asked:,} of {plural(whole, 'guest')} {have} to be asked about."
        if asked
        else f"All {plural(whole, 'guest')} are fine."
    )


def _details(answer: GuestsAnswer) -> Iterator[str]:
    """Yield the sentences below the first line."""
    ends = sum(guest.advice == "end" for guest in answer.guests)
    if ends:
        yield f"{plural(ends, 'of them should end', 'of them should end')} by what is known."
    missing = Counter(name for guest in answer.guests for name in guest.missing)
    if missing:
        unknown = ", ".join(
            f"{name} ({many:,})" for name, many in sorted(missing.items(), key=lambda one: (-one[1], one[0]))
        )
        yield f"Not known, so none of these is fine: {unknown}."
    nobody = answer.ids(answer.nobody)
    if nobody:
        about = ", ".join(nobody[:5]) + (f" and {len(nobody) - 5} more" if len(nobody) > 5 else "")
        yield f"No one can be asked about {about}: name someone as fallback under [guests] in usher-gate.toml."
    sent = answer.sent
    if sent is not None:
        yield (
            f"{plural(len(sent.sheets), 'worksheet')} written for the review {sent.id}, to be answered by {sent.due}. "
            "Nothing was sent."
        )


def _sections(answer: GuestsAnswer, most: int) -> Iterator[Section]:
    """Yield the tables: guests to ask about, states, people to ask, home domains."""
    if not answer.guests:
        return
    logins = answer.logins([guest.person for guest in answer.guests])
    guests = [
        (login, guest.advice, guest.reason, ", ".join(guest.states[1:]))
        for login, guest in zip(logins, answer.guests, strict=True)
        if guest.states[0] != FINE
    ]
    of_guests = (Column("guest", WHOLE), Column("then", WORD), Column("because"), Column("and besides", spare=1))
    yield listed("guests", "Guests, the worst first", of_guests, guests, most)
    states = [
        (state, in_state(answer.guests, state), _MEANS[state], ADVICE[state])
        for state in STATES
        if in_state(answer.guests, state)
    ]
    of_states = (Column("state", WORD), Column("guests", COUNT), Column("what it means"), Column("then", WORD))
    yield listed("states", "By state (a guest may be in several)", of_states, states, 0)
    every = answer.asked()
    people = [one for one in every if one != MISSING]
    reviewers = [
        (login, len({question.guest for question in every[one]}), len(every[one]))
        for one, login in zip(people, answer.logins(people), strict=True)
    ]
    of_reviewers = (Column("who", WHOLE), Column("about guests", COUNT), Column("rows", COUNT))
    yield listed("reviewers", "Who has to be asked", of_reviewers, reviewers, most)
    domains = Counter(answer.domain(guest.person) or "not known" for guest in answer.guests)
    asked = Counter(answer.domain(guest.person) or "not known" for guest in answer.guests if guest.states[0] != FINE)
    ranked = sorted(domains.items(), key=lambda one: (-asked[one[0]], one[0]))
    by_domain = [(domain, many, asked[domain] or None) for domain, many in ranked]
    of_domains = (Column("domain", WHOLE), Column("guests", COUNT), Column("to be asked about", COUNT))
    yield listed("domains", "By home domain", of_domains, by_domain, most)
