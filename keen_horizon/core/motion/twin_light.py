"""How the light of two fisheyes back to back differs, found in their own pictures.

What both lenses see in one frame, and what a moment later is seen at another place of a lens, is as
bright in the world as it was: so what differs tells by how much one lens' picture is brighter than
the other's, and what light lenses lose towards their rims (after Goldman, *Vignette and exposure
calibration and compensation*, TPAMI 2010: in the log of light, the world's own light, exposures and
fall-off add up). Doubt is told by leaving out each pair of frames in turn.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..geometry.twin import HALF_PI, LIGHT_TERMS, Twin, TwinLight, light_powers
from ..picture.light_about import LightAbout
from ..picture.working_space import WorkingSpace
from ..types import Indices, Luma, Rays, Real
from .ray_weights import fading
from .sphere_turns import turns_between
from .twin_fit import LOW, Moves, rays_above

PLACES = 3000  # of the sphere that are looked at
PATCH = 0.012  # of the picture's smaller side, that is averaged about a place
DARKEST, BRIGHTEST = 0.1, 0.9  # code values, black 0 and white 1, that can be trusted
INSIDE = np.radians(2.0)  # from where a picture ends, beyond which it is not looked at
FEW = 3  # pairs of frames, and a hundred times as many places, that are needed to tell
NOISE = 0.06  # stops, about, by which sightings of one place differ anyway
STEADY = 0.05  # stops, about, that a lens' exposure changes by within a moment
LIKELY = 1.0  # stops that lenses may well lose at their rims, by each term
ROUNDS = 12
ASTRAY = 0.05  # stops at the rim that places lead astray without disagreeing


@dataclass(frozen=True)
class TwinLightFit:
    """What was found, None for nothing that is worth evening out: stops by which one lens' picture
    is brighter, at the most, and that are lost at the rims, each with its standard error."""

    light: TwinLight | None
    apart: float = 0.0
    apart_doubt: float = np.inf
    rim: float = 0.0
    rim_doubt: float = np.inf

    @property
    def words(self) -> str:
        """A sentence; nothing where nothing was told."""
        if self.light is None:
            return ""
        said = []
        if self.light.apart.any():
            brighter = "first" if self.apart > 0 else "second"
            said.append(f"the {brighter} lens' picture is brighter by "
                        f"{abs(self.apart):.2f} ± {2 * self.apart_doubt:.2f} stops")  # fmt: skip
        if self.light.falls.any():
            said.append(f"both lose {self.rim:.1f} ± {2 * self.rim_doubt:.1f} stops at their rims")
        text = " and ".join(said)
        return f"{text[:1].upper()}{text[1:]}: that is evened out."


def fit_twin_light(
    twin: Twin, lumas: Mapping[int, Luma], pairs: Sequence[tuple[int, int]],
    moves: Sequence[Moves], space: WorkingSpace,
) -> TwinLightFit:  # fmt: skip
    """The light of ``twin`` out of frames' ``lumas`` of eight bits, by number; each of ``pairs`` is
    a frame and one a moment later, between which ``moves`` are known. ``space`` says what light its
    code values mean."""
    space = replace(space, depth=8)
    turns = [turns_between(*rays_above(twin, move)) for move in moves]
    told = [(pair, turn) for pair, turn in zip(pairs, turns, strict=True) if turn is not None]
    seen = [_Seen.of(twin, (lumas[a], lumas[b]), turn, space) for (a, b), turn in told]
    if len(seen) < FEW or sum(len(one.light) for one in seen) < 100 * FEW:
        return TwinLightFit(None)
    frames, whole = np.array([pair for pair, _ in told]), _solve(seen)
    others = [_solve(seen[:k] + seen[k + 1 :]) for k in range(len(seen))]
    spread = np.sqrt((len(seen) - 1) / len(seen))

    def doubt(values: Sequence[float]) -> float:
        return float(spread * np.linalg.norm(np.array(values) - np.mean(values)))

    rim_doubt = float(np.hypot(doubt([one.rim for one in others]), ASTRAY))
    apart_doubt = max(doubt([float(one.apart.mean()) for one in others]), NOISE / 10)
    most = float(whole.apart.ravel()[np.abs(whole.apart).argmax()])
    falls = whole.falls if whole.rim > 2 * rim_doubt else np.zeros(LIGHT_TERMS)
    apart = whole.apart if abs(most) > 2 * apart_doubt else np.zeros_like(whole.apart)
    light = None
    if falls.any() or apart.any():
        order = np.argsort(frames.ravel())
        light = TwinLight(falls, frames.ravel()[order], apart.ravel()[order])
    return TwinLightFit(light, most, apart_doubt, whole.rim, rim_doubt)


@dataclass(frozen=True)
class _Seen:
    """Sightings in two frames by two lenses: ``light`` ``(m,)`` log2, of which ``place``, by which
    ``view`` (the first frame's lenses, then the later one's), ``angle`` off its lens' axis."""

    place: Indices
    view: Indices
    angle: Real
    light: Real

    @classmethod
    def of(cls, twin: Twin, lumas: tuple[Luma, Luma], turn: Real, space: WorkingSpace) -> _Seen:
        rays = _around()
        found: list[tuple[Indices, Indices, Real, Real]] = []
        for when, luma in enumerate(lumas):
            own = rays if when == 0 else rays @ turn.T
            about = LightAbout.of(luma, PATCH * min(luma.shape), space)
            for which, lens in enumerate(twin.lenses):
                angle = np.arccos(np.clip(own @ lens.turn[2], -1, 1))
                at = np.flatnonzero((angle < lens.reach - INSIDE) & (own[:, 1] < LOW))
                value, light = about.at(twin.to_pixels(own[at], which), DARKEST)
                sure = (value > DARKEST) & (value < BRIGHTEST)
                views = np.full(int(sure.sum()), 2 * when + which)
                found.append((at[sure], views, angle[at][sure], light[sure]))
        place, view, angle, light = (np.concatenate(part) for part in zip(*found, strict=True))
        often = np.bincount(place, minlength=len(rays))[place] > 1
        return cls(place[often], view[often], angle[often], light[often])


