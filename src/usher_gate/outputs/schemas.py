"""The JSON Schemas of every result, one for each form."""

from __future__ import annotations

from ..core.sign_in.decide import OUTCOMES
from ..core.sign_in.rehearsal import RESULTS
from ..core.verdicts.codes import SHOWN_ORDER
from ..core.words.vocabulary import (
    CONDITION_WORDS,
    CONDITIONS,
    DIMENSIONS,
    MODES,
    PERSON_KINDS,
    PROOFS,
    REASONS,
    SEVERITIES,
    SUBJECTS,
)
from ..files.schema_parts import COUNT, DAY, SOME, TEXT, TEXTS, TIME, Schema, form, list_of, nullable, object_of
from ..files.snapshot.catalogue import KIND_NAMES

_HEAD: Schema = {"organisation": TEXT, "taken_at": TIME}
_MAYBE_HEAD: Schema = {"organisation": nullable(TEXT), "taken_at": nullable(TIME)}
_TRUTH: Schema = {"type": "boolean"}
_WORD: Schema = {"type": "string"}
_OUTCOME: Schema = {"enum": list(OUTCOMES)}


def _sign_in(address: Schema = TEXT) -> Schema:
    return object_of(
        {
            "resource": TEXT,
            "address": address,
            "network": TEXTS,
            **{name: {"enum": list(words)} for name, words in CONDITION_WORDS.items()},
        }
    )


def _lockout() -> Schema:
    kinds: Schema = {"enum": ["privileged", "break-glass"]}
    return object_of({"resource": TEXT, "people": TEXTS, "of": kinds, "all": _TRUTH})


def _leaf() -> Schema:
    maybe = nullable(_WORD)
    cause = nullable(object_of({"scope": TEXT, "value": _WORD, "pinned": _TRUTH}))
    said: Schema = {"actual": maybe, "expected": TEXT, "verdict": {"enum": list(SHOWN_ORDER)}}
    compared = [object_of({about: TEXT, **said, "cause": cause}) for about in ("control", "person", "partner", "count")]
    return {"anyOf": [*compared, object_of({"proof": {"enum": list(PROOFS)}, **said, "hole": nullable(_sign_in())})]}


def _judgement() -> Schema:
    """What check and why both say of one rule and one person."""
    verdict: Schema = {"enum": list(SHOWN_ORDER)}
    return {
        "rule": TEXT,
        "severity": {"enum": list(SEVERITIES)},
        "service": nullable(_WORD),
        "verdict": verdict,
        "leaves": list_of(_leaf()),
        "exception": nullable(_WORD),
        "would_be": nullable(verdict),
    }


def _check() -> Schema:
    counts = object_of(dict.fromkeys(SHOWN_ORDER, COUNT))
    maybe = nullable({"type": "string"})
    subject = {
        "anyOf": [
            object_of({"type": {"const": "person"}, "id": TEXT, "login": TEXT}),
            object_of({"type": {"enum": ["partner", "organisation"]}, "id": TEXT}),
        ]
    }
    share: Schema = {"rule": TEXT, "judged": COUNT, "drifting": COUNT, "as_a_whole": {"type": "boolean"}}
    summary = object_of(
        {
            "people": COUNT,
            "drifting_people": COUNT,
            "groups_drifting_as_a_whole": COUNT,
            "units_drifting_as_a_whole": COUNT,
            "verdicts": counts,
            "contradicting_people": COUNT,
        }
    )
    finding = object_of(
        {
            **_judgement(),
            "subject": subject,
            "reason": {"enum": list(REASONS)},
        }
    )
    root = object_of(
        {
            "service": maybe,
            "control": TEXT,
            "scope": maybe,
            "value": maybe,
            "rules": SOME,
            "people": COUNT,
            "verdicts": COUNT,
            "freed": COUNT,
        }
    )
    exception = object_of(
        {
            "id": TEXT,
            "state": {"enum": ["in-force", "idle", "expired"]},
            "covers": COUNT,
            "until": DAY,
            "days_left": {"type": "integer"},
        }
    )
    return form(
        "check/1",
        {
            **_HEAD,
            "baseline": object_of({"name": TEXT, "version": TEXT}),
            "summary": summary,
            "rules": list_of(
                object_of({"id": TEXT, "title": TEXT, "severity": {"enum": list(SEVERITIES)}, "verdicts": counts})
            ),
            "groups": list_of(object_of({"id": TEXT, "name": maybe, **share})),
            "units": list_of(object_of({"path": TEXT, **share})),
            "roots": list_of(root),
            "findings": list_of(finding),
            "lockouts": list_of(_lockout()),
            "exceptions": list_of(exception),
            "contradictions": list_of(object_of({"service": TEXT, "controls": SOME, "values": TEXTS, "people": COUNT})),
            "notes": TEXTS,
        },
    )


