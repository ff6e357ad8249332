"""Detail for frames that motion blurred, from sharper neighbours.

A neighbour is drawn through the frame's own warp, so that it lands where the frame's picture is;
where the two agree once both are blurred alike, the neighbour's detail takes the place of the
frame's. After the idea of Cho, Wang, Lee, *Video deblurring for hand-held cameras using patch-based
synthesis*, SIGGRAPH 2012, with the camera's motion and one small nudge in place of a search.
"""

from __future__ import annotations

from collections.abc import Iterable

import cv2
import numpy as np

from ..media.decode import Plane
from .edge_fill import Lender, nudge_to
from .painter import Painter
from .warp import warp_mask

BLUR = 0.005  # of the picture's height: standard deviation of the blur that detail is told from
APART = 0.02  # of black to white by which blurred pictures may differ and still agree
SHARPER = 1.15  # times as much detail as a lender needs to have


def lend_detail(
    planes: tuple[Plane, ...], lenders: Iterable[Lender], painter: Painter, amount: float
) -> float:
    """Give the luma of a drawn frame the detail of its ``lenders``, in place, best first; by
    ``amount``, 0..1. Returns the share of the picture, 0..1, that took some."""
    luma = planes[0]
    height, width = luma.shape
    space = painter.space
    sigma = BLUR * height
    own = luma.astype(np.float32)
    base = cv2.GaussianBlur(own, (0, 0), sigma)
    detail = own - base
    strength = cv2.GaussianBlur(np.abs(detail), (0, 0), sigma)
    raised = np.zeros_like(own)
    taken = np.zeros_like(own)
    lent = tuple(np.empty_like(plane) for plane in planes)
    for picture, sampler in lenders:
        known = warp_mask(picture, sampler, width, height)
        painter.paint(picture, sampler, lent, bare=False)
        nudge = nudge_to(luma, lent[0], known)
        if nudge is not None:
            sampler = sampler.moved(nudge)
            known = warp_mask(picture, sampler, width, height)
            painter.paint(picture, sampler, lent, bare=False)
        theirs = lent[0].astype(np.float32)
        smooth = cv2.GaussianBlur(theirs, (0, 0), sigma)
        theirs -= smooth
        richer = cv2.GaussianBlur(np.abs(theirs), (0, 0), sigma) > SHARPER * strength
        weight = np.exp(-(((smooth - base) / (APART * space.luma_span)) ** 2))
        weight *= richer & (known > 0)
        weight = np.minimum(cv2.GaussianBlur(weight, (0, 0), sigma / 2), 1 - taken)
        raised += weight * (theirs - detail)
        taken += weight
    space.round_into(luma, np.maximum(own + amount * raised, 0))
    return float(taken.mean())
