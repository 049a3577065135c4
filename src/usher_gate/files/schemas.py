"""The JSON Schemas of every file that is read, made from the same words that the readers check by.

`tools/generate.py` writes them into the package; editors and scripts use them. YAML is taken as YAML 1.2 reads it: `on`
and `off` are words, `true` and `false` truth values.
"""

from __future__ import annotations

from typing import Any

from ..core.door.visitors import HOLDINGS, MOMENTS, OUTCOMES, STANDINGS
from ..core.organisation.facts import FACTS
from ..core.organisation.partners import HOME_FACTOR, HOME_FACTORS, PARTNER_COLUMNS
from ..core.organisation.proofs import TYPES
from ..core.organisation.selector import KEYS
from ..core.verdicts.meeting_field import MEETING_FIELDS
from ..core.words.compare import OPERATORS
from ..core.words.faults import as_key
from ..core.words.vocabulary import (
    CONDITION_WORDS,
    DOOR_WAYS,
    LEVELS,
    MEETING_KINDS,
    MFA_WORDS,
    MODES,
    PERSON_KINDS,
    PROOFS,
    PROTECTION_WORDS,
    SEVERITIES,
    SUBJECTS,
)
from .schema_parts import (
    COUNT,
    DAY,
    FLAG,
    SCALAR,
    SOME,
    TEXT,
    TEXTS,
    TIME,
    VALUE,
    Schema,
    form,
    list_of,
    nullable,
    object_of,
)
from .snapshot.catalogue import KIND_NAMES


def _selector() -> Schema:
    """Return the schema of a selector of people."""
    one: Schema = {"anyOf": [TEXT, SOME]}
    tests: Schema = {key: one for key in KEYS if key not in ("any", "break-glass", "any-of", "all-of", "not")}
    below: Schema = {"$ref": "#/$defs/selector"}
    several: Schema = {"type": "array", "items": below, "minItems": 1}
    return {
        "type": "object",
        "minProperties": 1,
        "properties": {
            **tests,
            "any": {"const": True},
            "break-glass": {"type": "boolean"},
            "kind": {
                "anyOf": [
                    {"enum": list(PERSON_KINDS)},
                    {"type": "array", "items": {"enum": list(PERSON_KINDS)}, "minItems": 1},
                ]
            },
            "any-of": several,
            "all-of": several,
            "not": below,
        },
        "patternProperties": {r"^attr\..+": {"anyOf": [SCALAR, {"type": "array", "items": SCALAR, "minItems": 1}]}},
        "additionalProperties": False,
    }


def _when() -> Schema:
    names: Schema = {"anyOf": [TEXT, SOME]}
    some = {
        name: {"anyOf": [{"enum": list(words)}, {"type": "array", "items": {"enum": list(words)}, "minItems": 1}]}
        for name, words in CONDITION_WORDS.items()
    }
    return object_of(
        {}, {"network": {"anyOf": [TEXT, SOME, object_of({}, {"include": names, "exclude": names})]}, **some}
    )


def _access_rule() -> Schema:
    """Return the schema of an access rule."""
    selector: Schema = {"$ref": "#/$defs/selector"}
    resources: Schema = {"anyOf": [TEXT, SOME, object_of({"tag": {"anyOf": [TEXT, SOME]}})]}
    proofs: Schema = {"type": "array", "items": {"enum": list(PROOFS)}, "minItems": 1}
    session = object_of(
        {}, {"longest-hours": {"type": "number", "minimum": 0}, "downloads": {"enum": ["deny", "allow"]}}
    )
    require: Schema = {"anyOf": [object_of({"all-of": proofs}), object_of({"any-of": proofs})]}
    outcome = object_of({}, {"deny": {"const": True}, "require": require, "session": session}, minProperties=1)
    return object_of(
        {
            "id": TEXT,
            "mode": {"enum": list(MODES)},
            "people": object_of({"include": selector}, {"exclude": selector}),
            "resources": object_of({"include": resources}, {"exclude": resources}),
            "outcome": outcome,
        },
        {"title": TEXT, "changed_at": TIME, "when": _when()},
    )


