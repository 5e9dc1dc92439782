"""What the API's description (OpenAPI) says beyond what its routes tell by themselves: problems, and the
wishes of every kind.
"""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI
from pydantic import BaseModel
from pydantic.json_schema import JsonSchemaMode

from foldbarn.api.changes.models import Deed, Problem, Wish
from foldbarn.changes.engine.kind import KINDS, Kind

REF = "#/components/schemas/"
WISHED = {
    "/api/changes/preview": Wish,
    "/api/changes": Deed,
}  # routes that take a wish of any kind, and their shape


def describe(app: FastAPI) -> None:
    """Completes the description when it is first asked for."""
    plain = app.openapi

    def openapi() -> dict[str, Any]:
        found = plain()
        schemas = found["components"]["schemas"]
        if "Problem" not in schemas:
            _add(schemas, "Problem", Problem, "serialization")  # no route returns one as its own model
            for path, shape in WISHED.items():
                body = found["paths"][path]["post"]["requestBody"]["content"]["application/json"]
                body["schema"] = _by_kind(schemas, shape)
        return found

    app.openapi = openapi  # type: ignore[method-assign]


def _add(schemas: dict[str, Any], name: str, model: type[BaseModel], mode: JsonSchemaMode) -> None:
    shape = model.model_json_schema(ref_template=REF + "{model}", mode=mode)
    for part, schema in shape.pop("$defs", {}).items():
        schemas.setdefault(part, schema)
    schemas[name] = shape


def _by_kind(schemas: dict[str, Any], shape: type[BaseModel]) -> dict[str, Any]:
    """A wish is one of its kinds; each kind says what it is given."""
    mapping = {}
    for name, kind in sorted(KINDS.items()):
        variant = f"{shape.__name__}Of{_camel(name)}"
        _add(schemas, variant, shape, "validation")
        _add(schemas, kind.params.__name__, kind.params, "validation")
        schemas[variant]["properties"] |= {
            "kind": {"const": name, "type": "string"},
            "params": {"$ref": REF + kind.params.__name__},
        }
        schemas[variant]["title"] = variant
        schemas[variant]["description"] = _first_line(kind)
        mapping[name] = REF + variant
    refs = [{"$ref": ref} for ref in mapping.values()]
    return {"oneOf": refs, "discriminator": {"propertyName": "kind", "mapping": mapping}}


def _camel(name: str) -> str:
    return "".join(part.capitalize() for part in name.split("-"))


def _first_line(kind: Kind[Any]) -> str:
    return (type(kind).__doc__ or "").strip().partition("\n")[0]
