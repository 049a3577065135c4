"""The JSON Schemas of every YAML file and of the result, made from the same words that the readers check by.

`tools/generate.py` writes them into the package; editors and scripts use them. YAML is taken as YAML 1.2 reads it: `on` and
`off` are words, `true` and `false` truth values.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from ..core.organisation.facts import FACTS
from ..core.organisation.partners import PARTNER_COLUMNS
from ..core.organisation.selector import KEYS
from ..core.verdicts.codes import SHOWN_ORDER
from ..core.words.compare import OPERATORS
from ..core.words.vocabulary import (
    CLIENTS,
    DEVICES,
    LEVELS,
    MODES,
    PERSON_KINDS,
    PLATFORMS,
    PROOFS,
    REASONS,
    RISKS,
    SEVERITIES,
    SUBJECTS,
)
from .snapshot.catalogue import KIND_NAMES

Schema = dict[str, Any]
_TEXT: Schema = {"type": "string", "minLength": 1}
_TEXTS: Schema = {"type": "array", "items": _TEXT}
_SOME: Schema = {**_TEXTS, "minItems": 1}
_SCALAR: Schema = {"type": ["string", "number", "boolean"]}
_VALUE: Schema = {"anyOf": [_SCALAR, {"type": "array", "items": {"type": "string"}}]}
_TIME: Schema = {
    "type": "string",
    "pattern": r"^\d{4}-\d{2}-\d{2}[Tt ]\d{2}:\d{2}:\d{2}(\.\d+)?([Zz]|[+-]\d{2}:\d{2})$",
}
_DAY: Schema = {"type": "string", "pattern": r"^\d{4}-\d{2}-\d{2}$"}
_FLAG: Schema = {"enum": ["on", "off", "true", "false", True, False]}
_COUNT: Schema = {"type": "integer", "minimum": 0}


def _object(required: Schema, optional: Schema | None = None, **more: Any) -> Schema:
    return {
        "type": "object",
        "properties": {**required, **(optional or {})},
        "required": list(required),
        "additionalProperties": False,
        **more,
    }


def _nullable(schema: Schema) -> Schema:
    return {"anyOf": [schema, {"type": "null"}]}


def _list(items: Schema) -> Schema:
    return {"type": "array", "items": items}


def _file(form: str, required: Schema, optional: Schema | None = None, **more: Any) -> Schema:
    made = _object({"usher-gate": {"const": form}, **required}, optional)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": form, **made, **more}


def _selector() -> Schema:
    one: Schema = {"anyOf": [_TEXT, _SOME]}
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
        "patternProperties": {r"^attr\..+": {"anyOf": [_SCALAR, {"type": "array", "items": _SCALAR, "minItems": 1}]}},
        "additionalProperties": False,
    }


def _when() -> Schema:
    names: Schema = {"anyOf": [_TEXT, _SOME]}
    some = {
        name: {"anyOf": [{"enum": list(words)}, {"type": "array", "items": {"enum": list(words)}, "minItems": 1}]}
        for name, words in (("client", CLIENTS), ("platform", PLATFORMS), ("device", DEVICES), ("risk", RISKS))
    }
    return _object(
        {}, {"network": {"anyOf": [_TEXT, _SOME, _object({}, {"include": names, "exclude": names})]}, **some}
    )


def _hole() -> Schema:
    words = {"client": CLIENTS, "platform": PLATFORMS, "device": DEVICES, "risk": RISKS}
    return _object(
        {
            "resource": _TEXT,
            "address": _TEXT,
            "network": _TEXTS,
            **{name: {"enum": list(each)} for name, each in words.items()},
        }
    )


def _access_rule() -> Schema:
    selector: Schema = {"$ref": "#/$defs/selector"}
    resources: Schema = {"anyOf": [_TEXT, _SOME, _object({"tag": {"anyOf": [_TEXT, _SOME]}})]}
    proofs: Schema = {"type": "array", "items": {"enum": list(PROOFS)}, "minItems": 1}
    session = _object({}, {"longest-hours": {"type": "number", "minimum": 0}, "downloads": {"enum": ["deny", "allow"]}})
    require: Schema = {"anyOf": [_object({"all-of": proofs}), _object({"any-of": proofs})]}
    outcome = _object({}, {"deny": {"const": True}, "require": require, "session": session}, minProperties=1)
    return _object(
        {
            "id": _TEXT,
            "mode": {"enum": list(MODES)},
            "people": _object({"include": selector}, {"exclude": selector}),
            "resources": _object({"include": resources}, {"exclude": resources}),
            "outcome": outcome,
        },
        {"title": _TEXT, "changed_at": _TIME, "when": _when()},
    )


def _condition() -> Schema:
    branches: Schema = {"type": "array", "items": {"$ref": "#/$defs/condition"}, "minItems": 1}
    some = _object({"at-least": {"type": "integer", "minimum": 1}, "of": branches})
    trees = [_object({"all-of": branches}), _object({"any-of": branches}), _object({"some-of": some})]
    operands: Schema = dict.fromkeys(OPERATORS, _VALUE)
    operands["one-of"] = {"type": "array", "items": _VALUE, "minItems": 1}
    operands["between"] = {"type": "array", "items": _SCALAR, "minItems": 2, "maxItems": 2}
    operands["present"] = {"type": "boolean"}
    abouts: dict[str, Schema] = {
        "control": _TEXT,
        "person": {"anyOf": [{"enum": list(FACTS)}, {"type": "string", "pattern": r"^attr\..+"}]},
        "partner": {"enum": list(PARTNER_COLUMNS)},
        "count": {"$ref": "#/$defs/selector"},
        "meeting": _TEXT,
    }
    leaves = [
        _object({about: schema, operator: operands[operator]})
        for about, schema in abouts.items()
        for operator in OPERATORS
    ]
    proof = _object({"proof": {"enum": list(PROOFS)}, "on": {"anyOf": [_TEXT, _SOME]}}, {"when": _when()})
    return {"anyOf": [*trees, *leaves, proof]}


def _control() -> Schema:
    return _object(
        {"id": _TEXT, "title": _TEXT, "kind": {"enum": list(KIND_NAMES)}},
        {
            "strict": {"enum": ["on", "off", "higher", "lower", True, False]},
            "values": {**_SOME, "minItems": 2},
            "weak": _TEXT,
        },
    )


def _service() -> Schema:
    values: Schema = {"type": "object", "additionalProperties": _VALUE}
    need = _object({"licences": _SOME}, {"without": _VALUE})
    precedence = {"type": "array", "items": {"enum": list(LEVELS)}, "uniqueItems": True, "minItems": 1}
    return _object(
        {"id": _TEXT},
        {
            "title": _TEXT,
            "accounts": {"$ref": "#/$defs/selector"},
            "precedence": precedence,
            "settle-hours": {"type": "number", "minimum": 0},
            "supports": _TEXTS,
            "factory": values,
            "self-service": _TEXTS,
            "needs": {"type": "object", "additionalProperties": need},
        },
    )


def _rule() -> Schema:
    selector: Schema = {"$ref": "#/$defs/selector"}
    return _object(
        {"id": _TEXT, "title": _TEXT, "expect": {"$ref": "#/$defs/condition"}},
        {
            "severity": {"enum": list(SEVERITIES)},
            "subject": {"enum": list(SUBJECTS)},
            "audience": {"anyOf": [_TEXT, selector]},
            "except": selector,
            "services": _SOME,
            "pinned": {"enum": [True, False, "true", "false", "strict"]},
            "because": _TEXT,
            "mend": _TEXT,
            "maps": {"type": "object", "additionalProperties": _TEXTS},
        },
    )


def _exception() -> Schema:
    base: Schema = {"id": _TEXT, "rules": _SOME, "reason": _TEXT, "approved_by": _TEXT, "until": _DAY}
    more: Schema = {"who": {"$ref": "#/$defs/selector"}, "partners": _SOME, "services": _SOME}
    return _object(base, more, oneOf=[{"required": ["who"]}, {"required": ["partners"]}])


def _result() -> Schema:
    verdict: Schema = {"enum": list(SHOWN_ORDER)}
    counts = _object(dict.fromkeys(SHOWN_ORDER, _COUNT))
    maybe = _nullable({"type": "string"})
    cause = _nullable(_object({"scope": _TEXT, "value": {"type": "string"}, "pinned": {"type": "boolean"}}))
    said: Schema = {"actual": maybe, "expected": _TEXT, "verdict": verdict}
    leaf = {"anyOf": [_object({about: _TEXT, **said, "cause": cause}) for about in ("control", "person", "partner", "count")]
            + [_object({"proof": {"enum": list(PROOFS)}, **said, "hole": _nullable(_hole())})]}  # fmt: skip
    subject = {
        "anyOf": [
            _object({"type": {"const": "person"}, "id": _TEXT, "login": _TEXT}),
            _object({"type": {"enum": ["partner", "organisation"]}, "id": _TEXT}),
        ]
    }
    share: Schema = {"rule": _TEXT, "judged": _COUNT, "drifting": _COUNT, "as_a_whole": {"type": "boolean"}}
    summary = _object(
        {
            "people": _COUNT,
            "drifting_people": _COUNT,
            "groups_drifting_as_a_whole": _COUNT,
            "units_drifting_as_a_whole": _COUNT,
            "verdicts": counts,
            "contradicting_people": _COUNT,
        }
    )
    finding = _object(
        {
            "rule": _TEXT,
            "severity": {"enum": list(SEVERITIES)},
            "subject": subject,
            "service": maybe,
            "verdict": verdict,
            "reason": {"enum": list(REASONS)},
            "leaves": _list(leaf),
            "exception": maybe,
            "would_be": _nullable(verdict),
        }
    )
    root = _object(
        {
            "service": maybe,
            "control": _TEXT,
            "scope": maybe,
            "value": maybe,
            "rules": _SOME,
            "people": _COUNT,
            "verdicts": _COUNT,
            "freed": _COUNT,
        }
    )
    exception = _object(
        {
            "id": _TEXT,
            "state": {"enum": ["in-force", "idle", "expired"]},
            "covers": _COUNT,
            "until": _DAY,
            "days_left": {"type": "integer"},
        }
    )
    return _file(
        "check/1",
        {
            "organisation": _TEXT,
            "taken_at": _TIME,
            "baseline": _object({"name": _TEXT, "version": _TEXT}),
            "summary": summary,
            "rules": _list(
                _object({"id": _TEXT, "title": _TEXT, "severity": {"enum": list(SEVERITIES)}, "verdicts": counts})
            ),
            "groups": _list(_object({"id": _TEXT, "name": maybe, **share})),
            "units": _list(_object({"path": _TEXT, **share})),
            "roots": _list(root),
            "findings": _list(finding),
            "lockouts": _list(
                _object(
                    {
                        "resource": _TEXT,
                        "people": _TEXTS,
                        "of": {"enum": ["privileged", "break-glass"]},
                        "all": {"type": "boolean"},
                    }
                )
            ),
            "exceptions": _list(exception),
            "contradictions": _list(_object({"service": _TEXT, "controls": _SOME, "values": _TEXTS, "people": _COUNT})),
            "notes": _TEXTS,
        },
    )


def _mapping() -> Schema:
    text: Schema = {"type": "string"}
    moved = {"values": {"type": "object", "additionalProperties": {"type": "string"}}, "missing": text, "other": text}
    cell: Schema = {"anyOf": [_TEXT, _object({"from": _TEXT}, moved), _object({"value": text})]}
    cells: Schema = {"type": "object", "additionalProperties": cell}
    below = _object({"level": {"enum": ["unit", "group", "person"]}, "from": _TEXT}, moved)
    scope: Schema = {"anyOf": [_object({"level": {"const": "organisation"}}), below]}
    extra = dict.fromkeys(("pinned", "rank", "active", "changed_at", "note"), cell)
    into: Schema = {
        "anyOf": [
            _object({"settings": _TEXT, "scope": scope, "controls": cells}, extra),
            _object({"table": _TEXT, "columns": cells}),
        ]
    }
    return _file("mapping/1", {"into": {**_list(into), "minItems": 1}}, {"rows": _TEXT, "ignore": _TEXTS})


def _manifest() -> Schema:
    rows: Schema = {"type": "object", "additionalProperties": _COUNT}
    state: Schema = {"enum": ["whole", "missing"]}
    seconds: Schema = {"type": "number", "minimum": 0}
    source = _object({"name": _TEXT, "kind": _TEXT, "from": _TEXT, "seconds": seconds, "rows": rows, "state": state})
    sha256: Schema = {"type": "string", "pattern": "^[0-9a-f]{64}$"}
    file = _object({"name": _TEXT, "sha256": sha256, "bytes": _COUNT, "rows": _nullable(_COUNT)})
    missing = _object({"source": _TEXT, "why": _TEXT, "tables": _TEXTS, "settings_of": _TEXTS})
    lists = {"sources": _list(source), "files": _list(file), "missing": _list(missing)}
    return _file("manifest/1", {"taken_at": _TIME, "finished_at": _TIME, **lists})


def schemas() -> dict[str, Schema]:
    """Every schema by the name of its file in the package (without `.schema.json`)."""
    selector = {"$defs": {"selector": _selector()}}
    both = {"$defs": {"selector": _selector(), "condition": _condition()}}
    organisation = {
        "domains": _TEXTS,
        "privileged_roles": _TEXTS,
        "second_factor_default": _FLAG,
        "networks": {"type": "object", "additionalProperties": _SOME},
        "resources": {"type": "object", "additionalProperties": _TEXTS},
        "controls": _list(_control()),
    }
    audiences = {"type": "object", "additionalProperties": {"$ref": "#/$defs/selector"}}
    return {
        "snapshot": _file("snapshot/1", {"name": _TEXT, "taken_at": _TIME}, organisation),
        "services": _file("services/1", {"services": _list(_service())}, **selector),
        "access-rules": _file("access-rules/1", {"rules": _nullable(_list(_access_rule()))}, **selector),
        "baseline": _file(
            "baseline/1", {"name": _TEXT, "version": _TEXT, "rules": _list(_rule())}, {"audiences": audiences}, **both
        ),
        "exceptions": _file("exceptions/1", {"exceptions": _nullable(_list(_exception()))}, **selector),
        "check": _result(),
        "mapping": _mapping(),
        "manifest": _manifest(),
    }


def schema_texts() -> dict[Path, str]:
    """The schema files' texts, by their place below the package."""
    return {Path("schemas") / f"{name}.schema.json": _text(schema) for name, schema in schemas().items()}


def _text(schema: Schema) -> str:
    return json.dumps(schema, indent=1, ensure_ascii=False) + "\n"
