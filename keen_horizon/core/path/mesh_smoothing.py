"""The part of a correction that is not a similarity: each place of the picture freed of its own
fast motion."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import minimum_filter1d, uniform_filter1d

from ..geometry.bend import DisplacementGrid, grid_nodes, turned
from ..geometry.canvas import Canvas
from ..geometry.similarity import Similarities
from ..motion.camera_motion import CameraMotion
from ..quality.scores import fast_part
from ..treatment import MotionSettings

# Hz: slower local motion is left to the scene
FASTER_THAN = {"follow": 0.7, "hold": 0.7, "lock_off": 0.3}
SOFTENED = 7  # frames over which a bend gives way to the stretch limit and comes back


def smoothed_mesh(
    motion: CameraMotion, canvas: Canvas, settings: MotionSettings
) -> DisplacementGrid | None:
    """What the model bends, or None where it does not.

    The displacement of each node beyond the similarity is summed up over time, and what of it is
    fast is taken out: content that has strayed to ``z + d`` is fetched from there. Calm weakens it
    below 25, where there is hardly room for it. Nothing is stretched by more than the limit.
    """
    if motion.local is None or motion.local.steps is None:
        return None
    steps = motion.local.steps
    n = len(motion)
    flat = steps.reshape(n, -1) * motion.sure[:, None].astype(np.float32)
    above = FASTER_THAN[settings.aim]
    out = np.zeros_like(flat)
    for start, stop in motion.segments:
        part = slice(start, stop)
        paths = np.cumsum(flat[part], axis=0).astype(complex)
        out[part] = fast_part(paths, motion.times[part], above)
    share = min(1.0, max(settings.calms.values()) / 25.0)
    bend = DisplacementGrid(canvas, (share * out).reshape(steps.shape).astype(np.complex64))
    return limit_strain(bend, settings.stretch_limit / 100.0)


def rotation_bend(steady: Similarities, canvas: Canvas, focal: float) -> DisplacementGrid:
    """What a turn of the camera does beyond the corrections' similarities, whose shifts are those
    of the centre. Rigid, however wide the lens: the limit of stretch is not for it."""
    places = grid_nodes(canvas)
    nodes = np.empty((len(steady), *places.shape), np.complex64)
    for t, b in enumerate(steady.b):
        nodes[t] = turned(places - b, complex(b), focal) - places
    return DisplacementGrid(canvas, nodes)


def limit_strain(bend: DisplacementGrid, most: float) -> DisplacementGrid:
    """The bend weakened, smoothly in time, where it would stretch more than ``most``."""
    share = np.minimum(1.0, most / np.maximum(bend.strain(), 1e-9))
    if (share < 1.0).any():
        eased: NDArray[np.float64] = minimum_filter1d(share, SOFTENED, mode="nearest")
        share = uniform_filter1d(eased, SOFTENED, mode="nearest")
        bend = DisplacementGrid(
            bend.canvas, (bend.nodes * share[:, None, None]).astype(np.complex64)
        )
    return bend
