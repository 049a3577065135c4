"""Holes in what a sign-in has to show, lock-outs, and defects of the access rules."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

import numpy as np

from ...core.organisation.access_rules import AccessRule
from ...core.organisation.snapshot import Snapshot
from ...core.sign_in.evaluator import AccessPolicyEvaluator
from ...core.sign_in.health import DEFECTS, Defect
from ...core.sign_in.holes import WayIn
from ...core.sign_in.lockout import ConditionalAccess, Lockout, Stranded
from ...core.sign_in.possible import ProofDemand
from ...core.sign_in.uses import HoleUse
from ...core.words.plural import plural
from ...core.words.record import record
from ...core.words.times import rfc3339
from ...core.words.vocabulary import CONDITION_WORDS, DIMENSIONS, MODES, PROOFS
from ..fields import COUNT, SOME, TEXT, TEXTS, TIME, TRUTH, WORD, Field, enum, item, list_of, maybe, nullable, object_of
from ..writers import Result, Rows
from .common import CONDITIONAL, LOCKOUT, SIGN_IN


@record
class RuleHoles:
    """One proof that is asked for (rule "": by the call), and the holes in it for the people it is asked from."""

    rule: str
    title: str
    asked: ProofDemand
    holes: tuple[WayIn, ...]
    people: int
    severity: str = ""  # of the rule
    unknown: tuple[int, ...] = ()  # the people (numbers, ascending) with an unknown answer


@record
class HolesAnswer:
    """All that is shown."""

    snapshot: Snapshot
    rules: tuple[RuleHoles, ...]
    lockouts: tuple[Lockout, ...]
    stranded: tuple[Stranded, ...]
    defects: tuple[Defect, ...]
    evaluator: AccessPolicyEvaluator
    notes: tuple[str, ...] = ()
    conditional: tuple[ConditionalAccess, ...] = ()
    uses: Mapping[int, HoleUse] | None = None  # by id() of the hole who used it; None where no log was read
    log: str = ""  # which log that was, in words
    network: str = ""  # only the holes that are open from it; "" for all

    def use_of(self, hole: WayIn) -> HoleUse | None:
        """Return who used a hole, as far as a log says."""
        return None if self.uses is None else self.uses[id(hole)]


def outcome(answer: HolesAnswer) -> str:
    """Return a sentence: how many holes there are, and for how many people the answer is not known."""
    every = [hole for rule in answer.rules for hole in rule.holes]
    unknown = {person for rule in answer.rules for person in rule.unknown}
    for_some = (
        f"for {plural(len(unknown), 'person', 'people')} it is not known whether the proof is required everywhere"
    )
    if every:
        people = plural(len({person for hole in every for person in hole.people}), "person", "people")
        lets = f"{plural(len(every), 'hole')} {'lets' if len(every) == 1 else 'let'} {people} in"
        return f"{lets} without the proof that is asked for{f'; {for_some}' if unknown else ''}."
    if not any(rule.people for rule in answer.rules):
        return "No proof is asked for: no one is in the audience."
    if unknown:
        return f"No hole is known, but {for_some}."
    if answer.network:
        return f"No hole is open from {answer.network}."
    return "No hole: every proof that is asked for is required everywhere."


def _words(name: str, values: tuple[str, ...]) -> str:
    """Return some values of a dimension in the fewest words."""
    others = [word for word in CONDITION_WORDS.get(name, ()) if word not in values]
    if others and len(others) < len(values):
        return f"not {' or '.join(others)}"
    return " or ".join(value.replace("+", " and ") for value in values)


def describe(hole: WayIn) -> str:
    """Return a hole in words: who comes how, from where, to what."""
    values = {name: _words(name, some) if some else "" for name, some in zip(DIMENSIONS, hole.values, strict=True)}
    client = values["client"]
    clients = f"{client} clients" if client else "any client"
    parts = [f"any client but {client[4:]}" if client.startswith("not ") else clients]
    parts.append(f"from {values['network'] or 'anywhere'}")
    parts.append(f"to {values['resource'] or 'any resource'}")
    parts += [f"{name} {values[name]}" for name in ("platform", "device", "risk") if values[name]]
    return ", ".join(parts)


def reach_counts(evaluator: AccessPolicyEvaluator, number: int) -> tuple[int, int]:
    """Return how many people a rule reaches, and how many it excludes."""
    excluded = evaluator.excluded(number)
    return int(np.count_nonzero(evaluator.included(number))), 0 if excluded is None else int(np.count_nonzero(excluded))


def outcome_text(rule: AccessRule) -> str:
    """Return what a rule does, in a few words."""
    if rule.deny:
        return "deny"
    return rule.require.text if rule.require is not None else "limits the session"


@record
class _HoleRow:
    """A hole of one requirement, in an answer; for CSV with one of the people who it lets in."""

    answer: HolesAnswer
    rule: RuleHoles
    hole: WayIn
    id: str = ""
    login: str = ""
    person: int = 0


@record
class _AccessRule:
    """An access rule, and how many people it reaches and excludes; None if that is not known."""

    rule: AccessRule
    reached: int | None
    excluded: int | None


def _holes(answer: HolesAnswer) -> Iterator[_HoleRow]:
    yield from (_HoleRow(answer, rule, hole) for rule in answer.rules for hole in rule.holes)


def _by_person(answer: HolesAnswer) -> Iterator[_HoleRow]:
    people = answer.snapshot.people
    for row in _holes(answer):
        numbers = np.array(row.hole.people, np.int32)
        for person, name, login in zip(
            numbers.tolist(), people.ids.take(numbers), people.logins.take(numbers), strict=True
        ):
            yield _HoleRow(answer=answer, rule=row.rule, hole=row.hole, id=name, login=login, person=person)


def _access_rules(answer: HolesAnswer) -> Iterator[_AccessRule]:
    for number, rule in enumerate(answer.evaluator.rules):
        reached, excluded = reach_counts(answer.evaluator, number)
        known = not answer.evaluator.unanswerable >> number & 1
        yield _AccessRule(rule, reached if known else None, excluded if known else None)


def _ids(answer: HolesAnswer, people: object) -> list[str]:
    return answer.snapshot.people.ids.take(np.array(people))


def _use(row: _HoleRow) -> tuple[HoleUse, list[str]] | None:
    """Return who used a hole, with their ids; None where no log was read."""
    use = row.answer.use_of(row.hole)
    return None if use is None else (use, _ids(row.answer, np.array([person for person, _ in use.by], np.int32)))


def _used_by(row: _HoleRow) -> int | None:
    use = row.answer.use_of(row.hole)
    return None if use is None else dict(use.by).get(row.person, 0)


def _example(dimension: str) -> Callable[[_HoleRow], str]:
    return lambda row: row.hole.sign_in.word(dimension)


_USE = object_of(
    (
        Field("sign_ins", COUNT, "How many sign-ins went through.", "0.sign_ins"),
        Field(
            "by",
            list_of(
                object_of(
                    (Field("id", TEXT, "Whose (id).", "0"), Field("sign_ins", COUNT, "How many of theirs.", "1.1"))
                )
            ),
            "Whose sign-ins these were.",
            lambda pair: zip(pair[1], pair[0].by, strict=True),
        ),
        Field(
            "last",
            nullable(TIME),
            "When the last one was.",
            lambda pair: None if pair[0].last is None else rfc3339(pair[0].last),
        ),
        Field("perhaps", COUNT, "How many more may have, by what the log leaves out.", "0.perhaps"),
    )
)
_VALUES = object_of(
    tuple(Field(name, nullable(TEXTS), f"Its values of {name}; null for any.", item(name)) for name in DIMENSIONS)
)
_RULE = Field("rule", maybe(TEXT), "The rule that asks for the proof; null if the call does.", "rule.rule")
_PROOF = Field("proof", enum(PROOFS), "The proof that is asked for.", "rule.asked.proof")
_WAY = Field("way", TEXT, "The way in, in words.", lambda row: describe(row.hole))
_BECAUSE = Field("because", SOME, "Why it is open.", "hole.because")
_CLOSES = Field(
    "observed_closes", TRUTH, "True if a rule that is only observed would close it.", "hole.observed_closes"
)
_HOLE = (
    _RULE,
    _PROOF,
    Field("people", COUNT, "How many people it lets in.", lambda row: len(row.hole.people)),
    Field("ids", TEXTS, "Who they are (ids).", lambda row: _ids(row.answer, row.hole.people)),
    _WAY,
    Field(
        "values",
        _VALUES,
        "The sign-ins that get in, by dimension.",
        lambda row: dict(zip(DIMENSIONS, row.hole.values, strict=True)),
    ),
    _BECAUSE,
    _CLOSES,
    Field("example", SIGN_IN, "One sign-in that gets in.", "hole.sign_in"),
    Field("used", nullable(_USE), "Past sign-ins that went through; null without a log.", _use),
)
_ASKED = (
    Field("rule", maybe(TEXT), "The rule that asks for it; null if the call does."),
    Field("proof", enum(PROOFS), "The proof that is asked for.", "asked.proof"),
    Field("people", COUNT, "From how many people."),
    Field("unknown", COUNT, "For how many the answer is not known.", lambda rule: len(rule.unknown)),
)
_STRANDED = (
    Field("resource", TEXT, "The resource.", "1.resource"),
    Field(
        "ids",
        SOME,
        "Who has no way in until they register something (ids).",
        lambda pair: _ids(pair[0], pair[1].people),
    ),
)
_DEFECT = (
    Field("rule", TEXT, "The access rule."),
    Field("what", enum(DEFECTS), "The kind of defect."),
    Field("text", TEXT, "The defect in a sentence."),
)
_ACCESS_RULE = (
    Field("id", TEXT, "The access rule.", "rule.id"),
    Field("title", TEXT, "Its title.", "rule.title"),
    Field("mode", enum(MODES), "Whether it is enforced, observed or off.", "rule.mode"),
    Field("reaches", nullable(COUNT), "How many people it includes; null if that is not known.", "reached"),
    Field("excludes", nullable(COUNT), "How many people it excludes; null if that is not known.", "excluded"),
    Field("outcome", TEXT, "What it does.", lambda row: outcome_text(row.rule)),
)
HOLES = Result(
    schema="holes/1",
    says="The ways past what a sign-in has to show, lock-outs, and defects of the access rules.",
    lists=(
        Field("asked", list_of(object_of(_ASKED)), "What is asked for.", "rules"),
        Field("holes", list_of(object_of(_HOLE)), "The holes in it.", _holes),
        Field("lockouts", list_of(LOCKOUT), "Who is locked out."),
        Field("conditional", list_of(CONDITIONAL), "Break-glass accounts that get in only under conditions."),
        Field(
            "stranded",
            list_of(object_of(_STRANDED)),
            "Who has no way in until they register something.",
            lambda answer: [(answer, each) for each in answer.stranded],
        ),
        Field("ailments", list_of(object_of(_DEFECT)), "Defects of the access rules.", "defects"),
        Field("rules", list_of(object_of(_ACCESS_RULE)), "The access rules.", _access_rules),
    ),
    csv=(
        Rows(
            "`holes`: a row for each person that a hole lets in",
            (
                _RULE,
                _PROOF,
                Field("person", TEXT, "Who gets in (id).", "id"),
                Field("login", TEXT, "Their login."),
                _WAY,
                _BECAUSE,
                _CLOSES,
                Field("address", TEXT, "One sign-in that gets in: from which address.", "hole.sign_in.network.address"),
                *(Field(name, WORD, f"Of that sign-in: {name}.", _example(name)) for name in DIMENSIONS),
                Field("sign_ins", nullable(COUNT), "How many past sign-ins of the person went through.", _used_by),
            ),
            _by_person,
        ),
    ),
)
