"""THE WARP CHAIN: where in the source does each output pixel come from?

Everything geometric the product does is this one backward map, composed here and nowhere else::

    output pixel -> view -> stages, from the output's side to the source's -> source pixel

The preview, the export, the coverage test and the tests all evaluate it. What the stages are, the
stations say (a reshaped view, the steadying, rows read one by one, a lens); the chain only walks
them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from ..stored import stored
from ..types import AnyArray, Complex, Flags, Frames, Points, Real
from .canvas import Canvas
from .lattice import lattice_points, to_shares
from .live_area import LiveArea
from .stage import RayStage, Smoothness, WarpStage
from .view import View

NODES = {  # columns and rows of a lattice that is fine enough to draw from
    Smoothness.AFFINE: (2, 2),
    Smoothness.PROJECTIVE: (17, 11),
    Smoothness.SMOOTH: (17, 11),
    Smoothness.CURVED: (33, 19),
}
BATCH = 512  # frames worked on at once
SLACK = 1e-6  # scene units by which a place may be outside for want of digits
Stage = TypeVar("Stage", bound=WarpStage)


@stored
@dataclass(frozen=True)
class WarpChain:
    """The whole backward map of a clip of ``n`` frames.

    ``source`` is the recorded picture's canvas; ``stages`` run from the output's side to the
    source's. Frames are counted from the start of the clip's range. ``live`` is where the recorded
    picture is one, None for all over.
    """

    source: Canvas
    view: View
    stages: tuple[WarpStage, ...]
    n: int
    live: LiveArea | None = None

    def __len__(self) -> int:
        return self.n

    def __getitem__(self, frames: Frames) -> WarpChain:
        count = len(np.arange(self.n)[frames])
        stages = tuple(stage[frames] for stage in self.stages)
        return replace(self, view=self.view[frames], stages=stages, n=count)

    @cached_property
    def area(self) -> LiveArea:
        """The part of the recorded picture that there is something to see in."""
        return self.live or LiveArea.whole(self.source)

    @property
    def smoothness(self) -> Smoothness:
        """That of its least smooth stage."""
        return max((stage.smoothness for stage in self.stages), default=Smoothness.AFFINE)

    def find(self, kind: type[Stage]) -> Stage | None:
        """The outermost stage of a kind, None if there is none."""
        return next((stage for stage in self.stages if isinstance(stage, kind)), None)

    def with_stages(self, *stages: WarpStage) -> WarpChain:
        """The chain with other stages."""
        return replace(self, stages=stages)

    def only(self, wanted: Callable[[WarpStage], bool]) -> WarpChain:
        """The chain with those of its stages alone that are ``wanted``."""
        return self.with_stages(*(stage for stage in self.stages if wanted(stage)))

    def to_source(self, plane: Complex) -> Complex:
        """The plane that the view shows, ``(n, m)``, a frame a row, to the source's plane."""
        points: AnyArray = plane
        straight: RayStage | None = None  # whose rays these are, if they are rays
        for stage in self.stages:
            if isinstance(stage, RayStage):
                points = points if straight is not None else stage.to_rays(points)
            elif straight is not None:
                points = straight.to_plane(points)
            points = stage.to_source(points)
            straight = stage if stage.gives_rays and isinstance(stage, RayStage) else None
        return np.asarray(points if straight is None else straight.to_plane(points))

    def to_output(self, plane: Complex) -> Complex:
        """The source's plane ``(n, m)`` back to the plane that the view shows; NaN where nothing
        leads there."""
        points: AnyArray = plane
        straight: RayStage | None = None
        for stage in reversed(self.stages):
            if stage.gives_rays and isinstance(stage, RayStage):
                points = points if straight is not None else stage.to_rays(points)
            elif straight is not None:
                points = straight.to_plane(points)
            points = stage.to_output(points)
            straight = stage if isinstance(stage, RayStage) else None
        return np.asarray(points if straight is None else straight.to_plane(points))

    def __call__(self, frame: int, points: Points) -> tuple[Points, Flags]:
        """Map output pixels ``(..., 2)`` of one frame to source pixels ``(..., 2)``.

        The second value, shape ``(...)``, is True where the source has a pixel there; elsewhere
        the output has a bare edge.
        """
        mapped = self[frame : frame + 1].sampled(points.reshape(-1, 2))[0].reshape(points.shape)
        return mapped, self.covers(mapped)

    def covers(self, mapped: Points) -> Flags:
        """``(...)`` True where source pixels ``(..., 2)`` have something to see."""
        return self.area.covers(self.source.to_scene(mapped), SLACK)

    def plane_matrices(self) -> Real:
        """``(n, 3, 3)`` of :meth:`to_source` on homogeneous points: the whole of a projective
        chain, and what a smooth one strays from."""
        both: Real | None = None
        for stage in self.stages:
            if stage.smoothness <= Smoothness.PROJECTIVE:
                both = stage.matrices if both is None else stage.matrices @ both
        return np.tile(np.eye(3), (self.n, 1, 1)) if both is None else both

    def matrices(self) -> Real:
        """``(n, 3, 3)`` backward maps, output pixel to source pixel: exact where the chain is
        affine or projective."""
        both = self.plane_matrices() @ self.view.similarities(self.n).matrices
        return np.linalg.inv(self.source.scene_matrix) @ both @ self.view.output.scene_matrix

    def sampled(self, points: Points) -> Points:
        """Output pixels ``(m, 2)`` to source pixels of every frame, ``(n, m, 2)``."""
        out = np.empty((self.n, len(points), 2))
        for part, chain in self.batches():
            plane = chain.to_source(chain.view.to_plane(points, len(chain)))
            out[part] = self.source.to_pixels(plane)
        return out

    @cached_property
    def magnification(self) -> Real:
        """``(n,)`` how many output pixels a source pixel takes in the middle of the output."""
        middle = np.array(self.view.output.centre)
        across, down = (
            self.sampled(middle + np.array(ways))
            for ways in ([[-0.5, 0], [0.5, 0.0]], [[0, -0.5], [0, 0.5]])
        )
        sides = [way[:, 1] - way[:, 0] for way in (across, down)]
        area = np.abs(sides[0][:, 0] * sides[1][:, 1] - sides[0][:, 1] * sides[1][:, 0])
        return np.asarray(1 / np.sqrt(np.maximum(area, 1e-9)))

    def resized(self, lines: int | None) -> WarpChain:
        """The chain delivered at ``lines`` rows; itself at its own size."""
        view = self.view.resized(lines)
        return self if view is self.view else replace(self, view=view)

    def batches(self) -> Iterator[tuple[slice, WarpChain]]:
        """The chain in pieces, so that memory does not grow with its length."""
        for start in range(0, self.n, BATCH):
            part = slice(start, min(start + BATCH, self.n))
            yield part, self[part]

    def toward_identity(self, share: Real) -> WarpChain:
        """The chain with each frame's correction weakened to ``share`` ``(n,)`` of itself."""
        return self.with_stages(*(stage.toward_identity(share) for stage in self.stages))

    def lent(self, frame: int, other: int, between: tuple[WarpStage, ...]) -> WarpChain:
        """The chain of one ``frame`` whose picture is taken from an ``other`` one: shown as the
        frame is, carried over by ``between`` (stages of one frame each), recorded as the other."""
        here, there = slice(frame, frame + 1), slice(other, other + 1)
        shown = [stage[here] for stage in self.stages if stage.side == "output"]
        recorded = [stage[there] for stage in self.stages if stage.side == "source"]
        return replace(self, view=self.view[here], stages=(*shown, *between, *recorded), n=1)

    @property
    def nodes(self) -> tuple[int, int]:
        """Columns and rows of a lattice that is fine enough to draw from."""
        return NODES[self.smoothness]

    def lattice(
        self, frames: slice = slice(None), columns: int = 0, rows: int = 0
    ) -> NDArray[np.float32]:
        """``(n, rows, columns, 2)`` source shares, float32; see :mod:`.lattice`.

        Two by two nodes are exact while the whole chain is affine, and are the default then.
        """
        if not columns:
            columns, rows = self.nodes
        nodes = lattice_points(self.view.output, columns, rows)
        mapped = self[frames].sampled(nodes.reshape(-1, 2))
        return to_shares(mapped.reshape(-1, rows, columns, 2), self.source)
