"""Distortion models: straight rays bent by a lens, and back.

*Convention.* Points are normalised image coordinates ``x = X/Z + i Y/Z`` (complex, y down) of a
focal length of 1, as in the OpenCV documentation. ``distort`` goes from straight to recorded,
``undistort`` from recorded to straight; ``r = |x|``, ``u = r^2``. Coefficients are laid out
``k = (k1, k2, k3, k4)`` and ``p = (p1, p2)``; a model leaves alone those it has not.

- ``brown``: ``x (1 + k1 u + k2 u^2 + k3 u^3)`` and the tangential part ``p1, p2`` (Brown,
  *Decentering distortion of lenses*, Photogrammetric Engineering 1966);
- ``fisheye``: ``theta (1 + k1 theta^2 + ... + k4 theta^8)`` along ``x / r``, ``theta = atan r``
  (Kannala, Brandt, *A generic camera model and calibration method for conventional, wide-angle, and
  fish-eye lenses*, PAMI 2006);
- ``division``: the radius that ``r_d / (1 + k1 r_d^2)`` straightens to ``r`` (Fitzgibbon,
  *Simultaneous linear estimation of multiple view geometry and lens distortion*, CVPR 2001);
- ``rectilinear``: nothing.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from types import MappingProxyType
from typing import Any, ClassVar, Literal

import numpy as np

from ..stored import stored
from ..types import Complex, Rays, Real

LensModel = Literal["rectilinear", "brown", "fisheye", "division"]
WIDEST = float(np.tan(np.radians(87.0)))  # straight radius beyond which nothing is drawn
TABLE = 640  # entries of the table from which an inverse starts
FINE = 24 * TABLE  # and of that in which a limit is looked for
NEWTON_ROUNDS = 3  # from the table's entry; leaves 1e-12 (a test holds it)
TANGENTIAL_ROUNDS = 6


class RadialProfile:
    """How a model bends radii. ``label`` is what a page calls it; ``coefficients`` those it has."""

    label: ClassVar[str] = "straight"
    coefficients: ClassVar[tuple[str, ...]] = ()
    by_angle: ClassVar[bool] = False  # defined for rays to the side of and behind the camera

    @staticmethod
    def radius(k: tuple[float, ...], r: Real) -> Real:
        """Recorded radius of straight radii ``r``."""
        return r

    @staticmethod
    def slope(k: tuple[float, ...], r: Real) -> Real:
        """Derivative of :meth:`radius`."""
        return np.ones_like(r)

    @staticmethod
    def limit(k: tuple[float, ...]) -> float:
        """Straight radius at which it stops rising; :data:`WIDEST` at most."""
        return WIDEST


class BrownConrady(RadialProfile):
    label = "Brown–Conrady"
    coefficients = ("k1", "k2", "k3", "p1", "p2")

    @staticmethod
    def radius(k: tuple[float, ...], r: Real) -> Real:
        u = r * r
        return np.asarray(r * (1 + u * (k[0] + u * (k[1] + u * k[2]))))

    @staticmethod
    def slope(k: tuple[float, ...], r: Real) -> Real:
        u = r * r
        return np.asarray(1 + u * (3 * k[0] + u * (5 * k[1] + u * 7 * k[2])))

    @staticmethod
    def limit(k: tuple[float, ...]) -> float:
        return _first_root([1.0, 3 * k[0], 5 * k[1], 7 * k[2]])


class KannalaBrandt(RadialProfile):
    label = "fisheye (Kannala–Brandt)"
    coefficients = ("k1", "k2", "k3", "k4")
    by_angle = True

    @staticmethod
    def of_angle(k: tuple[float, ...], theta: Real) -> Real:
        """Recorded radius of rays ``theta`` radians off the axis, 0 to pi."""
        t = theta * theta
        return np.asarray(theta * (1 + t * (k[0] + t * (k[1] + t * (k[2] + t * k[3])))))

    @staticmethod
    def radius(k: tuple[float, ...], r: Real) -> Real:
        return KannalaBrandt.of_angle(k, np.arctan(r))

    @staticmethod
    def slope(k: tuple[float, ...], r: Real) -> Real:
        t = np.arctan(r) ** 2
        by_theta = 1 + t * (3 * k[0] + t * (5 * k[1] + t * (7 * k[2] + t * 9 * k[3])))
        return np.asarray(by_theta / (1 + r * r))

    @staticmethod
    def limit(k: tuple[float, ...]) -> float:
        return float(min(np.tan(min(KannalaBrandt.angle_limit(k), 1.57)), WIDEST))

    @staticmethod
    def angle_limit(k: tuple[float, ...]) -> float:
        """Angle off the axis, radians, at which the recorded radius stops rising; pi at most."""
        return min(_first_root([1.0, 3 * k[0], 5 * k[1], 7 * k[2], 9 * k[3]]), float(np.pi))


class Division(RadialProfile):
    label = "one parameter (division)"
    coefficients = ("k1",)

    @staticmethod
    def radius(k: tuple[float, ...], r: Real) -> Real:
        with np.errstate(invalid="ignore"):
            return np.asarray(2 * r / (1 + np.sqrt(1 - 4 * k[0] * r * r)))

    @staticmethod
    def slope(k: tuple[float, ...], r: Real) -> Real:
        with np.errstate(invalid="ignore", divide="ignore"):
            root = np.sqrt(1 - 4 * k[0] * r * r)
            return np.asarray(2 / (root * (1 + root)))

    @staticmethod
    def limit(k: tuple[float, ...]) -> float:
        return float(min(0.5 / np.sqrt(k[0]), WIDEST)) if k[0] > 0 else WIDEST


DISTORTION_MODELS: Mapping[str, type[RadialProfile]] = MappingProxyType(
    {
        "rectilinear": RadialProfile,
        "brown": BrownConrady,
        "fisheye": KannalaBrandt,
        "division": Division,
    }
)
"""The one table of models: settings, fits, files and pages read it."""


@stored
@dataclass(frozen=True)
class Distortion:
    """A model with its coefficients, ``k`` (up to four) and ``p`` (two).

    >>> barrel = Distortion("brown", (-0.2, 0.0, 0.0, 0.0))
    >>> bent = barrel.distort(np.array([0.5 + 0j]))
    >>> bent
    array([0.475+0.j])
    >>> barrel.undistort(bent).round(9)
    array([0.5+0.j])
    """

    model: LensModel = "rectilinear"
    k: tuple[float, ...] = (0.0, 0.0, 0.0, 0.0)
    p: tuple[float, ...] = (0.0, 0.0)

    @property
    def profile(self) -> type[RadialProfile]:
        return DISTORTION_MODELS[self.model]

    @property
    def _k(self) -> tuple[float, ...]:
        return (*self.k, 0.0, 0.0, 0.0, 0.0)[:4]

    @property
    def is_radial(self) -> bool:
        return "p1" not in self.profile.coefficients or not any(self.p)

    def radius(self, r: Real) -> Real:
        """Recorded radius of straight radii ``r``, tangential part apart."""
        return self.profile.radius(self._k, r)

    def slope(self, r: Real) -> Real:
        """Derivative of :meth:`radius`."""
        return self.profile.slope(self._k, r)

    def radius_of_angle(self, theta: float) -> float:
        """Recorded radius of rays ``theta`` radians off the axis, tangential part apart."""
        if self.profile.by_angle:
            return float(KannalaBrandt.of_angle(self._k, np.array(theta)))
        return float(self.radius(np.tan(np.array(theta))))

    @cached_property
    def max_undistorted_radius(self) -> float:
        """Straight radius at which the model stops being invertible; :data:`WIDEST` at most."""
        return self.profile.limit(self._k)

    def distort(self, x: Complex) -> Complex:
        """Straight to recorded, any shape; true up to :attr:`max_undistorted_radius`."""
        r = np.abs(x)
        with np.errstate(invalid="ignore", divide="ignore"):
            bent = np.where(r > 1e-12, x * (self.radius(r) / np.maximum(r, 1e-12)), x)
        return np.asarray(bent if self.is_radial else bent + self._tangential(x))

    def _tangential(self, x: Complex) -> Complex:
        a, b = x.real, x.imag
        p1, p2 = self.p
        u = a * a + b * b
        return np.asarray(
            2 * p1 * a * b + p2 * (u + 2 * a * a) + 1j * (p1 * (u + 2 * b * b) + 2 * p2 * a * b)
        )

    def jacobian(self, x: Complex) -> tuple[Real, Real, Real]:
        """``(xx, xy, yy)`` of the symmetric derivative of :meth:`distort`."""
        r = np.maximum(np.abs(x), 1e-12)
        across, along = self.radius(r) / r, self.slope(r)
        unit = x / r
        c, s = unit.real, unit.imag
        p1, p2 = self.p if not self.is_radial else (0.0, 0.0)
        a, b = x.real, x.imag
        xx = along * c * c + across * s * s + 2 * p1 * b + 6 * p2 * a
        xy = (along - across) * c * s + 2 * p1 * a + 2 * p2 * b
        yy = along * s * s + across * c * c + 6 * p1 * b + 2 * p2 * a
        return xx, xy, yy

    def undistort(self, bent: Complex, amount: Any = 1.0) -> Complex:
        """Recorded to straight, any shape; NaN where nothing straight is recorded there.

        ``amount`` of the distortion, 0..1, a number, or one a row of ``bent`` ``(n, m)``: what
        ``(1 - amount) x + amount distort(x)`` gives is undone. By Newton's method from a table;
        converges wherever the model is invertible.
        """
        amounts = np.atleast_1d(np.asarray(amount, float))
        rows = np.atleast_2d(bent.reshape(len(amounts), -1) if amounts.size > 1 else bent.ravel())
        x = self._undistort_rows(rows, amounts[:, None])
        return x.reshape(bent.shape)

    def _undistort_rows(self, bent: Complex, amount: Real) -> Complex:
        rd = np.abs(bent)
        r, furthest, top = self._start(rd, amount[:, 0])
        with np.errstate(invalid="ignore", divide="ignore"):
            unit = np.where(rd > 1e-12, bent / np.maximum(rd, 1e-12), 1.0)
        if self.is_radial:
            for _ in range(NEWTON_ROUNDS):
                over = (1 - amount) * r + amount * self.radius(r) - rd
                slope = np.maximum((1 - amount) + amount * self.slope(r), 1e-6)
                r = np.clip(r - over / slope, 0.0, top[:, None])
            x = np.asarray(r * unit, complex)
        else:
            x = np.asarray(r * unit, complex)
            for _ in range(TANGENTIAL_ROUNDS):
                e = (1 - amount) * x + amount * self.distort(x) - bent
                xx, xy, yy = (amount * part for part in self.jacobian(x))
                xx, yy = xx + 1 - amount, yy + 1 - amount
                det = xx * yy - xy * xy
                det = np.where(np.abs(det) < 1e-9, 1e-9, det)
                x = x - ((yy * e.real - xy * e.imag) + 1j * (xx * e.imag - xy * e.real)) / det
        return np.asarray(np.where(rd > furthest[:, None] * (1 + 1e-9), np.nan + 0j, x))

    def _start(self, rd: Real, amount: Real) -> tuple[Real, Real, Real]:
        """Straight radii near those that are bent to ``rd`` ``(n, m)``; and of each row the largest
        recorded and the largest straight radius."""
        r = np.empty_like(rd)
        top = np.atleast_1d(self.radius_limit(amount))
        furthest = np.empty(len(amount))
        for row, share in enumerate(amount):
            # Even in angle, so that wide angles do not starve narrow ones.
            radii = np.tan(np.linspace(0.0, np.arctan(min(top[row], WIDEST)), TABLE))
            recorded = (1 - share) * radii + share * self.radius(radii)
            r[row] = np.interp(rd[row], recorded, radii)
            furthest[row], top[row] = recorded[-1], radii[-1]
        return r, furthest, top

    def radius_limit(self, amount: float | Real = 1.0) -> float | Real:
        """As :attr:`max_undistorted_radius`, of ``amount`` of the distortion, one or ``(n,)``."""
        whole = self.max_undistorted_radius
        if whole >= WIDEST or self.model == "division":  # which ends there, whatever the amount
            return np.full(np.shape(amount), whole) if np.ndim(amount) else whole
        radii, least = self._least_slopes
        share = np.clip(np.asarray(amount, float), 0.0, 1.0)
        with np.errstate(divide="ignore"):
            folds_at = -(1 - share) / np.where(share > 0, share, np.inf)
        # The slope has once been as low as that: from there on it folds.
        at = np.searchsorted(-least, -folds_at, side="left")
        part = np.where(at < len(radii), radii[np.clip(at - 1, 0, len(radii) - 1)], WIDEST)
        limit = np.where(share >= 1.0, whole, np.where(share <= 0.0, WIDEST, part))
        return np.asarray(limit) if np.ndim(amount) else float(limit)

    @cached_property
    def _least_slopes(self) -> tuple[Real, Real]:
        """Radii, and the least slope up to each."""
        radii = np.tan(np.linspace(0.0, np.arctan(WIDEST), FINE))
        return radii, np.minimum.accumulate(self.slope(radii))

    # --- rays, also those to the side of and behind the camera ------------------------------------

    def project(self, rays: Rays) -> Complex:
        """Rays ``(..., 3)`` to recorded points ``(...)``; NaN where the lens sees none."""
        across = rays[..., 0] + 1j * rays[..., 1]
        away, depth = np.abs(across), rays[..., 2]
        if self.profile.by_angle:
            theta = np.arctan2(away, depth)
            bent = KannalaBrandt.of_angle(self._k, theta)
            # Straight ahead is the centre; straight behind lies in every direction: to the right.
            unit = np.where(away > 1e-12, across / np.maximum(away, 1e-12), 1.0)
            seen = theta <= KannalaBrandt.angle_limit(self._k)
            return np.asarray(np.where(seen, unit * bent, np.nan + 0j))
        with np.errstate(invalid="ignore", divide="ignore"):
            x = across / depth
            seen = (depth > 0) & (np.abs(x) <= self.max_undistorted_radius)
            return np.asarray(np.where(seen, self.distort(np.where(seen, x, 0)), np.nan + 0j))

    def unproject(self, bent: Complex) -> Rays:
        """Recorded points ``(...)`` to unit rays ``(..., 3)``; NaN where no ray is recorded."""
        rd = np.abs(bent)
        if self.profile.by_angle:
            thetas = np.linspace(0.0, KannalaBrandt.angle_limit(self._k), 4096)
            recorded = KannalaBrandt.of_angle(self._k, thetas)
            theta = np.interp(rd, recorded, thetas, right=np.nan)
            for _ in range(NEWTON_ROUNDS):
                t = theta * theta
                k = self._k
                slope = 1 + t * (3 * k[0] + t * (5 * k[1] + t * (7 * k[2] + t * 9 * k[3])))
                over = KannalaBrandt.of_angle(k, theta) - rd
                theta = np.clip(theta - over / np.maximum(slope, 1e-6), 0.0, thetas[-1])
            unit = bent / np.maximum(rd, 1e-12)
        else:
            straight = self.undistort(bent)
            theta = np.arctan(np.abs(straight))
            with np.errstate(invalid="ignore"):
                unit = straight / np.maximum(np.abs(straight), 1e-12)
        sine = np.sin(theta)
        return np.stack([unit.real * sine, unit.imag * sine, np.cos(theta)], axis=-1)


def _first_root(rising: list[float]) -> float:
    """The square root of the smallest positive root of a polynomial, lowest power first;
    :data:`WIDEST` if there is none before that."""
    told = np.where(np.abs(rising) < 1e-12, 0.0, rising)  # less is nothing, and overflows roots
    powers = np.trim_zeros(told[::-1], "f")
    roots = np.roots(powers) if len(powers) > 1 else np.zeros(0)
    real = roots[np.abs(roots.imag) < 1e-9 * np.maximum(1.0, np.abs(roots.real))].real
    positive = real[real > 1e-12]
    return float(min(np.sqrt(positive.min()), WIDEST)) if len(positive) else WIDEST
