"""What a piece of work depends on, as a short name for it: the key of every cache."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from ..stations.setting import WORK, Affects
from .model import Treatment


def digest(treatment: Treatment, upto: Affects, *known: object) -> str:
    """A name for the work on a treatment, up to one part of it (see :data:`..setting.WORK`): the
    same for two treatments exactly if no setting that this part depends on makes a difference.

    ``known`` is whatever else it depends on, as JSON data.
    """
    basis = json.dumps([settings_for(treatment, upto), *known], sort_keys=True)
    return hashlib.sha256(basis.encode()).hexdigest()


def settings_for(treatment: Treatment, upto: Affects) -> dict[str, Any]:
    """The settings in force, as JSON data, that a part of the work depends on."""
    parts = WORK[: WORK.index(upto) + 1]
    now = treatment.in_force()
    out: dict[str, Any] = {}
    for station, own in now.each():
        data = own.model_dump(mode="json")
        out |= {
            f"{station.name}.{name}": data[name]
            for name, facts in station.facts.items()
            if facts.affects in parts
        }
        keys = {
            f"keys {name}": [key.model_dump(mode="json") for key in keys]
            for name, keys in now.keys.items()
            if name.split(".")[0] == station.name
            and station.facts[name.split(".")[1]].affects in parts
            and keys
        }
        out |= keys
    return out
