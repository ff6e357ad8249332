"""What is found out about a clip's motion: plain data that the fits give and the solver takes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from itertools import pairwise
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.displacement import DisplacementGrid
from ..geometry.lens import Lens
from ..geometry.motion import Motion
from ..geometry.rolling_shutter import RollingShutterWarp
from ..geometry.similarity import Similarities
from ..stored import stored
from ..types import Complex, Flags, Indices, Real

DisplacementField = NDArray[np.complex64]  # (n, rows, columns) at the nodes of a DisplacementGrid
MOTION_MODELS: Mapping[str, str] = MappingProxyType(
    {
        "shift": "shift",
        "similarity": "shift, roll and scale",
        "rotation": "camera rotation",
        "travel": "turn and slide",
        "perspective": "perspective",
        "mesh": "a mesh",
    }
)
"""The one table of models, simplest first, each with what a sentence calls it."""
WEAK = 0.3  # confidence below which a frame is called weak
SURE = 0.5  # confidence from which on a step is believed whole


def _no_flags() -> Flags:
    return np.zeros(0, bool)


@stored
@dataclass(frozen=True)
class Timeline:
    """Where ``n`` frames lie: ``times`` ``(n,)`` seconds; ``cuts`` as :func:`.find_cuts`, counted
    from the start of the range, as everything of a motion is; ``first`` is the range's first frame
    in the recording; ``blurred`` ``(n,)`` as :func:`.blurred_frames`."""

    times: Real
    cuts: Indices
    first: int = 0
    blurred: Flags = field(default_factory=_no_flags)

    def __len__(self) -> int:
        return len(self.times)

    @property
    def frames(self) -> Indices:
        """``(n,)`` the frames' numbers in the recording."""
        return self.first + np.arange(len(self.times))

    @property
    def rate(self) -> float:
        """Frames a second, as most of them lie apart."""
        return 1 / max(float(np.median(np.diff(self.times))), 1e-4)

    @property
    def segments(self) -> list[tuple[int, int]]:
        """Stretches between cuts as ``[start, end)``."""
        edges = [0, *self.cuts.tolist(), len(self)]
        return list(pairwise(edges))

    def window(self, start: int, stop: int) -> Timeline:
        """That of some frames alone."""
        inside = (self.cuts > start) & (self.cuts < stop)
        return Timeline(
            self.times[start:stop],
            self.cuts[inside] - start,
            self.first + start,
            self.blurred[start:stop],
        )


@stored
@dataclass(frozen=True)
class Evidence:
    """What speaks for each step, and how well.

    ``tracks`` ``(n,)`` counts those that steer; ``confidence`` ``(n,)`` in 0..1; ``residual``
    ``(n,)`` is the rms distance of steering tracks from the fit, scene units; ``steering`` bool,
    one per sighting, and likewise ``excluded``, by the editor, and ``astray``, of tracks that
    mostly move otherwise than the camera (each empty if none is).
    """

    tracks: NDArray[np.int64]
    confidence: Real
    residual: Real
    steering: Flags = field(default_factory=_no_flags)
    excluded: Flags = field(default_factory=_no_flags)
    astray: Flags = field(default_factory=_no_flags)

    @property
    def left_out(self) -> Flags:
        """Sightings that must not tell of the camera; empty if none."""
        if not len(self.excluded) or not len(self.astray):
            return self.excluded if len(self.excluded) else self.astray
        return self.excluded | self.astray

    @property
    def weight(self) -> Real:
        """``(n,)`` how far a step is believed, 0..1."""
        c = np.clip(self.confidence / SURE, 0.0, 1.0)
        return np.asarray(c * c * (3 - 2 * c))

    @property
    def weak(self) -> Flags:
        """``(n,)`` whether a frame could not be measured surely."""
        return np.asarray(self.confidence < WEAK)

    def window(self, start: int, stop: int) -> Evidence:
        """That of some frames alone; it knows of no single tracks."""
        part = slice(start, stop)
        return Evidence(self.tracks[part], self.confidence[part], self.residual[part])


@stored
@dataclass(frozen=True)
class AngleOfView:
    """Degrees ``across`` the recorded picture, with its standard ``error``; ``k`` (k1, k2 of the
    Brown-Conrady model) as far as the evidence carries them. ``why`` it cannot be told, if so:
    ``across`` is then no more than what is likeliest, 0 where nothing is."""

    across: float = 0.0
    error: float = np.inf
    k: tuple[float, ...] = ()
    why: str = ""

    @property
    def told(self) -> bool:
        return not self.why

    @property
    def words(self) -> str:
        """One sentence; what it is sure to is where the truth lies in 19 cases of 20."""
        if self.why:
            return f"The angle of view cannot be told from this clip: {self.why}."
        sure = max(0.1, 2 * self.error)
        said = f"This clip's own motion tells {self.across:.1f}°, sure to about {sure:.1f}°"
        bends = ", ".join(f"k{i} {k:.3f}" for i, k in enumerate(self.k, 1))
        return said + (f"; its lens bends straight lines ({bends})." if bends else ".")


