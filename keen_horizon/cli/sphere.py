"""What ``measure`` and ``correct`` do with a clip that looks everywhere."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from pathlib import Path

from ..core.errors import BadSetting
from ..core.media.encode import QUALITIES, Encoding
from ..core.media.probe import Scan
from ..core.motion.sphere_turns import SphereMotion, sphere_motion
from ..core.pipeline.clip_kind import clip_kind
from ..core.pipeline.sphere_film import render_sphere
from ..core.pipeline.sphere_reports import (
    shake_in_file,
    sphere_measure_report,
    sphere_report,
)
from ..core.pipeline.sphere_solution import points_of, solve_sphere
from ..core.pipeline.sphere_source import eyes_words, first_eye, whole_scan
from ..core.pipeline.sphere_tracks import (
    EdgesOnTheWay,
    find_edges,
    follow_on_sphere,
    measure_sphere,
)
from ..core.stations.motion import MOTION
from ..core.stations.view import VIEW
from ..core.treatment import Treatment, read, with_settings
from ..core.types import Rays
from .options import Meter, range_of, write_json


def with_kind(verb: argparse.ArgumentParser) -> None:
    """Options that say whether a clip looks everywhere."""
    kind = verb.add_mutually_exclusive_group()
    kind.add_argument("--sphere", action="store_true", help="the picture goes all around")
    kind.add_argument("--flat", action="store_true", help="it does not, whatever the file says")


def as_sphere(options: argparse.Namespace, found: Scan) -> Scan | None:
    """The input's scan, of pictures all around, if it is taken for a sphere: as it is told, as its
    file says, or as its pictures show."""
    if options.flat:
        return None
    if found.probe.sphere is not None:
        return whole_scan(found)
    taken = clip_kind(options.input, found, *range_of(options, found))
    if taken.words and not options.sphere:
        other = "--flat" if taken.kind == "sphere" else "--sphere"
        print(f"{taken.words} {other} says otherwise." if taken.may_differ else taken.words,
              file=sys.stderr)  # fmt: skip
    if taken.kind == "sphere" or options.sphere:
        return whole_scan(found, taken.twin)
    return None


def only_flat(options: argparse.Namespace, found: Scan, what: str) -> None:
    """Raise BadSetting for what spheres do not have."""
    if found.probe.sphere is not None:
        raise BadSetting(f"is a sphere, which has no {what}.", file=options.input)


def no_view(treatment: Treatment) -> None:
    """Raise BadSetting where a flat clip is asked for what only spheres have."""
    if treatment.of(VIEW).on:
        raise BadSetting(
            "a view is taken out of spheres only, and this is a flat clip.",
            remedy="Add --sphere if it is one.",
        )


def _measured(
    options: argparse.Namespace, found: Scan, nadir: float, edges: EdgesOnTheWay | None = None
) -> SphereMotion:
    first, last = range_of(options, found)
    with tempfile.TemporaryDirectory(prefix="keen-") as folder:
        tracks = measure_sphere(
            options.input, found, first, last, Path(folder), Meter("measuring"), edges=edges
        )
        return sphere_motion(tracks, first_eye(found.probe), nadir)


def _flat_alone(options: argparse.Namespace) -> None:
    """Raise BadSetting for options that mean nothing on a sphere."""
    if options.closer:
        raise BadSetting("--closer is for flat clips: a sphere is measured all around at once.")
    if getattr(options, "model", "decide") != "decide":
        raise BadSetting("--model is for flat clips: a sphere only turns.")


def measure_one(options: argparse.Namespace, found: Scan) -> None:
    _flat_alone(options)
    motion = _measured(options, found, Treatment().of(MOTION).nadir)
    write_json(options.json, sphere_measure_report(motion, first_eye(found.probe)))


def correct_one(options: argparse.Namespace, found: Scan) -> None:
    _flat_alone(options)
    treatment = _treatment(options)
    eye = first_eye(found.probe)
    started = time.perf_counter()
    settings = treatment.of(MOTION)
    first, last = range_of(options, found)
    on_the_way = None
    if settings.on and settings.level in ("uprights", "both"):
        on_the_way = EdgesOnTheWay(found, last - first + 1)
    motion = _measured(options, found, settings.nadir, on_the_way)
    measured_at = time.perf_counter()
    two = eyes_words(options.input, found, motion.timeline.first)
    if two:
        print(two, file=sys.stderr)
    edges = []
    if on_the_way is not None:
        meter = Meter("looking for uprights")
        edges = find_edges(options.input, found, first, on_the_way, meter)
    followed: list[Rays | None] = []
    for point in points_of(treatment):
        rays, why = None, ""
        if point is not None:
            meter = Meter("following")
            rays, why = follow_on_sphere(options.input, found, motion, point, meter)
        if why:
            print(why, file=sys.stderr)
        followed.append(rays)
    held, seen = followed
    solution = solve_sphere(motion, eye, treatment, edges, held, seen)
    solved_at = time.perf_counter()
    rendered = render_sphere(
        options.input, found, solution, treatment, options.output,
        encoding=Encoding(crf=QUALITIES[options.quality]), progress=Meter("rendering"),
    )  # fmt: skip
    rendered_at = time.perf_counter()
    again = None
    if options.report and not treatment.of(VIEW).on:
        with tempfile.TemporaryDirectory(prefix="keen-") as room:
            again = shake_in_file(options.output, settings.nadir, Path(room))
    seconds = {
        "measure": measured_at - started,
        "solve": solved_at - measured_at,
        "render": rendered_at - solved_at,
        "check": time.perf_counter() - rendered_at,
    }
    report = sphere_report(solution, treatment, rendered, seconds, again)
    for note in report["notes"]:
        print(note, file=sys.stderr)
    if options.report:
        write_json(options.report, report)


def _treatment(options: argparse.Namespace) -> Treatment:
    """The treatment that the options ask for. Whoever sets where a view looks wants one."""
    if options.lens is not None or options.lines is not None:
        raise BadSetting(
            "--lens and --lines are for flat clips.",
            remedy="A view's size is view.width and view.height.",
        )
    treatment = read(options.treatment) if options.treatment else Treatment()
    asked = [one.partition("=")[0].strip() for one in options.set]
    views = any(name.startswith("view.") for name in asked) and "view.on" not in asked
    return with_settings(treatment, [*(["view.on=true"] if views else []), *options.set])