def _why() -> Schema:
    maybe = nullable(_WORD)
    person = object_of({"id": TEXT, "login": TEXT, "name": maybe, "kind": {"enum": list(PERSON_KINDS)}, "unit": maybe})
    said = object_of(
        {
            **_judgement(),
            "title": _WORD,
            "reason": _WORD,
        }
    )
    setting = object_of(
        {
            "scope": TEXT,
            "value": _WORD,
            "pinned": _TRUTH,
            "rank": nullable({"type": "integer"}),
            "changed_at": maybe,
            "young": _TRUTH,
            "at": maybe,
            "state": {"enum": ["stands", "overridden", "beaten", "after-pin"]},
        }
    )
    step = object_of({"step": TEXT, "gap": maybe, "ends_the_walk": _TRUTH, "settings": list_of(setting)})
    walk = object_of(
        {
            "service": TEXT,
            "control": TEXT,
            **dict.fromkeys(("supported", "account"), _TRUTH),
            **dict.fromkeys(("value", "scope"), maybe),
            **dict.fromkeys(("pinned", "changeable", "young"), _TRUTH),
            "licence": nullable({"enum": ["held", "without", "unavailable", "unknown"]}),
            "contested": list_of(object_of({"scope": TEXT, "value": _WORD})),
            "seen": list_of(_WORD),
            "steps": list_of(step),
            "rules": list_of(said),
            "contradictions": list_of(object_of({"control": TEXT, "value": _WORD, "scope": _WORD})),
        }
    )
    return form("why/1", {**_HEAD, "person": person, "asked": TEXT, "verdicts": list_of(said), "walks": list_of(walk)})


def _sign_in_form() -> Schema:
    missing = object_of({"by": nullable(TEXT), "require": TEXT})
    decision = object_of(
        {
            "outcome": _OUTCOME,
            "sentence": TEXT,
            "denied_by": TEXTS,
            "missing": list_of(missing),
            "partner_shut": _TRUTH,
            "longest_hours": nullable({"type": "number"}),
            "no_downloads": _TRUTH,
            "helps": nullable(TEXT),
            "not_known": TEXTS,
        }
    )
    rule = object_of({"rule": TEXT, "mode": {"enum": list(MODES)}, "matches": TEXT})
    row = object_of(
        {
            "when": object_of({}, dict.fromkeys(CONDITIONS, TEXT)),
            "example": {"anyOf": [_sign_in(), _sign_in(_WORD)]},
            "decision": decision,
            "if_enforced": decision,
            "rules": list_of(rule),
        }
    )
    return form("sign-in/1", {**_HEAD, "person": TEXT, "resource": TEXT, "rows": list_of(row)})


def _holes() -> Schema:
    hole = object_of(
        {
            "rule": nullable(TEXT),
            "proof": {"enum": list(PROOFS)},
            "people": COUNT,
            "ids": TEXTS,
            "way": TEXT,
            "values": object_of(dict.fromkeys(DIMENSIONS, nullable(TEXTS))),
            "because": SOME,
            "observed_closes": _TRUTH,
            "example": _sign_in(),
        }
    )
    ailment = object_of({"rule": TEXT, "what": {"enum": ["idle", "exclusion-idle", "observed-long"]}, "text": TEXT})
    rule = object_of(
        {
            "id": TEXT,
            "title": TEXT,
            "mode": {"enum": list(MODES)},
            "reaches": nullable(COUNT),
            "excludes": nullable(COUNT),
            "outcome": TEXT,
        }
    )
    lists = {"holes": hole, "lockouts": _lockout(), "ailments": ailment, "rules": rule}
    return form("holes/1", {**_HEAD, **{name: list_of(entry) for name, entry in lists.items()}})


