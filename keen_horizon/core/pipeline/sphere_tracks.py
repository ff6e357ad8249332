"""The pass over a sphere's pixels: which picture it is, features followed through it, its straight
edges.

Of two eyes the first is measured.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np

from .. import stored
from ..errors import BadSetting
from ..geometry.canvas import Canvas
from ..geometry.looks import flat_camera, look_matrix
from ..geometry.projection import Camera, Equirectangular
from ..geometry.similarity import Similarities
from ..media.decode import Plane, frame_at, frames
from ..media.part_of_sphere import PartLayout
from ..media.probe import Scan
from ..media.segments import Segment
from ..motion.camera_motion import CameraMotion
from ..motion.held_point import HeldPoint
from ..motion.point_tracker import follow_point
from ..motion.sphere_turns import SphereMotion
from ..motion.uprights import EdgeFinder, Edges
from ..picture.sphere_warp import SphereSampler, sampled
from ..progress import Progress, silent
from ..tracking.sphere_features import SphereTracker
from ..tracking.tracks import Follower, Tracks
from ..types import Rays, Real
from .measure_tracks import Following, OnTheWay
from .sphere_source import first_eye

HELD_SIDE, HELD_ACROSS = 480, 60.0  # px and degrees of the view that a held point is followed in
HELD_PASSES = 4
LEAST_LOOKS, LOOK_EVERY = 10, 30  # frames that are looked at for edges
EDGES_FILE = "edges-{}.npz"  # of a part


def measure_sphere(
    path: Path, scan: Scan, first: int, last: int, folder: Path, progress: Progress = silent,
    *, edges: EdgesOnTheWay | None = None,
) -> Tracks:  # fmt: skip
    """Follow features through frames ``first`` to ``last`` of a sphere, and gather ``edges``; as
    :func:`.measure`."""
    following = around(path, scan, first, last, edges=edges)
    return following.kept_in(folder, progress, None if edges is None else edges.gather)


def around(
    path: Path, scan: Scan, first: int, last: int,
    *, edges: EdgesOnTheWay | None = None, on_the_way: OnTheWay | None = None,
) -> Following:  # fmt: skip
    """The pass over a sphere, over its first eye if it has two."""
    eye, part = first_eye(scan.probe), None
    if isinstance(scan.layout, PartLayout):
        part = scan.layout.rows_and_columns(eye)

    def new_follower() -> Follower:
        return SphereTracker(eye, part)

    return Following(path, scan, first, last, new_follower, eye, edges, on_the_way)


class EdgesOnTheWay:
    """Looks for straight edges in some of ``count`` frames as they go by, and keeps them with the
    part that they are of; :func:`find_edges` goes back for those that were not seen."""

    def __init__(self, scan: Scan, count: int) -> None:
        self.finder = EdgeFinder(first_eye(scan.probe))
        self.found: dict[int, Edges] = {}
        most = min(count, max(LEAST_LOOKS, count // LOOK_EVERY))
        self.wanted = np.unique(np.linspace(0, count - 1, most).astype(int)).tolist()
        if isinstance(scan.layout, PartLayout) and scan.layout.left + scan.layout.right:
            self.wanted = []  # the sides where the picture ends would be taken for uprights

    def __call__(self, at: int, luma: Plane, part: Path) -> None:
        if at in self.wanted:
            stored.save((at, self.finder(luma)), part / EDGES_FILE.format(at))

    def gather(self, parts: list[Segment]) -> None:
        """Know what was found in parts, whoever has made them."""
        for part in parts:
            for path in part.path.glob(EDGES_FILE.format("*")):
                kept = stored.known(path, tuple)
                if kept is not None:
                    self.found[int(kept[0])] = kept[1]


def find_edges(
    path: Path, scan: Scan, first: int, seen: EdgesOnTheWay, progress: Progress = silent
) -> list[tuple[int, Edges]]:
    """The straight edges of some frames of a sphere's range, each with the frame's number in it, in
    the frame's own axes: those ``seen`` on the way, and what is wanting of them."""
    eye = first_eye(scan.probe)
    missing = [at for at in seen.wanted if at not in seen.found]
    for k, at in enumerate(missing):
        luma = frame_at(path, scan, first + at, luma_only=True).planes[0]
        seen.found[at] = seen.finder(luma[: eye.height, : eye.width])
        progress(k + 1, len(missing))
    return sorted(seen.found.items())


