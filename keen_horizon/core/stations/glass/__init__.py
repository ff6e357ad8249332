"""Glass: light that the lens lost towards the edge, and colours that it put apart, brought back.

``settings`` say how much. ``fall_off`` is the rule for light and its pixel stage; ``brightness``
finds it from a clip's marks, ``by_hand`` tells it by three numbers. ``lateral`` is the rule for
colours and its stage; ``colour_edges`` finds it from edges; ``fringe_map`` shows it in one picture.
``halo`` takes rims away. ``even_surface`` finds the fall-off in a picture of a wall, ``symmetry``
where nothing moves; ``radial_fit`` is what finders share. ``dead_corners`` finds where the glass
ends. ``station`` says what it does.
"""

from .settings import GlassSettings
from .station import GLASS

__all__ = ["GLASS", "GlassSettings"]
