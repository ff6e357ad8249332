"""Marks on the sphere: followed in overlapping views, so that neither poles nor the seam break one.

As :mod:`.features`, in six views at once (:mod:`..geometry.sphere_views`): a mark is followed in
the view that it is nearest to the middle of, and goes over to the next one between frames. Cells of
equal angles spread the marks evenly by solid angle.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.projection import Camera, Equirectangular
from ..geometry.sphere_views import AXES, SphereViews
from ..media.decode import Plane
from ..types import Flags, Rays
from .features import (
    CORNER_FLOOR,
    CORNER_SHARE,
    NEAR,
    RESEED_BELOW,
    RESEED_EVERY,
    FrameFeatures,
    followed,
    picture_change,
    strongest_corners,
    working_picture,
)

SIDE = 352  # pixels of a view
WIDTH = 1440  # of the equirectangular picture that views are drawn from, at the least
CELLS = 9  # along a view's own part; one new mark a cell at most
VIEWS = len(AXES)
WINDOW = 15  # pixels of a view, around a mark; more than on flat clips, whose marks move alike
RIM = 0.02  # of a picture's height, by which marks keep away from where a part of a sphere ends


class SphereTracker:
    """Feeds on luma planes of equirectangular pictures of size ``canvas`` in order, and gives the
    marks of each, as places in them. Holds six small pictures. ``part`` is which rows and columns
    of them show anything, if not all do."""

    def __init__(self, canvas: Canvas, part: tuple[slice, slice] | None = None) -> None:
        self._part, self._rim = part, RIM * canvas.height
        whole = max(1, canvas.width // WIDTH)  # by which averaging is quick
        self._size = (canvas.width // whole, canvas.height // whole)
        self._views = SphereViews(SIDE, Canvas(*self._size))
        self._camera = Camera(canvas, Equirectangular.of(canvas))
        self._before: list[NDArray[np.uint8]] = []
        self._rays: Rays = np.zeros((0, 3))
        self._ids = np.zeros(0, np.uint32)
        self._thumb: NDArray[np.float32] | None = None
        self._next_id = self._age = self._seeded = 0

    def step(self, luma: Plane) -> FrameFeatures:
        """Follow the marks into this frame ``(h, w)``, and look for new ones where few are left."""
        small = working_picture(luma, self._size)
        views = self._views.draw(small)
        started = len(self._ids)
        if started:
            self._follow(views)
        count = len(self._ids)
        self._before = views
        change, self._thumb = picture_change(small, self._thumb)
        self._age += 1
        if self._age >= RESEED_EVERY or not self._next_id or count < RESEED_BELOW * self._seeded:
            self._seed()
        edges = [cv2.Laplacian(view, cv2.CV_16S)[::2, ::2] for view in views]
        sharpness = float(np.mean([cv2.meanStdDev(edge)[1][0, 0] ** 2 for edge in edges]))
        points = self._camera.to_pixels(self._rays).astype(np.float32)
        return FrameFeatures(self._ids, points, started, count, change, sharpness)

    @property
    def near(self) -> float:
        own = self._views.own  # a quarter of the way around
        return NEAR * self._camera.canvas.width / (4 * (own.stop - own.start))

    def _follow(self, views: list[NDArray[np.uint8]]) -> None:
        owner = self._views.owners(self._rays)
        places = self._views.to_pixels(self._rays, owner).astype(np.float32)
        kept = np.zeros(len(owner), bool)
        for view in range(VIEWS):
            mine = np.flatnonzero(owner == view)
            if not len(mine):
                continue
            there, good = followed(
                self._before[view], views[view], places[mine], (SIDE, SIDE), WINDOW
            )
            self._rays[mine] = self._views.to_rays(there, view)
            kept[mine] = good & self._shown(self._rays[mine])
        self._rays, self._ids = self._rays[kept], self._ids[kept]

    def _seed(self) -> None:
        """Give every cell without a mark its strongest corner, if it has one worth following."""
        own = self._views.own
        cell = (own.stop - own.start) // CELLS
        owner = self._views.owners(self._rays)
        strengths = [cv2.cornerMinEigenVal(view, 5, ksize=3)[own, own] for view in self._before]
        weakest = max(CORNER_FLOOR, CORNER_SHARE * max(float(one.max()) for one in strengths))
        for view, strength in enumerate(strengths):
            place, wanted = strongest_corners(strength, cell, weakest)
            taken = self._views.to_pixels(
                self._rays[: len(owner)][owner == view], owner[owner == view]
            )
            at = ((taken - own.start) // cell).astype(int)
            at = at[((at >= 0) & (at < wanted.shape[0])).all(axis=1)]
            wanted[at[:, 1], at[:, 0]] = False
            fresh = self._views.to_rays(place[wanted] + own.start, view)
            fresh = fresh[self._shown(fresh)]
            ids = np.arange(self._next_id, self._next_id + len(fresh), dtype=np.uint32)
            self._next_id += len(fresh)
            self._rays = np.concatenate([self._rays, fresh])
            self._ids = np.concatenate([self._ids, ids])
        self._seeded, self._age = len(self._ids), 0

    def _shown(self, rays: Rays) -> Flags:
        """``(m,)`` which rays lie well within what is shown at all."""
        if self._part is None:
            return np.ones(len(rays), bool)
        at, inside = self._camera.to_pixels(rays), np.ones(len(rays), bool)
        for axis, (span, size) in enumerate(
            zip(self._part[::-1], (self._camera.canvas.width, self._camera.canvas.height),
                strict=True)
        ):  # fmt: skip
            low = span.start + (self._rim if span.start else -1)
            high = span.stop - (self._rim if span.stop < size else -1)
            inside &= (at[:, axis] > low) & (at[:, axis] < high)
        return inside
