"""What is found out about a clip's motion: plain data that the fits give and the solver takes."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ..geometry.bend import RollingShutterWarp
from ..geometry.similarity import Similarities
from ..lens.lens import Lens
from .robust_fit import Model

SIMPLEST_FIRST = ("shift", "similarity", "rotation", "perspective", "mesh")
NAMES = {
    "shift": "shift",
    "similarity": "shift, roll and scale",
    "rotation": "camera rotation",
    "perspective": "perspective",
    "mesh": "a mesh",
}


@dataclass(frozen=True)
class LocalMotion:
    """``steps`` ``(n, rows, columns)`` complex64: what ``model`` adds to the similarity step from
    frame ``t - 1`` to ``t``, at the nodes of a :class:`.DisplacementGrid`, scene units;
    none where it is None. A turning camera needs none: with its ``focal`` length, scene units, its
    similarity tells all.
    """

    model: str
    steps: NDArray[np.complex64] | None
    focal: float | None = None


@dataclass(frozen=True)
class Choice:
    """The model that a clip asks for. ``left`` is what each leaves of held-out marks, rms px;
    ``wobble`` what the chosen one leaves, rms px, against ``limit``."""

    model: str
    left: dict[str, float]
    wobble: float = 0.0
    limit: float = 0.0

    @property
    def why(self) -> str:
        """One sentence."""
        said = f"{NAMES[self.model].capitalize()}: marks it was not fitted to miss by "
        said += f"{self.left[self.model]:.2f} px"
        order = [name for name in SIMPLEST_FIRST if name in self.left]
        at = order.index(self.model)
        best = min(order[at + 1 :], key=lambda name: self.left[name], default=None)
        if best is not None and self.left[best] < 0.99 * self.left[self.model]:
            said += f" ({NAMES[best]} would only bring {self.left[best]:.2f} px)"
        elif at > 0:
            said += f" (with {NAMES[order[at - 1]]} by {self.left[order[at - 1]]:.2f} px)"
        said += f", and it leaves {self.wobble:.2f} px of wobble"
        return said + ("." if self.wobble <= self.limit else f", over the limit of {self.limit:g}.")


@dataclass(frozen=True)
class PointTrack:
    """``places`` ``(n,)`` complex, scene units, NaN where the point is not known; ``sure`` ``(n,)``
    correlation with the pattern, 0..1; ``note`` why there is nothing, if so."""

    places: NDArray[np.complex128]
    sure: NDArray[np.float64]
    note: str = ""

    def window(self, start: int, stop: int) -> PointTrack:
        """The track of some frames alone."""
        return PointTrack(self.places[start:stop], self.sure[start:stop], self.note)

    @classmethod
    def nothing(cls, n: int, note: str) -> PointTrack:
        """A point that could not be followed anywhere."""
        return cls(np.full(n, np.nan + 0j), np.zeros(n), note)

    @property
    def known(self) -> NDArray[np.bool_]:
        return np.isfinite(self.places)


@dataclass(frozen=True)
class CameraMotion:
    """Motion of ``n`` frames.

    ``steps`` maps scene points of frame ``t - 1`` to frame ``t`` (identity at 0 and at cuts);
    ``marks`` ``(n,)`` counts those that steer; ``confidence`` ``(n,)`` in 0..1; ``residual``
    ``(n,)`` is the rms distance of steering marks from the fit, scene units; ``steering`` bool, one
    per record of the measure, and ``aside`` likewise (empty if none is). ``times`` ``(n,)``
    seconds. ``cuts`` as :func:`find_cuts`, counted from the start of the range, as everything here
    is; ``first`` is the range's first frame in the recording. ``local`` is what a richer model
    adds, ``rows`` how the picture moved while it was read (the steps are then without that), and
    ``choice`` why the model is what it is, if the clip was to decide; ``notes`` say what could not
    be done. ``blurred`` ``(n,)`` as :func:`blurred_frames`; ``wobble`` ``(n, 54)`` as
    :func:`.local_wobble`, where it was worked out; ``straight_wobble`` is what is left of it once
    the rows are put right, if they are. ``held`` are the points that are to be held.
    ``mesh`` are the steps of a mesh of the usual stiffness, where it was fitted for the wobble.
    ``lens`` is what the marks were straightened through: the scene plane of everything here is
    then the straight plane. ``bent_residual`` and ``straight_residual`` are what marks miss the
    motion by without it and with it, px of the recorded picture.
    """

    model: Model
    steps: Similarities
    marks: NDArray[np.int64]
    confidence: NDArray[np.float64]
    residual: NDArray[np.float64]
    steering: NDArray[np.bool_]
    times: NDArray[np.float64]
    cuts: NDArray[np.intp]
    first: int = 0
    aside: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))
    local: LocalMotion | None = None
    rows: RollingShutterWarp | None = None
    choice: Choice | None = None
    notes: tuple[str, ...] = ()
    blurred: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))
    wobble: NDArray[np.complex64] | None = None
    straight_wobble: NDArray[np.complex64] | None = None
    held: tuple[PointTrack, ...] = ()
    mesh: NDArray[np.complex64] | None = None
    lens: Lens | None = None
    bent_residual: float | None = None
    straight_residual: float | None = None

    def __len__(self) -> int:
        return len(self.steps)

    def window(self, start: int, stop: int) -> CameraMotion:
        """The motion of some frames alone, counted from the start of the range. It knows of no
        single marks."""
        part = slice(start, stop)
        inside = (self.cuts > start) & (self.cuts < stop)
        local, rows = self.local, self.rows
        if local is not None and local.steps is not None:
            local = replace(local, steps=local.steps[part])
        return replace(
            self,
            steps=self.steps[part].rebased,
            marks=self.marks[part],
            confidence=self.confidence[part],
            residual=self.residual[part],
            steering=self.steering[:0],
            times=self.times[part],
            cuts=self.cuts[inside] - start,
            first=self.first + start,
            aside=self.aside[:0],
            local=local,
            rows=rows[part] if rows is not None else None,
            blurred=self.blurred[part],
            wobble=self.wobble[part] if self.wobble is not None else None,
            straight_wobble=self.straight_wobble[part]
            if self.straight_wobble is not None
            else None,
            mesh=self.mesh[part] if self.mesh is not None else None,
            held=tuple(track.window(start, stop) for track in self.held),
            lens=self.lens[part] if self.lens is not None else None,
        )

    @property
    def segments(self) -> list[tuple[int, int]]:
        """Stretches between cuts as ``[start, end)``."""
        edges = [0, *self.cuts.tolist(), len(self)]
        return list(pairwise(edges))

    @property
    def sure(self) -> NDArray[np.float64]:
        """``(n,)`` how far a step is believed, 0..1."""
        c = np.clip(self.confidence / 0.5, 0.0, 1.0)
        return np.asarray(c * c * (3 - 2 * c))

    @property
    def trusted(self) -> Similarities:
        """The steps as far as they can be believed: none where there is no confidence.

        A step that is not believed counts as "the camera did not move", so the correction stays
        where it was: the picture then moves exactly as the source does, without a jump.
        """
        return self.steps.toward_identity(self.sure)
