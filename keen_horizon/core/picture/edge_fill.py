"""Bare edges filled from neighbouring frames.

A neighbour is sampled through the same chain, carried over by the camera's motion between the two
frames, so that it lands where the missing picture would have been; then matched in colour where
both are known, and blended over a few pixels. Filling what stabilisation lays bare from neighbours
is from Matsushita, Ofek, Ge, Tang, Shum, *Full-frame video stabilization with motion inpainting*,
IEEE TPAMI 2006.
"""

from __future__ import annotations

from collections.abc import Iterable

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.decode import Picture, Plane, eight_bits
from .painter import Painter
from .warp import Sampler, warp_mask

FEATHER = 10  # px over which one picture turns into the other
FEW = 12  # pixels, fewer than which are not worth a neighbour
MATCHED = 48  # px along the edge over which colours are compared
CORNERS, ENOUGH = 150, 16  # sought along the edge; and as many as have to agree
FARTHEST = 12.0  # px that a neighbour may be out
GAINS = (0.75, 1.33)  # that a neighbour's luma may be changed by

Mask = NDArray[np.uint8]
Lender = tuple[Picture, Sampler]  # a neighbour, and where it would be seen


def warp_with_lenders(
    picture: Picture,
    sampler: Sampler,
    lenders: Iterable[Lender],
    out: tuple[Plane, ...],
    painter: Painter,
) -> float:
    """Fill ``out`` by ``painter`` from ``picture`` and, where that is bare, from ``lenders``,
    nearest first.

    Returns the share of the output that was borrowed, 0..1. What nobody covers is the picture's
    edge, repeated.
    """
    height, width = out[0].shape
    own = warp_mask(picture, sampler, width, height)
    painter.paint(picture, sampler, out, bare=False)
    todo = cv2.bitwise_not(own)
    if cv2.countNonZero(todo) < FEW:
        return 0.0
    near = _near(todo, FEATHER) & own
    rim = _near(todo, MATCHED) & own
    kept = tuple(plane.copy() for plane in out)
    borrowed = np.zeros_like(own)
    lent = tuple(np.empty_like(plane) for plane in out)
    missing = todo.copy()
    for lender, through in lenders:
        known = warp_mask(lender, through, width, height)
        wanted = (missing | near) & known
        if cv2.countNonZero(missing & known) < FEW:
            continue
        painter.paint(lender, through, lent, bare=False)
        shared = rim & known
        nudge = nudge_to(kept[0], lent[0], shared)
        if nudge is not None:
            through = through.moved(nudge)
            painter.paint(lender, through, lent, bare=False)
        fresh = cv2.bitwise_and(wanted, cv2.bitwise_not(borrowed))
        for index, (plane, mine, target) in enumerate(zip(lent, kept, out, strict=True)):
            matched = _matched(plane, mine, _sized(shared, plane), luma=index == 0)
            cv2.copyTo(matched, _sized(fresh, plane), target)
        borrowed |= wanted
        missing &= cv2.bitwise_not(known)
        if cv2.countNonZero(missing) < FEW:
            break
    # The picture's own pixels come back over the first few px inside its edge.
    inside = cv2.distanceTransform(own, cv2.DIST_L2, 3)
    alpha = np.clip(inside / FEATHER, 0.0, 1.0)
    for mine, target in zip(kept, out, strict=True):
        band = _sized(near & borrowed, target) > 0
        part = cv2.resize(alpha, target.shape[::-1], interpolation=cv2.INTER_AREA)[band]
        mixed = part * mine[band] + (1 - part) * target[band]
        target[band] = np.rint(mixed).astype(target.dtype)
    return float(cv2.countNonZero(todo & borrowed)) / (width * height)


def nudge_to(mine: Plane, theirs: Plane, shared: Mask) -> NDArray[np.float64] | None:
    """``(3, 3)`` the small affine map by which a neighbour still misses the picture along its edge;
    None where too little tells. Corners are followed from one to the other (Bouguet 2000)."""
    one, two = (eight_bits(plane) for plane in (mine, theirs))
    corners = cv2.goodFeaturesToTrack(one, CORNERS, 0.02, 8, mask=shared)
    if corners is None or len(corners) < ENOUGH:
        return None
    there, found, _ = cv2.calcOpticalFlowPyrLK(
        one, two, corners, None, winSize=(21, 21), maxLevel=2
    )
    good = (found[:, 0] == 1) & (np.abs(there - corners).max(axis=(1, 2)) < FARTHEST)
    if good.sum() < ENOUGH:
        return None
    affine, inliers = cv2.estimateAffine2D(
        corners[good], there[good], method=cv2.RANSAC, ransacReprojThreshold=1.0
    )
    if affine is None or int(inliers.sum()) < ENOUGH:
        return None
    nudge = np.vstack([affine, [0, 0, 1]])
    height, width = one.shape
    ends = np.array([[0, 0, 1], [width, 0, 1], [width, height, 1], [0, height, 1.0]])
    moved = ends @ nudge.T - ends
    return nudge if float(np.abs(moved).max()) < 2 * FARTHEST else None


def _near(mask: Mask, reach: int) -> Mask:
    kernel = cv2.getStructuringElement(cv2.MORPH_RECT, (2 * reach + 1, 2 * reach + 1))
    return np.asarray(cv2.dilate(mask, kernel), np.uint8)


def _sized(mask: Mask, plane: Plane) -> Mask:
    if mask.shape == plane.shape:
        return mask
    size = plane.shape[::-1]
    return np.asarray(cv2.resize(mask, size, interpolation=cv2.INTER_NEAREST), np.uint8)


def _matched(plane: Plane, mine: Plane, shared: Mask, *, luma: bool) -> Plane:
    """A neighbour's plane with its mean, where both are known, made that of the picture: luma by
    a gain, chroma by an offset."""
    if cv2.countNonZero(shared) < FEW:
        return plane
    theirs, ours = (float(cv2.mean(p, shared)[0]) for p in (plane, mine))
    most = 255 if plane.dtype == np.uint8 else 1023
    if luma:
        gain = float(np.clip(ours / max(theirs, 1e-3), *GAINS))
        changed = plane.astype(np.float32) * gain
    else:
        changed = plane.astype(np.float32) + (ours - theirs)
    whole = np.clip(np.rint(changed), 0, most)
    return whole.astype(np.uint8) if plane.dtype == np.uint8 else whole.astype(np.uint16)
