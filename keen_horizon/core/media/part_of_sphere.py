"""Pictures of a part of a sphere, as whole ones whose missing part is black."""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2

from ..geometry.canvas import Canvas
from .decode import Picture, Plane


@dataclass(frozen=True)
class PartLayout:
    """``above``, ``below``, ``left`` and ``right`` are pixels that are missing there, even ones;
    ``black`` is its code in luma of 8 bits."""

    black: int
    above: int
    below: int
    left: int
    right: int

    @classmethod
    def of(
        cls, width: int, height: int, bounds: tuple[float, float, float, float], black: int = 16
    ) -> PartLayout:
        """That of pictures of a size, by ``bounds`` as :class:`.SphereTag` has them.

        >>> PartLayout.of(400, 100, (0.25, 0.25, 0.0, 0.0))
        PartLayout(black=16, above=50, below=50, left=0, right=0)
        """
        top, bottom, left, right = bounds
        high, wide = height / (1 - top - bottom), width / (1 - left - right)
        # Twice as wide as high, whatever was rounded: what is missing below and right is the rest.
        whole = 2 * round(max(wide, 2 * high) / 4) * 2
        above, before = 2 * round(high * top / 2), 2 * round(wide * left / 2)
        below, after = whole // 2 - height - above, whole - width - before
        return cls(black, above, max(0, below), before, max(0, after))

    def rows_and_columns(self, whole: Canvas) -> tuple[slice, slice]:
        """What there is of pictures of size ``whole``."""
        return (
            slice(self.above, whole.height - self.below),
            slice(self.left, whole.width - self.right),
        )

    def laid_out(self, picture: Picture) -> Picture:
        """The whole picture."""
        planes: list[Plane] = []
        for k, plane in enumerate(picture.planes):
            if k and plane is picture.planes[0]:
                planes.append(planes[0])
                continue
            across, down = picture.chroma if k else (1, 1)
            planes.append(cv2.copyMakeBorder(
                plane, self.above // down, self.below // down, self.left // across,
                self.right // across, cv2.BORDER_CONSTANT,
                value=float((128 if k else self.black) << (2 if plane.dtype.itemsize == 2 else 0)),
            ))  # fmt: skip
        return replace(picture, planes=(planes[0], planes[1], planes[2]))
