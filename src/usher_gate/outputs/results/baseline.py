"""A baseline's rules, how far one reaches, what none asks about, and the controls that there are."""

from __future__ import annotations

from collections.abc import Sequence
from operator import attrgetter

from ...core.organisation.snapshot import Snapshot
from ...core.verdicts.condition import in_words
from ...core.verdicts.rules import Baseline, Rule
from ...core.verdicts.uncovered import Uncovered
from ...core.words.catalogue import Control
from ...core.words.record import record
from ...core.words.vocabulary import SUBJECTS
from ...files.snapshot.catalogue import KIND_NAMES
from ..fields import (
    COUNT,
    SOME,
    TEXT,
    TEXTS,
    TRUTH,
    WORD,
    Field,
    Type,
    enum,
    list_of,
    map_of,
    maybe,
    nullable,
    object_of,
    reader_of,
)
from ..writers import Result
from .common import SEVERITY


@record
class RulesAnswer:
    """A baseline that is valid."""

    snapshot: Snapshot | None
    baseline: Baseline


@record
class RuleReach:
    """Describes how many of how many people a rule judges on a service.

    `people` is None if that is not known, and `why` says why.
    """

    service: str | None
    people: int | None
    of: int
    why: str | None


@record
class RuleAnswer:
    """One rule, and the people that it reaches."""

    snapshot: Snapshot | None
    rule: Rule
    reaches: Sequence[RuleReach]


@record
class UncoveredAnswer:
    """Describes what no rule of a baseline asks about."""

    snapshot: Snapshot
    baseline: Baseline
    uncovered: Uncovered


@record
class ControlsAnswer:
    """The controls of the catalogue, the organisation's own among them."""

    snapshot: Snapshot | None
    controls: Sequence[Control]


def _strict(control: Control) -> str | None:
    """Return the strictest word of a control, or which numbers are stricter; None for a set."""
    kind = control.kind
    if kind.name == "set":
        return None
    return kind.words[-1] if kind.words else {True: "higher", False: "lower"}[kind.higher]


def _exempted(rule: Rule) -> str | None:
    return rule.exempted.text if rule.exempted else None


RULE_FIELDS = (
    Field("id", TEXT, "The id of the rule."),
    SEVERITY,
    Field("subject", enum(SUBJECTS), "What it judges."),
    Field("audience", TEXT, "The people that it judges, in words.", "audience.text"),
    Field("except", nullable(TEXT), "The people that it leaves out, in words.", _exempted),
    Field(
        "services", maybe(SOME), "The services that it is about; null for all.", lambda rule: list(rule.services or ())
    ),
    Field("pinned", maybe(enum(("true", "strict"))), "Whether a value must be pinned."),
    Field("title", TEXT, "What it asks."),
    Field("expects", TEXT, "What is due, in words.", lambda rule: in_words(rule.expect)),
    Field("because", WORD, "Why."),
    Field("mend", WORD, "What to do where it drifts."),
    Field("maps", map_of(TEXTS), "Controls of frameworks that it maps to."),
)
_REACH = (
    Field("service", nullable(TEXT), "The service; null for rules about no service."),
    Field("people", nullable(COUNT), "How many people it judges; null if that is not known."),
    Field("of", COUNT, "Of how many."),
    Field("why", nullable(TEXT), "Why that is not known."),
)
CONTROL_FIELDS = (
    Field("id", TEXT, "The id of the control."),
    Field("title", TEXT, "What it is."),
    Field("kind", enum(KIND_NAMES), "Which values it takes.", "kind.name"),
    Field("values", TEXTS, "Its values, the weakest first.", "kind.words"),
    Field("strict", nullable(TEXT), "The strictest value, or which numbers are stricter; null for a set.", _strict),
    Field("weak", WORD, "What goes wrong when it is weak."),
    Field("own", TRUTH, "True for a control of the organisation's own."),
)
_VALUES = Field(
    "values",
    list_of(
        object_of(
            (Field("value", nullable(WORD), "A value.", "0"), Field("people", COUNT, "How many people have it.", "1"))
        )
    ),
    "Its values.",
)


def _control(name: str, says: str, type_: Type = TEXT) -> Field:
    read = attrgetter(name)
    return Field(name, type_, says, lambda pair: read(pair[0].snapshot.catalogue.index[pair[1].control]))


_UNCOVERED = (
    Field("service", TEXT, "The service.", "1.service"),
    Field("control", TEXT, "The control.", "1.control"),
    _control("area", "Its area."),
    _control("title", "What it is.", WORD),
    Field("settings", COUNT, "How many settings it has.", "1.settings"),
    Field("values", _VALUES.type, _VALUES.says, "1.values"),
)
RULES = Result(
    schema="rules/1",
    says="The rules of a baseline.",
    lists=(Field("rules", list_of(object_of(RULE_FIELDS)), "Each rule.", "baseline.rules"),),
    needs_snapshot=False,
)
RULE = Result(
    schema="rule/1",
    says="One rule of a baseline, and how far it reaches.",
    lines=(
        (),
        (
            *(each.of("rule") for each in RULE_FIELDS),
            Field("reaches", list_of(object_of(_REACH)), "How many people it judges on each service."),
        ),
    ),
    needs_snapshot=False,
)
UNCOVERED = Result(
    schema="uncovered/1",
    says="What no rule of a baseline asks about.",
    lines=(
        (
            Field(
                "controls_uncovered",
                COUNT,
                "How many controls of services no rule asks about.",
                lambda answer: len(answer.uncovered.controls),
            ),
            Field("controls_of_services", COUNT, "Of how many.", "uncovered.of"),
        ),
    ),
    lists=(
        Field(
            "controls",
            list_of(object_of(_UNCOVERED)),
            "These controls.",
            lambda answer: [(answer, each) for each in answer.uncovered.controls],
        ),
        Field(
            "facts",
            list_of(object_of((Field("fact", TEXT, "The fact.", "name"), _VALUES))),
            "Facts of people that no rule asks about.",
            "uncovered.facts",
        ),
        Field("resources", TEXTS, "Resources for which no rule asks for a proof.", "uncovered.resources"),
    ),
)
CONTROLS = Result(
    schema="controls/1",
    says="The controls that there are.",
    lists=(Field("controls", list_of(object_of(CONTROL_FIELDS)), "Each control."),),
    needs_snapshot=False,
)
rule_object, control_object = reader_of(RULE_FIELDS), reader_of(CONTROL_FIELDS)
