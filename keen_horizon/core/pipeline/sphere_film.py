"""Drawing a solved sphere into a file: a sphere again, or what a flat camera sees in it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from ..geometry.projection import Camera, Equirectangular
from ..media.decode import frames, working_format
from ..media.encode import Encoding, Mp4Writer
from ..media.probe import Scan
from ..picture.sphere_warp import SphereSampler, warp_sphere
from ..picture.working_space import space_of
from ..stations.view import VIEW
from ..stations.view.station import camera_at
from ..treatment import Treatment
from .measure_tracks import Progress, silent
from .render_clip import Rendered
from .sphere_solution import SphereSolution
from .sphere_tracks import eyes_of, tag_of


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
        around = SphereSampler(Camera(eye, Equirectangular.of(eye)), eye)
        seen: SphereSampler | None = None
        for picture in frames(path, scan, first, last):
            at = picture.index - first
            planes, turn = writer.blank_planes(), solution.corrections[at]
            if solution.looks is not None and solution.angles is not None:
                camera = camera_at(view, float(solution.angles[at]))
                if seen is None or seen.output != camera:
                    seen = SphereSampler(camera, eye)
                one = picture if tag.stereo == "mono" else next(eyes_of(picture, tag))
                warp_sphere(one, seen, turn @ solution.looks[at], planes)
            elif tag.stereo == "mono":
                warp_sphere(picture, around, turn, planes)
            else:
                drawn = replace(picture, planes=planes)  # type: ignore[arg-type]
                for one, into in zip(eyes_of(picture, tag), eyes_of(drawn, tag), strict=True):
                    warp_sphere(one, around, turn, into.planes)
            if sharpen is not None:
                sharpen.apply(planes[0], space, at)
            writer.write(picture.pts)
            progress(at + 1, len(solution))
        writer.finish()
    return Rendered(*size, writer.sound_note, len(solution))
