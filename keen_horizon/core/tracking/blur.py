"""Frames blurred by motion: steadying stops the picture, and then the blur shows."""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

WINDOW = 45  # frames that a frame is compared with
SHARP = 70  # percentile of their sharpness that counts as sharp
BLURRED = 0.4  # of that is blurred: the variance of the Laplacian falls quickly with blur


def blurred_frames(
    sharpness: NDArray[np.float64], segments: list[tuple[int, int]]
) -> NDArray[np.bool_]:
    """``(n,)`` which frames are much less sharp than those around them, cuts apart.

    ``sharpness`` ``(n,)`` is the variance of the Laplacian, in any unit; ``segments`` ``[start,
    end)`` are compared within themselves (Pech-Pacheco et al., *Diatom autofocusing in brightfield
    microscopy*, ICPR 2000).

    >>> sharpness = np.full(30, 8.0)
    >>> sharpness[12] = 0.5
    >>> np.flatnonzero(blurred_frames(sharpness, [(0, 30)])).tolist()
    [12]
    """
    out = np.zeros(len(sharpness), bool)
    for start, stop in segments:
        part = sharpness[start:stop]
        usual = scipy.ndimage.percentile_filter(part, SHARP, min(WINDOW, len(part)), mode="nearest")
        out[start:stop] = part < BLURRED * usual
    return out
