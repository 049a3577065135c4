"""The facts of a person that a baseline can ask for (domain: "Facts of a person")."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..words.values import EMPTY_SET, TEXT, WORD_SET, Kind, canonical_number, join_words, level, number, split_words
from ..words.vocabulary import CAN_SHOW, MFA_WORDS, PROTECTION_WORDS
from .columns import DAY, MISSING, NO_TIME, Bools, Coded, Longs
from .partners import DEFAULT_PARTNER, HOME_FACTORS
from .people import People
from .proofs import HARDWARE_KEY, MEMORIZED, PHISHING_RESISTANT, TYPES, proofs_of
from .proofs import MFA as MFA_PROOF
from .select import select_surely
from .snapshot import Snapshot

MFA = level(*MFA_WORDS)
PROTECTION = level(*PROTECTION_WORDS)
_HIGHER, _LOWER = number("higher"), number("lower")
NO_ORDER = Kind("number", ordered=False)
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
    "can-show": level(*CAN_SHOW),
    "passes.live": _LOWER,
    "passes.coming": _LOWER,
    "passes.longest-minutes": _LOWER,
    "passes.reusable": _LOWER,
    "passes.self-issued": _LOWER,
    "denying-rules": WORD_SET,
    "requiring-rules": WORD_SET,
    "fallback-accounts": NO_ORDER,
}
_NEVER_MISSING = ("roles", "licences", "authenticators.", "passes.")

FACTS = tuple(_FACT_KINDS)


def fact_kind(name: str) -> Kind | None:
    """Return what values a fact has; the kind `presence` for one that is only present or not.

    None for an unknown fact.
    """
    return TEXT if name.startswith("attr.") and len(name) > 5 else _FACT_KINDS.get(name)


def may_be_missing(name: str) -> bool:
    """Return whether `present` makes sense for a fact."""
    return not name.startswith(_NEVER_MISSING)


def fact(name: str, snapshot: Snapshot) -> Coded | None:
    """Return a fact of every active person as canonical texts; None where its table or column is missing.

    A fact that is only present or not has the one word `present`.
    """
    people = snapshot.people
    if name in ("mfa", "protection"):
        return people.mfa if name == "mfa" else people.protection
    if name in ("roles", "licences"):
        column = people.roles if name == "roles" else people.licences
        return None if column is None else _filled(column)
    if name == "sponsor":
        return None if people.sponsors is None else _presence(people.sponsors != MISSING)
    if name in ("expires_at", "reviewed_at"):
        return _presence(people.times[name] != NO_TIME) if name in people.times else None
    if name in _TIMES:
        return _days(name, people, snapshot.taken_at)
    if name.startswith("attr."):
        return people.attributes.get(name)
    if name in ("denying-rules", "requiring-rules"):
        return _rules_over(snapshot, name == "denying-rules")
    if name == "can-show":
        return _can_show(snapshot)
    if name == "fallback-accounts":
        return _fallback(people)
    if name.startswith("authenticators."):
        return _registered(name.partition(".")[2], snapshot)
    return _passes(name, snapshot)


def fact_of(name: str, snapshot: Snapshot, person: int) -> str | None:
    """Return a fact of one person, in words: `present` or `absent` for one that is only that, the empty set as `-`.

    None where it is missing.
    """
    column = fact(name, snapshot)
    if column is None:
        return None
    code = int(column.codes[person])
    if fact_kind(name) is _PRESENCE:
        return "absent" if code == MISSING else "present"
    if code == MISSING:
        return None
    text = column.words[code] or EMPTY_SET
    if name == "days-since-sign-in" and int(snapshot.people.times["last_sign_in_at"][person]) == NO_TIME:
        return f"never, {text} days since the account was made"
    return text


def _registered(kind: str, snapshot: Snapshot) -> Coded | None:
    """Return how many authenticators of a type (or hardware, or phishing-resistant ones) each person has."""
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
    """Return how many bootstrap passes of a kind, or the longest life among the live and coming ones in minutes
    (rounded up to a millionth).
    """
    if snapshot.passes is None:
        return None
    if name in ("passes.live", "passes.coming"):
        counted_now = snapshot.passes.live if name == "passes.live" else snapshot.passes.coming
        return _numbers(counted_now.astype(np.int64), str)
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


def _rules_over(snapshot: Snapshot, deny: bool) -> Coded | None:
    """Return the rules that deny (or require), enforced or observed, whose people each person is among.

    Missing if that is not known.
    """
    if snapshot.access_rules is None:
        return None
    size = len(snapshot.people)
    codes, words, unsure = np.zeros(size, np.int64), [""], np.zeros(size, bool)
    for rule in snapshot.access_rules:
        if rule.mode == "off" or (not rule.deny if deny else rule.require is None):
            continue
        included, perhaps = select_surely(rule.include, rule.exclude, snapshot)
        unsure |= perhaps
        pairs, codes = np.unique(codes * 2 + included, return_inverse=True)
        codes = codes.reshape(-1)
        words = [
            join_words((*split_words(words[pair // 2]), *([rule.id] if pair % 2 else []))) for pair in pairs.tolist()
        ]
    return Coded(np.where(unsure, MISSING, codes).astype(np.int32), tuple(words))


def _can_show(snapshot: Snapshot) -> Coded | None:
    """Return the strongest that everyone's registered authenticators give; of a guest at most a second factor.

    Of a guest whose factor at home counts it is what their partner's people show there, missing where that is not
    known. Spec: sign-in 3.2.
    """
    table = snapshot.authenticators
    if table is None:
        return None
    homes = _homes(snapshot)
    types = np.zeros(len(snapshot.people), np.int64)
    np.bitwise_or.at(types, table.person, np.int64(1) << table.kind)
    kinds = snapshot.people.kind
    key = (types * (len(kinds.words) + 1) + kinds.codes) * (len(HOME_FACTORS) + 2) + homes
    known, codes = np.unique(key, return_inverse=True)
    words = []
    for one in known.tolist():
        rest, home = divmod(one, len(HOME_FACTORS) + 2)
        bits, kind = divmod(rest, len(kinds.words) + 1)
        has = {name for number, name in enumerate(table.kinds) if bits >> number & 1}
        guest = kinds.words[kind] == "guest"
        if guest or (kinds.words[kind] == "member" and not table.lists_memorized):
            has.add(MEMORIZED)
        words.append(HOME_FACTORS[home - 2] if home >= 2 else _strongest(frozenset(has), guest))
    shown = np.where(homes == 1, MISSING, codes.reshape(-1))
    return Coded(shown.astype(np.int32), tuple(words))


def _homes(snapshot: Snapshot) -> Longs:
    """Return for each person 0 if what they show is registered here, 1 if it is decided at home and not known, else 2
    and the place of what is shown there in HOME_FACTORS.
    """
    guests = snapshot.people.guests
    if snapshot.partners is None:
        return guests.astype(np.int64)
    homes = [*(partner.home for partner in snapshot.partners), DEFAULT_PARTNER.home]  # the last for MISSING, -1
    shown = [2 + HOME_FACTORS.index(home.factor) if home.factor else 1 for home in homes]
    codes = [code if home.home_mfa else 0 for home, code in zip(homes, shown, strict=True)]
    return np.where(guests, np.array(codes, np.int64)[snapshot.partner_rows], 0)


def _strongest(types: frozenset[str], guest: bool) -> str:
    proofs = proofs_of(types)
    strong = [proof for proof in (HARDWARE_KEY, PHISHING_RESISTANT) if proof in proofs]
    if strong and not guest:
        return strong[0]
    if MFA_PROOF not in proofs:
        return "nothing"
    free = frozenset(kind for kind in types if not TYPES[kind].restricted)
    return "mfa" if MFA_PROOF in proofs_of(free) else "restricted-mfa"


def _fallback(people: People) -> Coded | None:
    """Return how many other active accounts belong to the same owner."""
    others = people.others()
    return None if others is None else _known(others.astype(np.int64), others != MISSING)


def _filled(column: Coded) -> Coded:
    """Return a set's column, an empty cell being the empty set."""
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
