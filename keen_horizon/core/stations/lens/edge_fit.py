"""The lens under which traced edges come out straight: models tried, judged by evidence, explained.

Straight lines stay straight under every perspective, so whatever bends them is the lens (Devernay,
Faugeras, *Straight lines have to be straight*, Machine Vision and Applications 2001). Of a trace,
what its straightened points stray from a line is counted in pixels of the recorded picture, so that
nothing is gained by shrinking it. The simplest model wins that explains the traces about as well as
any (Schwarz, *Estimating the dimension of a model*, Annals of Statistics 1978).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from ...errors import BadSetting
from ...geometry.canvas import Canvas
from ...geometry.distortion import DISTORTION_MODELS, Distortion, LensModel
from ...geometry.lens import picture_width
from ...types import Complex, Real

NOMINAL = 0.832  # focal length over the picture's width where edges do not tell: 62 degrees across
NOISE = 0.12  # px that a trace is uncertain by at best
HANGING = 3  # points of a trace whose errors hang together
POINTS, LIVE_POINTS = 480, 240  # of all edges together, at most about
STEPS = 12  # of Gauss and Newton
ROUNDS = 3  # of weighing edges
SPOILT = 3.0  # times the others' residual at which an edge contradicts them
SPOILT_PX = 1.0  # and px
USUAL = (0.35, 0.25, 0.15)  # size of a lens's first, second, third coefficient
DOUBT = 0.5  # px, of traces, that a coefficient of usual size is worth
FOLDS = 6  # groups of edges, at most, each of which is judged by the lens of the others
WORSE = 1.1  # times the least that judged edges are left with: a model may leave that much
FISHEYE_BETTER = 0.7  # of what any other leaves of judged edges, for a fisheye to be believed
NEAR_CENTRE = 0.07  # of the half-diagonal: edges that pass nearer tell nothing
SHORT_REACH = 0.55  # of the half-diagonal: edges further in than that tell one coefficient
BETTER = 6.0  # of Schwarz' criterion, by which a model with more coefficients must win
FISHEYE_FROM = 105.0  # degrees from corner to corner: a lens with less is not called a fisheye
WORTH_SAYING = 0.7  # of the residual: a model that leaves less is worth mentioning
NAMES = {
    "division": "The model of one parameter",
    "brown": "Brown-Conrady",
    "fisheye": "A fisheye",
}


@dataclass(frozen=True)
class EdgeFit:
    """``residuals`` ``(edges,)`` px rms of each edge, ``residual`` of all that count;
    ``contradicting`` indices of edges that the others speak against; ``found`` and ``held`` the
    coefficients that the edges tell and that they are too few for; ``others`` what other models
    leave, px rms; ``words`` sentences about it."""

    distortion: Distortion
    focal: float  # over the picture's width
    residuals: Real
    residual: float
    contradicting: list[int]
    held: tuple[str, ...]
    others: dict[str, float]
    words: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class _Candidate:
    """A model with so many free coefficients; a fisheye's focal length comes first of them."""

    model: LensModel
    free: int

    @property
    def name(self) -> str:
        return f"{self.model} {self.free}"

    @property
    def count(self) -> int:
        return self.free + (self.model == "fisheye")

    def lens(self, x: Real) -> tuple[Distortion, float]:
        """Distortion and focal length, over the picture's width, of parameters ``(count,)``."""
        if self.model == "fisheye":
            k = [*x[1:], 0.0, 0.0, 0.0, 0.0][:4]
            focal = float(np.exp(np.clip(x[0], -3.0, 2.0)))
        else:
            k = [*x, 0.0, 0.0, 0.0, 0.0][:4]
            focal = NOMINAL
        return Distortion(self.model, (k[0], k[1], k[2], k[3])), focal

    @property
    def prices(self) -> Real:
        """``(count,)`` px that a unit of each parameter counts as: lenses have small
        coefficients, the higher ones smaller still. What edges tell outweighs it by far."""
        usual = np.array(USUAL)[: self.free]
        price = np.sqrt(HANGING) * DOUBT / usual
        return np.r_[0.0, price] if self.model == "fisheye" else price

    @property
    def start(self) -> Real:
        x = np.zeros(self.count)
        if self.model == "fisheye":
            x[0] = np.log(0.45)
        return x


CANDIDATES = (
    _Candidate("division", 1), _Candidate("brown", 1), _Candidate("brown", 2),
    _Candidate("brown", 3), _Candidate("fisheye", 0), _Candidate("fisheye", 1),
    _Candidate("fisheye", 2),
)  # fmt: skip