def _around() -> Rays:
    """``(PLACES, 3)`` rays spread evenly over the sphere (along a spiral)."""
    k = np.arange(PLACES) + 0.5
    height, turned = 1 - 2 * k / PLACES, np.pi * (1 + 5**0.5) * k
    level = np.sqrt(1 - height**2)
    return np.stack([level * np.cos(turned), height, level * np.sin(turned)], axis=-1)


@dataclass(frozen=True)
class _Solved:
    """``apart`` ``(pairs, 2)`` stops by which the first lens' picture is brighter, in both frames
    of a pair; ``falls``, see :class:`.TwinLight`."""

    apart: Real
    falls: Real

    @property
    def rim(self) -> float:
        """Stops lost at a right angle from the axis."""
        return float(self.falls.sum())


def _solve(seen: Sequence[_Seen]) -> _Solved:
    """By all terms; by the first alone, where they would have light grow outwards."""
    for terms in (LIGHT_TERMS, 1):
        found = _fitted(seen, terms)
        steps = np.diff(light_powers(np.linspace(0, HALF_PI * 1.1, 24)) @ found.falls)
        if (steps >= 0).all():
            return found
    return replace(found, falls=np.zeros(LIGHT_TERMS))


def _fitted(seen: Sequence[_Seen], terms: int) -> _Solved:
    """Each place's own light is taken out; four exposures a pair and the fall-off are unknown."""
    count = 4 * len(seen)
    systems = [_System.of(one, terms) for one in seen]
    values: Real = np.zeros(count + terms)
    weights = [np.ones(len(one.light)) for one in seen]
    for _ in range(ROUNDS):
        square, pull = _known(len(seen), terms), np.zeros(count + terms)
        rests = []
        for k, (system, weight) in enumerate(zip(systems, weights, strict=True)):
            at = np.r_[4 * k : 4 * k + 4, count : count + terms]
            apart, rest = system.apart(weight)
            weighed = apart * weight[:, None]
            square[np.ix_(at, at)] += weighed.T @ apart
            pull[at] += weighed.T @ rest
            rests.append((at, apart, rest))
        values = np.asarray(np.linalg.solve(square, pull), float)
        off = [rest - apart @ values[at] for at, apart, rest in rests]
        spread = max(1.4826 * float(np.median(np.abs(np.concatenate(off)))), 1e-3)
        weights = [fading(one, 3 * spread) for one in off]
    exposures = values[:count].reshape(-1, 2, 2)
    falls = np.zeros(LIGHT_TERMS)
    falls[:terms] = values[count:]
    return _Solved(exposures[..., 0] - exposures[..., 1], falls)


@dataclass(frozen=True)
class _System:
    """The sightings of one pair of frames: ``columns`` ``(m, 4 + terms)`` of what is unknown."""

    place: Indices  # counted from 0, without gaps
    columns: Real
    light: Real

    @classmethod
    def of(cls, seen: _Seen, terms: int) -> _System:
        _, place = np.unique(seen.place, return_inverse=True)
        exposures = np.eye(4)[seen.view]
        columns = np.hstack([exposures, -light_powers(seen.angle)[:, :terms]])
        return cls(place, columns, seen.light)

    def apart(self, weight: Real) -> tuple[Real, Real]:
        """Columns and light, each less its weighed mean over the sightings of the same place."""
        total = np.bincount(self.place, weight)
        numbers = np.column_stack([self.columns, self.light])
        means = [np.bincount(self.place, weight * one) / total for one in numbers.T]
        left = numbers - np.stack(means, axis=-1)[self.place]
        return left[:, :-1], left[:, -1]


def _known(pairs: int, terms: int) -> Real:
    """What is likely beforehand, in units of a sighting's noise: a lens' exposure hardly changes
    within a moment; one of each pair is what the others are told against."""
    known = np.zeros((4 * pairs + terms, 4 * pairs + terms))
    for k in range(pairs):
        own = slice(4 * k, 4 * k + 4)
        change = np.array([[-1.0, 0, 1, 0], [0, -1, 0, 1]]) * (NOISE / STEADY)
        known[own, own] = change.T @ change + np.diag([1e3, 0, 0, 0])
    known[4 * pairs :, 4 * pairs :] = np.eye(terms) * (NOISE / LIKELY) ** 2
    return known
