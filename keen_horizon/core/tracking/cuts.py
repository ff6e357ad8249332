"""Where one shot ends and another begins."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .tracks import Tracks

LOST = 0.3  # fewer than this share of the marks survive a cut
FEW = 20  # marks; with fewer, only the look of the picture counts
CHANGE = 0.4  # least change of thumbnails at a cut
CHANGE_ALONE = 0.8  # the same where there are too few marks to ask
SPIKE = 2.0  # a cut stands out from the frames around it by this factor; a whip pan does not


def find_cuts(tracks: Tracks) -> NDArray[np.intp]:
    """Frames ``(k,)`` of the range that are the first of a new shot, ascending; frame 0 never is.

    A cut is one sudden frame: most tracks are lost *and* the picture changes far more than before
    and after. A whip pan or a blurred stretch changes over several frames and is no cut.

    >>> still = np.full((20, 12, 2), 50.0) + 30 * np.arange(12)[:, None]
    >>> find_cuts(Tracks.from_places(still, np.arange(20) / 30)).tolist()
    []
    """
    change = tracks.change
    padded = np.concatenate([[0.0], change, [0.0]])
    around = np.maximum(padded[:-2], padded[2:])
    sudden = change > SPIKE * around
    survived = tracks.followed / np.maximum(tracks.started, 1)
    seen = tracks.started >= FEW
    lost = np.where(seen, (survived < LOST) & (change > CHANGE), change > CHANGE_ALONE)
    cut = sudden & lost
    cut[0] = False
    return np.nonzero(cut)[0]
