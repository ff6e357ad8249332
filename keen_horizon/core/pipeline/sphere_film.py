"""Drawing a solved sphere into a file: a sphere again, or what a flat camera sees in it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

from ..geometry.canvas import Canvas
from ..geometry.projection import Camera, Equirectangular
from ..media.ahead import ahead
from ..media.decode import Picture, Plane, frames, working_format
from ..media.encode import Blank, Encoding, Mp4Writer
from ..media.probe import Scan
from ..picture.sphere_warp import SphereSampler, warp_sphere
from ..picture.twin_warp import TwinLayout, TwinSampler
from ..picture.working_space import space_of
from ..progress import Progress, silent
from ..stations.view import VIEW
from ..stations.view.station import camera_at
from ..treatment import Treatment
from ..types import Real
from .render_clip import Rendered
from .sphere_solution import SphereSolution
from .sphere_source import eyes_of, tag_of

Draw = Callable[[Picture, Real, tuple[Plane, ...], Real], None]


def render_sphere(
    path: Path, scan: Scan, solution: SphereSolution, treatment: Treatment, target: Path, *,
    encoding: Encoding | None = None, progress: Progress = silent,
) -> Rendered:  # fmt: skip
    """Draw a solved sphere into an MP4 with its sound, each colour sampled once: a sphere again,
    which its file says it is, or a flat view."""
    sharpen, space = solution.sharpen, space_of(scan.probe)
    view, tag = treatment.of(VIEW), tag_of(scan.probe)
    eye, first = solution.canvas, solution.motion.timeline.first
    last = first + len(solution) - 1
    flat = solution.looks is not None
    size = (view.width, view.height) if flat else (scan.probe.width, scan.probe.height)
    said = tag
    if solution.vertical is not None and solution.vertical.down is not None:
        # Players turn pictures by the pose that a file says; upright is in the pictures now.
        said = replace(tag, pose=(tag.pose[0], 0.0, 0.0))
    with Mp4Writer(
        target, scan, *size, working_format(scan.probe.pixel_format), encoding or Encoding(),
        first, last, sound_from=path, sphere=None if flat else said,
    ) as writer:  # fmt: skip
        camera = Camera(eye, Equirectangular.of(eye))
        read, drawn_by = _source(scan, eye)
        draw, bends = drawn_by(camera), solution.bends

        damaged: list[int] = []

        def drawn(pictures: Iterator[Picture]) -> Iterator[tuple[Picture, Blank]]:
            nonlocal camera, draw
            for picture in pictures:
                at = picture.index - first
                if picture.corrupt:
                    damaged.append(picture.index)
                blank, turn = writer.blank(), solution.corrections[at]
                if solution.looks is not None and solution.angles is not None:
                    wanted = camera_at(view, float(solution.angles[at]))
                    if wanted != camera:
                        camera, draw = wanted, drawn_by(wanted)
                    one = picture if tag.stereo == "mono" else next(eyes_of(picture, tag))
                    draw(one, turn @ solution.looks[at], blank.planes, bends[at])
                elif tag.stereo == "mono":
                    draw(picture, turn, blank.planes, bends[at])
                else:
                    into = replace(picture, planes=blank.planes)  # type: ignore[arg-type]
                    for one, part in zip(eyes_of(picture, tag), eyes_of(into, tag), strict=True):
                        draw(one, turn, part.planes, bends[at])
                if sharpen is not None:
                    sharpen.apply(blank.planes[0], space, at)
                yield picture, blank

        with ahead(frames(path, read, first, last)) as pictures, ahead(drawn(pictures)) as done:
            for picture, blank in done:
                writer.write(blank, picture.pts)
                progress(picture.index - first + 1, len(solution))
        writer.finish()
    return Rendered(*size, writer.sound_note, len(solution), tuple(damaged))


def _source(scan: Scan, eye: Canvas) -> tuple[Scan, Callable[[Camera], Draw]]:
    """How to read the pictures of a film, and what draws one as a camera sees it, turned. Two
    fisheyes are read as they are, so that each colour is sampled once."""
    if isinstance(scan.layout, TwinLayout):
        twin = scan.layout.twin
        return replace(scan, layout=None), lambda camera: TwinSampler(camera, twin).warp

    def drawn_by(camera: Camera) -> Draw:
        sampler = SphereSampler(camera, eye)
        return lambda picture, turn, out, bend: warp_sphere(picture, sampler, turn, out, bend)

    return scan, drawn_by
