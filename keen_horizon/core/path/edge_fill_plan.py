"""Which neighbours can lend what a frame's edges lack, and how much zoom is left to do."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from ..geometry.chain import WarpChain
from ..geometry.displacement import DisplacementGrid, grid_nodes
from ..geometry.motion import Motion, cumulative_pose
from ..geometry.view import View
from ..motion.camera_motion import CameraMotion, DisplacementField
from ..quality.scores import fast_paths
from ..types import Complex, Flags, Indices, Real
from .background_shake import background_steps
from .zoom import zoom_needed

STEPS = (1, 2, 3, 5, 8, 12, 18, 27, 40, 60)  # frames away at which a lender is looked for
LEVELS = 14  # of zoom that are tried
ALONG = 17  # points along each side of the output
DEEP = (1.0, 0.97, 0.94, 0.9)  # shares of the output's outline that are looked at
ROWS, COLUMNS = 6, 9  # of the places that may move otherwise than the camera
CLEAR = 2.0  # scene units inside a lender's edge that its picture is trusted from


class Lenders:
    """The frames that lend to others, by the camera's motion between them."""

    def __init__(self, motion: CameraMotion, reach: int) -> None:
        self._reach, self._motion = reach, motion
        self._strayed: DisplacementField | None = None
        starts = np.array([start for start, _ in motion.segments])
        frames = np.arange(len(motion))
        self._segment = np.searchsorted(starts, frames, side="right") - 1
        self._pose = cumulative_pose(motion.trusted.still(np.isin(frames, starts)))

    def share_a_stretch(self, frames: Indices, others: Indices) -> Flags:
        """Whether there is no cut between them."""
        return np.asarray(self._segment[frames] == self._segment[others])

    @property
    def offsets(self) -> list[int]:
        """Frames away, nearest first, on either side."""
        return [way * step for step in STEPS if step <= self._reach for way in (-1, 1)]

    def of(self, frame: int) -> Iterator[int]:
        """Frames that may lend to ``frame``."""
        for offset in self.offsets:
            other = frame + offset
            last = len(self._segment)
            if 0 <= other < last and self._segment[other] == self._segment[frame]:
                yield other

    def between(self, frames: Indices, others: Indices) -> Motion:
        """From the source plane of ``frames`` to that of ``others``."""
        return self._pose[others].inverse().after(self._pose[frames])

    def lent(self, chain: WarpChain, frame: int, other: int) -> WarpChain:
        """The chain of one frame whose picture is taken from another."""
        carried = self.between(np.array([frame]), np.array([other]))
        if self._motion.flow is None or chain.find(DisplacementGrid) is not None:
            return chain.lent(frame, other, (carried,))
        if self._strayed is None:
            self._strayed = _strayed(self._motion, chain)
        # How far the two have strayed: the keystone of a jolt, say, which no similarity carries
        # over.
        moved = self._strayed[other : other + 1] - self._strayed[frame : frame + 1]
        return chain.lent(frame, other, (carried, DisplacementGrid(chain.source, moved)))


def _strayed(motion: CameraMotion, chain: WarpChain) -> DisplacementField:
    """``(n, rows, columns)`` how far places of each frame's straight plane have strayed, faster
    than the eye takes for parallax, from where the camera's motion alone would have them."""
    assert motion.flow is not None
    nodes = grid_nodes(chain.source, ROWS, COLUMNS)
    places = nodes.ravel()
    recorded = chain.only(lambda stage: stage.side == "source")
    straight = replace(recorded, view=View(chain.source))
    alone = motion.steps.apply(np.broadcast_to(places, (len(motion), len(places)))) - places
    more = (background_steps(motion.flow, straight, places=places) - alone).astype(complex)
    more = more * motion.evidence.weight[:, None]
    fast = fast_paths(more, motion.timeline.times, motion.segments)
    return fast.reshape(len(motion), *nodes.shape).astype(np.complex64)


def _dense(rim: Complex) -> Complex:
    """Points all along the rectangle that ``rim`` spans."""
    hu, hv = float(np.abs(rim.real).max()), float(np.abs(rim.imag).max())
    along = np.linspace(-1, 1, ALONG)
    return np.concatenate(
        [hu * along - 1j * hv, hu * along + 1j * hv, 1j * hv * along - hu, 1j * hv * along + hu]
    )


def zoom_with_lenders(
    chain: WarpChain, lenders: Lenders, width: float, rim: Complex, offset: Complex
) -> Real:
    """``(n,)`` the least zoom of each frame if its neighbours lend: within their reach, no wider
    than ``width`` (a share of the output), and nothing that nobody covers."""
    alone = zoom_needed(chain, rim, offset)
    narrow = zoom_needed(chain, rim * (1 - 2 * width), offset)
    found = alone.copy()
    frames = np.nonzero(alone > 1 + 1e-9)[0]
    if not len(frames):
        return alone
    edge = _dense(rim)
    plane = np.concatenate([share * edge for share in DEEP])
    shown = chain.only(lambda stage: stage.side == "output")
    top = np.minimum(alone[frames], 8.0)
    for level in range(LEVELS):
        # From 1 upwards; the first that does is taken.
        zoom = top ** (level / LEVELS)
        open_ = (found[frames] >= alone[frames]) & (zoom >= narrow[frames] - 1e-9)
        if not open_.any():
            continue
        at = frames[open_]
        # Of a straightened picture the rectangle that its lens surely covers counts.
        source = shown[at].to_source(plane[None, :] / zoom[open_, None] + offset[at, None])
        does = _lent_whole(source, at, lenders, chain)
        found[at[does]] = zoom[open_][does]
    return np.asarray(np.maximum(found, np.minimum(narrow, alone)))


def _lent_whole(source: Complex, at: Indices, lenders: Lenders, chain: WarpChain) -> Flags:
    """Whether points ``(k, m)`` of the source planes of frames ``at`` are all covered, by the frame
    itself or by a neighbour."""
    whole, clear = chain.area, chain.area.shrunk(CLEAR)
    bare = ~whole.covers(_recorded(source, at, chain))
    for away in lenders.offsets:
        if not bare.any():
            break
        other = np.clip(at + away, 0, len(chain) - 1)
        there = lenders.between(at, other).apply(source)
        lends = clear.covers(_recorded(there, other, chain))
        may = lenders.share_a_stretch(at, other) & (other != at)
        bare &= ~(lends & may[:, None])
    return np.asarray(~bare.any(axis=1))


def _recorded(source: Complex, at: Indices, chain: WarpChain) -> Complex:
    """Points ``(k, m)`` of the straight planes of frames ``at``, where they were recorded, if that
    matters: a picture that is one all over is covered where its straight rectangle is."""
    if chain.live is None:
        return source
    return chain.only(lambda stage: stage.side == "source")[at].to_source(source)