def _condition() -> Schema:
    """Return the schema of a rule's condition, a tree of comparisons."""
    branches: Schema = {"type": "array", "items": {"$ref": "#/$defs/condition"}, "minItems": 1}
    some = object_of({"at-least": {"type": "integer", "minimum": 1}, "of": branches})
    trees = [object_of({"all-of": branches}), object_of({"any-of": branches}), object_of({"some-of": some})]
    operands: Schema = dict.fromkeys(OPERATORS, VALUE)
    operands["one-of"] = {"type": "array", "items": VALUE, "minItems": 1}
    operands["between"] = {"type": "array", "items": SCALAR, "minItems": 2, "maxItems": 2}
    operands["present"] = {"type": "boolean"}
    abouts: dict[str, Schema] = {
        "control": TEXT,
        "person": {"anyOf": [{"enum": list(FACTS)}, {"type": "string", "pattern": r"^attr\..+"}]},
        "partner": {"enum": list(PARTNER_COLUMNS)},
        "count": {"$ref": "#/$defs/selector"},
        "meeting": {"enum": list(MEETING_FIELDS)},
    }
    leaves = [
        object_of({about: schema, operator: operands[operator]})
        for about, schema in abouts.items()
        for operator in OPERATORS
    ]
    proof = object_of(
        {"proof": {"enum": list(PROOFS)}, "on": {"anyOf": [TEXT, SOME, object_of({"tag": {"anyOf": [TEXT, SOME]}})]}},
        {"when": _when()},
    )
    words = {"kind": MEETING_KINDS, "standing": STANDINGS, "holding": HOLDINGS, "way": DOOR_WAYS, "moment": MOMENTS}
    visitor_selection = {
        key: {"anyOf": [{"enum": ["any", *some]}, {"type": "array", "items": {"enum": list(some)}, "minItems": 1}]}
        for key, some in words.items()
    }
    met: Schema = {"enum": list(OUTCOMES[:3])}
    compared = {"is": met, "one-of": {"type": "array", "items": met, "minItems": 1}, "no-weaker-than": met}
    doors = [
        object_of({"door": object_of({}, visitor_selection), operator: operand})
        for operator, operand in compared.items()
    ]
    return {"anyOf": [*trees, *leaves, *doors, proof]}


def _control() -> Schema:
    return object_of(
        {"id": TEXT, "title": TEXT, "kind": {"enum": list(KIND_NAMES)}},
        {
            "strict": {"enum": ["on", "off", "higher", "lower", True, False]},
            "values": {**SOME, "minItems": 2},
            "weak": TEXT,
        },
    )


def _service() -> Schema:
    """Return the schema of a service."""
    values: Schema = {"type": "object", "additionalProperties": VALUE}
    need = object_of({"licences": SOME}, {"without": VALUE})
    words = {"kinds": MEETING_KINDS, "ways": DOOR_WAYS}
    named: Schema = {
        key: {"type": "array", "items": {"enum": list(some)}, "minItems": 1} for key, some in words.items()
    }
    door = object_of({}, {**named, "asks-callers": {"type": "boolean"}})
    precedence = {"type": "array", "items": {"enum": list(LEVELS)}, "uniqueItems": True, "minItems": 1}
    return object_of(
        {"id": TEXT},
        {
            "title": TEXT,
            "accounts": {"$ref": "#/$defs/selector"},
            "precedence": precedence,
            "settle-hours": {"type": "number", "minimum": 0},
            "supports": TEXTS,
            "factory": values,
            "self-service": TEXTS,
            "needs": {"type": "object", "additionalProperties": need},
            "door": door,
            "pins": {"type": "boolean"},
            "batch": {"type": "integer", "minimum": 1},
        },
    )


