"""Documents held against the shipped schemas, strictly: a field that the schema does not know is a fault."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files
from typing import Any

from jsonschema import Draft202012Validator

SHIPPED = files("lucky_keystone") / "schemas"


@cache
def strict(name: str) -> Draft202012Validator:
    """A validator by the shipped schema that also refuses fields it does not know."""
    schema = json.loads((SHIPPED / f"{name}.schema.json").read_text())
    for part in [schema, *schema["$defs"].values()]:
        if "properties" in part:
            part["additionalProperties"] = False
    Draft202012Validator.check_schema(schema)
    return Draft202012Validator(schema)


def fits(document: Any, name: str) -> None:
    faults = [f"{error.json_path}: {error.message}" for error in strict(name).iter_errors(document)]
    assert faults == []
