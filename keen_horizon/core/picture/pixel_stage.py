"""One stage of what is done to pixels: the same rule for whole arrays and for a graphics card.

Pixel stages run where the light did: those at the *source* end on the recorded picture's own
pixels, before it is warped; those at the *output* end on what is delivered. They work in linear
light. Where there are none, pictures never leave YUV.
"""

from __future__ import annotations

from typing import Any, ClassVar, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

LinearPicture = NDArray[np.float32]  # (height, width, 3) red, green, blue; linear light, 1 is white


class PixelStage(Protocol):
    """A change of pixels, frame by frame."""

    end: ClassVar[Literal["source", "output"]]
    name: ClassVar[str]
    """Of the function in :attr:`shader`, which is unique among all stages."""
    shader: ClassVar[str]
    """GLSL: ``vec3 name(vec3 light, vec2 at)``, the same rule; ``at`` is the share of the picture's
    size, and ``light`` linear. Its uniforms are called ``name_…``."""

    def apply(self, picture: LinearPicture, frame: int) -> LinearPicture:
        """The picture of one ``frame`` of the range, changed; may work in place."""
        ...

    def uniforms(self, frame: int) -> dict[str, Any]:
        """Numbers, or lists of up to four, for the shader's uniforms, by their names."""
        ...
