"""Pictures warped in linear light, with pixel stages at work before and after."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from ..media.decode import Picture, Plane
from .pixel_stage import PixelStage
from .warp import Sampler, warp_plane
from .working_space import WorkingSpace


def warp_worked(
    picture: Picture,
    sampler: Sampler,
    out: tuple[Plane, ...],
    space: WorkingSpace,
    stages: Sequence[PixelStage],
    frame: int,
    *,
    bare: bool,
) -> None:
    """Fill ``out`` through ``sampler``: to linear light and back once each way, each colour
    resampled once. With ``bare`` whatever no source pixel covers is black. ``frame`` counts from
    the start of the range."""
    light = space.to_linear(picture)
    for stage in stages:
        if stage.end == "source":
            light = stage.apply(light, frame)
    height, width = out[0].shape
    warped = np.empty((height, width, 3), np.float32)
    for colour in range(3):
        source = np.ascontiguousarray(light[..., colour])
        target = np.empty((height, width), np.float32)
        warp_plane(source, target, sampler, bare=bare)
        warped[..., colour] = target
    for stage in stages:
        if stage.end == "output":
            warped = stage.apply(warped, frame)
    space.from_linear(
        np.asarray(cv2.max(warped, 0.0), np.float32), out, picture.chroma, picture.natural_site
    )
