"""What ``measure`` and ``correct`` do with a clip that looks everywhere."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from pathlib import Path

from ..core.errors import BadSetting
from ..core.media.decode import frame_at
from ..core.media.encode import QUALITIES, Encoding
from ..core.media.probe import Scan
from ..core.motion.sphere_turns import SphereMotion, sphere_motion
from ..core.picture.around import goes_around, has_shape_of_sphere
from ..core.pipeline.sphere_film import render_sphere
from ..core.pipeline.sphere_reports import (
    shake_in_file,
    sphere_measure_report,
    sphere_report,
)
from ..core.pipeline.sphere_solution import solve_sphere
from ..core.pipeline.sphere_tracks import (
    eyes_words,
    find_edges,
    first_eye,
    follow_on_sphere,
    measure_sphere,
)
from ..core.stations.motion import MOTION
from ..core.stations.view import VIEW
from ..core.treatment import Treatment, read, with_settings
from .options import Meter, range_of, write_json

LOOKS = 3  # frames that are asked whether they go around


def with_kind(verb: argparse.ArgumentParser) -> None:
    """Options that say whether a clip looks everywhere."""
    kind = verb.add_mutually_exclusive_group()
    kind.add_argument("--sphere", action="store_true", help="the picture goes all around")
    kind.add_argument("--flat", action="store_true", help="it does not, whatever the file says")


def is_sphere(options: argparse.Namespace, found: Scan) -> bool:
    """Whether the input is taken for a sphere: as it is told, as its file says, or as its pictures
    show, where they are twice as wide as high."""
    if options.flat or options.sphere:
        return bool(options.sphere)
    if found.probe.sphere is not None:
        return True
    if not has_shape_of_sphere(found):
        return False
    first, last = range_of(options, found)
    at = (first + (last - first) * k // (LOOKS - 1) for k in range(LOOKS))
    around = goes_around(
        frame_at(options.input, found, index, luma_only=True).planes[0] for index in at
    )
    kind, other = ("a sphere", "--flat") if around else ("a flat clip", "--sphere")
    print(
        f"The picture is twice as wide as high, and its file does not say what it is. By its edges "
        f"it is taken for {kind}; {other} says otherwise.",
        file=sys.stderr,
    )
    return around


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


def _measured(options: argparse.Namespace, found: Scan, nadir: float) -> SphereMotion:
    first, last = range_of(options, found)
    with tempfile.TemporaryDirectory(prefix="keen-") as folder:
        tracks = measure_sphere(options.input, found, first, last, Path(folder), Meter("measuring"))
        return sphere_motion(tracks, first_eye(found), nadir)


def measure_one(options: argparse.Namespace, found: Scan) -> None:
    motion = _measured(options, found, Treatment().of(MOTION).nadir)
    write_json(options.json, sphere_measure_report(motion, first_eye(found)))


def correct_one(options: argparse.Namespace, found: Scan) -> None:
    treatment = _treatment(options)
    eye = first_eye(found)
    started = time.perf_counter()
    settings = treatment.of(MOTION)
    motion = _measured(options, found, settings.nadir)
    measured_at = time.perf_counter()
    two = eyes_words(options.input, found, motion.timeline.first)
    if two:
        print(two, file=sys.stderr)
    edges = []
    if settings.on and settings.level != "off":
        edges = find_edges(options.input, found, motion, Meter("looking for uprights"))
    held = None
    if settings.on and settings.aim == "hold" and settings.hold:
        held, why = follow_on_sphere(
            options.input, found, motion, settings.hold[0], Meter("following")
        )
        if why:
            print(why, file=sys.stderr)
    solution = solve_sphere(motion, eye, treatment, edges, held)
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
