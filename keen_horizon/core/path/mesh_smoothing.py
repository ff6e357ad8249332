"""The part of a correction that is no motion of the whole: each place of the picture freed of its
own fast motion."""

from __future__ import annotations

import numpy as np
import scipy

from ..geometry.canvas import Canvas
from ..geometry.displacement import DisplacementGrid
from ..motion.camera_motion import CameraMotion
from ..quality.scores import fast_part

SOFTENED = 7  # frames over which a mesh gives way to the stretch limit and comes back


def smoothed_mesh(
    motion: CameraMotion, canvas: Canvas, above: float, share: float, most_strain: float
) -> DisplacementGrid | None:
    """What takes the fast bending out of a clip, or None where its motion has no displacement
    field.

    The displacement of each node beyond the motion of the whole is summed up over time, and what of
    it is faster than ``above`` Hz is taken out, ``share`` of it, 0..1: content that has strayed to
    ``z + d`` is fetched from there. Nothing is strained by more than ``most_strain``, pixels a
    pixel (0.04 is 4 %).

    >>> from keen_horizon.core.motion.camera_motion import Evidence, Timeline
    >>> from keen_horizon.core.geometry.similarity import Similarities
    >>> motion = CameraMotion("similarity", Similarities.none(4),
    ...                       Timeline(np.arange(4) / 30, np.zeros(0, np.intp)),
    ...                       Evidence(np.full(4, 50), np.ones(4), np.zeros(4)))
    >>> smoothed_mesh(motion, Canvas(640, 480), 1.0, 1.0, 0.04) is None
    True
    """
    if motion.field is None:
        return None
    steps = motion.field
    n = len(motion)
    flat = steps.reshape(n, -1) * motion.evidence.weight[:, None].astype(np.float32)
    out = np.zeros_like(flat)
    for start, stop in motion.segments:
        part = slice(start, stop)
        paths = np.cumsum(flat[part], axis=0).astype(complex)
        out[part] = fast_part(paths, motion.timeline.times[part], above)
    mesh = DisplacementGrid(canvas, (share * out).reshape(steps.shape).astype(np.complex64))
    return limit_strain(mesh, most_strain)


def limit_strain(mesh: DisplacementGrid, most: float) -> DisplacementGrid:
    """The mesh weakened, smoothly in time, where it would be strained by more than ``most``."""
    share = np.minimum(1.0, most / np.maximum(mesh.strain(), 1e-9))
    if (share < 1.0).any():
        eased = scipy.ndimage.minimum_filter1d(share, SOFTENED, mode="nearest")
        mesh = mesh.toward_identity(scipy.ndimage.uniform_filter1d(eased, SOFTENED, mode="nearest"))
    return mesh
