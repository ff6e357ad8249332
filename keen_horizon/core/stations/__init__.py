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
from .shutter import SHUTTER
from .station import Station

STATIONS: tuple[Station[Any], ...] = (LENS, GLASS, SHUTTER, MOTION, FRAME, FINISH)
"""In the order in which light passes them."""
