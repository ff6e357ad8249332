"""Settings as the page shows them: everything that a label, a slider or a choice needs to know,
read off the declarations."""

from __future__ import annotations

import typing
from dataclasses import asdict, dataclass
from functools import cache
from types import NoneType
from typing import Any

from ..core.stations import light_path
from ..core.stations.setting import Kind as ClipKind
from ..core.stations.setting import SettingFacts, range_of

Kind = typing.Literal["number", "whole", "choice", "tick", "text", "own"]


@dataclass(frozen=True)
class Field:
    """A setting on the page; ``kind`` is that of its control, *own* if it has tools of its own.
    ``low`` and ``high`` bound what may be entered, ``slides`` what the slider offers."""

    name: str
    kind: Kind
    facts: SettingFacts
    hint: str
    default: Any
    low: float | None
    high: float | None
    may_be_empty: bool

    @property
    def id(self) -> str:
        """Of its element."""
        return self.name.replace(".", "-").replace("_", "-")

    @property
    def slides(self) -> tuple[float | None, float | None]:
        return self.facts.reach or (self.low, self.high)

    @property
    def spoken(self) -> str:
        """What it is called where it is not seen: ``Extra zoom, 0.1 to 4 ×``."""
        if self.low is None or self.high is None:
            return self.facts.label
        unit = f" {self.facts.unit}" if self.facts.unit else ""
        return f"{self.facts.label}, {self.low:g} to {self.high:g}{unit}"


@cache
def fields_of(kind: ClipKind) -> dict[str, Field]:
    """Every setting that a kind of clip has, by its name in a treatment."""
    return {
        f"{station.name}.{key}": _field(station.Settings, f"{station.name}.{key}", key, facts)
        for station in light_path(kind)
        for key, facts in station.serving(kind).items()
    }


def _field(settings: Any, name: str, key: str, facts: SettingFacts) -> Field:
    declared = settings.model_fields[key]
    low, high = range_of(settings, key)
    of = declared.annotation
    parts = typing.get_args(of) if typing.get_origin(of) is not typing.Literal else ()
    return Field(
        name, _kind(of, facts), facts, declared.description or "",
        declared.get_default(call_default_factory=True), low, high, NoneType in parts,
    )  # fmt: skip


def _kind(of: Any, facts: SettingFacts) -> Kind:
    if facts.choices:
        return "choice"
    plain = [part for part in typing.get_args(of) if part is not NoneType] or [of]
    return {bool: "tick", int: "whole", float: "number", str: "text"}.get(plain[0], "own")  # type: ignore[return-value]


def for_scripts(kind: ClipKind) -> dict[str, Any]:
    """What scripts need to know of every setting of a kind of clip."""
    return {
        name: {
            "label": field.facts.label,
            "unit": field.facts.unit,
            "step": field.facts.step,
            "keyed": field.facts.keyed,
            "group": field.facts.group,
            "needs": [dict(case) for case in field.facts.needs],
            "choices": {value: asdict(choice) for value, choice in field.facts.choices.items()},
            "kind": field.kind,
            "low": field.low,
            "high": field.high,
            "default": field.default
            if isinstance(field.default, bool | int | float | str)
            else None,
        }
        for name, field in fields_of(kind).items()
    }