@dataclass(frozen=True)
class _Traces:
    """All points ``(m,)`` complex, over the picture's width, with the edge ``(m,)`` of each."""

    points: Complex
    edge: NDArray[np.intp]
    count: int
    width: float

    def lines(self, straight: Complex) -> tuple[Real, Real]:
        """Distances ``(m,)`` from the best line of each edge, and its direction ``(edges,)``."""
        n = np.maximum(np.bincount(self.edge, minlength=self.count), 1)

        def mean(values: Real) -> Real:
            return np.asarray(np.bincount(self.edge, values, self.count) / n)

        x = straight.real - mean(straight.real)[self.edge]
        y = straight.imag - mean(straight.imag)[self.edge]
        turn = 0.5 * np.arctan2(2 * mean(x * y), mean(x * x) - mean(y * y))
        return y * np.cos(turn)[self.edge] - x * np.sin(turn)[self.edge], turn

    def strays(self, distortion: Distortion, focal: float) -> Real:
        """``(m,)`` px, of the recorded picture, that points stray from straight."""
        bent = self.points / focal
        straight = distortion.undistort(bent)
        r = np.abs(straight)
        with np.errstate(invalid="ignore", divide="ignore"):
            across = np.where(r > 1e-9, distortion.radius(r) / np.maximum(r, 1e-9), 1.0)
            shrinks = np.sqrt(np.maximum(across * distortion.slope(r), 1e-6))
        off, _ = self.lines(np.nan_to_num(straight))
        # What a model cannot straighten at all is no better than bent.
        lost = ~np.isfinite(straight)
        return np.asarray(np.where(lost, 0.05, off * shrinks * focal) * self.width)

    def per_edge(self, strays: Real) -> Real:
        n = np.maximum(np.bincount(self.edge, minlength=self.count), 1)
        return np.asarray(np.sqrt(np.bincount(self.edge, strays**2, self.count) / n))


