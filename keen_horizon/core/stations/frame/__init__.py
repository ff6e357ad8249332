"""Frame: what happens at the picture's edges.

``settings`` hold it; ``reshape`` what is reshaped by hand; ``view`` what the output shows;
``covering`` the zoom and the canvas that hide or keep all; ``station`` says what came of it.
"""

from .settings import CORNERS, SIDES, FrameSettings
from .station import FRAME

__all__ = ["CORNERS", "FRAME", "SIDES", "FrameSettings"]
