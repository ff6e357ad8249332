"""Glass: light that the lens lost towards the edge, brought back.

``settings`` say how much; ``fall_off`` is the rule and its pixel stage; ``brightness`` finds
it from a clip's marks, ``by_hand`` tells it by three numbers; ``station`` says what it does.
"""

from .settings import GlassSettings
from .station import GLASS

__all__ = ["GLASS", "GlassSettings"]
