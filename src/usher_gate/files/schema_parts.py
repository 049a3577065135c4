"""What JSON Schemas are made of, for files and for results."""

from __future__ import annotations

import json
from typing import Any

Schema = dict[str, Any]
DIALECT = "https://json-schema.org/draft/2020-12/schema"
TEXT: Schema = {"type": "string", "minLength": 1}
TEXTS: Schema = {"type": "array", "items": TEXT}
SOME: Schema = {**TEXTS, "minItems": 1}
SCALAR: Schema = {"type": ["string", "number", "boolean"]}
VALUE: Schema = {"anyOf": [SCALAR, {"type": "array", "items": {"type": "string"}}]}
TIME: Schema = {
    "type": "string",
    "pattern": r"^\d{4}-\d{2}-\d{2}[Tt ]\d{2}:\d{2}:\d{2}(\.\d+)?([Zz]|[+-]\d{2}:\d{2})$",
}
DAY: Schema = {"type": "string", "pattern": r"^\d{4}-\d{2}-\d{2}$"}
FLAG: Schema = {"enum": ["on", "off", "true", "false", True, False]}
COUNT: Schema = {"type": "integer", "minimum": 0}


def object_of(required: Schema, optional: Schema | None = None, **more: Any) -> Schema:
    """Return an object with these keys and no others."""
    return {
        "type": "object",
        "properties": {**required, **(optional or {})},
        "required": list(required),
        "additionalProperties": False,
        **more,
    }


def nullable(schema: Schema) -> Schema:
    """Return the same, or null."""
    return {"anyOf": [schema, {"type": "null"}]}


def list_of(items: Schema) -> Schema:
    """Return the schema of an array whose entries all follow one schema."""
    return {"type": "array", "items": items}


def form(form: str, required: Schema, optional: Schema | None = None, **more: Any) -> Schema:
    """Return a whole file of a form: `usher-gate` says which."""
    made = object_of({"usher-gate": {"const": form}, **required}, optional)
    return {"$schema": DIALECT, "title": form, **made, **more}


def schema_text(schema: Schema) -> str:
    """Return a schema as the text of its file."""
    return json.dumps(schema, indent=1, ensure_ascii=False) + "\n"
