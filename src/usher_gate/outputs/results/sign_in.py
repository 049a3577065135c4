"""What sign-ins of one person would meet, in sentences."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from ...core.sign_in.decide import ALLOWED, CHALLENGED, DENIED, OUTCOMES, OWN, STUCK, UNCERTAIN, Decider, Decision
from ...core.sign_in.fold import DecisionRow
from ...core.sign_in.help import helps
from ...core.words.plural import plural
from ...core.words.record import record
from ...core.words.vocabulary import CONDITION_WORDS, CONDITIONS, MODES
from ..fields import NUMBER, TEXT, TEXTS, TRUTH, WORD, Field, enum, item, list_of, maybe, nullable, object_of
from ..writers import Result, head_of
from .common import sign_in_type


@record
class SignInAnswer:
    """The rows, for which person and resource.

    `open` says which dimensions were left out, `shown` which authenticators were shown.
    """

    who: str
    resource: str
    rows: tuple[DecisionRow, ...]
    decider: Decider
    open: Mapping[str, bool]
    shown: frozenset[str] = frozenset()


@record
class SignInsAnswer:
    """Describes what sign-ins of one person to every resource would meet."""

    who: str
    resources: tuple[SignInAnswer, ...]
    decider: Decider


def outcomes_of(answer: SignInAnswer) -> list[str]:
    """Return what the sign-ins meet that the question left open, in the order of OUTCOMES."""
    met = {row.now.outcome for row in answer.rows}
    return [outcome for outcome in OUTCOMES if outcome in met]


def first_shut(answer: SignInAnswer) -> DecisionRow | None:
    """Return the first sign-in that does not get in; None where all do."""
    return next((row for row in answer.rows if row.now.outcome in (STUCK, DENIED)), None)


def in_short_of_all(answer: SignInsAnswer) -> str:
    """Return how many resources the person gets into, over all that the question left open."""
    met = [set(outcomes_of(each)) for each in answer.resources]
    always = sum(outcomes <= {ALLOWED, CHALLENGED} for outcomes in met)
    never = sum(outcomes <= {STUCK, DENIED} for outcomes in met)
    unknown = sum(_is_not_known(outcomes) for outcomes in met)
    if unknown == len(met):
        return f"Whether {answer.who} gets into any of {plural(unknown, 'resource')} is not known."
    some = (always, "always"), (len(met) - always - never - unknown, "under conditions"), (never, "never")
    parts = ", ".join(f"into {number} {word}" for number, word in some if number)
    of_the_rest = f"; of {unknown} it is not known" if unknown else ""
    return f"Of {plural(len(met), 'resource')}, {answer.who} gets {parts}{of_the_rest}."


def _is_not_known(outcomes: Collection[str]) -> bool:
    """Return whether it is not known that any sign-in gets in, nor that none does."""
    return UNCERTAIN in outcomes and ALLOWED not in outcomes and CHALLENGED not in outcomes


def in_short(answer: SignInAnswer) -> str:
    """Return whether the person gets in, over all that the question left open."""
    met = {row.now.outcome for row in answer.rows}
    doing = f"sign in to {answer.resource}{'' if all(answer.open.values()) else ' like this'}"
    outcomes = [outcome for outcome in OUTCOMES if outcome in met]
    said = " or ".join(part for part in (", ".join(outcomes[:-1]), outcomes[-1]) if part)
    if _is_not_known(met):
        return f"Whether {answer.who} can {doing} is not known{f': {said}' if len(met) > 1 else ''}."
    if met <= {STUCK, DENIED}:
        return f"{answer.who} cannot {doing}: {said}."
    if met <= {ALLOWED, CHALLENGED}:
        return f"{answer.who} can {doing}: {said}."
    return f"Whether {answer.who} can {doing} depends: {said}."


def sentence(decision: Decision) -> str:
    """Return what the person would read, in one plain sentence."""
    if decision.outcome == ALLOWED:
        return "You are in." + (" This session is limited." if decision.longest_hours or decision.no_downloads else "")
    if decision.outcome == CHALLENGED:
        return f"Show {_wanted(decision)} to go on."
    if decision.outcome == STUCK:
        return f"You need to show {_wanted(decision)}, and cannot; ask your administrator."
    if decision.outcome == DENIED:
        if decision.partner_shut:
            return "People of your organisation may not come in here."
        if decision.uncarried:
            return "This program is too old to show what is asked for; use the browser or the app."
        return "You cannot come in like this."
    return "It is not known."


def _wanted(decision: Decision) -> str:
    return " and ".join(
        dict.fromkeys(
            f"({demand.require.text})" if " or " in demand.require.text else demand.require.text
            for demand in decision.missing
        )
    )


def by_whom(decision: Decision) -> str:
    """Return which rules decide."""
    if decision.partner_shut:
        return "the partner's guests_in is off"
    if decision.outcome == UNCERTAIN:
        return "not known: " + ", ".join(decision.gaps)
    names = decision.denied_by or tuple(demand.by for demand in (*decision.uncarried, *decision.missing))
    if not names:
        return (
            "all that is asked for is shown: " + ", ".join(demand.by for demand in decision.asked)
            if decision.asked
            else "no rule asks for anything"
        )
    return ", ".join(dict.fromkeys(names))


def helped(answer: SignInAnswer, row: DecisionRow) -> str:
    """Return what would help someone who cannot get in, as it was found by deciding again."""
    found = helps(answer.decider, row.sign_in, answer.shown)
    if not found and row.now.outcome in (STUCK, DENIED):
        return "nothing was found; ask the owner of the access rules"
    return "; or ".join(found)


def _values(values: frozenset[str] | None, every: frozenset[str]) -> str:
    """Return some of a dimension's values in the fewest words."""
    if values is None:
        return "any"
    others = every - values
    return f"not {' or '.join(sorted(others))}" if len(others) < len(values) else ", ".join(sorted(values))