def follow_on_sphere(
    path: Path, scan: Scan, motion: SphereMotion, point: HeldPoint, progress: Progress = silent
) -> tuple[Rays, str]:
    """Where a held point of a measured sphere is, unit rays ``(n, 3)`` in each frame's axes, NaN
    where it is lost; and why there is nothing, if so.

    It is followed in a flat view that is kept on the world, and then, as long as that leads
    further, on the way that was found so far: so it may go all around, and over the seam.
    """
    eye, n, first = first_eye(scan.probe), len(motion), motion.timeline.first
    if not first <= point.frame < first + n:
        raise BadSetting(f"the held point is placed at frame {point.frame}, outside the clip.")
    poses = motion.poses
    camera = Camera(eye, Equirectangular.of(eye))
    at = np.array([[point.at[0] * eye.width - 0.5, point.at[1] * eye.height - 0.5]])
    start = camera.to_rays(at)[0]
    own = point.frame - first
    ways = poses @ poses[own].T @ start  # where it is, if it stands still in the world
    view = flat_camera(Canvas(HELD_SIDE, HELD_SIDE), "rectilinear", HELD_ACROSS)
    # In a view a pattern is as large, in degrees, as it was drawn on the sphere; but what shakes is
    # taken out already, so that it need not be looked for as far around.
    larger = 180.0 / HELD_ACROSS
    here = point.model_copy(update={
        "at": (0.5, 0.5), "again": (), "pattern": min(0.5, point.pattern * larger),
    })  # fmt: skip
    still = CameraMotion("similarity", Similarities.none(n), motion.timeline, motion.evidence)
    known, found = 0, np.full((n, 3), np.nan)
    for turn in range(HELD_PASSES):
        ahead = partial(_within, progress, turn)
        # Level in the axes of the frame that it was placed in: the camera's own roll is left out.
        since = poses @ poses[own].T
        looks = since @ np.stack([_looking_at(way) for way in np.einsum("nji,nj->ni", since, ways)])
        luma = _views_of(path, scan, eye, view, looks, first)
        try:
            track = follow_point(luma, view.canvas, still, here, ahead)
        except BadSetting as error:
            return found, f"{error.message[:1].upper()}{error.message[1:]}"
        rays = view.to_rays(view.canvas.to_pixels(np.nan_to_num(track.places)))
        rays = np.einsum("nij,nj->ni", looks, rays / np.linalg.norm(rays, axis=1, keepdims=True))
        found = np.where(track.known[:, None], rays, np.nan)
        if track.known.all() or int(track.known.sum()) <= known:
            break
        known = int(track.known.sum())
        # Beyond where it was lost, it is looked for where it was last, in the world.
        last = np.clip(np.arange(n), *np.flatnonzero(track.known)[[0, -1]])
        ways = np.einsum("nij,nkj,nk->ni", poses, poses[last], found[last])
        ways = np.where(track.known[:, None], found, ways)
        ways = np.where(np.isfinite(ways), ways, looks[:, :, 2])
    progress(1, 1)
    return found, ""


def _within(progress: Progress, turn: int, done: int, total: int) -> None:
    """The progress of one pass among all that there may be; the last ones may not be needed."""
    progress(turn * total + done, HELD_PASSES * total)


def _looking_at(way: Real) -> Real:
    """``(3, 3)`` from rays of a level view to those of the sphere, that looks along a ray."""
    yaw = float(np.arctan2(way[0], way[2]))
    return look_matrix(yaw, float(-np.arcsin(np.clip(way[1], -1, 1))), 0.0)


def _views_of(
    path: Path, scan: Scan, eye: Canvas, view: Camera, looks: Real, first: int
) -> Callable[[int, int], Iterator[Plane]]:
    """Lumas of a flat view of each frame, which ``looks`` as they say."""
    sampler = SphereSampler(view, eye)

    def luma(low: int, high: int) -> Iterator[Plane]:
        for picture in frames(path, scan, low, high, luma_only=True):
            plane = picture.planes[0][: eye.height, : eye.width]
            yield sampled(plane, sampler.positions(looks[picture.index - first]))

    return luma
