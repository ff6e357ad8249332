"""Which neighbours can lend what a frame's edges lack, and how much zoom is left to do."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ..geometry.bend import DisplacementGrid
from ..geometry.canvas import Complex
from ..geometry.chain import WarpChain
from ..geometry.similarity import Similarities, cumulative_pose
from ..motion.camera_motion import CameraMotion
from ..quality.wobble import PLACES
from ..treatment import FrameSettings
from .coverage import zoom_needed

STEPS = (1, 2, 3, 5, 8, 12, 18, 27, 40, 60)  # frames away at which a lender is looked for
LEVELS = 14  # of zoom that are tried
ALONG = 17  # points along each side of the output
DEEP = (1.0, 0.97, 0.94, 0.9)  # shares of the output's outline that are looked at


class Lenders:
    """The frames that lend to others, by the camera's motion between them."""

    def __init__(self, motion: CameraMotion, reach: int) -> None:
        self._reach = reach
        straight = motion.straight_wobble
        self._wobble = motion.wobble if straight is None else straight
        n, steps = len(motion), motion.trusted
        self._pose = Similarities(np.empty(n, complex), np.empty(n, complex))
        self._segment = np.zeros(n, np.intp)
        for k, (start, stop) in enumerate(motion.segments):
            part = slice(start, stop)
            pose = cumulative_pose(steps[part].rebased)
            self._pose.a[part], self._pose.b[part], self._segment[part] = pose.a, pose.b, k

    def share_a_stretch(
        self, frames: NDArray[np.intp], others: NDArray[np.intp]
    ) -> NDArray[np.bool_]:
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

    def between(self, frames: NDArray[np.intp], others: NDArray[np.intp]) -> Similarities:
        """From the source plane of ``frames`` to that of ``others``."""
        return self._pose[others].inverse().after(self._pose[frames])

    def lent(self, chain: WarpChain, frame: int, other: int) -> WarpChain:
        """The chain of one frame whose picture is taken from another."""
        one, two = np.array([frame]), slice(other, other + 1)
        here = slice(frame, frame + 1)
        bend = chain.bend[two] if chain.bend is not None else self._differs(chain, frame, other)
        return WarpChain(
            chain.source,
            chain.view[here],
            self.between(one, np.array([other])).after(chain.steady[here]),
            bend,
            chain.rows[two] if chain.rows is not None else None,
            chain.lens[two] if chain.lens is not None else None,
        )

    def _differs(self, chain: WarpChain, frame: int, other: int) -> DisplacementGrid | None:
        """How the wobble of two frames differs: the keystone of a jolt, say, which a similarity
        does not carry over."""
        if self._wobble is None:
            return None
        moved = self._wobble[other] - self._wobble[frame]
        return DisplacementGrid(chain.source, moved.reshape(1, *PLACES))


def _dense(rim: Complex) -> Complex:
    """Points all along the rectangle that ``rim`` spans."""
    hu, hv = float(np.abs(rim.real).max()), float(np.abs(rim.imag).max())
    along = np.linspace(-1, 1, ALONG)
    return np.concatenate(
        [hu * along - 1j * hv, hu * along + 1j * hv, 1j * hv * along - hu, 1j * hv * along + hu]
    )


def zoom_with_lenders(
    chain: WarpChain, motion: CameraMotion, frame: FrameSettings, rim: Complex, offset: Complex
) -> NDArray[np.float64]:
    """``(n,)`` the least zoom of each frame if its neighbours lend: within the reach, no wider than
    the limit, and nothing that nobody covers."""
    alone = zoom_needed(chain, rim, offset)
    narrow = zoom_needed(chain, rim * (1 - 2 * frame.borrow_width / 100), offset)
    lenders = Lenders(motion, frame.borrow_reach)
    hu, hv = chain.source.half
    found = alone.copy()
    frames = np.nonzero(alone > 1 + 1e-9)[0]
    if not len(frames):
        return alone
    edge = _dense(rim)
    plane = np.concatenate([share * edge for share in DEEP])
    top = np.minimum(alone[frames], 8.0)
    for level in range(LEVELS):
        # From 1 upwards; the first that does is taken.
        zoom = top ** (level / LEVELS)
        open_ = (found[frames] >= alone[frames]) & (zoom >= narrow[frames] - 1e-9)
        if not open_.any():
            continue
        at = frames[open_]
        seen = plane[None, :] / zoom[open_, None] + offset[at, None]
        if chain.view.shape is not None:
            seen = chain.view.shape[at].apply(seen)
        # Of a straightened picture the rectangle that its lens surely covers counts.
        source = chain.steady.a[at, None] * seen + chain.steady.b[at, None]
        bare = ~((np.abs(source.real) <= hu) & (np.abs(source.imag) <= hv))
        for away in lenders.offsets:
            if not bare.any():
                break
            other = np.clip(at + away, 0, len(chain) - 1)
            same = lenders.share_a_stretch(at, other)
            carried = lenders.between(at, other)
            there = carried.a[:, None] * source + carried.b[:, None]
            lends = (np.abs(there.real) <= hu - 2) & (np.abs(there.imag) <= hv - 2)
            bare &= ~(lends & same[:, None] & (other != at)[:, None])
        does = ~bare.any(axis=1)
        found[at[does]] = zoom[open_][does]
    return np.asarray(np.maximum(found, np.minimum(narrow, alone)))
