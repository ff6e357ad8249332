"""View: a flat camera inside a sphere.

``settings`` say where it looks, ``keyed_looks`` what that is in each frame; ``station`` turns them
into cameras and says what they cost.
"""

from .settings import ViewSettings
from .station import VIEW

__all__ = ["VIEW", "ViewSettings"]
