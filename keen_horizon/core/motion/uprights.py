"""Which way is down, by uprights: walls, masts and posts all meet straight above and below.

Every straight edge of the scene lies in a plane through the camera; the planes of uprights all hold
the vertical, so their normals are all across it. It is the direction that most edges agree on near
to where the camera's own down points (a vanishing point on the Gaussian sphere: Barnard,
*Interpreting perspective images*, Artificial Intelligence 1983).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.looks import flat_camera, look_matrix
from ..geometry.projection import Camera
from ..media.decode import Plane
from ..picture.sphere_warp import SphereSampler, sampled
from ..stored import stored
from ..tracking.features import working_picture
from ..types import Rays, Real

SIDE = 560  # pixels of a view that edges are looked for in
ACROSS = 92.0  # degrees of it; four look around
WIDTH = 2048  # of the picture that they are drawn from, at most
SHORTEST = 26.0  # pixels of an edge
LEAN = np.radians(35.0)  # that a camera may lean by
TRIES = 600  # pairs of edges
OFF = np.radians(1.0)  # that an upright misses the vertical by, in a try
ROUNDS = 8
FEW = 12  # edges that have to agree
SHARE = 0.12  # of all near-upright edges, likewise
SPREAD = 0.04  # of the second smallest moment of their normals: they have to lie around
PARTS = 4  # directions, each of which is left out once to see how sure the rest is
DOWN = np.array([0.0, 1.0, 0.0])


@stored
@dataclass(frozen=True)
class Vertical:
    """``down`` unit ray in the axes that edges were told in, None if it cannot be told; ``doubt``
    its standard error, radians; ``edges`` how many agree; ``words`` say it."""

    down: Rays | None
    doubt: float
    edges: int
    words: str


@stored
@dataclass(frozen=True)
class Edges:
    """Straight edges of one picture: ``normals`` ``(m, 3)`` of the planes that hold them and the
    camera, ``weights`` ``(m,)`` their lengths, px."""

    normals: Rays
    weights: Real

    def turned(self, turn: Real) -> Edges:
        """The same in other axes: ``turn`` ``(3, 3)`` takes rays to those."""
        return Edges(self.normals @ turn.T, self.weights)


class EdgeFinder:
    """Finds straight edges in equirectangular pictures of size ``canvas``."""

    def __init__(self, canvas: Canvas) -> None:
        width = min(WIDTH, canvas.width)
        self._small = Canvas(width, round(width * canvas.height / canvas.width))
        camera = flat_camera(Canvas(SIDE, SIDE), "rectilinear", ACROSS)
        self._camera: Camera = camera
        sampler = SphereSampler(camera, self._small)
        self._looks = [look_matrix(way, 0.0, 0.0) for way in np.radians([0, 90, 180, 270])]
        self._places = [sampler.positions(look) for look in self._looks]
        self._lines = cv2.createLineSegmentDetector()

    def __call__(self, luma: Plane) -> Edges:
        """The edges of a picture ``(height, width)``, in its own axes."""
        small = working_picture(luma, (self._small.width, self._small.height))
        normals, weights = [np.zeros((0, 3))], [np.zeros(0)]
        for look, places in zip(self._looks, self._places, strict=True):
            found = self._lines.detect(sampled(small, places))[0]
            if found is None:
                continue
            ends = found.reshape(-1, 2, 2).astype(float)
            length = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
            ends, length = ends[length >= SHORTEST], length[length >= SHORTEST]
            rays = self._camera.to_rays(ends) @ look.T
            across = np.cross(rays[:, 0], rays[:, 1])
            normals.append(across / np.linalg.norm(across, axis=1, keepdims=True))
            weights.append(length)
        return Edges(np.concatenate(normals), np.concatenate(weights))


def vertical(pictures: Sequence[Edges], about: Rays = DOWN) -> Vertical:
    """The vertical that the edges of pictures agree on, all told in the same axes, near to where
    ``about`` points.

    >>> rng = np.random.default_rng(2)
    >>> true = np.array([0.1, 0.99, -0.05]); true /= np.linalg.norm(true)
    >>> ways = np.cross(rng.normal(size=(40, 3)), true)
    >>> normals = ways / np.linalg.norm(ways, axis=1, keepdims=True)
    >>> found = vertical([Edges(normals, np.full(40, 50.0))])
    >>> bool(np.degrees(np.arccos(found.down @ true)) < 0.01)
    True
    """
    normals, weights = _joined(pictures)
    steep = np.abs(normals @ about) < np.sin(LEAN)
    normals, weights = normals[steep], weights[steep]
    if len(weights) < FEW:
        return Vertical(None, np.inf, 0, "Too few uprights are seen to tell which way is down.")
    down = _best_try(normals, weights, about)
    if down is None:
        return Vertical(None, np.inf, 0, "No uprights agree on which way is down.")
    down, values = _refined(normals, weights, down)
    close = np.abs(normals @ down) < OFF
    agree = int(close.sum())
    share = float(weights[close].sum() / weights.sum())
    spread = float(values[1] / values.sum())
    if agree < FEW or share < SHARE or spread < SPREAD:
        return Vertical(None, np.inf, agree, "The uprights that are seen do not agree on which way "
                        "is down.")  # fmt: skip
    doubt = _doubt(normals, weights, down)
    tilt = float(np.degrees(np.arccos(np.clip(down @ about, -1, 1))))
    sure = max(2 * float(np.degrees(doubt)), 0.05)
    words = (
        f"{agree} uprights tell which way is down, to about {sure:.2f}°: "
        f"{tilt:.1f}° off the camera's own."
    )
    return Vertical(down, doubt, agree, words)


def _refined(normals: Rays, weights: Real, down: Rays) -> tuple[Rays, Real]:
    """The vertical near ``down`` that edges agree on best, and the moments of their normals."""
    values = np.ones(3)
    for width in np.geomspace(2.0, 0.5, ROUNDS):
        off = normals @ down
        use = weights / (1 + (off / (width * OFF)) ** 2) ** 2
        values, vectors = np.linalg.eigh(np.einsum("m,mi,mj->ij", use, normals, normals))
        down = vectors[:, 0] * np.sign(vectors[:, 0] @ down)
    return down, values


def _doubt(normals: Rays, weights: Real, down: Rays) -> float:
    """Standard error of the vertical, radians: by how much it changes when what lies in one
    direction is left out, one direction after the other (the jackknife: Tukey 1958). Edges of one
    thing lean together, so that counting them would tell too little."""
    # Where around the vertical a plane lies that an edge is in, on either side of the camera.
    side = np.cross(down, [0.0, 0.0, 1.0])
    ahead = np.cross(side, down)
    way = np.arctan2(normals @ ahead, normals @ side) % np.pi
    part = np.minimum((way / np.pi * PARTS).astype(int), PARTS - 1)
    close = np.abs(normals @ down) < 2 * OFF
    found = [
        _refined(normals[part != k], weights[part != k], down)[0]
        for k in range(PARTS)
        if (close & (part == k)).any() and (close & (part != k)).sum() >= FEW // 2
    ]
    if len(found) < 2:
        return OFF
    off = np.array(found) - np.mean(found, axis=0)
    return float(np.sqrt((len(found) - 1) / len(found) * (off**2).sum()))


def _joined(pictures: Sequence[Edges]) -> tuple[Rays, Real]:
    normals = np.concatenate([np.zeros((0, 3)), *(one.normals for one in pictures)])
    return normals, np.concatenate([np.zeros(0), *(one.weights for one in pictures)])


def _best_try(normals: Rays, weights: Real, about: Rays) -> Rays | None:
    """Of the verticals that two edges each speak for, the one that most edges agree with."""
    rng = np.random.default_rng(0)
    pick = rng.choice(len(weights), (TRIES, 2), p=weights / weights.sum())
    tries = np.cross(normals[pick[:, 0]], normals[pick[:, 1]])
    length = np.linalg.norm(tries, axis=1)
    tries = tries[length > 0.1] / length[length > 0.1, None]
    tries = tries * np.sign(tries @ about)[:, None]
    tries = tries[tries @ about > np.cos(LEAN)]
    if not len(tries):
        return None
    agree = (np.abs(tries @ normals.T) < OFF) @ weights
    return np.asarray(tries[int(agree.argmax())])


def levelled(poses: Real, down: Rays) -> Real:
    """Steadied poses ``(n, 3, 3)`` turned by as little as makes ``down`` ``(3,)`` or ``(n, 3)``, a
    ray in the axes that they are told from, point straight down in each."""
    seen = np.einsum("nij,nj->ni", poses, np.broadcast_to(down, (len(poses), 3)))
    axis = np.cross(seen, DOWN)
    cosine = seen @ DOWN
    cross = np.zeros((len(poses), 3, 3))
    cross[:, 0, 1], cross[:, 0, 2] = -axis[:, 2], axis[:, 1]
    cross[:, 1, 0], cross[:, 1, 2] = axis[:, 2], -axis[:, 0]
    cross[:, 2, 0], cross[:, 2, 1] = -axis[:, 1], axis[:, 0]
    turn = np.eye(3) + cross + cross @ cross / np.maximum(1 + cosine, 1e-6)[:, None, None]
    return np.asarray(turn @ poses)
