"""What a take is: a scene, what the camera really did, and the noise of its sensor."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cache

import cv2
import numpy as np
from numpy.typing import NDArray

from .camera import Array, BackToBack, Fisheye, Pinhole, Truth
from .glow import Glow
from .harbour import FAR_QUAY
from .scene import Scene
from .shade import Shade, darkened

RATE = 30.0
SIZE = (1280, 720)


@dataclass(frozen=True)
class Fringes:
    """By how much red and blue lie further out than green: see :attr:`.Pinhole.spread`."""

    red: tuple[float, float]
    blue: tuple[float, float]


@dataclass(frozen=True)
class Take:
    """A recorded clip: its scene and what the camera really did."""

    name: str
    scene: Scene
    truth: Truth
    noise: float = 2.0  # grey levels
    points: Array | None = None  # (m, 3) for checking against
    camera: str = ""  # as it is written into the file
    shade: Shade | None = None  # what its glass does to light
    fringes: Fringes | None = None  # where its glass puts colours
    glow: Glow | None = None  # rims beside what is bright

    def frames(self) -> Iterator[NDArray[np.uint8]]:
        """BGR frames, with sensor noise; the same every time."""
        for frame in range(len(self.truth)):
            yield self.frame(frame)

    def frame(self, frame: int) -> NDArray[np.uint8]:
        """One frame; any, in any order."""
        picture = self._seen(frame)
        if self.glow is not None:
            picture = self.glow.spread(picture)
        if self.shade is not None:
            picture = self.shade.darken(picture)
        height, width = picture.shape[:2]
        grain = _grain(width, height)
        rng = np.random.default_rng(frame)
        y, x = (int(rng.integers(0, n)) for n in (64, 64))
        strength = self.noise / 2.0
        piece = grain[y : y + height, x : x + width]
        return np.asarray(
            cv2.addWeighted(picture, 1.0, piece, strength, -128 * strength, dtype=cv2.CV_8U),
            np.uint8,
        )

    def _seen(self, frame: int) -> NDArray[np.uint8]:
        """What is before the camera, each colour where the glass puts it, ray by ray."""
        if isinstance(self.truth.camera, BackToBack):
            return np.hstack([self._through(which, frame) for which in (0, 1)])
        picture = self.scene.draw(self.truth, frame)
        if self.fringes is not None:
            for channel, spread in ((2, self.fringes.red), (0, self.fringes.blue)):
                assert isinstance(self.truth.camera, Pinhole)
                moved = replace(self.truth.camera, spread=spread)
                other = self.scene.draw(replace(self.truth, camera=moved), frame)
                picture[..., channel] = other[..., channel]
        return picture

    def _through(self, which: int, frame: int) -> NDArray[np.uint8]:
        """What one lens of two sees."""
        truth = self.truth.through(which)
        assert isinstance(truth.camera, Fisheye)
        seen = darkened(self.scene.draw(truth, frame), truth.camera.passed)
        return np.asarray(seen * truth.camera.inside, np.uint8)

    def background(self) -> Array:
        """``(m, 3)`` world points for checking against: on the far façades, if not otherwise."""
        if self.points is not None:
            return self.points
        x, y = np.meshgrid(np.arange(-24.0, 40.0, 1.0), np.arange(-5.0, 0.5, 0.5))
        return np.stack([x.ravel(), y.ravel(), np.full(x.size, FAR_QUAY)], axis=-1)


@cache
def _grain(width: int, height: int) -> NDArray[np.uint8]:
    """Noise of 2 grey levels around 128, larger than a frame, cut differently for each."""
    rng = np.random.default_rng(11)
    field = 128 + 2.0 * rng.standard_normal((height + 64, width + 64, 3), np.float32)
    return np.clip(field, 0, 255).astype(np.uint8)
