"""What a treatment may be, published: JSON schema, and a table for people."""

from __future__ import annotations

import json
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel

from ..stations import STATIONS
from ..stations.setting import SettingFacts, range_of
from .model import Treatment


def schema() -> dict[str, Any]:
    """JSON schema of a treatment. What pages know of a setting beyond its range and description
    stands under ``keen``."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Keen Horizon treatment",
        **{k: v for k, v in Treatment.model_json_schema().items() if k != "title"},
    }


def settings_table() -> str:
    """Every setting with its default, range and meaning, as a table in Markdown."""
    rows = ["| setting | default | range | keys | what it does |", "|---|---|---|---|---|"]
    for station in STATIONS:
        defaults = station.Settings().model_dump(mode="json")
        for name, facts in station.facts.items():
            hint = station.Settings.model_fields[name].description
            value = defaults[name]
            default = f"{value:g}" if isinstance(value, float) else json.dumps(value)
            reach = _reach(station.Settings, name, facts)
            keyed = "yes" if facts.keyed else ""
            rows.append(f"| `{station.name}.{name}` | {default} | {reach} | {keyed} | {hint} |")
    return "\n".join(rows) + "\n"


def _reach(settings: type[BaseModel], name: str, facts: SettingFacts) -> str:
    """What a setting may be, in a few words; nothing where that takes a schema."""
    unit = f" {facts.unit}" if facts.unit else ""
    low, high = range_of(settings, name)
    if low is not None and high is not None:
        return f"{low:g} to {high:g}{unit}"
    if low is not None:
        return f"{low:g} or more"
    of = settings.model_fields[name].annotation
    values = get_args(of) if get_origin(of) is Literal else ()
    return ", ".join(facts.choices or values) or ("true, false" if of is bool else "")
