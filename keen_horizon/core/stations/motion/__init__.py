"""Motion: what the steadied camera should do.

``settings`` hold it; ``steadying`` turns them and a measured motion into a steadied path;
``station`` says what came of it.
"""

from .settings import COMPONENTS, MotionSettings
from .station import MOTION

__all__ = ["COMPONENTS", "MOTION", "MotionSettings"]