def _rule() -> Schema:
    """Return the schema of a baseline's rule."""
    selector: Schema = {"$ref": "#/$defs/selector"}
    return object_of(
        {"id": TEXT, "title": TEXT, "expect": {"$ref": "#/$defs/condition"}},
        {
            "severity": {"enum": list(SEVERITIES)},
            "subject": {"enum": list(SUBJECTS)},
            "audience": {"anyOf": [TEXT, selector]},
            "except": selector,
            "services": SOME,
            "pinned": {"enum": [True, False, "true", "false", "strict"]},
            "because": TEXT,
            "mend": TEXT,
            "maps": {"type": "object", "additionalProperties": TEXTS},
            "may-judge-nobody": {"type": "boolean"},
            "must_support": {"type": "boolean"},
        },
    )


def _exception() -> Schema:
    base: Schema = {"id": TEXT, "rules": SOME, "reason": TEXT, "approved_by": TEXT, "until": DAY}
    more: Schema = {"who": {"$ref": "#/$defs/selector"}, "partners": SOME, "services": SOME}
    return object_of(base, more, oneOf=[{"required": ["who"]}, {"required": ["partners"]}])


def _mapping() -> Schema:
    """Return the schema of a mapping from an export to tables of a snapshot."""
    text: Schema = {"type": "string"}
    words = {"type": "object", "additionalProperties": {"type": "string"}}
    moved: Schema = {
        "values": words,
        "missing": text,
        "other": text,
        "separator": TEXT,
        "dates": TEXT,
        "may-be-absent": {"type": "boolean"},
    }
    cell: Schema = {"anyOf": [TEXT, object_of({"from": TEXT}, moved), object_of({"value": text})]}
    where: Schema = {"type": "object", "additionalProperties": {"anyOf": [TEXT, {**list_of(TEXT), "minItems": 1}]}}
    cells: Schema = {"type": "object", "additionalProperties": cell}
    moving = object_of({"from": TEXT}, moved)
    levels: Schema = {"anyOf": [{"enum": ["unit", "group", "person"]}, moving]}
    below = object_of({"level": levels, "from": TEXT}, moved)
    scope: Schema = {"anyOf": [object_of({"level": {"const": "organisation"}}), below]}
    extra: Schema = dict.fromkeys(("pinned", "rank", "active", "changed_at", "note", "set"), cell)
    into: Schema = {
        "anyOf": [
            object_of({"settings": cell, "scope": scope, "controls": cells}, {"where": where, **extra}),
            object_of({"table": TEXT, "columns": cells}, {"where": where}),
        ]
    }
    export = {"delimiter": TEXT, "encoding": TEXT, "taken_at": object_of({"from": TEXT})}
    return form("mapping/1", {"into": {**list_of(into), "minItems": 1}}, {"rows": TEXT, "ignore": TEXTS, **export})


def _manifest() -> Schema:
    rows: Schema = {"type": "object", "additionalProperties": COUNT}
    state: Schema = {"enum": ["whole", "missing"]}
    seconds: Schema = {"type": "number", "minimum": 0}
    given = {"name": TEXT, "kind": TEXT, "from": TEXT, "seconds": seconds, "rows": rows, "state": state}
    source = object_of(given, {"lines": rows, "filled": {"type": "object", "additionalProperties": rows}})
    sha256: Schema = {"type": "string", "pattern": "^[0-9a-f]{64}$"}
    file = object_of({"name": TEXT, "sha256": sha256, "bytes": COUNT, "rows": nullable(COUNT)})
    missing = object_of({"source": TEXT, "why": TEXT, "tables": TEXTS, "settings_of": TEXTS})
    lists = {"sources": list_of(source), "files": list_of(file), "missing": list_of(missing)}
    return form("manifest/1", {"taken_at": TIME, "finished_at": TIME, **lists}, {"services": TEXTS})


