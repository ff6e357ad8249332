"""Fall-off from a moving clip: the same thing in the world, seen at different radii, loses
different amounts of light.

Looked at are not the marks themselves, but spots beside them. After Goldman, *Vignette and exposure
calibration and compensation*, IEEE TPAMI 2010, in the log of light, in which the problem is linear:
a spot's light, the exposure of each frame, and the glass add up. Each spot's own light is taken
out; exposures are unknowns that change little from one frame to the next; the glass' middle is
found by Gauss-Newton steps. What the spots do not tell stays near nothing, and the doubt says so.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from ...geometry.canvas import Canvas
from ...geometry.lattice import lattice_points
from ...media.decode import Plane
from ...picture.light_about import LightAbout
from ...picture.radial import even_powers
from ...picture.working_space import WorkingSpace
from ...types import Indices, Points, Real
from .fall_off import TERMS
from .radial_fit import (
    FARTHEST,
    LATTICE,
    FallOffFit,
    faded,
    fall_off_at,
    field_at,
    lost_doubt,
    radial_slopes,
)

BESIDE, SPOTS = 0.042, 4  # of the picture's height, and how many: where beside a mark is looked
PATCH = 0.012  # of the picture's height: side of what is averaged about a mark
DARKEST, BRIGHTEST = 0.12, 0.9  # code values, black 0 and white 1, that can be trusted
SIGHTINGS = 3  # of a mark, at least
MARKS = 100  # fewer of which tell nothing
MOST = 40_000  # sightings, about, that are made use of
NOISE = 0.06  # stops, about, by which sightings of one mark differ anyway
DRIFT = 0.008  # stops, about, that exposure changes by from one frame looked at to the next
SIZE = 0.5  # stops that a coefficient may well have
# Shares of the picture that the middle may well be off. A camera that pans evenly cannot tell a
# middle to the side from light that changes: what lenses are like decides.
OFF = 0.01
HELD = 1e-4  # the same, while it is held
ROUNDS, SETTLED = 60, 5e-4  # most steps, and the change of any unknown that ends them
# Stops that spots lead astray without disagreeing: over the picture, and in its corners; found on
# recordings through known glass.
ASTRAY, ASTRAY_FAR = 0.03, 0.08
TELLS = 0.2  # stops of doubt over the picture, beyond which nothing is told


Look = tuple[NDArray[np.int64], Points]  # numbers (m,) of spots, and where they are (m, 2) pixels


@dataclass(frozen=True)
class Sightings:
    """How bright spots were seen: ``light`` ``(n,)`` log2 of linear light, of spot ``mark`` at
    pixel ``place`` ``(n, 2)`` in frame ``frame``, both counted from 0."""

    mark: Indices
    frame: Indices
    place: Points
    light: Real


def beside(ids: NDArray[Any], places: Points, turned: complex, height: int) -> Look:
    """What to look at in a frame that shows marks ``ids`` ``(m,)`` at pixels ``places`` ``(m, 2)``:
    numbers ``(4 m,)`` and pixels ``(4 m, 2)``, the same ones of the world in every frame.

    ``turned`` is how the picture has turned and grown since the first frame. A mark itself will not
    do: where it grows darker, following it leads towards what is bright, and its light stays.
    """
    around = BESIDE * height * turned * np.exp(2j * np.pi * (np.arange(SPOTS) + 0.5) / SPOTS)
    spots = places[:, None] + np.stack([around.real, around.imag], axis=-1)
    numbers = ids.astype(np.int64)[:, None] * SPOTS + np.arange(SPOTS)
    return numbers.ravel(), spots.reshape(-1, 2)


def light_at(luma: Plane, points: Points, space: WorkingSpace) -> Real:
    """``(m,)`` log2 of linear light about pixels ``(m, 2)`` of a luma plane: infinite where it
    cannot be trusted, NaN at the very edge."""
    about = LightAbout.of(luma, PATCH * luma.shape[0], space)
    value, light = about.at(points, DARKEST)
    edge = about.side / 2
    far = np.array(luma.shape[::-1]) - 1 - edge
    inside = ((points >= edge) & (points <= far)).all(axis=1)
    sure = (value > DARKEST) & (value < BRIGHTEST)
    return np.where(inside, np.where(sure, light, np.inf), np.nan)


def gather(seen: list[tuple[Look, Real]]) -> Sightings:
    """Sightings out of frames: what was looked at in each, and its light."""
    frame = np.concatenate([np.full(len(light), k) for k, (_, light) in enumerate(seen)])
    ids = np.concatenate([look[0] for look, _ in seen])
    place = np.concatenate([look[1] for look, _ in seen])
    light = np.concatenate([light for _, light in seen])
    # What was once too dark is left out as a whole: its other sightings are the brighter ones, and
    # would tell of less than there was.
    good = np.isfinite(light) & ~np.isin(ids, np.unique(ids[np.isinf(light)]))
    _, number, count = np.unique(ids[good], return_inverse=True, return_counts=True)
    often = count[number] >= SIGHTINGS
    _, mark = np.unique(number[often], return_inverse=True)
    # No more than are needed: every so-manyth, wherever they are.
    thin = mark % (1 + len(mark) // MOST) == 0
    _, mark = np.unique(mark[thin], return_inverse=True)
    keep = np.flatnonzero(good)[often][thin]
    return Sightings(mark.astype(np.intp), frame[keep].astype(np.intp), place[keep], light[keep])


def fit_fall_off(sightings: Sightings, canvas: Canvas) -> FallOffFit:
    """The fall-off that the brightness of marks speaks for."""
    count = int(sightings.mark.max()) + 1 if len(sightings.mark) else 0
    if count < MARKS:
        return FallOffFit(
            None, np.inf, np.inf, count,
            f"Only {count} marks were seen well enough and often enough; at least {MARKS} are "
            "needed to tell.",
        )  # fmt: skip
    return _solve(sightings, canvas).falling().told(count)


@dataclass(frozen=True)
class _Solved:
    """A fit; ``covariance`` of the stops and of the middle."""

    canvas: Canvas
    stops: Real
    middle: Real
    covariance: Real
    residual: float

    def told(self, marks: int) -> FallOffFit:
        found = fall_off_at(field_at(self.canvas, self.middle), self.stops)
        over = self._sure(lattice_points(self.canvas, *LATTICE))
        doubt = float(np.hypot(np.sqrt((over**2).mean()), ASTRAY))
        corners = self.canvas.to_pixels(self.canvas.corners)
        lost = found.lost(corners)
        corner = float(lost.max())
        unsure = float(np.hypot(self._sure(corners)[lost.argmax()], ASTRAY_FAR))
        if doubt > TELLS:
            words = (
                f"The marks cannot tell: what they say of the corners is unsure by {2 * unsure:.1f}"
                " stops. A camera that turns more tells more."
            )
            return FallOffFit(None, doubt, self.residual, marks, words)
        if corner < 2 * unsure:
            words = f"The marks tell of no fall-off: {corner:.2f} ± {2 * unsure:.2f} stops."
            return FallOffFit(None, doubt, self.residual, marks, words)
        words = (
            f"Up to {corner:.2f} ± {2 * unsure:.2f} stops lost in the corners, as {marks} spots "
            "tell that were seen near the middle and further out."
        )
        return FallOffFit(found, doubt, self.residual, marks, words)

    def _sure(self, places: Points) -> Real:
        """``(m,)`` the standard deviation of the stops at pixels ``(…, 2)`` against the middle."""
        field = field_at(self.canvas, self.middle)
        return lost_doubt(field, self.stops, self.covariance, places)

    def falling(self) -> _Solved:
        """The likeliest fit whose light never grows outwards."""
        reach = np.linspace(0, 1.1, 12)[:, None] ** np.arange(TERMS) * np.arange(1, TERMS + 1)
        if (reach @ self.stops >= 0).all():
            return self
        start = np.concatenate([self.stops, self.middle])
        known = np.linalg.inv(self.covariance)
        bound = scipy.optimize.LinearConstraint(np.pad(reach, ((0, 0), (0, 2))), 0.0, np.inf)

        def unlikely(v: Real) -> float:
            return float((v - start) @ known @ (v - start))

        best = scipy.optimize.minimize(
            unlikely, np.zeros(len(start)), method="SLSQP", constraints=[bound]
        )
        middle = np.clip(best.x[TERMS:], -FARTHEST, FARTHEST)
        return replace(self, stops=np.asarray(best.x[:TERMS]), middle=middle)


def _solve(seen: Sightings, canvas: Canvas) -> _Solved:
    """First with the middle held, then with it free: what only seems to differ because there are
    no weights yet must not carry it off. Each until it settles."""
    frames = int(seen.frame.max()) + 1
    exposure, stops, middle = np.zeros(frames), np.zeros(TERMS), np.zeros(2)
    weight = np.ones(len(seen.light))
    for held in (True, False):
        prior = _prior(frames, HELD if held else OFF)
        for _ in range(ROUNDS):
            system = _System(seen, canvas, exposure, stops, middle, weight)
            now = np.concatenate([exposure, stops, middle])
            step = np.linalg.solve(system.normal + prior, system.pull - prior @ now)
            exposure = exposure + step[:frames]
            stops = stops + step[frames : frames + TERMS]
            middle = np.clip(middle + step[frames + TERMS :], -FARTHEST, FARTHEST)
            system = _System(seen, canvas, exposure, stops, middle, weight)
            spread = max(float(1.4826 * np.median(np.abs(system.left))), 1e-3)
            weight = faded(system.left, 4.7 * spread)
            if np.abs(step).max() < SETTLED:
                break
    return _Solved(canvas, stops, middle, system.covariance(prior, spread), spread)


def _prior(frames: int, off: float) -> Real:
    """How much is known beforehand: exposures change little, coefficients and the middle's offset,
    ``off``, are not large. In units of a sighting's noise."""
    prior = np.zeros((frames + TERMS + 2, frames + TERMS + 2))
    change = np.diff(np.eye(frames), axis=0) * (NOISE / DRIFT)
    prior[:frames, :frames] = change.T @ change
    prior[0, 0] += 1e3  # the first frame's exposure is what others are told against
    own = np.concatenate([np.full(TERMS, NOISE / SIZE), np.full(2, NOISE / off)]) ** 2
    prior[frames:, frames:] = np.diag(own)
    return prior


