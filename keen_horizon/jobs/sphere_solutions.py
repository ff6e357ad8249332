"""Solved treatments of spheres and what they stand on, remembered as :mod:`.solutions` does."""

from __future__ import annotations

import numpy as np

from ..core.motion.held_point import HeldPoint
from ..core.motion.sphere_turns import SphereMotion, sphere_motion
from ..core.motion.uprights import Edges
from ..core.pipeline.sphere_solution import SphereSolution, points_of, solve_sphere
from ..core.pipeline.sphere_source import first_eye
from ..core.stations.motion import MOTION
from ..core.stations.view import VIEW
from ..core.tracking.tracks import Tracks
from ..core.treatment import Treatment, digest
from ..core.types import Rays
from ..store.media_store import MediaStore
from ..store.models import Measure, Recording
from ..store.scans import probe_of
from .cache import BoundedCache
from .vault import MEGABYTE, keep, kept_in, vault_key


class SphereSolver:
    """Finds solutions of spheres; remembers the last few, and the motions they stand on.
    Thread-safe."""

    def __init__(self, store: MediaStore) -> None:
        self.store = store
        self._motions: BoundedCache[SphereMotion] = BoundedCache(64 * MEGABYTE)
        self._solutions: BoundedCache[SphereSolution] = BoundedCache(64 * MEGABYTE)

    def motion(self, recording: Recording, measure: Measure, nadir: float) -> SphereMotion:
        """The camera's motion, marks within ``nadir`` degrees of straight down apart."""
        key = _motion_key(measure, nadir)

        def made() -> SphereMotion:
            kept = kept_in(self.store, key, SphereMotion)
            if kept is None:
                tracks = Tracks.read(self.store.path(measure.folder_key))
                kept = sphere_motion(tracks, first_eye(probe_of(recording)), nadir)
                keep(self.store, key, kept)
            return kept

        return self._motions.find(key, made)

    def find(
        self, recording: Recording, measure: Measure, treatment: Treatment
    ) -> SphereSolution | None:
        """The solution, if nobody has to wait for it; None where a worker has to make it."""
        settings = treatment.of(MOTION)
        if self.to_follow(measure, treatment) or self.wants_edges(measure, treatment):
            return None
        key = _motion_key(measure, settings.nadir)
        if self._motions.get(key) is None and not self.store.path(key).exists():
            return None
        return self.solve(recording, measure, treatment)

    def provisional(
        self, recording: Recording, measure: Measure, treatment: Treatment
    ) -> SphereSolution:
        """What to look at until a worker has solved it: locked off where a point has yet to be
        followed, and by the usual cone where another has not been fitted yet."""
        usual = Treatment().of(MOTION).nadir
        treatment = treatment.changed(MOTION, hold=(), nadir=usual).changed(VIEW, follow=None)
        return self.solve(recording, measure, treatment)

    def solve(self, recording: Recording, measure: Measure, treatment: Treatment) -> SphereSolution:
        """The solution, however long it takes; a held point has to have been followed."""
        settings = treatment.of(MOTION)
        key = vault_key("spheres", measure.folder_key, digest(treatment, "report"))

        def made() -> SphereSolution:
            held, seen = (
                None if point is None else self.held(measure, point)
                for point in points_of(treatment)
            )  # fmt: skip
            return solve_sphere(
                self.motion(recording, measure, settings.nadir), first_eye(probe_of(recording)),
                treatment, self.edges(measure), held, seen,
            )  # fmt: skip

        return self._solutions.find(key, made)

    def to_follow(self, measure: Measure, treatment: Treatment) -> list[HeldPoint]:
        """The points to be held, or to be looked at, that nobody has followed yet."""
        return [
            point
            for point in points_of(treatment)
            if point is not None and not self.store.path(_held_key(measure, point)).exists()
        ]

    def held(self, measure: Measure, point: HeldPoint) -> Rays | None:
        """Where a point is that was followed, as :func:`.follow_on_sphere`."""
        kept = kept_in(self.store, _held_key(measure, point), tuple)
        return None if kept is None else np.asarray(kept[0])

    def keep_held(self, measure: Measure, point: HeldPoint, rays: Rays) -> None:
        keep(self.store, _held_key(measure, point), (rays,))

    def wants_edges(self, measure: Measure, treatment: Treatment) -> bool:
        """Whether straight edges have to be looked for again: those of the measure were kept by an
        earlier version."""
        settings = treatment.of(MOTION)
        by_uprights = settings.on and settings.level in ("uprights", "both")
        return by_uprights and not self.store.path(_edges_key(measure)).exists()

    def edges(self, measure: Measure) -> list[tuple[int, Edges]]:
        """Straight edges of some frames, as :func:`.find_edges`."""
        kept = kept_in(self.store, _edges_key(measure), tuple) or ()
        return [(int(at), own) for at, own in kept]

    def keep_edges(self, measure: Measure, edges: list[tuple[int, Edges]]) -> None:
        keep(self.store, _edges_key(measure), tuple(edges))


def _motion_key(measure: Measure, nadir: float) -> str:
    return vault_key("turns", measure.folder_key, nadir)


def _edges_key(measure: Measure) -> str:
    return vault_key("uprights", measure.folder_key)


def _held_key(measure: Measure, point: HeldPoint) -> str:
    return vault_key("held", measure.folder_key, point.model_dump(mode="json"))
