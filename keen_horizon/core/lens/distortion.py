"""Distortion models: radii and Jacobians of straight rays bent by a lens.

All act on *normalised image coordinates* ``x = X/Z + i Y/Z`` (complex, y down), as in the OpenCV
documentation, and give the bent ones; ``r = |x|``, ``u = r^2``.

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

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Real = NDArray[np.float64]
Complex = NDArray[np.complex128]
Model = Literal["rectilinear", "brown", "fisheye", "division"]
USED = {  # the coefficients that each model has
    "rectilinear": (),
    "brown": ("k1", "k2", "k3", "p1", "p2"),
    "fisheye": ("k1", "k2", "k3", "k4"),
    "division": ("k1",),
}
WIDEST = np.tan(np.radians(87.0))  # straight radius beyond which nothing is drawn
TABLE = 640  # entries of the table from which an inverse starts


@dataclass(frozen=True)
class Distortion:
    """A model with its coefficients, ``k`` (up to four) and ``p`` (two)."""

    model: Model = "rectilinear"
    k: tuple[float, ...] = (0.0, 0.0, 0.0, 0.0)
    p: tuple[float, float] = (0.0, 0.0)

    @property
    def is_radial(self) -> bool:
        return self.model != "brown" or not any(self.p)

    def radius(self, r: Real) -> Real:
        """Bent radius of straight radii ``r``, tangential part apart."""
        if self.model == "brown":
            u = r * r
            return np.asarray(r * (1 + u * (self.k[0] + u * (self.k[1] + u * self.k[2]))))
        if self.model == "fisheye":
            return self.of_angle(np.arctan(r))
        if self.model == "division":
            with np.errstate(invalid="ignore"):
                return np.asarray(2 * r / (1 + np.sqrt(1 - 4 * self.k[0] * r * r)))
        return r

    def of_angle(self, theta: Real) -> Real:
        """Bent radius of rays ``theta`` radians off the axis (fisheye only)."""
        t = theta * theta
        k1, k2, k3, k4 = (*self.k, 0.0, 0.0, 0.0, 0.0)[:4]
        return np.asarray(theta * (1 + t * (k1 + t * (k2 + t * (k3 + t * k4)))))

    def slope(self, r: Real) -> Real:
        """Derivative of :meth:`radius`."""
        u = r * r
        if self.model == "brown":
            k1, k2, k3 = self.k[:3]
            return np.asarray(1 + u * (3 * k1 + u * (5 * k2 + u * 7 * k3)))
        if self.model == "fisheye":
            t = np.arctan(r) ** 2
            k1, k2, k3, k4 = (*self.k, 0.0, 0.0, 0.0, 0.0)[:4]
            turned = 1 + t * (3 * k1 + t * (5 * k2 + t * (7 * k3 + t * 9 * k4)))
            return np.asarray(turned / (1 + u))
        if self.model == "division":
            with np.errstate(invalid="ignore", divide="ignore"):
                root = np.sqrt(1 - 4 * self.k[0] * u)
                return np.asarray(2 / (root * (1 + root)))
        return np.ones_like(r)

    @cached_property
    def limit(self) -> float:
        """Straight radius at which the model stops being invertible; :data:`WIDEST` at most."""
        if self.model == "brown":
            return _first_root([1.0, *(c * k for c, k in zip((3, 5, 7), self.k, strict=False))])
        if self.model == "fisheye":
            k = (*self.k, 0.0, 0.0, 0.0, 0.0)[:4]
            theta = _first_root([1.0, *(c * v for c, v in zip((3, 5, 7, 9), k, strict=True))])
            return float(min(np.tan(min(theta, 1.57)), WIDEST))
        if self.model == "division" and self.k[0] > 0:
            return float(min(0.5 / np.sqrt(self.k[0]), WIDEST))
        return float(WIDEST)

    def bend(self, x: Complex) -> Complex:
        """Straight to bent, any shape; wherever the model is invertible (see :attr:`limit`)."""
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
        """``(xx, xy, yy)`` of the symmetric derivative of :meth:`bend`."""
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

    def straighten(self, bent: Complex, share: float = 1.0) -> Complex:
        """Bent to straight, any shape; NaN where nothing straight is bent there.

        ``share`` of the distortion: what :func:`partly` bends is straightened.
        """
        radii, bent_radii = self._table(share)
        rd = np.abs(bent)
        r = np.interp(rd, bent_radii, radii)
        with np.errstate(invalid="ignore", divide="ignore"):
            unit = np.where(rd > 1e-12, bent / np.maximum(rd, 1e-12), 1.0)
        if self.is_radial:
            for _ in range(3):
                over = (1 - share) * r + share * self.radius(r) - rd
                slope = np.maximum((1 - share) + share * self.slope(r), 1e-6)
                r = np.clip(r - over / slope, 0.0, radii[-1])
            return self._reached(np.asarray(r * unit, complex), rd, bent_radii)
        x = np.asarray(r * unit, complex)
        for _ in range(6):
            e = (1 - share) * x + share * self.bend(x) - bent
            xx, xy, yy = (share * part for part in self.jacobian(x))
            xx, yy = xx + 1 - share, yy + 1 - share
            det = xx * yy - xy * xy
            det = np.where(np.abs(det) < 1e-9, 1e-9, det)
            x = x - ((yy * e.real - xy * e.imag) + 1j * (xx * e.imag - xy * e.real)) / det
        return self._reached(x, rd, bent_radii)

    @staticmethod
    def _reached(x: Complex, rd: Real, bent_radii: Real) -> Complex:
        return np.asarray(np.where(rd > bent_radii[-1] * (1 + 1e-9), np.nan + 0j, x))

    def _table(self, share: float) -> tuple[Real, Real]:
        """Straight radii and what they are bent to, both rising."""
        known = self._tables.get(share)
        if known is None:
            # Even in angle, so that wide angles do not starve narrow ones.
            top = np.arctan(min(self.limit_of(share), WIDEST))
            radii = np.tan(np.linspace(0.0, top, TABLE))
            known = radii, (1 - share) * radii + share * self.radius(radii)
            self._tables[share] = known
        return known

    @cached_property
    def _tables(self) -> dict[float, tuple[Real, Real]]:
        return {}

    def limit_of(self, share: float) -> float:
        """As :attr:`limit`, of ``share`` of the distortion."""
        if share >= 1.0 or self.limit >= WIDEST:
            return self.limit
        if self.model == "division":  # it ends there, whatever the share
            return self.limit
        radii = np.tan(np.linspace(0.0, np.arctan(WIDEST), 24 * TABLE))
        slopes = (1 - share) + share * self.slope(radii)
        down = np.nonzero(slopes <= 0)[0]
        return float(radii[max(0, down[0] - 1)]) if len(down) else float(WIDEST)


def _first_root(rising: list[float]) -> float:
    """The square root of the smallest positive root of a polynomial, lowest power first;
    :data:`WIDEST` if there is none before that."""
    powers = np.trim_zeros(np.array(rising[::-1], float), "f")
    roots = np.roots(powers) if len(powers) > 1 else np.zeros(0)
    real = roots[np.abs(roots.imag) < 1e-9 * np.maximum(1.0, np.abs(roots.real))].real
    positive = real[real > 1e-12]
    return float(min(np.sqrt(positive.min()), WIDEST)) if len(positive) else float(WIDEST)