def _changes() -> Schema:
    """Return the schema of a file of changes."""
    who: Schema = {"anyOf": [{"$ref": "#/$defs/selector"}, {"type": "object", "required": ["person"]}]}
    place: Schema = dict.fromkeys(("service", "control", "scope"), TEXT)
    lists = object_of({}, {"add": TEXTS, "remove": TEXTS}, minProperties=1)
    day = nullable({"anyOf": [DAY, TIME]})
    cells = {
        "mfa": nullable({"enum": list(MFA_WORDS)}),
        "protection": nullable({"enum": list(PROTECTION_WORDS)}),
        "active": nullable({"type": "boolean"}),
        "expires_at": day,
        "reviewed_at": day,
        "sponsor": nullable(TEXT),
        "licences": lists,
        "roles": lists,
    }
    rule: Schema = {
        "anyOf": [
            object_of({"id": TEXT, "mode": {"enum": list(MODES)}}),
            object_of({"put": _access_rule()}),
            object_of({"drop": TEXT}),
        ]
    }
    kinds: dict[str, Schema] = {
        "set": object_of({**place, "value": VALUE}, {"pinned": {"type": "boolean"}, "rank": {"type": "integer"}}),
        "unset": object_of(place),
        "people": object_of({"who": who}, cells, minProperties=2),
        "register": object_of(
            {"who": who, "type": {"enum": list(TYPES)}}, {"count": {"type": "integer", "minimum": 1}}
        ),
        "members": object_of({"group": TEXT}, {"add": SOME, "remove": SOME}, minProperties=2),
        "partner": object_of(
            {"domain": TEXT},
            {**{name: {"type": "boolean"} for name in PARTNER_COLUMNS}, HOME_FACTOR: {"enum": list(HOME_FACTORS)}},
            minProperties=2,
        ),
        "access-rule": rule,
        "access-rules": TEXT,
        "second-factor-default": FLAG,
    }
    change: Schema = {"anyOf": [object_of({kind: said}) for kind, said in kinds.items()]}
    selector = {"$defs": {"selector": _selector()}}
    return form("changes/1", {"title": TEXT, "changes": {**list_of(change), "minItems": 1}}, {"from": TIME}, **selector)


def _with_written_keys(schema: Any) -> Any:
    """Return a schema with its keys as they are written; the first key of every file has a hyphen. Spec: files 1."""
    if isinstance(schema, list):
        return [_with_written_keys(each) for each in schema]
    if not isinstance(schema, dict):
        return schema
    made = {key: _with_written_keys(value) for key, value in schema.items()}
    if isinstance(made.get("properties"), dict):
        made["properties"] = {_written(key): value for key, value in made["properties"].items()}
    if isinstance(made.get("required"), list):
        made["required"] = [_written(key) for key in made["required"]]
    return made


def _written(key: str) -> str:
    return key if key == "usher-gate" else as_key(key)


def schemas() -> dict[str, Schema]:
    """Return every schema by the name of its file in the package (without `.schema.json`)."""
    selector = {"$defs": {"selector": _selector()}}
    both = {"$defs": {"selector": _selector(), "condition": _condition()}}
    organisation = {
        "domains": TEXTS,
        "privileged_roles": TEXTS,
        "second_factor_default": FLAG,
        "gathered": FLAG,
        "networks": {"type": "object", "additionalProperties": SOME},
        "resources": {"type": "object", "additionalProperties": TEXTS},
        "controls": list_of(_control()),
    }
    audiences = {"type": "object", "additionalProperties": {"$ref": "#/$defs/selector"}}
    made = {
        "snapshot": form("snapshot/1", {"name": TEXT, "taken_at": TIME}, organisation),
        "services": form("services/1", {"services": list_of(_service())}, **selector),
        "access-rules": form("access-rules/1", {"rules": nullable(list_of(_access_rule()))}, **selector),
        "baseline": form(
            "baseline/1", {"name": TEXT, "version": TEXT, "rules": list_of(_rule())}, {"audiences": audiences}, **both
        ),
        "exceptions": form("exceptions/1", {"exceptions": nullable(list_of(_exception()))}, **selector),
        "changes": _changes(),
        "mapping": _mapping(),
        "manifest": _manifest(),
    }
    return {name: _with_written_keys(schema) for name, schema in made.items()}
