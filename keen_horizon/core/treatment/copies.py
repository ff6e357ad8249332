"""Stations of one clip's treatment carried over to another clip."""

from __future__ import annotations

from collections.abc import Collection

from ..stations import STATIONS
from .model import Treatment


def with_stations(treatment: Treatment, source: Treatment, names: Collection[str]) -> Treatment:
    """``treatment`` with the settings of some stations of another clip's.

    What names frames or places of a recording stays with the clip it belongs to. Keyframes are not
    carried over, because frames are not the same there; those of the settings that are replaced
    go, because they would override what was copied.
    """
    parts = {}
    replaced = set()
    for station in STATIONS:
        if station.name not in names:
            continue
        own, other = treatment.of(station), station.copied(source.of(station))
        of_clip = {name for name, facts in station.facts.items() if facts.of_clip}
        kept = {name: getattr(own, name) for name in of_clip}
        parts[station.name] = other.model_copy(update=kept)
        replaced |= {f"{station.name}.{name}" for name in station.facts if name not in of_clip}
    keys = {name: keys for name, keys in treatment.keys.items() if name not in replaced}
    return treatment.model_copy(update={**parts, "keys": keys})
