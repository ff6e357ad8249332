"""Dead corners: where a hood, a filter's ring or a mount let so little light through that nothing
can be brought back.

What stays with the glass while the picture moves is told from what is merely dark by the brightest
that each place was ever seen: along rays from the picture's middle outwards it stays at what the
scene offers, and drops to black where the glass ends. How far out that is, is read on each ray
against what is seen just inside; the hull of these places is what is left of the picture, for a
scene can make a ray end too early, but not too late. Where they lie on one circle about the
picture's middle it is a ring's, and the circle says where it ends on the rays between, too.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
import scipy
from numpy.typing import NDArray

from ...geometry.canvas import Canvas
from ...geometry.live_area import LiveArea
from ...media.decode import Plane
from ...picture.working_space import WorkingSpace
from ...types import AnyArray, Points, Real
from .fall_off import FallOff
from .settings import GlassSettings

WIDE = 480  # px across that pictures are looked at with
RAYS, SAMPLES = 720, 320  # from the middle to the border, and places along each
# Linear light of what may be beyond the end of the glass: times as much as the darkest that is
# seen along the border; at least (white is 1), and at most, against the middle of the picture.
TIMES, BLACKEST, BLACK = 4.0, 0.002, 1 / 60
LEFT = 1.0  # stops above it from which on a ray has left the black
# Shares of the way to the border: how far inside the end, and over how much of it, the scene is.
GAP, INSIDE, LOOKS = 0.03, 0.06, 2
BESIDE = 0.03  # and by how much the ends of rays beside each other differ
TAIL = 0.3  # of as many rays as end in black: how many more on each side end where they do not
ALIKE = 5  # rays over which the end is taken as the middle one
RAMP = 0.14  # of the way to the border that the glass may take to end
DIM = 0.02  # light that the middle of the picture has to have been seen with
LEAST, MOST = 0.001, 0.35  # of the picture: less is nothing, more is no matter of corners
AGREE = 0.05  # of the way that a ray may end inside the hull, and still speak for it
SPEAK = 0.6  # share of the rays that have to
STILL = 0.25  # stops between the brightest and the darkest of a place, below which nothing moved
SIMPLER = 0.0012  # of the diagonal by which an outline may be told more simply
DIGITS = 4
# A circle is a ring's if so many of the ends of dark rays, about so much of the turn, are off it by
# no more than so much of its radius, and its middle as far from the picture's at the most.
RING_AGREE, RING_TURN, RING_OFF, RING_ASIDE = 0.75, 0.33, 0.012, 0.25
RING_SIDES = 48  # of the outline of a ring


@dataclass(frozen=True)
class DeadCorners:
    """What was found: ``live``, what is left of the picture, None if that is all of it or cannot be
    told; ``words`` say it. ``told`` is whether anything could be said at all."""

    live: LiveArea | None
    words: str
    told: bool = True

    @property
    def settings(self) -> dict[str, object]:
        """Those of the station; none if nothing could be told."""
        if not self.told:
            return {}
        return {"live": outline_of(self.live)}


def outline_of(live: LiveArea | None) -> tuple[tuple[float, float], ...]:
    """The corners of an area as settings have them; none for a whole picture."""
    if live is None:
        return ()
    return tuple((round(x, DIGITS), round(y, DIGITS)) for x, y in live.outline.tolist())


def live_area_of(settings: GlassSettings, canvas: Canvas) -> LiveArea | None:
    """What settings say is left of pictures of size ``canvas``; None for all of it. Raises
    ValueError if that is no area."""
    return LiveArea.within(canvas, np.array(settings.live)) if settings.live else None


def dead_shares(
    live: LiveArea | None, canvas: Canvas, columns: int, rows: int
) -> list[list[float]]:
    """``rows`` of ``columns`` shares, 0..1, of what lies about places of a lattice from edge to
    edge of the picture that is in dead corners."""
    if live is None:
        return np.zeros((rows, columns)).tolist()
    dead = 255 - live.mask(canvas.width, canvas.height)
    # About a place on the edge lies half as much, inside the picture.
    across, down = (n / (k - 1) for n, k in ((canvas.width, columns), (canvas.height, rows)))
    wide, high = round(across / 2), round(down / 2)
    larger = cv2.copyMakeBorder(dead, high, high, wide, wide, cv2.BORDER_REFLECT)
    shares = cv2.resize(larger, (columns, rows), interpolation=cv2.INTER_AREA) / 255
    return np.asarray(shares, float).round(3).tolist()


class LightSeen:
    """The most, the least and the mean light that each place of the picture was seen with, so far;
    1 is white."""

    def __init__(self, space: WorkingSpace) -> None:
        self._space = space
        self._most: AnyArray | None = None
        self._least: AnyArray | None = None
        self._sum: AnyArray | float = 0.0
        self._count = 0

    def look(self, luma: Plane) -> None:
        """Look at a picture ``(height, width)``."""
        high, wide = luma.shape
        size = (min(WIDE, wide), max(2, round(high * min(1.0, WIDE / wide))))
        small = cv2.resize(luma, size, interpolation=cv2.INTER_AREA).astype(np.float32)
        self._most = small if self._most is None else np.maximum(self._most, small)
        self._least = small if self._least is None else np.minimum(self._least, small)
        self._sum, self._count = self._sum + small, self._count + 1

    @property
    def light(self) -> tuple[Real, Real]:
        """``(rows, columns)`` linear light: the most, and the least. Raises ValueError before
        anything was looked at."""
        if self._most is None or self._least is None:
            raise ValueError("no picture was looked at")
        return self._of(self._most), self._of(self._least)

    @property
    def mean(self) -> Real:
        """``(rows, columns)`` linear light of the mean picture. Raises ValueError before anything
        was looked at."""
        if not self._count:
            raise ValueError("no picture was looked at")
        return self._of(np.asarray(self._sum) / self._count)

    def _of(self, codes: AnyArray) -> Real:
        value = np.clip(self._space.grey_value(codes.astype(float)), 0, 1)
        return np.asarray(self._space.light(value), float)


def fit_dead_corners(
    seen: LightSeen, canvas: Canvas, limit: float, glass: FallOff | None = None
) -> DeadCorners:
    """What is left of pictures of size ``canvas``: where the light that came through would have to
    be raised by no more than ``limit`` stops. ``glass`` is what is known of the fall-off: it counts
    against the limit, too."""
    most, least = seen.light
    high, wide = most.shape
    inner = np.s_[high // 4 : 3 * high // 4, wide // 4 : 3 * wide // 4]
    typical = float(np.median(most[inner]))
    if typical < DIM:
        return DeadCorners(
            None, "The picture is too dark to tell its corners from the glass.", False
        )
    places = _rays(canvas)
    stops = np.log2(np.maximum(_sampled(most, places), BLACKEST / 4))
    lost = np.zeros_like(stops) if glass is None else glass.lost(places)
    darkest = float(np.percentile(stops[:, -2:].max(axis=1), 2))
    black = float(np.log2(np.clip(TIMES * 2**darkest, BLACKEST, max(BLACKEST, BLACK * typical))))
    ends, sharp = _ends(stops, limit - lost, black)
    dark = ends < 1
    if glass is not None:
        beyond = lost > limit
        ends = np.minimum(ends, np.where(beyond.any(1), beyond.argmax(1) / (SAMPLES - 1), 1.0))
    if (ends >= 1).all():
        return DeadCorners(None, "Every corner of the picture sees light.")
    if (dark & ~sharp).sum() > (1 - SPEAK) * max(dark.sum(), 1):
        return DeadCorners(None, "What stays black fades in too slowly to be the end of the glass.")
    ring = _ring(places[:, 0], ends, places[:, -1], dark, canvas)
    outline = _hull(places[:, 0], ends, places[:, -1], canvas) if ring is None else ring
    live = LiveArea.within(canvas, outline)
    if 1 - live.share > MOST:
        return DeadCorners(
            None, f"{100 * (1 - live.share):.0f} % of the picture stays black: more than corners. "
            "A smaller output in Frame shows what is left.",
        )  # fmt: skip
    if 1 - live.share < LEAST or live.is_whole:
        return DeadCorners(None, "Every corner of the picture sees light.")
    if dark.any() and _agreeing(live, places, ends, dark) < SPEAK:
        return DeadCorners(
            None,
            "Parts of the picture's edge stay black, but not in the shape of a hood or a ring.",
        )
    words = f"{100 * (1 - live.share):.1f} % of the picture lies in dead corners."
    changed = np.log2(np.maximum(most, BLACKEST / 4) / np.maximum(least, BLACKEST / 4))
    if dark.any() and float(np.median(changed[inner])) < STILL:
        words += " The picture hardly moves: something black in the corners would look alike."
    return DeadCorners(live, words)


def _rays(canvas: Canvas) -> Points:
    """``(RAYS, SAMPLES, 2)`` pixels along rays from the middle to places evenly along the
    border."""
    width, height = canvas.width - 1.0, canvas.height - 1.0
    along = np.linspace(0, 2 * (width + height), RAYS, endpoint=False)
    x = np.clip(np.minimum(along, 2 * width + height - along), 0, width)
    y = np.clip(np.minimum(along - width, 2 * (width + height) - along), 0, height)
    middle = np.array([width, height]) / 2
    share = np.linspace(0, 1, SAMPLES)[:, None]
    border = np.stack([x, y], axis=-1)
    return np.asarray(middle + share * (border[:, None] - middle))


def _sampled(light: Real, places: Points) -> NDArray[np.float32]:
    """Light at pixels of the whole picture."""
    size = np.array(light.shape[::-1])
    full = places[:, -1].max(axis=0) + 1
    at = ((places + 0.5) * size / full - 0.5).astype(np.float32)
    return np.asarray(
        cv2.remap(
            light.astype(np.float32), at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
        )
    )


def _ends(stops: AnyArray, spare: AnyArray, black: float) -> tuple[Real, NDArray[np.bool_]]:
    """Along rays ``(RAYS, SAMPLES)`` of log2 light: where each ends, as a share of the way, 1 if it
    does not; and whether it does as sharply as glass. ``spare`` stops may be lost there; what is
    below ``black`` may be beyond the end."""
    ends, sharp = np.ones(len(stops)), np.ones(len(stops), bool)
    for k in np.flatnonzero(stops[:, -2:].max(axis=1) < black):
        lit = np.flatnonzero(stops[k] > black + LEFT)
        if not len(lit):
            ends[k], sharp[k] = 0.0, False
            continue
        ends[k] = _end(stops[k], spare[k], int(lit[-1]))
        beyond = np.flatnonzero(stops[k, round(ends[k] * (SAMPLES - 1)) :] < black)
        sharp[k] = bool(len(beyond)) and beyond[0] <= RAMP * SAMPLES
    for k in np.flatnonzero((ends < 1) & (np.roll(ends, 1) >= 1)):  # where runs of them begin
        _lengthen(ends, int(k), stops, spare)
    return np.asarray(scipy.ndimage.median_filter(ends, ALIKE, mode="wrap")), sharp


def _lengthen(ends: Real, start: int, stops: AnyArray, spare: AnyArray) -> None:
    """Where the border cuts off the way to black, on both sides of the run of rays that begins at
    ``start``, rays end about where those beside them do."""
    run = 1
    while run < RAYS and ends[(start + run) % RAYS] < 1:
        run += 1
    for first, way in ((start - 1, -1), (start + run, 1)):
        for away in range(round(TAIL * run)):
            here, beside = (first + way * away) % RAYS, (first + way * (away - 1)) % RAYS
            end = _end(stops[here], spare[here], round(ends[beside] * (SAMPLES - 1)))
            if ends[here] < 1 or end >= 1 or abs(end - ends[beside]) > BESIDE:
                break
            ends[here] = end


def _end(ray: AnyArray, spare: AnyArray, about: int) -> float:
    """Where a ray ``(SAMPLES,)`` ends that does so ``about`` there, as a share of the way: where
    the light is for the last time what it is further in, but for the ``spare`` stops."""
    end = about
    for _ in range(LOOKS):
        near = max(1, end - round(GAP * SAMPLES))
        scene = float(np.percentile(ray[max(0, near - round(INSIDE * SAMPLES)) : near], 80))
        enough = np.flatnonzero(ray >= scene - spare)
        if not len(enough):
            break
        end = int(enough[-1])
    return min(1.0, (end + 0.5) / (SAMPLES - 1))


def _ring(
    middle: Points, ends: Real, border: Points, dark: NDArray[np.bool_], canvas: Canvas
) -> Points | None:
    """``(RING_SIDES, 2)`` shares of the picture: the outline of the circle that ``dark`` rays end
    on; None if they do not end on one. A ray that the border cuts off a little before the circle
    seems to see light to its end: only the circle tells what lies between."""
    size = np.array([canvas.width, canvas.height])
    reached = (middle + ends[:, None] * (border - middle))[dark]
    if not len(reached):
        return None

    def off_circle(circle: Real) -> Real:
        return np.asarray(np.linalg.norm(reached - circle[:2], axis=1) - circle[2])

    typical = float(np.median(np.linalg.norm(reached - middle[0], axis=1)))
    start = np.array([*middle[0], typical])
    found = scipy.optimize.least_squares(
        off_circle, start, loss="soft_l1", f_scale=RING_OFF * typical / 2
    )
    x, y, radius = found.x
    off = np.abs(np.linalg.norm(reached - found.x[:2], axis=1) - radius)
    turn = np.angle((reached - found.x[:2]) @ np.array([1, 1j]))
    gaps = np.diff(np.sort(turn), append=turn.min() + 2 * np.pi)
    aside = float(np.hypot(x - middle[0, 0], y - middle[0, 1]))
    if (
        (off < RING_OFF * radius).mean() < RING_AGREE
        or 1 - gaps.max() / (2 * np.pi) < RING_TURN
        or aside > RING_ASIDE * radius
    ):
        return None
    about = np.arange(RING_SIDES) * 2 * np.pi / RING_SIDES
    # Corners a little outside, sides a little inside: as large as the circle.
    reach = radius * (1 + (np.pi / RING_SIDES) ** 2 / 3)
    places = np.array([x, y]) + reach * np.stack([np.cos(about), np.sin(about)], axis=-1)
    return np.asarray((places + 0.5) / size)


def _hull(middle: Points, ends: Real, border: Points, canvas: Canvas) -> Points:
    """``(m, 2)`` shares of the picture: the hull of where rays end, told simply."""
    size = np.array([canvas.width, canvas.height])
    reached = middle + ends[:, None] * (border - middle)
    # A ray that sees light to its end reaches the very side of the picture.
    shares = np.where(ends[:, None] < 1, (reached + 0.5) / size, border / (size - 1))
    points = np.concatenate([shares, _corners_seen(ends, border, size)])
    hull = cv2.convexHull((points * size).astype(np.float32)[:, None])
    simple = cv2.approxPolyDP(hull, SIMPLER * float(np.hypot(*size)), True)[:, 0]
    return np.asarray(simple / size, float)


def _corners_seen(ends: Real, border: Points, size: AnyArray) -> Points:
    """Those of the picture's corners, in shares, that the nearest rays see light in."""
    corners = np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]])
    nearest = [int(np.abs(border - corner * (size - 1)).sum(axis=1).argmin()) for corner in corners]
    return corners[ends[nearest] >= 1]


def _agreeing(live: LiveArea, places: Points, ends: Real, dark: NDArray[np.bool_]) -> float:
    """The share of dark rays that end about where the hull does."""
    rays = live.covers(live.canvas.to_scene(places[dark]), 1e-6)
    hull = rays.sum(axis=1) / places.shape[1]
    return float((hull - ends[dark] < AGREE).mean())
