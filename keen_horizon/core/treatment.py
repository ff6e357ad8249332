"""The treatment: every setting of every station, validated, versioned, with a JSON schema."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from .errors import BadSetting


class _Station(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


COMPONENTS = ("across", "updown", "roll", "size")  # of the camera's path


def _own_calm(component: str) -> Any:
    return Field(
        None, ge=0, le=100, description=f"Calm of the path's {component} alone; null: as calm."
    )


class MotionSettings(_Station):
    """What the steadied camera should do."""

    on: bool = Field(True, description="Whether the shake is removed at all.")
    aim: Literal["follow", "lock_off"] = Field(
        "follow",
        description="follow: keep the move, lose the shake. lock_off: as from a tripod.",
    )
    calm: float = Field(
        40.0,
        ge=0,
        le=100,
        description="How strongly shake is removed: how far the picture may be shifted for it.",
    )
    calm_across: float | None = _own_calm("across")
    calm_updown: float | None = _own_calm("updown")
    calm_roll: float | None = _own_calm("roll")
    calm_size: float | None = _own_calm("size")
    model: Literal["shift", "similarity"] = Field(
        "similarity",
        description="shift: across and up-down. similarity: shift, roll and scale.",
    )

    @property
    def calms(self) -> dict[str, float]:
        """The calm of each component, by name; those that have none of their own share ``calm``."""
        own = {name: getattr(self, f"calm_{name}") for name in COMPONENTS}
        return {name: self.calm if value is None else value for name, value in own.items()}


class FrameSettings(_Station):
    """What happens at the edges."""

    on: bool = Field(True, description="Off leaves bare edges as they come.")
    edge: Literal["leave", "trim", "fill"] = Field(
        "fill",
        description="leave: bare edges stay. trim: smaller output. fill: zoom until covered.",
    )
    zoom_ceiling: float = Field(
        1.25, ge=1, le=4, description="The most zoom that may be spent; calm gives way first."
    )


class Treatment(_Station):
    """All settings of all stations for one clip."""

    version: Literal[1] = Field(1, description="Version of this format.")
    motion: MotionSettings = MotionSettings()
    frame: FrameSettings = FrameSettings()

    @property
    def edge(self) -> Literal["leave", "trim", "fill"]:
        """The edge rule in force."""
        return self.frame.edge if self.frame.on else "leave"


def parse(data: Any) -> Treatment:
    """A treatment from JSON data. Raises BadSetting naming the key and what is allowed."""
    try:
        # Through JSON, so that 60 is accepted for 60.0 but "60" is not accepted for either.
        return Treatment.model_validate_json(json.dumps(data))
    except (ValidationError, TypeError, ValueError) as error:
        raise BadSetting(_explain(error)) from error


def read(path: Path) -> Treatment:
    """A treatment from a JSON file."""
    try:
        data = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise BadSetting(
            f"cannot be read ({error.strerror}).", file=path, remedy="Check the name."
        ) from error
    except ValueError as error:
        raise BadSetting(f"is not JSON ({error}).", file=path, remedy="Correct it.") from error
    try:
        return parse(data)
    except BadSetting as error:
        raise BadSetting(error.reason, file=path) from error


def with_settings(treatment: Treatment, settings: list[str]) -> Treatment:
    """Change single values, each given as ``station.key=value``. Raises BadSetting."""
    data = treatment.model_dump(mode="json")
    for setting in settings:
        name, equals, text = setting.partition("=")
        if not equals:
            raise BadSetting(f"'{setting}' is not a setting; write station.key=value.")
        try:
            value = json.loads(text)
        except ValueError:
            value = text
        *path, last = name.strip().split(".")
        place: Any = data
        for part in path:
            place = place.get(part) if isinstance(place, dict) else None
        if not isinstance(place, dict) or last not in place:
            raise BadSetting(f"there is no setting '{name}'. {_known(data)}")
        place[last] = value
    return parse(data)


def schema() -> dict[str, Any]:
    """JSON schema of a treatment."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Keen Horizon treatment",
        **{k: v for k, v in Treatment.model_json_schema().items() if k != "title"},
    }


def _known(data: dict[str, Any]) -> str:
    names = [
        f"{station}.{key}"
        for station, values in data.items()
        if isinstance(values, dict)
        for key in values
    ]
    return "Known: " + ", ".join(names) + "."


def _explain(error: Exception) -> str:
    if not isinstance(error, ValidationError):
        return f"the treatment cannot be read ({error})."
    said = []
    for fault in error.errors():
        key = ".".join(str(p) for p in fault["loc"]) or "treatment"
        if fault["type"] == "extra_forbidden":
            said.append(f"there is no setting '{key}'.")
        else:
            said.append(f"{key} cannot be {json.dumps(fault['input'])}; allowed: {allowed(key)}.")
    if any(f["type"] == "extra_forbidden" for f in error.errors()):
        said.append(_known(Treatment().model_dump(mode="json")))
    return " ".join(said)


def allowed(key: str) -> str:
    """The range of a setting in words: ``0 to 100``, ``follow or lock_off``."""
    node: Any = Treatment.model_json_schema()
    definitions = node.get("$defs", {})
    for part in key.split("."):
        node = node.get("properties", {}).get(part, {})
        if "$ref" in node:
            node = definitions[node["$ref"].rsplit("/", 1)[1]]
    if "anyOf" in node:  # a number, or null
        node = node["anyOf"][0]
        return f"a number from {node['minimum']:g} to {node['maximum']:g}, or null"
    if "enum" in node:
        return " or ".join(str(v) for v in node["enum"])
    if "const" in node:
        return str(node["const"])
    if "minimum" in node:
        return f"a number from {node['minimum']:g} to {node['maximum']:g}"
    return {"boolean": "true or false"}.get(node.get("type", ""), "an object of settings")