@stored
@dataclass(frozen=True)
class ModelChoice:
    """The ``model`` that a clip asks for. ``left`` is what each leaves of the background's shake at
    the calm and ceiling asked for, rms px, judged by tracks that it was not fitted to."""

    model: str
    left: dict[str, float]

    @property
    def why(self) -> str:
        """One sentence."""
        own = self.left[self.model]
        said = f"{MOTION_MODELS[self.model].capitalize()} leaves {own:.2f} px of the shake"
        others = [name for name in self.left if name != self.model]
        if not others:
            return said + "."
        best = min(others, key=lambda name: self.left[name])
        left = self.left[best]
        word = "hardly less, " if left < own else ""
        return f"{said}; {MOTION_MODELS[best]} would leave {word}{left:.2f} px."


@stored
@dataclass(frozen=True)
class PointTrack:
    """``places`` ``(n,)`` complex, scene units, NaN where the point is not known; ``likeness``
    ``(n,)`` correlation with the pattern, 0..1; ``note`` why there is nothing, if so."""

    places: Complex
    likeness: Real
    note: str = ""

    def window(self, start: int, stop: int) -> PointTrack:
        """The track of some frames alone."""
        return PointTrack(self.places[start:stop], self.likeness[start:stop], self.note)

    @classmethod
    def nothing(cls, n: int, note: str) -> PointTrack:
        """A point that could not be followed anywhere."""
        return cls(np.full(n, np.nan + 0j), np.zeros(n), note)

    @property
    def known(self) -> Flags:
        return np.isfinite(self.places)


@stored
@dataclass(frozen=True)
class BackgroundFlow:
    """Frame to frame, ``n`` frames of pictures of size ``canvas``, as they were recorded: ``steps``
    and, on top, the displacements ``halves`` ``(n, 2, rows, columns)`` at the nodes of a
    :class:`.DisplacementGrid`, one by either half of the tracks; scene units."""

    canvas: Canvas
    steps: Similarities
    halves: DisplacementField

    def __len__(self) -> int:
        return len(self.steps)

    def window(self, start: int, stop: int) -> BackgroundFlow:
        """That of some frames alone."""
        part = slice(start, stop)
        return BackgroundFlow(self.canvas, self.steps[part].rebased(), self.halves[part])

    def moved(self, frames: slice, points: Complex, half: int | None = None) -> Complex:
        """``(n, m)`` where what was at ``points`` of the frame before is in each of ``frames``; by
        one half of the tracks, or by both."""
        nodes = self.halves[frames].mean(axis=1) if half is None else self.halves[frames, half]
        grid = DisplacementGrid(self.canvas, nodes)
        return np.asarray(self.steps[frames].apply(points) + grid.to_source(points) - points)


@stored
@dataclass(frozen=True)
class LensEvidence:
    """What tracks miss the motion by, px of the recorded picture: as ``recorded``, and
    ``undistorted``."""

    recorded: float | None
    undistorted: float | None


@stored
@dataclass(frozen=True)
class CameraMotion:
    """Motion of ``n`` frames.

    ``steps`` maps the scene of frame ``t - 1`` to frame ``t`` (nothing at 0 and at cuts). ``model``
    is one of :data:`MOTION_MODELS`; ``field`` is what a richer one adds to the steps. ``rows`` is
    how the picture moved while it was read (the steps are then without that), and ``readout_sure``
    the ms that its readout is sure to, where the clip itself told it; ``lens`` what the
    tracks were undistorted through: the scene plane of everything here is then the straight plane.
    ``held`` are the points that are to be held, ``flow`` is how the background moves, whatever the
    model says, ``choice`` why the model is what it is, if the clip
    was to decide, ``angle`` what the clip tells of the angle of view, if it was asked; ``notes``
    say what could not be done.
    """

    model: str
    steps: Motion
    timeline: Timeline
    evidence: Evidence
    field: DisplacementField | None = None
    rows: RollingShutterWarp | None = None
    readout_sure: float | None = None
    lens: Lens | None = None
    lens_evidence: LensEvidence | None = None
    held: tuple[PointTrack, ...] = ()
    flow: BackgroundFlow | None = None
    choice: ModelChoice | None = None
    angle: AngleOfView | None = None
    notes: tuple[str, ...] = ()

    def __len__(self) -> int:
        return len(self.steps)

    @property
    def segments(self) -> list[tuple[int, int]]:
        """Stretches between cuts as ``[start, end)``."""
        return self.timeline.segments

    @property
    def trusted(self) -> Motion:
        """The steps as far as they can be believed: none where there is no confidence.

        A step that is not believed counts as "the camera did not move", so the correction stays
        where it was: the picture then moves exactly as the source does, without a jump.
        """
        return self.steps.toward_identity(self.evidence.weight)

    def window(self, start: int, stop: int) -> CameraMotion:
        """The motion of some frames alone, counted from the start of the range. It knows of no
        single tracks."""
        part = slice(start, stop)
        return replace(
            self,
            steps=self.steps[part].rebased(),
            timeline=self.timeline.window(start, stop),
            evidence=self.evidence.window(start, stop),
            field=self.field[part] if self.field is not None else None,
            rows=self.rows[part] if self.rows is not None else None,
            lens=self.lens[part] if self.lens is not None else None,
            held=tuple(track.window(start, stop) for track in self.held),
            flow=self.flow.window(start, stop) if self.flow is not None else None,
        )
