"""The stations of the light path, each in a package of its own; this is the one list of them.

A new station is a package here, an entry below, a template and a script of its tools, its tests.
"""

from __future__ import annotations

from typing import Any

from .finish import FINISH
from .frame import FRAME
from .glass import GLASS
from .lens import LENS
from .motion import MOTION
from .setting import Kind
from .shutter import SHUTTER
from .station import Station
from .view import VIEW

STATIONS: tuple[Station[Any], ...] = (LENS, GLASS, SHUTTER, MOTION, VIEW, FRAME, FINISH)
"""In the order in which light passes them."""


def light_path(kind: Kind) -> tuple[Station[Any], ...]:
    """The stations that a kind of clip passes."""
    return tuple(station for station in STATIONS if kind in station.serves)