class _System:
    """Normal equations about a state. Unknowns: exposures of frames, stops, middle; the light of
    each mark is taken out as the weighed mean of its sightings."""

    def __init__(
        self, seen: Sightings, canvas: Canvas, exposure: Real, stops: Real, middle: Real,
        weight: Real,
    ) -> None:  # fmt: skip
        field = field_at(canvas, middle)
        lost = even_powers(field.squared(seen.place), TERMS) @ stops
        raw = seen.light - exposure[seen.frame] + lost
        frames, rows = len(exposure), np.arange(len(raw))
        self.frames = frames
        one = scipy.sparse.csr_array(
            (np.ones(len(raw)), (rows, seen.frame)), shape=(len(raw), frames)
        )
        self._columns = scipy.sparse.hstack(
            [one, scipy.sparse.csr_array(-radial_slopes(field, seen.place, stops))]
        ).tocsr()
        self._marks = scipy.sparse.csr_array((weight, (seen.mark, rows)))
        total: Real = np.asarray(self._marks.sum(axis=1)).ravel()
        self._sums = (self._marks @ self._columns).toarray()  # by mark
        self._means = self._sums / total[:, None]
        self.left = raw - (np.asarray(self._marks @ raw) / total)[seen.mark]
        weighed = scipy.sparse.csr_array(self._columns * weight[:, None])
        self.normal = (weighed.T @ self._columns).toarray() - self._means.T @ self._sums
        self.pull = weighed.T @ self.left

    def covariance(self, prior: Real, spread: float) -> Real:
        """Of what the glass is told by. Sightings of one mark err together: marks count (Liang,
        Zeger, *Longitudinal data analysis using generalized linear models*, Biometrika
        1986); what they do not tell is as unsure as it was beforehand."""
        pulls = scipy.sparse.csr_array((self._marks * self.left) @ self._columns).toarray()
        pulls -= np.asarray(self._marks @ self.left)[:, None] * self._means
        inverse = np.linalg.inv(self.normal + prior)
        noise = pulls.T @ pulls + prior * max(NOISE, spread) ** 2
        total: Real = inverse @ noise @ inverse
        return np.asarray(total[self.frames :, self.frames :])
