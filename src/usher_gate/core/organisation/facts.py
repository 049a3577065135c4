"""The facts of a person that a baseline can ask for (domain: "Facts of a person")."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..words.values import TEXT, WORD_SET, Kind, canonical_number, join_words, level, number, split_words
from ..words.vocabulary import MFA_WORDS, PROTECTION_WORDS
from .columns import DAY, MISSING, NO_TIME, Bools, Coded, Longs
from .people import People
from .proofs import TYPES
from .select import Unanswerable, select_without
from .snapshot import Snapshot

MFA = level(*MFA_WORDS)
PROTECTION = level(*PROTECTION_WORDS)
_HIGHER, _LOWER = number("higher"), number("lower")
_PRESENCE = Kind("presence")

_TIMES = {
    "days-since-sign-in": "last_sign_in_at",
    "days-since-created": "created_at",
    "days-since-review": "reviewed_at",
}
_FACT_KINDS: dict[str, Kind] = {
    "mfa": MFA,
    "protection": PROTECTION,
    "roles": WORD_SET,
    "licences": WORD_SET,
    "sponsor": _PRESENCE,
    "expires_at": _PRESENCE,
    "reviewed_at": _PRESENCE,
    **dict.fromkeys(_TIMES, _LOWER),
    **{f"authenticators.{kind}": _HIGHER for kind in (*TYPES, "hardware", "phishing-resistant")},
    "passes.live": _LOWER,
    "passes.longest-minutes": _LOWER,
    "passes.reusable": _LOWER,
    "passes.self-issued": _LOWER,
    "denying-rules": WORD_SET,
    "fallback-accounts": _HIGHER,
}
OWNER = "attr.owner"  # whose account it is: accounts of one owner are accounts of one human
_NEVER_MISSING = ("roles", "licences", "authenticators.", "passes.")

FACTS = tuple(_FACT_KINDS)


def fact_kind(name: str) -> Kind | None:
    """What values a fact has; the kind `presence` for one that is only present or not; None for an unknown fact."""
    return TEXT if name.startswith("attr.") and len(name) > 5 else _FACT_KINDS.get(name)


def may_be_missing(name: str) -> bool:
    """Whether `present` makes sense for a fact."""
    return not name.startswith(_NEVER_MISSING)


def fact(name: str, snapshot: Snapshot) -> Coded | None:
    """A fact of every active person as canonical texts; None where its table or column is missing.

    A fact that is only present or not has the one word `present`.
    """
    people = snapshot.people
    if name in ("mfa", "protection"):
        return people.mfa if name == "mfa" else people.protection
    if name in ("roles", "licences"):
        column = people.roles if name == "roles" else people.licences
        return None if column is None else _filled(column)
    if name == "sponsor":
        return None if people.sponsor is None else _presence(people.sponsor)
    if name in ("expires_at", "reviewed_at"):
        return _presence(people.times[name] != NO_TIME) if name in people.times else None
    if name in _TIMES:
        return _days(name, people, snapshot.taken_at)
    if name.startswith("attr."):
        return people.attributes.get(name)
    if name == "denying-rules":
        return _denying(snapshot)
    if name == "fallback-accounts":
        return _fallback(people)
    if name.startswith("authenticators."):
        return _registered(name.partition(".")[2], snapshot)
    return _passes(name, snapshot)


def _registered(kind: str, snapshot: Snapshot) -> Coded | None:
    """How many authenticators of a type (or hardware ones, or phishing-resistant ones) everybody has registered."""
    table = snapshot.authenticators
    if table is None:
        return None
    wanted = [
        getattr(TYPES[one_kind], kind.replace("-", "_"))
        if kind in ("hardware", "phishing-resistant")
        else one_kind == kind
        for one_kind in table.kinds
    ]
    counted = np.bincount(table.person[np.array(wanted, bool)[table.kind]], minlength=len(snapshot.people))
    return _numbers(counted.astype(np.int64), str)


def _passes(name: str, snapshot: Snapshot) -> Coded | None:
    """The live bootstrap passes, or the longest life among them in minutes (rounded up to a millionth)."""
    if snapshot.passes is None:
        return None
    if name == "passes.live":
        return _numbers(snapshot.passes.live.astype(np.int64), str)
    if name in ("passes.reusable", "passes.self-issued"):
        counted = snapshot.passes.reusable if name == "passes.reusable" else snapshot.passes.self_issued
        return None if counted is None else _known(counted.astype(np.int64), counted != MISSING)
    return _numbers(snapshot.passes.longest, lambda micros: canonical_number(f"{-(-micros // 60) / 1_000_000:.6f}"))


def _numbers(numbers: Longs, text: Callable[[int], str]) -> Coded:
    known, codes = np.unique(numbers, return_inverse=True)
    return Coded(codes.reshape(-1).astype(np.int32), tuple(text(number) for number in known.tolist()))


def _known(numbers: Longs, known: Bools) -> Coded:
    """Numbers, some of which are missing."""
    made = _numbers(numbers, str)
    return Coded(np.where(known, made.codes, MISSING).astype(np.int32), made.words)


def _denying(snapshot: Snapshot) -> Coded | None:
    """The rules that deny, enforced or observed, whose people each person is among; None where that cannot be told of one of them."""
    if snapshot.access_rules is None:
        return None
    codes, words = np.zeros(len(snapshot.people), np.int64), [""]
    for rule in snapshot.access_rules:
        if not rule.deny or rule.mode == "off":
            continue
        try:
            whom = select_without(rule.include, rule.exclude, snapshot)
        except Unanswerable:
            return None
        pairs, codes = np.unique(codes * 2 + whom, return_inverse=True)
        codes = codes.reshape(-1)
        words = [
            join_words((*split_words(words[pair // 2]), *([rule.id] if pair % 2 else []))) for pair in pairs.tolist()
        ]
    return Coded(codes.astype(np.int32), tuple(words))


def _fallback(people: People) -> Coded | None:
    """How many other active accounts belong to the same owner."""
    owner = people.attributes.get(OWNER)
    if owner is None:
        return None
    counted = np.bincount(owner.codes[owner.codes != MISSING], minlength=len(owner.words) + 1)
    return _known(counted[owner.codes] - 1, owner.codes != MISSING)


def _filled(column: Coded) -> Coded:
    """A set's column, an empty cell being the empty set."""
    if "" in column.words:
        empty = column.words.index("")
        return Coded(np.where(column.codes == MISSING, empty, column.codes).astype(np.int32), column.words)
    return Coded(
        np.where(column.codes == MISSING, len(column.words), column.codes).astype(np.int32), (*column.words, "")
    )


def _presence(there: Bools) -> Coded:
    return Coded(np.where(there, 0, MISSING).astype(np.int32), ("present",))


def _days(name: str, people: People, taken_at: int) -> Coded | None:
    """Whole days before `taken_at`; who never signed in counts from when the account was created."""
    times = people.times.get(_TIMES[name])
    if times is None:
        return None
    if name == "days-since-sign-in" and "created_at" in people.times:
        times = np.where(times == NO_TIME, people.times["created_at"], times)
    known = times != NO_TIME
    days: Longs = (taken_at - times[known]) // DAY
    distinct, codes = np.unique(days, return_inverse=True)
    column = np.full(len(times), MISSING, np.int32)
    column[known] = codes
    return Coded(column, tuple(str(day) for day in distinct.tolist()))
