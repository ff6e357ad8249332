"""Lateral colour from the edges of a few frames: where red and blue are the same edge, moved.

Small patches about edges are compared: in each, red (or blue) is green made stronger or weaker, and
lighter or darker, and moved by a little. By how much is told by the profile of the edge across
itself, and not along it; so a patch speaks with the weight that its edges have in each direction,
and a smooth field over the radius is fitted to them all. After Rudakova, Monasse, *Precise
correction of lateral chromatic aberration in images*, PSIVT 2013, with edges in place of discs.

Compared are pictures of chroma's own size: only there do all three colours tell as much.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ...geometry.canvas import Canvas
from ...geometry.lattice import lattice_points
from ...media.decode import Picture
from ...picture.colours import colours_in_codes
from ...picture.radial import RadialField
from ...picture.warp import chroma_matrix, nodes_over, spread
from ...picture.working_space import WorkingSpace
from ...types import Flags, Points, Real
from .lateral import Lateral, lateral_settings
from .radial_fit import FARTHEST, LATTICE, faded, field_at

PATCH = 12  # px of chroma that a patch is wide and high
BEST = 3600  # patches of a frame that are looked at
SECTORS = 6  # by which the picture is divided each way, that all parts of it are heard
STRONG = 0.06  # of code values from black to white a px: the steepest slope of an edge worth a look
DARKEST, BRIGHTEST = 0.02, 0.97  # code values of a patch, beyond which a colour may be cut off
ROUNDS = 3  # of moving red and blue by what was found, and looking again
FEW = 60  # patches, fewer of which tell nothing
BLUNT = 0.06  # px of chroma that a patch may mislead by, however sharp its edge
FLAT = 0.015  # of code values: what a colour differs from green by in a patch, about its mean,
COLOURFUL = 0.06  # less of which a codec may have left out; and more of which is no fringe
NOISE = 0.03  # of code values, at least: what a codec may have changed
OFF = 0.015  # shares of the picture's size that the middle may well be off
SHIFTED = 0.15  # px of chroma by which all of a colour may well be shifted: misplaced chroma
PARTED = 0.003  # shares of half the diagonal that a term may well have
TUKEY = 4.0
ASTRAY = 0.06  # px of the picture, by which a codec leads all patches astray; found on recordings
SURE = 2.0  # standard deviations by which something must differ from nothing

Plane32 = NDArray[np.float32]
Pixels = tuple[NDArray[np.intp], NDArray[np.intp]]  # rows and columns of patches


@dataclass(frozen=True)
class Partings:
    """What patches tell: ``place`` ``(m, 2)`` px of the picture; ``moved`` ``(m, 2)`` px by which a
    colour lies off green; ``weight`` ``(m, 2, 2)``, the inverse of its covariance; ``cell``
    ``(m,)`` numbers of the parts of the picture that they are in."""

    place: Points
    moved: Points
    weight: Real
    cell: NDArray[np.intp]


@dataclass(frozen=True)
class LateralFit:
    """What was found. ``doubt`` is the standard deviation of red's and blue's places, rms px over
    the picture; ``residual`` what patches still differ by, px, robust; ``patches`` how many told;
    ``words`` say it."""

    lateral: Lateral | None
    doubt: tuple[float, float]
    residual: float
    patches: int
    words: str

    @property
    def settings(self) -> dict[str, Any] | None:
        """Those of the station, if anything was found."""
        if self.lateral is None:
            return None
        return lateral_settings(self.lateral, max(self.doubt))


@dataclass(frozen=True)
class Colours:
    """One frame's red, green and blue at chroma's size, black 0 and white 1; ``to_luma`` ``(3,
    3)`` takes its pixels to the picture's."""

    red: Plane32
    green: Plane32
    blue: Plane32
    to_luma: Real


def colours_of(picture: Picture, space: WorkingSpace) -> Colours:
    """A frame's colours, luma averaged about chroma's samples."""
    _, colours = colours_in_codes(picture, space)
    red, green, blue = (np.asarray(space.grey_value(one), np.float32) for one in colours)
    return Colours(red, green, blue, chroma_matrix(picture.chroma, picture.site))


def fit_lateral(frames: list[Colours], canvas: Canvas) -> LateralFit:
    """The lateral colour that the edges of some frames speak for."""
    chosen = [edge_patches(colours) for colours in frames]
    count = sum(len(patches) for patches in chosen)
    if count < FEW:
        return LateralFit(
            None, (np.inf, np.inf), np.inf, count,
            f"Only {count} places have edges sharp enough to compare colours at; at least {FEW} "
            "are needed.",
        )  # fmt: skip
    return solve_lateral(frames, chosen, canvas).told(count)


