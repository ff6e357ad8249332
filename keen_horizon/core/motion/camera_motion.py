"""What is found out about a clip's motion: plain data that the fits give and the solver takes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from itertools import pairwise
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from ..geometry.lens import Lens
from ..geometry.motion import Motion
from ..geometry.rolling_shutter import RollingShutterWarp
from ..stored import stored
from ..types import Complex, Flags, Indices, Real

DisplacementField = NDArray[np.complex64]  # (n, rows, columns) at the nodes of a DisplacementGrid
MOTION_MODELS: Mapping[str, str] = MappingProxyType(
    {
        "shift": "shift",
        "similarity": "shift, roll and scale",
        "rotation": "camera rotation",
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
    one per sighting, and ``excluded`` likewise (empty if none is).
    """

    tracks: NDArray[np.int64]
    confidence: Real
    residual: Real
    steering: Flags = field(default_factory=_no_flags)
    excluded: Flags = field(default_factory=_no_flags)

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
class Wobble:
    """``source`` ``(n, 54)`` as :func:`.local_wobble`; ``unskewed`` is what is left of it once the
    rows are put right, None if they are not; ``mesh`` the displacement field of the usual
    stiffness that it was found by."""

    source: NDArray[np.complex64]
    unskewed: NDArray[np.complex64] | None = None
    mesh: DisplacementField | None = None

    @property
    def left_by_shutter(self) -> NDArray[np.complex64]:
        """What the shutter's correction, if there is one, leaves."""
        return self.source if self.unskewed is None else self.unskewed

    @property
    def rms_left_by_shutter(self) -> float:
        """Rms of that over all places and frames, scene units."""
        return float(np.sqrt((np.abs(self.left_by_shutter) ** 2).mean()))

    def window(self, start: int, stop: int) -> Wobble:
        """That of some frames alone."""
        part = slice(start, stop)
        return Wobble(*(None if v is None else v[part]
                        for v in (self.source, self.unskewed, self.mesh)))  # type: ignore[arg-type]  # fmt: skip


@stored
@dataclass(frozen=True)
class AngleOfView:
    """Degrees ``across`` the recorded picture, with its standard ``error``; ``k`` (k1, k2 of the
    Brown-Conrady model) as far as the evidence carries them. ``why`` it cannot be told, if so."""

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
    """The model that a clip asks for. ``left`` is what each leaves of held-out tracks, rms px;
    ``wobble`` what the chosen one leaves, rms px, against ``limit``."""

    model: str
    left: dict[str, float]
    wobble: float = 0.0
    limit: float = 0.0

    @property
    def why(self) -> str:
        """One sentence."""
        said = f"{MOTION_MODELS[self.model].capitalize()}: marks it was not fitted to miss by "
        said += f"{self.left[self.model]:.2f} px"
        order = [name for name in MOTION_MODELS if name in self.left]
        at = order.index(self.model)
        best = min(order[at + 1 :], key=lambda name: self.left[name], default=None)
        if best is not None and self.left[best] < 0.99 * self.left[self.model]:
            said += f" ({MOTION_MODELS[best]} would only bring {self.left[best]:.2f} px)"
        elif at > 0:
            before = order[at - 1]
            said += f" (with {MOTION_MODELS[before]} by {self.left[before]:.2f} px)"
        said += f", and it leaves {self.wobble:.2f} px of wobble"
        return said + ("." if self.wobble <= self.limit else f", over the limit of {self.limit:g}.")


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
    how the picture moved while it was read (the steps are then without that); ``lens`` what the
    tracks were undistorted through: the scene plane of everything here is then the straight plane.
    ``held`` are the points that are to be held, ``choice`` why the model is what it is, if the clip
    was to decide, ``angle`` what the clip tells of the angle of view, if it was asked; ``notes``
    say what could not be done.
    """

    model: str
    steps: Motion
    timeline: Timeline
    evidence: Evidence
    field: DisplacementField | None = None
    wobble: Wobble | None = None
    rows: RollingShutterWarp | None = None
    lens: Lens | None = None
    lens_evidence: LensEvidence | None = None
    held: tuple[PointTrack, ...] = ()
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
            wobble=self.wobble.window(start, stop) if self.wobble is not None else None,
            rows=self.rows[part] if self.rows is not None else None,
            lens=self.lens[part] if self.lens is not None else None,
            held=tuple(track.window(start, stop) for track in self.held),
        )