def _rehearsal() -> Schema:
    fates: Schema = dict.fromkeys(("challenged", "stuck", "denied", "unknown"), COUNT)
    lists: Schema = {
        "changes": object_of({"now": _OUTCOME, "then": _OUTCOME, "sign_ins": COUNT, "got_in": COUNT}),
        "days": object_of({"day": DAY, "sign_ins": COUNT, "got_in": COUNT, **fates}),
        "rules": object_of({"id": TEXT, "title": _WORD, **fates, "people": COUNT}),
        "resources": object_of({"name": TEXT, **fates, "people": COUNT}),
        "people": object_of({"id": TEXT, "login": TEXT, **fates}),
        "lockouts": _lockout(),
        "break_glass": object_of(
            {
                "time": TEXT,
                "login": TEXT,
                "resource": TEXT,
                "result": nullable({"enum": list(RESULTS)}),
                "network": nullable(TEXTS),
            }
        ),
        "unused": object_of({"why": TEXT, "value": _WORD, "events": COUNT, "first": TEXT}),
    }
    counted = dict.fromkeys(("files", "read", "decided", "unused", "got_in"), COUNT)
    would_be = {**fates, **dict.fromkeys(("people", "changed", "eased", "denied_now"), COUNT)}
    fields: Schema = {"tried": TEXT, "events": object_of(counted), "would_be": object_of(would_be)}
    return form("rehearsal/1", {**_HEAD, **fields, **{name: list_of(entry) for name, entry in lists.items()}})


def _exceptions() -> Schema:
    entry = object_of(
        {
            "exception": TEXT,
            "state": {"enum": ["in-force", "idle", "expired"]},
            "covers": COUNT,
            "until": DAY,
            "days_left": {"type": "integer"},
            "rules": SOME,
            "who": TEXT,
            "services": nullable(SOME),
            "reason": TEXT,
            "approved_by": TEXT,
            "ends_soon": _TRUTH,
        }
    )
    return form("exceptions-today/1", {**_HEAD, "exceptions": list_of(entry)})


def _rule() -> Schema:
    return {
        "id": TEXT,
        "severity": {"enum": list(SEVERITIES)},
        "subject": {"enum": list(SUBJECTS)},
        "audience": TEXT,
        "except": nullable(TEXT),
        "services": nullable(SOME),
        "pinned": nullable({"enum": ["true", "strict"]}),
        "title": TEXT,
        "expects": TEXT,
        "because": _WORD,
        "mend": _WORD,
        "maps": {"type": "object", "additionalProperties": TEXTS},
    }


def result_schemas() -> dict[str, Schema]:
    """The schema of every form of JSON that a verb writes, by the name of its file in the package (without `.schema.json`)."""
    reach = object_of({"service": nullable(TEXT), "people": nullable(COUNT), "of": COUNT, "why": nullable(TEXT)})
    control = object_of(
        {
            "id": TEXT,
            "title": TEXT,
            "kind": {"enum": list(KIND_NAMES)},
            "values": TEXTS,
            "strict": nullable(TEXT),
            "weak": _WORD,
            "own": _TRUTH,
        }
    )
    return {
        "check": _check(),
        "why": _why(),
        "sign-in": _sign_in_form(),
        "holes": _holes(),
        "rehearsal": _rehearsal(),
        "exceptions-today": _exceptions(),
        "rules": form("rules/1", {**_MAYBE_HEAD, "rules": list_of(object_of(_rule()))}),
        "rule": form("rule/1", {**_MAYBE_HEAD, **_rule(), "reaches": list_of(reach)}),
        "controls": form("controls/1", {**_MAYBE_HEAD, "controls": list_of(control)}),
    }
