"""How the background moves, place by place, as the tracks show it: by no model of the camera.

It is what corrections are judged by. Every other track goes to either of two flows, so that each
can be held against the other: what they do not share is noise.
"""

from __future__ import annotations

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.displacement import grid_nodes
from ..geometry.similarity import Similarities
from ..tracking.correspondences import HALVES, Tally
from ..tracking.tracks import Tracks
from ..types import Flags, Real
from .camera_motion import BackgroundFlow, CameraMotion
from .refit import batches, misses
from .residual_fields import FieldFitter, field_fitter
from .robust_fit import FADE_END, fade

STIFFNESS = 40.0  # of the mesh that holds the places together
BELONGS = 0.7  # share of its sightings in which a track is near what perspective says, at least
NEAR = 2.5  # times FADE_END, that places may miss what perspective says by
ROWS, COLUMNS = 7, 11  # of the places


def background_flow(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> BackgroundFlow:
    """The flow that ``tracks`` show, from a ``motion`` (of similarities) that was fitted to them.

    Whatever perspective there is comes first, then a mesh.

    >>> from keen_horizon.core.motion.pairwise import pairwise_motion
    >>> x, y = np.meshgrid(np.arange(20.0, 620, 30), np.arange(20.0, 460, 30))
    >>> at = np.stack([x.ravel(), y.ravel()], axis=-1)
    >>> middle = np.array([319.5, 239.5])
    >>> keystone = middle + (at - middle) * (1 + 5e-5 * (at[:, :1] - middle[0]))
    >>> tracks, canvas = Tracks.from_places(np.stack([at, keystone]), np.arange(2) / 30), Canvas(640, 480)
    >>> flow = background_flow(tracks, canvas, pairwise_motion(tracks, canvas, "similarity"))
    >>> flow.moved(slice(1, 2), np.array([[-200 + 0j, 200 + 0j]])).real.round(1).tolist()
    [[-198.0, 202.0]]
    """  # noqa: E501
    assert isinstance(motion.steps, Similarities)
    n, places = len(motion), grid_nodes(canvas, ROWS, COLUMNS)
    at = places.ravel()[None]
    perspective = field_fitter("perspective", canvas)
    mesh = field_fitter("mesh", canvas, STIFFNESS)
    out = np.zeros((n, HALVES, at.size), np.complex64)
    wide, belongs = _perspectives(tracks, canvas, motion, perspective)
    for part, pairs in batches(tracks, canvas, motion):
        known = perspective.values(perspective.design(pairs.before), wide[part])
        left = misses(pairs, motion.steps[part]) - known
        own = pairs.valid & belongs[pairs.mark]
        weight = own * fade(np.abs(left), NEAR * FADE_END * canvas.radius)
        design = mesh.design(pairs.before)
        for half in range(HALVES):
            found = mesh.solve(design, left, weight * pairs.of_half(half))
            out[part, half] = mesh.values(mesh.design(at), found)
        out[part] += perspective.values(perspective.design(at), wide[part])[:, None]
    out[0], out[motion.timeline.cuts] = 0, 0
    return BackgroundFlow(canvas, motion.steps, out.reshape(n, HALVES, *places.shape))


def _perspectives(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, fitter: FieldFitter
) -> tuple[Real, Flags]:
    """``(n, 8)`` what perspective adds to each step, and ``(marks,)`` whether each track mostly
    moves nearly as that says."""
    tally = Tally(int(tracks.records["id"].max(initial=0)) + 1)
    wide = np.zeros((len(motion), 8))
    for part, pairs in batches(tracks, canvas, motion):
        rest = misses(pairs, motion.steps[part])
        wide[part] = fitter.fit(pairs.before, rest, pairs.valid)
        off = np.abs(rest - fitter.values(fitter.design(pairs.before), wide[part]))
        tally.add(pairs, off < NEAR * FADE_END * canvas.radius)
    return wide, np.asarray(tally.share >= BELONGS)
