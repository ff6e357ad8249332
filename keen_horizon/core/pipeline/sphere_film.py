"""Drawing a solved sphere into a film: a sphere again, or what a flat camera sees in it."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from pathlib import Path

from ..geometry.canvas import Canvas
from ..geometry.projection import Camera, Equirectangular
from ..media.ahead import pictures_ahead
from ..media.decode import Picture, Plane, frames
from ..media.encode import Encoding
from ..media.probe import Scan
from ..media.spherical import SphereTag
from ..picture.sphere_warp import SphereSampler, warp_sphere
from ..picture.twin_warp import TwinLayout, TwinSampler
from ..picture.working_space import space_of
from ..progress import Progress, silent
from ..stations.view import VIEW
from ..stations.view.station import camera_at
from ..treatment import Treatment
from ..types import Real
from .film import Film, Rendered
from .sphere_solution import SphereSolution
from .sphere_source import eyes_of, tag_of

Draw = Callable[[Picture, Real, tuple[Plane, ...], Real], None]


@dataclass(frozen=True, kw_only=True)
class SphereFilm(Film[Picture]):
    """A solved sphere's film, each colour sampled once: a sphere again, which its file says it is,
    or a flat view."""

    solution: SphereSolution
    treatment: Treatment

    @property
    def canvas(self) -> Canvas:
        size = self.treatment.of(VIEW) if self._flat else self.scan.probe
        return Canvas(size.width, size.height)

    @property
    def sphere(self) -> SphereTag | None:
        if self._flat:
            return None
        tag, vertical = tag_of(self.scan.probe), self.solution.vertical
        if vertical is None or vertical.down is None:
            return tag
        # Players turn pictures by the pose that a file says; upright is in the pictures now.
        return replace(tag, pose=(tag.pose[0], 0.0, 0.0))

    def pictures(self, start: int) -> Generator[Picture, None, None]:
        read, _ = self._source
        decoded = frames(self.path, read, start, self.last)
        with pictures_ahead(decoded, read.probe.canvas) as pictures:
            yield from pictures

    def draw(self, seen: Picture, planes: tuple[Plane, ...]) -> Picture:
        solution, tag, at = self.solution, tag_of(self.scan.probe), seen.index - self.first
        _, drawn_by = self._source
        turn, bend = solution.corrections[at], self._bends[at]
        if solution.looks is not None and solution.angles is not None:
            camera = camera_at(self.treatment.of(VIEW), float(solution.angles[at]))
            one = seen if tag.stereo == "mono" else next(eyes_of(seen, tag))
            drawn_by(camera)(one, turn @ solution.looks[at], planes, bend)
        elif tag.stereo == "mono":
            self._around(seen, turn, planes, bend)
        else:
            into = replace(seen, planes=planes)  # type: ignore[arg-type]
            for one, part in zip(eyes_of(seen, tag), eyes_of(into, tag), strict=True):
                self._around(one, turn, part.planes, bend)
        if solution.sharpen is not None:
            solution.sharpen.apply(planes[0], space_of(self.scan.probe), at)
        return seen

    @property
    def _flat(self) -> bool:
        return self.solution.looks is not None

    @cached_property
    def _bends(self) -> Real:
        return self.solution.bends

    @cached_property
    def _source(self) -> tuple[Scan, Callable[[Camera], Draw]]:
        """How its pictures are read, and what draws as a camera sees them, the last one known."""
        read, drawn_by = _source(self.scan, self.solution.canvas)
        return read, lru_cache(maxsize=1)(drawn_by)

    @cached_property
    def _around(self) -> Draw:
        eye = self.solution.canvas
        return self._source[1](Camera(eye, Equirectangular.of(eye)))


def sphere_film(
    path: Path, scan: Scan, solution: SphereSolution, treatment: Treatment, *,
    encoding: Encoding | None = None,
) -> SphereFilm:  # fmt: skip
    """The film of a solved sphere."""
    first = solution.motion.timeline.first
    return SphereFilm(
        path=path, scan=scan, solution=solution, treatment=treatment, first=first,
        last=first + len(solution) - 1, encoding=encoding or Encoding(),
    )  # fmt: skip


def render_sphere(
    path: Path, scan: Scan, solution: SphereSolution, treatment: Treatment, target: Path, *,
    encoding: Encoding | None = None, progress: Progress = silent,
) -> Rendered:  # fmt: skip
    """Draw :func:`sphere_film` into a file, see :meth:`.Film.render`."""
    film = sphere_film(path, scan, solution, treatment, encoding=encoding)
    return film.render(target, progress)


def _source(scan: Scan, eye: Canvas) -> tuple[Scan, Callable[[Camera], Draw]]:
    """How to read the pictures of a film, and what draws one as a camera sees it, turned. Two
    fisheyes are read as they are, so that each colour is sampled once."""
    if isinstance(scan.layout, TwinLayout):
        twin, space = scan.layout.twin, scan.layout.space
        return replace(scan, layout=None), lambda camera: TwinSampler(camera, twin, space).warp

    def drawn_by(camera: Camera) -> Draw:
        sampler = SphereSampler(camera, eye)
        return lambda picture, turn, out, bend: warp_sphere(picture, sampler, turn, out, bend)

    return scan, drawn_by