def _median(parts: Sequence[Real]) -> float:
    """Of all values of some lists; NaN of none."""
    values = np.concatenate(parts)
    return float(np.median(values)) if values.size else np.nan


def solve_lateral(
    frames: list[Colours], chosen: list[NDArray[np.intp]], canvas: Canvas
) -> SolvedLateral:
    """The field over the patches that were chosen of each frame."""
    lateral = Lateral(RadialField(canvas), (0.0, 0.0), (0.0, 0.0))
    for _ in range(ROUNDS):
        told = [
            _joined([
                _partings(colours, patches, lateral, k)
                for colours, patches in zip(frames, chosen, strict=True)
            ])
            for k in (0, 1)
        ]  # fmt: skip
        solved = SolvedLateral.of(told, canvas, lateral)
        lateral = solved.lateral
    return solved


# --- patches --------------------------------------------------------------------------------------


def edge_patches(colours: Colours) -> NDArray[np.intp]:
    """``(m, 2)`` rows and columns of patches, counted in patches, with the strongest edges of each
    part of the picture; none that is cut off."""
    green = colours.green
    rows, columns = (n // PATCH for n in green.shape)
    part = np.s_[: rows * PATCH, : columns * PATCH]

    def by_patch(plane: Plane32, how: Any) -> Real:
        return np.asarray(how(plane[part].reshape(rows, PATCH, columns, PATCH), axis=(1, 3)))

    gx, gy = _slopes(green)
    strength = by_patch(np.sqrt(gx * gx + gy * gy), np.max)
    whole = np.ones((rows, columns), bool)
    for plane in (colours.red, green, colours.blue):
        whole &= (by_patch(plane, np.min) > DARKEST) & (by_patch(plane, np.max) < BRIGHTEST)
    whole[[0, -1]] = whole[:, [0, -1]] = False  # pictures are made up beyond their rim
    strength = np.where(whole & (strength > STRONG), strength, 0.0)
    chosen = []
    each = BEST // SECTORS**2
    for row in np.array_split(np.arange(rows), SECTORS):
        for column in np.array_split(np.arange(columns), SECTORS):
            cell = strength[np.ix_(row, column)].ravel()
            best = np.argsort(-cell)[:each]
            best = best[cell[best] > 0]
            chosen.append(np.stack([row[best // len(column)], column[best % len(column)]], -1))
    return np.concatenate(chosen)


def _slopes(plane: Plane32) -> tuple[Plane32, Plane32]:
    """By how much it changes a px across and down (Scharr's masks)."""
    return (
        np.asarray(cv2.Scharr(plane, cv2.CV_32F, 1, 0, scale=1 / 32)),
        np.asarray(cv2.Scharr(plane, cv2.CV_32F, 0, 1, scale=1 / 32)),
    )


def pixels_of(patches: NDArray[np.intp]) -> Pixels:
    """Rows and columns of the pixels of patches."""
    inside, corner = np.arange(PATCH), patches * PATCH
    return (corner[:, 0, None] + inside)[:, :, None], (corner[:, 1, None] + inside)[:, None, :]


def _cut(image: Plane32, at: Pixels) -> Real:
    """``(patches, pixels)`` of an image, each patch about its mean."""
    pieces = image[at].reshape(len(at[0]), -1)
    return np.asarray(pieces - pieces.mean(axis=1, keepdims=True))


@dataclass(frozen=True)
class Compared:
    """Red or blue of patches against green: ``slopes`` ``(m, pixels, 2)`` of the edge, what green's
    own strength explains taken out; ``moved`` ``(m, 2)`` px by which it lies off; ``held`` ``(m, 2,
    2)`` how surely; ``left`` ``(m, pixels)`` what that leaves; ``told`` whether a patch can
    tell."""

    slopes: Real
    moved: Real
    held: Real
    left: Real
    told: Flags


def compare(colours: Colours, patches: NDArray[np.intp], known: Lateral, colour: int) -> Compared:
    """What patches show of red (``colour`` 0) or blue (1), about what is ``known``."""
    plane = (colours.red, colours.blue)[colour]
    height, width = plane.shape
    to_luma = colours.to_luma
    scale = np.diag(to_luma)[:2]
    # Red is brought to where green is, as far as is known.
    if any(known.red + known.blue):
        nodes = nodes_over(width, height)
        moved = known.parted(nodes * scale + to_luma[:2, 2])[..., colour, :] / scale
        places = spread(nodes + moved, width, height)
        plane = np.asarray(cv2.remap(plane, places, None, cv2.INTER_CUBIC), np.float32)
    own = _slopes(colours.green)
    theirs = _slopes(plane)
    at = pixels_of(patches)
    green, other = _cut(colours.green, at), _cut(plane, at)
    alpha = (green * other).sum(1) / np.maximum((green**2).sum(1), 1e-9)
    # The slope of what lies halfway between the two (as in Benhimane, Malis, IROS 2004).
    slopes = np.stack(
        [
            (alpha[:, None] * _cut(o, at) + _cut(t, at)) / 2
            for o, t in zip(own, theirs, strict=True)
        ],
        -1,
    )
    # Red is alpha green, moved: red = alpha green - slope . moved. Alpha is fitted along.
    basis = green / np.maximum(np.linalg.norm(green, axis=1, keepdims=True), 1e-9)
    clear = slopes - basis[..., None] * (basis[:, None] @ slopes)
    rest = other - basis * (basis * other).sum(1, keepdims=True)
    across = clear.transpose(0, 2, 1)
    normal = across @ clear
    pull = -(across @ rest[..., None])[..., 0]
    # Where a codec has left colour out, red is where green is, and that tells nothing.
    parted_by = (other - green).std(axis=1)
    told = (parted_by > FLAT) & (parted_by < COLOURFUL)
    # What no edge tells is held at nothing, so that it can be solved; its weight is as small.
    held = normal.astype(float) + np.eye(2) * 1e-6
    moved_by = np.linalg.solve(held, pull.astype(float)[..., None])[..., 0]
    left = rest + (clear @ moved_by[..., None])[..., 0]
    return Compared(clear, moved_by, held, left, told)


def _partings(colours: Colours, patches: NDArray[np.intp], known: Lateral, colour: int) -> Partings:
    """What a frame's patches tell of red (``colour`` 0) or blue (1), about what is ``known``."""
    seen = compare(colours, patches, known, colour)
    held, left, moved_by, told = seen.held, seen.left, seen.moved, seen.told
    height, width = colours.green.shape
    to_luma = colours.to_luma
    scale = np.diag(to_luma)[:2]
    middle = (patches * PATCH + (PATCH - 1) / 2)[:, ::-1]
    place = middle @ to_luma[:2, :2].T + to_luma[:2, 2]
    variance = (left**2).mean(axis=1) + NOISE**2
    # Pixels of one patch err together: about as many tell as it is wide.
    covariance = np.linalg.inv(held) * (variance * PATCH)[:, None, None]
    covariance += np.eye(2) * BLUNT**2
    to_px = np.diag(scale)
    weight = np.linalg.inv(to_px @ covariance @ to_px)
    moved_by = moved_by * scale + known.parted(place)[:, colour]
    far = np.array([width, height]) * scale
    cells = np.clip((place / far * SECTORS).astype(np.intp), 0, SECTORS - 1)
    cell = cells[:, 1] * SECTORS + cells[:, 0]
    return Partings(place[told], moved_by[told], weight[told], cell[told])


def _joined(told: list[Partings]) -> Partings:
    return Partings(*(np.concatenate([getattr(t, k) for t in told]) for k in vars(told[0])))


# --- the field over them --------------------------------------------------------------------------


@dataclass(frozen=True)
class SolvedLateral:
    """A fit, and ``covariance`` ``(10, 10)`` of its unknowns: red by r and r³, blue by r and r³,
    the middle, shifts of red and of blue."""

    lateral: Lateral
    covariance: Real
    residual: float

    @classmethod
    def of(cls, told: list[Partings], canvas: Canvas, start: Lateral) -> SolvedLateral:
        state = np.array([*start.red, *start.blue, *start.field.centre, 0, 0, 0, 0])
        prior = np.array([PARTED] * 4 + [OFF] * 2 + [2 * SHIFTED] * 4) ** -2.0
        keep = [np.ones(len(t.place)) for t in told]
        for _ in range(12):
            lateral = _lateral(canvas, state)
            normal, pull = np.diag(prior), -prior * state
            meat = np.zeros((SECTORS**2, len(state)))
            distances = []
            for k, partings in enumerate(told):
                slopes = _jacobian(lateral, partings.place, k)
                off = partings.moved - lateral.parted(partings.place)[:, k] - state[6 + 2 * k :][:2]
                weighed = partings.weight @ slopes * keep[k][:, None, None]
                size = slopes.shape[-1]
                normal = normal + slopes.reshape(-1, size).T @ weighed.reshape(-1, size)
                pulls = (off[:, None] @ weighed)[:, 0]
                pull = pull + pulls.sum(axis=0)
                for i in range(size):
                    meat[:, i] += np.bincount(partings.cell, pulls[:, i], SECTORS**2)
                apart = off[:, None] @ partings.weight @ off[..., None]
                distances.append(np.sqrt(np.maximum(apart[:, 0, 0], 0)))
            spread = max(1e-3, 1.4826 * _median(distances) / 1.18)
            keep = [faded(distance, TUKEY * spread) for distance in distances]
            state = state + np.linalg.solve(normal, pull)
            state[4:6] = np.clip(state[4:6], -FARTHEST, FARTHEST)
        inverse = np.linalg.inv(normal)
        # Patches near each other err together, frame after frame: parts of the picture count.
        covariance = inverse @ (meat.T @ meat + np.diag(prior)) @ inverse
        left = [np.linalg.norm(t.moved - lateral.parted(t.place)[:, k], axis=1)
                for k, t in enumerate(told)]  # fmt: skip
        return cls(_lateral(canvas, state), covariance, _median(left))

    @property
    def doubt(self) -> tuple[float, float]:
        """How unsure red's and blue's places are, rms px over the picture."""
        return self._sure(0), self._sure(1)

    def told(self, patches: int) -> LateralFit:
        lateral, doubt = self.lateral, self.doubt
        far = lateral.rms()
        corners = lateral.corners()
        if not any(value > SURE * sure for value, sure in zip(far, doubt, strict=True)):
            words = (
                "The edges tell of no lateral colour: red is off by "
                f"{far[0]:.2f} ± {SURE * doubt[0]:.2f} px, blue by "
                f"{far[1]:.2f} ± {SURE * doubt[1]:.2f} px over the picture."
            )
            return LateralFit(None, doubt, self.residual, patches, words)
        said = [
            f"{colour} lies {abs(px):.2f} ± {SURE * sure:.2f} px "
            f"{'outside' if px > 0 else 'inside'} green"
            for colour, px, sure in zip(("Red", "blue"), corners, self._corner(), strict=True)
        ]
        words = f"{said[0]} in the corners, {said[1]}, as edges at {patches} places tell."
        return LateralFit(lateral, doubt, self.residual, patches, words)

    def _slopes(self, places: Points, colour: int) -> Real:
        slopes = _jacobian(self.lateral, places, colour)
        slopes[..., 6:] = 0  # a shift of all of a colour is not corrected
        return slopes

    def _sure(self, colour: int) -> float:
        places = lattice_points(self.lateral.field.canvas, *LATTICE).reshape(-1, 2)
        slopes = self._slopes(places, colour)
        variance = np.einsum("mki,ij,mkj->m", slopes, self.covariance, slopes)
        return float(np.hypot(np.sqrt(variance.mean()), ASTRAY))

    def _corner(self) -> list[float]:
        """How unsure red's and blue's places in the corners are, px."""
        radius = self.lateral.field.canvas.radius
        both = (self.covariance[:2, :2].sum(), self.covariance[2:4, 2:4].sum())
        return [float(np.hypot(radius * np.sqrt(one), 2 * ASTRAY)) for one in both]


def _lateral(canvas: Canvas, state: Real) -> Lateral:
    red, blue = ((float(a), float(b)) for a, b in (state[:2], state[2:4]))
    return Lateral(field_at(canvas, state[4:6]), red, blue)


def _jacobian(lateral: Lateral, places: Points, colour: int) -> Real:
    """``(m, 2, 10)`` by how much a colour's place changes with each unknown, px."""
    canvas, unit = lateral.field.canvas, lateral.field.unit
    off = lateral.field.offsets(places)
    square = (off**2).sum(axis=-1)
    own = (lateral.red, lateral.blue)[colour]
    slopes = np.zeros((len(places), 2, 10))
    slopes[:, :, 2 * colour] = off * unit
    slopes[:, :, 2 * colour + 1] = off * square[:, None] * unit
    # The middle's share of the picture, in radii.
    sides = np.array([canvas.width, canvas.height]) / unit
    grows = own[0] + own[1] * square
    for axis in (0, 1):
        along = 2 * own[1] * off * off[:, [axis]]
        along[:, axis] += grows
        slopes[:, :, 4 + axis] = -along * sides[axis] * unit
        slopes[:, axis, 6 + 2 * colour + axis] = 1.0
    return slopes
