"""Fields that several results share: sign-ins, lock-outs, comparisons of a rule, values that changed."""

from __future__ import annotations

from collections.abc import Callable
from operator import attrgetter
from typing import Any

from ...core.door.visitors import HOLDINGS, MOMENTS, OUTCOMES, STANDINGS, WAYS
from ...core.verdicts.codes import SHOWN_ORDER, verdict_name
from ...core.verdicts.meeting_field import MEETING_FIELDS
from ...core.words.times import rfc3339
from ...core.words.vocabulary import CONDITION_WORDS, CONDITIONS, MEETING_KINDS, PROOFS, REASONS, SEVERITIES
from ..fields import (
    ABSENT,
    SOME,
    TEXT,
    TEXTS,
    TRUTH,
    VALUE,
    WORD,
    Field,
    Type,
    either,
    enum,
    item,
    list_of,
    maybe,
    nullable,
    object_of,
    path,
)
from ..titles import title_beside

SEVERITY = Field("severity", enum(SEVERITIES), "How much it matters.")
LOCKED_KINDS = enum(("privileged", "break-glass"))

# One concrete sign-in.
_CONDITIONS_SAY = {
    "client": "With which kind of client.",
    "platform": "On which platform.",
    "device": "From which kind of device.",
    "risk": "At which risk.",
}


def sign_in_type(address: Type = TEXT) -> Type:
    """Return the type of a concrete sign-in."""
    return object_of(
        (
            Field("resource", TEXT, "To which resource."),
            Field("address", address, "From which address.", "network.address"),
            Field(
                "network", TEXTS, "In which networks that address is.", lambda sign_in: sorted(sign_in.network.names)
            ),
            *(
                Field(name, enum(words), _CONDITIONS_SAY[name], attrgetter(name))
                for name, words in CONDITION_WORDS.items()
            ),
        )
    )


SIGN_IN = sign_in_type()

LOCKOUT = object_of(
    (
        Field("resource", TEXT, "The resource for administrators."),
        Field("people", TEXTS, "Who is locked out of it (ids)."),
        Field("of", LOCKED_KINDS, "Which kind of account they are."),
        Field("all", TRUTH, "True if these are all of that kind."),
        Field(
            "rules",
            list_of(
                object_of(
                    (
                        Field("id", TEXT, "The access rule."),
                        Field(
                            "changed_at",
                            nullable(TEXT),
                            "When it was changed last.",
                            lambda rule: None if rule.changed is None else rfc3339(rule.changed),
                        ),
                    )
                )
            ),
            "The access rules that do it.",
        ),
    )
)
CONDITIONAL = object_of(
    (
        Field("resource", TEXT, "The resource for administrators."),
        Field("id", TEXT, "The break-glass account (id).", "person"),
        Field(
            "conditions",
            Type(
                object_of(
                    tuple(Field(name, SOME, f"Its values of {name}.", item(name), optional=True) for name in CONDITIONS)
                ).schema,
                dict,
            ),
            "The only values with which it gets in, by condition.",
            lambda access: {name: list(values) for name, values in access.conditions},
        ),
        Field("combined", TRUTH, "True if only some combinations of values get in."),
    )
)

# A visitor of a meeting.
VISIT = (
    Field("kind", enum(MEETING_KINDS), "The kind of meeting."),
    Field("standing", enum(STANDINGS), "The visitor type."),
    Field("holding", enum(HOLDINGS), "What the visitor has."),
    Field("way", enum(WAYS), "By which way the visitor comes."),
    Field("moment", enum(MOMENTS), "Before the host is there, or once the host is there."),
)
DOOR_OUTCOME = enum(OUTCOMES)

# A cause: the setting from which an effective value comes.
CAUSE = object_of(
    (
        Field("scope", TEXT, "Where it is set."),
        Field("value", nullable(VALUE), "The value that is set there."),
        Field("pinned", TRUTH, "True if nothing below can override it."),
    )
)

# A comparison of a rule (leaf) with what it came to (outcome).
_ABOUT: dict[str, tuple[Type, str]] = {
    "control": (TEXT, "The control that is compared."),
    "person": (TEXT, "The fact of the person that is compared."),
    "partner": (TEXT, "The column of the partners table that is compared."),
    "count": (TEXT, "The people who are counted."),
    "meeting": (enum(MEETING_FIELDS), "The field of the planned meeting that is compared."),
    "door": (
        nullable(
            object_of(
                (
                    *(Field(each.name, each.type, each.says, attrgetter(f"visit.{each.name}")) for each in VISIT),
                    Field("outcome", DOOR_OUTCOME, "What that visitor meets.", "met"),
                )
            )
        ),
        "The visitor who decides.",
    ),
    "proof": (enum(PROOFS), "The proof that is asked for."),
}


def _about(about: str) -> Callable[[Any], Any]:
    if about == "door":
        return lambda pair: None if pair[1].visit is None else pair[1]
    return lambda pair: pair[0].name


def _leaf(about: str) -> Type:
    """Return the type of a comparison about one thing; it is read from a pair of leaf and outcome."""
    type_, says = _ABOUT[about]
    last = Field("cause", nullable(CAUSE), "Where the value comes from.", "1.cause")
    if about == "proof":
        last = Field("hole", nullable(SIGN_IN), "A sign-in that gets in without the proof.", "1.hole")
    return object_of(
        (
            Field(about, type_, says, _about(about)),
            Field("actual", nullable(VALUE), "What is there.", "1.actual"),
            Field("expected", TEXT, "What is due.", "0.expected"),
            Field("verdict", enum(SHOWN_ORDER), "What it comes to.", lambda pair: verdict_name(pair[1].verdict)),
            last,
        )
    )


_LEAVES = {about: _leaf(about) for about in _ABOUT}


def _leaf_object(pair: Any) -> Any:
    convert = _LEAVES[pair[0].about].convert
    assert convert is not None
    return convert(pair)


LEAVES = list_of(either(tuple(_LEAVES.values()), _leaf_object))

# What a rule says of a subject on a service, read from a pair: the verdict's detail, and the service.
DETAIL = (
    Field("service", nullable(WORD), "The service; null for rules about no service.", "1"),
    Field("verdict", enum(SHOWN_ORDER), "The verdict.", lambda pair: verdict_name(pair[0].verdict)),
    Field("reason", enum(REASONS), "Why it is so.", "0.reason"),
    Field("leaves", LEAVES, "The comparisons that decide.", "0.leaves"),
    Field("exception", nullable(WORD), "The exception that covers it.", "0.exception"),
    Field(
        "would_be",
        nullable(enum(SHOWN_ORDER)),
        "The verdict without that exception.",
        lambda pair: None if pair[0].would_be is None else verdict_name(pair[0].would_be),
    ),
)


def title_field(where: str) -> Field:
    """Return the field of the title of the control whose id is at a path."""
    read = path(where)
    return Field("title", maybe(TEXT), "What the control is called.", lambda thing: title_beside(read(thing)))


# A value of a person that is another than it was.
VALUE_MOVED = (
    Field("service", TEXT, "The service."),
    Field("control", TEXT, "The control, or the fact."),
    title_field("control"),
    Field("person", TEXT, "Whose value it is (id)."),
    Field("login", TEXT, "Their login."),
    Field("before", nullable(WORD), "The value before; null if not known."),
    Field("after", nullable(WORD), "The value after; null if not known."),
)
RULE_OF_VALUE = Field(
    "rule", TEXT, "The rule that leaves the person out.", lambda moved: moved.rule or ABSENT, optional=True
)