def fit_edges(
    edges: Sequence[Real], canvas: Canvas, model: str | None = None, live: str | None = None
) -> EdgeFit:
    """Fit a lens to traced ``edges``, each ``(m, 2)`` px: straight in the world, bent by the lens.

    ``model`` is the only one to be tried, or None for whichever the edges speak for; ``live`` one
    that an earlier fit chose and that is kept, for answers while something is dragged. Coefficients
    come at the focal length that the result tells (Devernay, Faugeras, *Straight lines have to be
    straight*, Machine Vision and Applications 2001). Raises BadSetting, in words, where the edges
    tell nothing.

    >>> from keen_horizon.core.geometry.lens import Lens
    >>> canvas = Canvas(1280, 720)
    >>> lens = Lens(canvas, Distortion("division", (-0.25, 0, 0, 0)), 900.0)
    >>> lines = [np.linspace(-560, 560, 40) + 1j * v for v in (-260, -150, 180, 290)]
    >>> edges = [canvas.to_pixels(lens.distort(line[None])[0]) for line in lines]
    >>> bool(fit_edges(edges, canvas, "division").residual < 0.01)
    True
    """
    most = LIVE_POINTS if live is not None else POINTS
    every = max(1, sum(len(edge) for edge in edges) // most)
    if every > 1:  # the ends of an edge tell most: they stay
        edges = [np.concatenate([edge[::every], edge[-1:]]) for edge in edges]
    traces = _traces(edges, canvas)
    _telling(traces, canvas)
    allowed = _allowed(traces, canvas)
    tried = [c for c in CANDIDATES if c.count <= allowed and model in (None, c.model)]
    if not tried:
        tried = [next(c for c in CANDIDATES if c.model == model)]
    weight = np.ones(traces.count)
    if live is not None:
        tried = [c for c in tried if c.model == live][-1:] or tried[:1]
    fits = {c.name: _fitted(c, traces, weight) for c in tried}
    best = _chosen(tried, fits, traces, weight)
    if traces.count >= 3:
        for _ in range(ROUNDS - 1):
            weight = _weights(traces.per_edge(fits[best.name][1]))
            if weight.min() > 0.8:
                break
            fits = {c.name: _fitted(c, traces, weight, fits[c.name][0]) for c in tried}
            best = _chosen(tried, fits, traces, weight)
        # What contradicts the others is left out, not averaged in; a model that was asked for may
        # itself be what contradicts them.
        spoilt = []
        if model is None:
            spoilt = _contradicting(traces.per_edge(fits[best.name][1]), traces)
        weight[spoilt] = 0.0
        earned = tried if live is not None else _earned(tried, traces, weight)
        if spoilt or len(earned) < len(tried):
            fits = {c.name: _fitted(c, traces, weight, fits[c.name][0]) for c in tried}
            best = _chosen(earned, fits, traces, weight)
    x, strays = fits[best.name]
    distortion, focal = best.lens(x)
    residuals = traces.per_edge(strays)
    spoilt = _contradicting(residuals, traces)
    counts = np.isin(traces.edge, spoilt, invert=True)
    others = {c.name: float(np.sqrt((fits[c.name][1][counts] ** 2).mean())) for c in tried}
    residual = others[best.name]
    if model is not None and live is None:
        # What was not asked for may be worth saying.
        for c in CANDIDATES:
            if c.count <= allowed and c.name not in fits:
                strays = _fitted(c, traces, weight)[1]
                others[c.name] = float(np.sqrt((strays[counts] ** 2).mean()))
    radial = [c for c in DISTORTION_MODELS[best.model].coefficients if c.startswith("k")]
    held = tuple(radial[best.free :])
    distortion = replace(distortion, k=tuple(float(k) for k in distortion.k))
    return EdgeFit(
        distortion, focal, residuals, residual, spoilt, held, others,
        _words(best, traces, allowed, others, spoilt, held, canvas, focal, distortion),
    )  # fmt: skip


def straight_turns(edges: Sequence[Real], canvas: Canvas, fit: EdgeFit) -> Real:
    """``(edges,)`` radians clockwise by which straightened edges lean from the horizontal, within a
    quarter turn either way."""
    traces = _traces(edges, canvas)
    _, turn = traces.lines(np.nan_to_num(fit.distortion.undistort(traces.points / fit.focal)))
    return turn


def residuals_of(
    edges: Sequence[Real], canvas: Canvas, distortion: Distortion, focal: float,
    centre: complex = 0j,
) -> Real:  # fmt: skip
    """``(edges,)`` px rms by which edges stray from straight under a lens; ``focal`` over the
    picture's width, ``centre`` in scene units."""
    traces = _traces(edges, canvas, centre)
    return traces.per_edge(traces.strays(distortion, focal))


def _traces(edges: Sequence[Real], canvas: Canvas, centre: complex = 0j) -> _Traces:
    width = picture_width(canvas)
    for edge in edges:
        if len(edge) < 3:
            raise BadSetting(
                f"an edge with {len(edge)} points is straight whatever the lens does; it takes "
                "three points at least, better a trace."
            )
    points = np.concatenate([canvas.to_scene(np.asarray(edge, float)) for edge in edges])
    which = np.repeat(np.arange(len(edges)), [len(edge) for edge in edges])
    return _Traces((points - centre) / width, which, len(edges), width)


def _telling(traces: _Traces, canvas: Canvas) -> None:
    off, turn = traces.lines(traces.points)
    middle = np.bincount(traces.edge, traces.points.real, traces.count) + 1j * np.bincount(
        traces.edge, traces.points.imag, traces.count
    )
    middle = middle / np.bincount(traces.edge, minlength=traces.count)
    away = np.abs((middle * np.exp(-1j * turn)).imag)
    bow = np.array([np.abs(off[traces.edge == e]).max() for e in range(traces.count)])
    radius = canvas.radius / traces.width
    if (away < NEAR_CENTRE * radius).all() and (bow * traces.width < 1.5).all():
        raise BadSetting(
            "only edges away from the middle tell how a lens bends; "
            + ("this one passes" if traces.count == 1 else "these all pass")
            + " through it. Add one nearer to a side of the picture."
        )


def _allowed(traces: _Traces, canvas: Canvas) -> int:
    """How many coefficients the traces can tell."""
    reach = float(np.abs(traces.points).max()) * traces.width / canvas.radius
    return 1 if reach < SHORT_REACH else min(3, traces.count)


def _fitted(
    candidate: _Candidate, traces: _Traces, weight: Real, start: Real | None = None
) -> tuple[Real, Real]:
    """Parameters and strays, by Gauss-Newton with Levenberg's damping."""
    w = np.sqrt(weight[traces.edge])
    x = candidate.start if start is None else start.copy()
    price = candidate.prices**2
    strays = traces.strays(*candidate.lens(x))
    cost = float(((w * strays) ** 2).sum() + (price * x * x).sum())
    damping = 1e-3
    for _ in range(STEPS):
        slopes = np.empty((len(strays), len(x)))
        for i in range(len(x)):
            moved = x.copy()
            moved[i] += 1e-4
            slopes[:, i] = (traces.strays(*candidate.lens(moved)) - strays) / 1e-4
        slopes *= w[:, None]
        gram = slopes.T @ slopes + np.diag(price)
        right = slopes.T @ (w * strays) + price * x
        done = True
        for _ in range(5):
            lifted = gram + damping * np.diag(np.diag(gram) + 1e-9)
            step = np.linalg.solve(lifted, -right)
            tried = x + np.clip(step, -0.4, 0.4)
            over = traces.strays(*candidate.lens(tried))
            found = float(((w * over) ** 2).sum() + (price * tried * tried).sum())
            if found < cost:
                done = cost - found < 1e-6 * cost + 1e-9
                x, strays, cost, damping = tried, over, found, max(damping / 8, 1e-9)
                break
            damping *= 6
        if done:
            break
    return x, strays


def _earned(tried: Sequence[_Candidate], traces: _Traces, weight: Real) -> Sequence[_Candidate]:
    """Those models whose coefficients earn their place: edges that they were not fitted to come out
    about as straight as by any (Stone, *Cross-validatory choice*, J. R. Statistical Society B
    1974). A fisheye has to leave much less than all others do."""
    counted = np.nonzero(weight > 0)[0]
    if len(counted) < FOLDS:
        return tried
    left = {}
    for c in tried:
        total, seen = 0.0, 0
        for fold in range(FOLDS):
            judged = counted[fold::FOLDS]
            others = weight.copy()
            others[judged] = 0.0
            x, _ = _fitted(c, traces, others)
            off = traces.strays(*c.lens(x))[np.isin(traces.edge, judged)]
            total, seen = total + float((off**2).sum()), seen + len(off)
        left[c.name] = float(np.sqrt(total / seen)) + NOISE
    flat = [c for c in tried if c.model != "fisheye"]
    if flat:
        least = min(left[c.name] for c in flat)
        tried = [c for c in tried if c in flat or left[c.name] < FISHEYE_BETTER * least]
    least = min(left[c.name] for c in tried)
    return [c for c in tried if left[c.name] <= WORSE * least]


def _weights(residuals: Real) -> Real:
    usual = max(float(np.median(residuals)), 2 * NOISE)
    return np.asarray(1.0 / (1.0 + (residuals / (2.5 * usual)) ** 4))


def _chosen(
    tried: Sequence[_Candidate], fits: dict[str, tuple[Real, Real]], traces: _Traces, weight: Real
) -> _Candidate:
    w = weight[traces.edge]
    n = float(w.sum()) / HANGING
    scores = {}
    for c in tried:
        spread = float((w * fits[c.name][1] ** 2).sum() / w.sum()) + NOISE**2
        scores[c.name] = n * np.log(spread) + c.count * np.log(max(n, 2.0))
    best = tried[0]
    for c in tried[1:]:
        more = BETTER if c.count > best.count or c.model == "fisheye" else 0.0
        if scores[c.name] < scores[best.name] - more and _credible(c, fits[c.name][0]):
            best = c
    return best


def _credible(candidate: _Candidate, x: Real) -> bool:
    """A fisheye is one only if it sees far to the side; nothing may fold inside the picture."""
    distortion, focal = candidate.lens(x)
    corner = 0.574 / focal  # of a picture of 16:9, over its width
    return not (
        candidate.model == "fisheye"
        and np.degrees(2 * np.arctan(np.abs(distortion.undistort(np.array([corner + 0j])))[0]))
        < FISHEYE_FROM
    )


def _contradicting(residuals: Real, traces: _Traces) -> list[int]:
    if traces.count < 3:
        return []
    found = []
    for e in range(traces.count):
        rest = np.delete(residuals, e)
        usual = max(float(np.median(rest)), NOISE)
        if residuals[e] > max(SPOILT * usual, SPOILT_PX):
            found.append(e)
    return found if len(found) <= traces.count // 2 else []


def _words(
    best: _Candidate, traces: _Traces, allowed: int, others: dict[str, float],
    spoilt: list[int], held: tuple[str, ...], canvas: Canvas, focal: float,
    distortion: Distortion,
) -> list[str]:  # fmt: skip
    said = []
    residual = others[best.name]
    if best.model == "fisheye":
        said.append(f"This looks like a fisheye: it leaves {residual:.2f} px of the edges' bend.")
    better = [
        (left, name) for name, left in others.items()
        if left < WORTH_SAYING * residual - 0.05 and not name.startswith(best.model)
    ]  # fmt: skip
    if better and best.model != "fisheye":
        left, name = min(better)
        said.append(
            f"{NAMES[name.split()[0]]} would explain these edges better: "
            f"{left:.2f} px instead of {residual:.2f}."
        )
    if traces.count == 2 and residual > 1.5:
        said.append(
            f"These two edges cannot both be straight: {residual:.1f} px are left under the best "
            "lens. One of them is bent in the world, or its trace runs off."
        )
    if spoilt:
        names = " and ".join(str(e + 1) for e in spoilt)
        said.append(
            f"Edge {names} contradicts the others; look at its trace, or leave it out."
            if len(spoilt) == 1
            else f"Edges {names} contradict the others; look at their traces, or leave them out."
        )
    if held:
        few = "one edge is" if traces.count == 1 else f"{traces.count} edges are"
        why = (
            "no edge reaches far enough out"
            if allowed == 1 and traces.count > 1
            else f"{few} too few to tell"
            if traces.count < 3
            else f"these edges cannot tell {'them' if len(held) > 1 else 'it'} from nothing"
        )
        said.append(f"{', '.join(held)} held at 0: {why}.")
    return said
