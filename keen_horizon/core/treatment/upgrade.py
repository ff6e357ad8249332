"""Older treatments, brought from version to version of the format up to the present one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..errors import BadSetting
from .model import VERSION

UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {}
"""By the version that it starts from, what turns JSON data of a treatment into the next one's."""


def upgrade(data: Any) -> Any:
    """JSON data of a treatment of any version as that of the present one. What is no treatment is
    left for the validation to refuse. Raises BadSetting for a version from the future."""
    if not isinstance(data, dict):
        return data
    version = data.get("version", VERSION)
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        return data
    if version > VERSION:
        raise BadSetting(
            f"this treatment has version {version} of the format; this application knows versions "
            f"up to {VERSION}.",
            remedy="Open it with a newer Keen Horizon, or save it there in the older form.",
        )
    for step in range(version, VERSION):
        data = UPGRADES[step](data) | {"version": step + 1}
    return data
