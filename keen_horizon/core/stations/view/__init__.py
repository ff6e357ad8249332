"""View: a flat camera inside a sphere.

``settings`` say where it looks; ``station`` turns them into cameras and says what they cost.
"""

from .settings import ViewSettings
from .station import VIEW

__all__ = ["VIEW", "ViewSettings"]
