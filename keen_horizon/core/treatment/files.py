"""Treatments read, and changed a setting at a time."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from ..errors import BadSetting
from .explain import explain, known_settings
from .model import Treatment
from .upgrade import upgrade

LARGEST_FILE = 4_000_000  # bytes of a treatment that is read


def parse(data: Any) -> Treatment:
    """A treatment from JSON data of any version. Raises BadSetting naming the key and what is
    allowed."""
    try:
        # Through JSON, so that 60 is accepted for 60.0 but "60" is not accepted for either.
        return Treatment.model_validate_json(json.dumps(upgrade(data)))
    except (ValidationError, TypeError, ValueError, RecursionError) as error:
        raise BadSetting(explain(error)) from error


def read(path: Path) -> Treatment:
    """A treatment from a JSON file."""
    try:
        if path.stat().st_size > LARGEST_FILE:
            raise BadSetting("is too large for a treatment.", file=path, remedy="Check the name.")
        data = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise BadSetting(
            f"cannot be read ({error.strerror}).", file=path, remedy="Check the name."
        ) from error
    except (ValueError, RecursionError) as error:
        raise BadSetting(f"is not JSON ({error}).", file=path, remedy="Correct it.") from error
    try:
        return parse(data)
    except BadSetting as error:
        raise BadSetting(error.reason, file=path, remedy=error.remedy) from error


def with_settings(treatment: Treatment, settings: list[str]) -> Treatment:
    """Change single values, each given as ``station.key=value``. Raises BadSetting."""
    data = treatment.as_data()
    for setting in settings:
        name, equals, text = setting.partition("=")
        if not equals:
            raise BadSetting(f"'{setting}' is not a setting; write station.key=value.")
        try:
            value = json.loads(text)
        except (ValueError, RecursionError):
            value = text
        *path, last = name.strip().split(".")
        place: Any = data
        for part in path:
            place = place.get(part) if isinstance(place, dict) else None
        if not isinstance(place, dict) or last not in place:
            raise BadSetting(f"there is no setting '{name}'. {known_settings()}")
        place[last] = value
    return parse(data)