def condition_words(row: DecisionRow, answer: SignInAnswer) -> dict[str, str]:
    """Return the conditions under which a row is decided so, in words by dimension."""
    networks = frozenset(network.text for network in answer.decider.gatekeeper.networks.classes)
    every = {"network": networks, **{name: frozenset(words) for name, words in CONDITION_WORDS.items()}}
    return {
        name: _values(values, every[name])
        for name, values in zip(CONDITIONS, row.values, strict=True)
        if answer.open[name]
    }


def match_text(answer: SignInAnswer, number: int, row: DecisionRow) -> str:
    """Return whether a rule matches, or which condition fails."""
    evaluator = answer.decider.gatekeeper
    if evaluator.perhaps(number)[answer.decider.person]:
        return "not known"
    if not evaluator.included(number)[answer.decider.person]:
        return "no: people"
    failed = evaluator.rules[number].failing(row.sign_in, row.sign_in.device)
    return f"no: {failed}" if failed else "yes"


# Decisions are read from a pair: the decision, and what would help.
_MISSING = (
    Field(
        "by",
        nullable(TEXT),
        "The rule that asks for it; null if the person must show it.",
        lambda demand: None if demand.by == OWN else demand.by,
    ),
    Field("require", TEXT, "What is asked for and not shown.", "require.text"),
)
_DECISION = object_of(
    (
        Field("outcome", enum(OUTCOMES), "The outcome.", "0.outcome"),
        Field("sentence", TEXT, "What the person reads.", lambda pair: sentence(pair[0])),
        Field("denied_by", TEXTS, "The rules that deny it.", "0.denied_by"),
        Field(
            "missing",
            list_of(object_of(_MISSING)),
            "What is asked for and not shown.",
            lambda pair: (*pair[0].uncarried, *pair[0].missing),
        ),
        Field("partner_shut", TRUTH, "True if guests of the partner are not let in.", "0.partner_shut"),
        Field("longest_hours", nullable(NUMBER), "How long the session may last.", "0.longest_hours"),
        Field("no_downloads", TRUTH, "True if nothing may be downloaded.", "0.no_downloads"),
        Field("helps", maybe(TEXT), "What would help.", "1"),
        Field("not_known", TEXTS, "What would have to be known.", "0.gaps"),
    )
)
_WHEN = object_of(tuple(Field(name, TEXT, f"The values of {name}.", item(name), optional=True) for name in CONDITIONS))
_ROW = (
    Field("when", _WHEN, "The sign-ins that meet this.", lambda pair: condition_words(pair[1], pair[0])),
    Field("example", sign_in_type(WORD), "One of them.", "1.sign_in"),
    Field("decision", _DECISION, "What it meets.", lambda pair: (pair[1].now, helped(*pair))),
    Field(
        "if_enforced",
        _DECISION,
        "What it would meet if observed rules were enforced.",
        lambda pair: (pair[1].observed, ""),
    ),
)
_RULE = object_of(
    (
        Field("rule", TEXT, "The access rule.", "1.id"),
        Field("mode", enum(MODES), "Whether it is enforced, observed or off.", "1.mode"),
        Field(
            "matches",
            TEXT,
            "Whether it matches, or what does not.",
            lambda each: match_text(each[0][0], each[2], each[0][1]),
        ),
    )
)
_RULES = Field(
    "rules",
    list_of(_RULE),
    "Each access rule.",
    lambda pair: [(pair, rule, number) for number, rule in enumerate(pair[0].decider.gatekeeper.rules)],
)


def _rows(answer: SignInAnswer) -> list[tuple[SignInAnswer, DecisionRow]]:
    return [(answer, row) for row in answer.rows]


_RESOURCE = (
    Field("resource", TEXT, "The resource."),
    Field("outcomes", list_of(enum(OUTCOMES)), "What sign-ins to it meet.", outcomes_of),
    Field("rows", list_of(object_of(_ROW)), "Each kind of sign-in.", _rows),
)
_WHO = Field("person", TEXT, "The person, or who someone would be.", "who")
SIGN_IN_DECISIONS = Result(
    schema="sign-in/1",
    says="What sign-ins of one person to one resource would meet.",
    lines=((), (_WHO, _RESOURCE[0])),
    lists=(Field("rows", list_of(object_of((*_ROW, _RULES))), "Each kind of sign-in.", _rows),),
    head=lambda answer: head_of(answer.decider.gatekeeper.snapshot),
)
SIGN_INS = Result(
    schema="sign-ins/1",
    says="What sign-ins of one person to every resource would meet.",
    lines=((), (_WHO,)),
    lists=(Field("resources", list_of(object_of(_RESOURCE)), "Each resource."),),
    head=lambda answer: head_of(answer.decider.gatekeeper.snapshot),
)
