"""Fall-off from a picture in which nothing moves: by the symmetry of its gradients.

Along rays from the middle outwards light grows as often as it falls, whatever is in a picture; a
glass that loses light outwards shifts all of that to one side. After Zheng, Yu, Kang, Lin, *Single-
image vignetting correction using radial gradient symmetry*, CVPR 2008: the shift is looked for that
leaves gradients along the radius symmetric, robustly, with an evenly changing light besides. What
is in the picture misleads far more than marks do that are seen twice: no more than a parabola is
asked of it, and the doubt says so.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...geometry.canvas import Canvas
from ...geometry.lattice import cell_middles, lattice_points
from ...geometry.live_area import LiveArea
from .brightness import SIZE
from .radial_fit import LATTICE, FallOffFit, faded, fall_off_at, field_at

SMOOTH = 1.5  # px by which the small picture is smoothed
DARKEST, BRIGHTEST = 0.01, 0.85  # linear light that is looked at
INNER = 0.12  # radius below which there is no direction outwards worth the name
SECTORS = 6  # parts of the picture each way, whose errors are told from each other
ROUNDS, TUKEY = 20, 3.0
QUIET = 35  # percent of gradients that are taken for those of flat parts
TILT = 1.0  # stops by which lighting may well change over the picture
SURE = 2.0  # standard deviations by which something must differ from nothing
ASTRAY, ASTRAY_FAR = 0.28, 0.65  # stops, over the picture and in the corners; found on photographs
ENOUGH = 0.25  # of the picture that has to be neither black nor white


def fit_symmetry(
    light: NDArray[np.float32], canvas: Canvas, live: LiveArea | None = None
) -> FallOffFit:
    """The fall-off that one picture speaks for: ``light`` ``(height, width)`` linear, 1 is white,
    of pictures of size ``canvas``, looked at inside ``live`` alone."""
    height, width = light.shape
    stops = cv2.GaussianBlur(np.log2(np.maximum(light, DARKEST / 4)), (0, 0), SMOOTH)
    right = cv2.Scharr(stops, cv2.CV_32F, 1, 0, scale=1 / 32)
    down = cv2.Scharr(stops, cv2.CV_32F, 0, 1, scale=1 / 32)
    places = cell_middles(canvas, width, height)
    field = field_at(canvas, np.zeros(2))
    off = field.offsets(places)
    radius = np.sqrt((off**2).sum(axis=-1))
    good = (light > DARKEST) & (light < BRIGHTEST) & (radius > INNER)
    good[[0, 1, -2, -1]] = good[:, [0, 1, -2, -1]] = False
    if live is not None:
        good &= live.covers(canvas.to_scene(places))
    if good.mean() < ENOUGH:
        return _nothing("Too much of the picture is black or white to tell its fall-off.")
    # By how much it grows outwards, stops a radius.
    unit = field.unit * [width / canvas.width, height / canvas.height]
    ways = off / np.maximum(radius, 1e-6)[..., None]
    grows = (right * ways[..., 0] * unit[0] + down * ways[..., 1] * unit[1])[good]
    r, way = radius[good], ways[good]
    columns = np.concatenate([-2 * r[:, None], way], axis=1)  # of r², and of the lighting
    prior = np.array([SIZE, TILT, TILT]) ** -2.0
    state, weight = np.zeros(columns.shape[1]), np.ones(len(r))
    for _ in range(ROUNDS):
        normal = (columns.T * weight) @ columns + np.diag(prior)
        state = np.linalg.solve(normal, columns.T @ (weight * grows))
        left = grows - columns @ state
        # Flat parts of a picture differ by little, edges by much: those tell, these do not.
        spread = max(float(np.percentile(np.abs(left), QUIET)) / 0.45, 1e-3)
        weight = faded(left, TUKEY * spread)
    cell = (places[good] / [canvas.width, canvas.height] * SECTORS).clip(0, SECTORS - 1).astype(int)
    pulls = np.zeros((SECTORS**2, len(state)))
    np.add.at(pulls, cell[:, 1] * SECTORS + cell[:, 0], columns * (weight * left)[:, None])
    inverse = np.linalg.inv(normal)
    covariance = inverse @ (pulls.T @ pulls + np.diag(prior) * spread**2) @ inverse
    return _told(canvas, float(state[0]), float(np.sqrt(covariance[0, 0])), spread)


def _told(canvas: Canvas, lost: float, sure: float, spread: float) -> FallOffFit:
    """A fit of ``lost`` stops by r², ``sure`` to so many."""
    field = field_at(canvas, np.zeros(2))
    middling = np.sqrt((field.squared(lattice_points(canvas, *LATTICE)) ** 2).mean())
    doubt = float(np.hypot(sure * middling, ASTRAY))
    unsure = SURE * float(np.hypot(sure, ASTRAY_FAR))
    if lost < unsure:
        return FallOffFit(
            None, doubt, spread, 0,
            f"Nothing moves enough to tell of a fall-off, and the symmetry of gradients tells of "
            f"none: {max(lost, 0.0):.1f} ± {unsure:.1f} stops.",
        )  # fmt: skip
    words = (
        f"Up to {lost:.1f} ± {unsure:.1f} stops lost in the corners, as the symmetry of gradients "
        "tells, for nothing moves enough; what is in the picture may mislead it. A wall tells more."
    )
    return FallOffFit(fall_off_at(field, np.array([lost, 0, 0])), doubt, spread, 0, words)


def _nothing(words: str) -> FallOffFit:
    return FallOffFit(None, np.inf, np.inf, 0, words)
