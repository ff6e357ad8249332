"""What is wrong with a treatment, in words: the setting, what was given, and what is allowed."""

from __future__ import annotations

import json
from collections.abc import Sequence
from functools import cache
from typing import Any

from pydantic import ValidationError

from ..stations import STATIONS
from .model import KEYABLE, Treatment

SHOWN = 120  # characters of a value that is quoted


def known_settings() -> str:
    """All settings, as a sentence."""
    names = (f"{station.name}.{name}" for station in STATIONS for name in station.facts)
    return f"Known: {', '.join(names)}, keys."


def explain(error: Exception) -> str:
    """A sentence for each fault."""
    if not isinstance(error, ValidationError):
        return f"the treatment cannot be read ({error})."
    faults = error.errors()
    said = list(dict.fromkeys(_sentence(fault) for fault in faults))
    if any(fault["type"] == "extra_forbidden" for fault in faults):
        said.append(known_settings())
    return " ".join(said)


def _sentence(fault: Any) -> str:
    loc, kind = fault["loc"], fault["type"]
    key = ".".join(str(part) for part in loc) or "treatment"
    if kind == "extra_forbidden":
        return f"there is no setting '{key}'."
    if kind == "station_fault":
        return str(fault["msg"])
    if kind.startswith("key_"):
        return f"{fault['msg']}; allowed: {allowed(fault['ctx']['name'])}."
    if loc[:1] == ("keys",) and loc[-1:] == ("[key]",):
        return f"{loc[1]} cannot be keyed; allowed: {', '.join(KEYABLE)}."
    if kind == "missing":
        return f"{key} is missing."
    given = json.dumps(fault["input"], default=str)
    given = given if len(given) <= SHOWN else f"{given[:SHOWN]} …"
    return f"{key} cannot be {given}; allowed: {_allowed(loc)}."


def allowed(name: str) -> str:
    """The range of a setting in words: ``0 to 100``, ``follow or lock_off``."""
    return _allowed(name.split("."))


@cache
def _schema() -> dict[str, Any]:
    return Treatment.model_json_schema()


def _allowed(loc: Sequence[str | int]) -> str:
    definitions = _schema().get("$defs", {})
    node: Any = _schema()
    for part in loc:
        node = _member(_resolved(node, definitions), part, definitions)
    return _in_words(_resolved(node, definitions), definitions)


def _resolved(node: Any, definitions: dict[str, Any]) -> Any:
    """A node itself, where it only names another."""
    while "$ref" in node:
        node = definitions[node["$ref"].rsplit("/", 1)[1]]
    return node


def _member(node: Any, part: str | int, definitions: dict[str, Any]) -> Any:
    """What a schema says of a part of what it describes."""
    for case in node.get("anyOf", []):  # something, or null
        case = _resolved(case, definitions)
        if case.get("type") != "null":
            return _member(case, part, definitions)
    if "oneOf" in node:  # told apart by a value, which the location names
        names = node.get("discriminator", {}).get("mapping", {})
        if part in names:
            return {"$ref": names[part]}
    if isinstance(part, int):
        fixed = node.get("prefixItems", [])
        return fixed[part] if part < len(fixed) else node.get("items", {}) or {}
    return node.get("properties", {}).get(part) or node.get("additionalProperties") or {}


def _in_words(node: dict[str, Any], definitions: dict[str, Any]) -> str:
    if "anyOf" in node:
        cases = [_resolved(case, definitions) for case in node["anyOf"]]
        return ", or ".join(
            "null" if case.get("type") == "null" else _in_words(case, definitions) for case in cases
        )
    if "enum" in node:
        return " or ".join(str(v) for v in node["enum"])
    if "const" in node:
        return str(node["const"])
    if node.get("type") in ("integer", "number"):
        return _number_in_words(node)
    if node.get("type") == "array":
        low, high = node.get("minItems", 0), node.get("maxItems")
        if low == high:
            return f"a list of {low}"
        return f"a list of {low} to {high}" if high else "a list"
    if "pattern" in node:
        return "source, free, or width:height as in 16:9"
    return {"boolean": "true or false", "string": "text"}.get(
        node.get("type", ""), "an object of settings"
    )


def _number_in_words(node: dict[str, Any]) -> str:
    kind = "a whole number" if node["type"] == "integer" else "a number"
    if "minimum" in node and "maximum" in node:
        return f"{kind} from {node['minimum']:g} to {node['maximum']:g}"
    return f"{kind} of {node['minimum']:g} or more" if "minimum" in node else kind
