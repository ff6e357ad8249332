"""How two fisheyes back to back look at the world, found in their own pictures.

Where each picture ends says where its lens' middle is about, and how wide it is. Where both look,
along the great circle between them, the same things are in both: so what does not agree there tells
the rest, for many frames at once. What is near lies further back in each than what is far; that is
told apart from the lenses, which are the same all around the clock, and is kept as a gap.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import cv2
import numpy as np
import scipy
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.rotation_vectors import turns_about, turns_by
from ..geometry.twin import HALF_PI, FisheyeLens, Twin
from ..picture.round_pictures import Circle, circles_of
from ..types import Flags, Indices, Luma, Points, Rays, Real
from .sphere_turns import left_by_turns

WIDTHS = np.radians(np.arange(184.0, 236.0, 1.0))  # that lenses are tried at
ROLLS = (0.0, 90.0, 180.0, 270.0)  # that the second may be mounted at
FEW = 3  # frames that tell about how lenses are mounted
COARSE = 480  # columns around of pictures that are compared
ALIKE = 0.35  # correlation of both lenses' pictures of what they both see, that makes them two
EVEN = 61  # columns that brightness is evened out over
FINEST = np.radians(0.02)
LOOSE = np.radians(0.2)  # beyond which a pair of places counts less
ROUNDS = 4  # of looking again with what was found
MOST = 500  # places a frame
WITHIN = 0.9  # of a round picture, that is looked at for how things move
MOVED = np.radians(0.5)  # by which things have to have moved to tell how lenses bend
BENDS, TRIES = (-0.1, 0.1), 11  # that are tried first
NEAR, FINE_BEND = 0.008, 2e-4  # how far they are looked for then, and how finely
LOW = 0.5  # of the way down, below which things are near, or turn with the camera
BEYOND = 4.0  # times as much counts what would have to be further away than far
BELOW, LITTLE = 0.25, 0.1  # of the turn, straight down, that counts little: how much
MIDDLE = 0.002  # of its radius, that a lens' middle is likely to be off its picture's
HELD = 0.1  # how much what is likely counts, against all pairs
WAVES = 10  # around, that the gap may vary by
STIFF = 0.002  # how much waves are held back, and more the finer they are
SECTORS = 24  # around, of which it is said whether the seam is known there


# Of each lens, places (m, 2) of things in a frame and in a later one, pixels of the whole.
Moves = tuple[tuple[Points, Points], ...]


@dataclass(frozen=True)
class TwinFit:
    """What was found: a ``twin``, None for none, in ``words``; how many ``places`` are in both
    pictures, what is ``left`` between them, radians rms, and in how many of 24 ``sectors`` there
    are any; ``moves`` of things from each frame to the one a moment later."""

    twin: Twin | None
    words: str = ""
    places: int = 0
    left: float = 0.0
    sectors: int = 0
    moves: tuple[Moves, ...] = ()


def fit_twin(lumas: Sequence[Luma], later: Sequence[Luma] = ()) -> TwinFit:
    """Two fisheyes out of frames ``(height, width)``, which should be some time apart; in words
    what is wrong, if it fails. ``later`` are frames a moment after each, which tell by how things
    move what the seam does not: how lenses bend."""
    circles = circles_of(lumas)
    if circles is None:
        return TwinFit(None, "The picture is not two round ones on black, side by side or one "
                             "above the other.")  # fmt: skip
    begun = _begun(lumas, circles)
    if begun is None:
        return TwinFit(None, "The picture is two round ones, but they do not show the same where "
                             "two fisheyes back to back would.")  # fmt: skip
    twin = begun
    pairs = _Pairs.none()
    moves = [_moves(*both, circles) for both in zip(lumas, later, strict=False)]
    for _ in range(ROUNDS):
        band = _Band.of(twin, twin.whole.width)
        found = [_pairs(luma, band) for luma in lumas]
        pairs = _Pairs(*(np.concatenate(parts) for parts in zip(*found, strict=True)))
        if len(pairs) < SECTORS:
            return TwinFit(None, "The two round pictures have too little in common, where both "
                                 "lenses look, to tell how they fit.")  # fmt: skip
        twin, gap = _refined(twin, circles, pairs)
        twin = _bent(twin.with_gap(gap), moves)
    left, good = _left(twin, pairs)
    sectors = len(np.unique(_sectors(twin, pairs)[good]))
    return TwinFit(twin, "", int(good.sum()), left, sectors, tuple(moves))


# --- where a fit begins ---------------------------------------------------------------------------


def _lens(circle: Circle, width: float, turn: Real) -> FisheyeLens:
    return FisheyeLens((circle.x, circle.y), circle.radius / (width / 2), 0.0, turn, width / 2)


def _begun(lumas: Sequence[Luma], circles: tuple[Circle, Circle]) -> Twin | None:
    """The width and the roll at which both lenses' pictures are most alike where both look."""
    height, width = lumas[0].shape
    back = np.diag([-1.0, 1.0, -1.0])
    best, found = ALIKE, None
    for across in WIDTHS:
        for roll in ROLLS:
            turn = turns_about("z", np.radians([roll]))[0] @ back
            twin = Twin(
                Canvas(width, height),
                (_lens(circles[0], across, np.eye(3)), _lens(circles[1], across, turn)),
                np.zeros(1),
            )
            band = _Band.of(twin, COARSE)
            alike = float(np.mean([_alike(band.draw(luma, 0), band.draw(luma, 1))
                                   for luma in lumas[:: max(1, len(lumas) // FEW)]]))  # fmt: skip
            if alike > best:
                best, found = alike, twin
    return found


def _alike(one: Luma, other: Luma) -> float:
    """Correlation of two pictures, evened out along their rows."""
    parts = []
    for picture in (one, other):
        soft = cv2.GaussianBlur(picture.astype(np.float32), (0, 0), 1.5)
        part = soft - cv2.blur(soft, (EVEN, 1))
        parts.append((part / max(float(part.std()), 2.0)).ravel())
    return float(parts[0] @ parts[1] / len(parts[0]))


@dataclass(frozen=True)
class _Band:
    """What lies about the great circle, ``(rows, columns)``: rows towards the second lens' side,
    columns around and a little more."""

    twin: Twin
    rays: Rays
    columns: int  # once around

    @classmethod
    def of(cls, twin: Twin, columns: int) -> _Band:
        unit = columns / (2 * np.pi)
        reach = min(lens.reach for lens in twin.lenses) - HALF_PI - np.radians(0.8)
        rows = int(np.clip(2 * reach * unit, 5, columns // 12))
        off = (np.arange(rows) - (rows - 1) / 2)[:, None] / unit
        azimuth = np.arange(columns + columns // 16) / unit
        return cls(twin, _rays_off(off + 0 * azimuth, azimuth), columns)

    @cached_property
    def maps(self) -> list[NDArray[np.float32]]:
        """Where each lens' picture shows it."""
        return [self.twin.to_pixels(self.rays, which).astype(np.float32) for which in (0, 1)]

    def draw(self, luma: Luma, which: int) -> Luma:
        at = self.maps[which]
        drawn = cv2.remap(luma, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(drawn, np.uint8)

    def rays_at(self, places: Points) -> Rays:
        """``(m, 3)`` of places ``(m, 2)`` in the band."""
        unit = self.columns / (2 * np.pi)
        off = (places[:, 1] - (self.rays.shape[0] - 1) / 2) / unit
        return _rays_off(off, places[:, 0] / unit)


def _rays_off(off: Real, azimuth: Real) -> Rays:
    """Unit rays so far from the great circle, to the second lens' side, radians."""
    angle = HALF_PI + off
    return np.stack([np.sin(angle) * np.cos(azimuth), np.sin(angle) * np.sin(azimuth),
                     np.cos(angle)], axis=-1)  # fmt: skip


# --- what both see --------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Pairs:
    """Places ``(m, 2)`` of the same things in the first lens' picture and in the second's, pixels
    of the whole."""

    first: Points
    second: Points

    @classmethod
    def none(cls) -> _Pairs:
        return cls(np.zeros((0, 2)), np.zeros((0, 2)))

    def __len__(self) -> int:
        return len(self.first)


def _pairs(luma: Luma, band: _Band) -> tuple[Points, Points]:
    """Corners of one lens' picture, found again in the other's."""
    one, other = (_evened(band.draw(luma, which)) for which in (0, 1))
    corners = cv2.goodFeaturesToTrack(one, MOST, 0.01, 6)
    if corners is None:
        return np.zeros((0, 2)), np.zeros((0, 2))
    there, found = _found_again(one, other, corners, 0.5, winSize=(15, 15), maxLevel=2)
    rows = one.shape[0]
    inside = (np.abs(there[:, 0, 1] - (rows - 1) / 2) < rows / 2 - 4) & (
        np.abs(corners[:, 0, 1] - (rows - 1) / 2) < rows / 2 - 4
    )
    good = found & inside
    rays = [band.rays_at(places[good, 0].astype(float)) for places in (corners, there)]
    return band.twin.to_pixels(rays[0], 0), band.twin.to_pixels(rays[1], 1)


def _found_again(
    one: Luma, other: Luma, corners: NDArray[np.float32], home: float, **follow: Any
) -> tuple[NDArray[np.float32], Flags]:
    """Where ``corners`` ``(m, 1, 2)`` of one picture are in another; and which of them were found,
    and lead back to within ``home`` px."""
    there, ok, _ = cv2.calcOpticalFlowPyrLK(one, other, corners, None, **follow)
    back, ok_too, _ = cv2.calcOpticalFlowPyrLK(other, one, there, None, **follow)
    near = np.linalg.norm(back - corners, axis=-1)[:, 0] < home
    return there, (ok[:, 0] == 1) & (ok_too[:, 0] == 1) & near


def _evened(luma: Luma) -> Luma:
    """Brightness and contrast made alike, which differ between the lenses."""
    flat: NDArray[np.float32] = luma.astype(np.float32)
    flat = flat - cv2.GaussianBlur(flat, (0, 0), 12)
    spread = np.sqrt(cv2.GaussianBlur(flat * flat, (0, 0), 12)) + 4
    return np.clip(128 + 48 * flat / spread, 0, 255).astype(np.uint8)


def rays_above(twin: Twin, move: Moves) -> tuple[Rays, Rays]:
    """Rays ``(m, 3)`` of what moved, in a frame and in one a moment later; of things above."""
    before, after = _rays_of(twin, move)
    above = before[:, 1] < LOW
    return before[above], after[above]


# --- how lenses bend ------------------------------------------------------------------------------


def _moves(luma: Luma, later: Luma, circles: tuple[Circle, Circle]) -> Moves:
    """How things moved, from one frame to another."""
    found = []
    for circle in circles:
        room = np.zeros(luma.shape, np.uint8)
        at, inner = (round(circle.x), round(circle.y)), round(circle.radius * WITHIN)
        cv2.circle(room, at, inner, 255, -1)
        corners = cv2.goodFeaturesToTrack(luma, MOST, 0.01, 12, mask=room)
        if corners is None:
            found.append((np.zeros((0, 2)), np.zeros((0, 2))))
            continue
        there, good = _found_again(luma, later, corners, 0.3)
        found.append((corners[good, 0].astype(float), there[good, 0].astype(float)))
    return tuple(found)


def _bent(twin: Twin, moves: Sequence[Moves]) -> Twin:
    """Lenses that bend so that things move most like one turn of the camera, and its travel; as
    they were where they move too little to tell."""
    told = []
    for move in moves:
        before, after = _rays_of(twin, move)
        above = [lens.to_rays(first)[:, 1] < LOW for lens, (first, _) in
                 zip(twin.lenses, move, strict=True)]  # fmt: skip
        if sum(one.sum() for one in above) < SECTORS:
            continue
        if np.median(np.linalg.norm(after - before, axis=1)) > MOVED:
            told.append(tuple((first[ok], then[ok]) for (first, then), ok in
                              zip(move, above, strict=True)))  # fmt: skip
    if len(told) < FEW:
        return twin

    def with_bend(bend: float) -> Twin:
        one, other = (replace(lens, bend=bend) for lens in twin.lenses)
        return replace(twin, lenses=(one, other))

    def left(bend: float) -> float:
        tried = with_bend(bend)
        rays = [_rays_of(tried, move) for move in told]
        shape = (len(rays), max(len(before) for before, _ in rays))
        before, after = np.zeros((2, *shape, 3))
        valid = np.zeros(shape, bool)
        for k, (one, other) in enumerate(rays):
            before[k, : len(one)], after[k, : len(one)] = one, other
            valid[k, : len(one)] = True
        return float(np.log(left_by_turns(before, after, valid)).sum())

    bounds = (twin.lenses[0].bend - NEAR, twin.lenses[0].bend + NEAR)
    if twin.lenses[0].bend == 0:
        tries = np.linspace(*BENDS, TRIES)
        best = float(tries[int(np.argmin([left(one) for one in tries]))])
        bounds = (best - tries[1] + tries[0], best + tries[1] - tries[0])
    options: Any = {"xatol": FINE_BEND}
    return with_bend(float(scipy.optimize.minimize_scalar(left, bounds=bounds, method="bounded",
                                           options=options).x))  # fmt: skip


def _rays_of(twin: Twin, move: Moves) -> tuple[Rays, Rays]:
    """Rays ``(m, 3)`` of both lenses' places before and after."""
    before, after = (
        np.concatenate([lens.to_rays(places[when]) for lens, places in
                        zip(twin.lenses, move, strict=True)]) for when in (0, 1)
    )  # fmt: skip
    return before, after


def _refined(twin: Twin, circles: tuple[Circle, Circle], pairs: _Pairs) -> tuple[Twin, Real]:
    """Lenses that agree best on what both see, near the ``circles``; and the gap between them."""
    scale = np.array([
        *[MIDDLE * circle.radius for circle in circles for _ in "xy"], 0.01, 0.004, *[0.02] * 3,
    ])  # fmt: skip
    held = np.array([1.0] * 4 + [0.0, 1.0] + [0.0] * 3)  # to what is likely

    def lenses(values: Real) -> Twin:
        v = values * scale
        return replace(twin, lenses=(
            replace(twin.lenses[0], centre=(circles[0].x + v[0], circles[0].y + v[1]),
                    focal=base * float(np.exp(v[4] + v[5]))),
            replace(twin.lenses[1], centre=(circles[1].x + v[2], circles[1].y + v[3]),
                    focal=base * float(np.exp(v[4] - v[5])),
                    turn=turns_by(v[6:9]) @ twin.lenses[1].turn),
        ))  # fmt: skip

    evenly = _evenly(twin, pairs)[:, None]
    base = float(np.sqrt(twin.lenses[0].focal * twin.lenses[1].focal))
    start = np.zeros(9)
    for k, circle in enumerate(circles):
        away = np.array(twin.lenses[k].centre) - [circle.x, circle.y]
        start[2 * k : 2 * k + 2] = away / scale[2 * k : 2 * k + 2]
    start[5] = np.log(twin.lenses[0].focal / base) / scale[5]

    def left(values: Real) -> Real:
        off = _off(lenses(values), pairs) / LOOSE
        # Things are as near as they like, but none is further away than far.
        off[:, 1] *= np.where(off[:, 1] < 0, BEYOND, 1.0)
        off = np.sign(off) * np.sqrt(np.log1p(off**2)) * evenly  # Cauchy's: the near counts little
        return np.concatenate([off.ravel(), held * values * np.sqrt(len(pairs)) * HELD])

    fitted = lenses(scipy.optimize.least_squares(left, start, method="lm", max_nfev=400).x)
    return fitted, _gap(fitted, pairs)


def _evenly(twin: Twin, pairs: _Pairs) -> Real:
    """``(m,)`` what pairs count so that all sectors count alike, but for those below the camera,
    where its holder is."""
    sector = _sectors(twin, pairs)
    weight = 1 / np.bincount(sector, minlength=SECTORS)[sector]
    down = np.abs((sector + 0.5) / SECTORS - 0.25) < BELOW / 2
    weight = np.where(down, weight * LITTLE, weight)
    return np.asarray(np.sqrt(weight / weight.mean()))


def _sectors(twin: Twin, pairs: _Pairs) -> Indices:
    """``(m,)`` in which sector around, from the right downwards, pairs lie."""
    middle = _middles(twin, pairs)
    share = np.arctan2(middle[:, 1], middle[:, 0]) / (2 * np.pi) % 1
    return np.asarray((share * SECTORS).astype(int) % SECTORS)


def _off(twin: Twin, pairs: _Pairs) -> Real:
    """``(m, 2)`` radians by which both lenses disagree where a thing is: along the great circle,
    and across it, more if it is near."""
    rays = [lens.to_rays(at) for lens, at in
            zip(twin.lenses, (pairs.first, pairs.second), strict=True)]  # fmt: skip
    azimuth = [np.arctan2(ray[:, 1], ray[:, 0]) for ray in rays]
    angle = [np.arccos(np.clip(ray[:, 2], -1, 1)) for ray in rays]
    along = (azimuth[0] - azimuth[1] + np.pi) % (2 * np.pi) - np.pi
    return np.stack([along, angle[0] - angle[1]], axis=-1)


def _middles(twin: Twin, pairs: _Pairs) -> Rays:
    return twin.lenses[0].to_rays(pairs.first) + twin.lenses[1].to_rays(pairs.second)


def _gap(twin: Twin, pairs: _Pairs) -> Real:
    """The gap, as :class:`.Twin` has it: as coarse as it may be to agree with most pairs."""
    middle = _middles(twin, pairs)
    azimuth = np.arctan2(middle[:, 1], middle[:, 0])
    along, across = _off(twin, pairs).T
    turns = azimuth[:, None] * np.arange(1, WAVES + 1)
    parts = np.ones((len(pairs), 2 * WAVES + 1))
    parts[:, 1::2], parts[:, 2::2] = np.cos(turns), np.sin(turns)
    order = np.concatenate([[0.2], np.repeat(np.arange(1, WAVES + 1), 2)])
    gap = np.zeros(2 * WAVES + 1)
    agree = 1 / (1 + (along / LOOSE) ** 2)
    for _ in range(12):
        off = across - parts @ gap
        weight = agree / (1 + (off / (2 * LOOSE)) ** 2)
        square = parts.T @ (weight[:, None] * parts)
        hold = STIFF * weight.sum() * np.diag(order**2)
        gap = np.linalg.solve(square + hold, parts.T @ (weight * across))
    return gap


def _left(twin: Twin, pairs: _Pairs) -> tuple[float, Flags]:
    """What is left of pairs that agree, radians rms along one direction; and which those are."""
    middle = _middles(twin, pairs)
    off = _off(twin, pairs)
    off[:, 1] -= twin.gap_at(np.arctan2(middle[:, 1], middle[:, 0]))
    size = np.linalg.norm(off, axis=1)
    good = size < max(3 * float(np.median(size)), FINEST)
    return float(np.sqrt((off[good] ** 2).mean())), good
