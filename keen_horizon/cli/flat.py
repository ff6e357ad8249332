"""What ``measure``, ``correct``, ``cost`` and ``glass`` do with a clip, and what they take."""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from dataclasses import asdict
from pathlib import Path

from ..core import pipeline
from ..core.errors import KeenError
from ..core.media.encode import QUALITIES, Encoding
from ..core.media.mp4 import CONTAINERS
from ..core.pipeline.cost_curve import starts
from ..core.pipeline.render_clip import drawing_of
from ..core.stations.motion import MOTION
from ..core.tracking.tracks import Tracks
from ..core.treatment import Treatment
from .options import (
    Meter,
    fitting_profile,
    measured,
    range_of,
    scanned,
    treated,
    treatment_of,
    with_care,
    with_range,
    with_treatment,
    write_json,
)
from .sphere import as_sphere, correct_one, measure_one, no_view, only_flat, with_kind


def add_measure(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("input", type=Path)
    with_range(verb)
    verb.add_argument("--json", type=Path, required=True, metavar="OUT.json")
    models = list(MOTION.facts["model"].choices)
    verb.add_argument("--model", choices=models, default="decide")
    with_care(verb)
    with_kind(verb)
    verb.set_defaults(run=_measure)


def add_correct(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("input", type=Path)
    verb.add_argument("output", type=Path)
    with_treatment(verb)
    verb.add_argument("--report", type=Path, metavar="FILE.json")
    verb.add_argument("--quality", choices=list(QUALITIES), default="good")
    verb.add_argument("--lines", type=int, help="height of the output, no more than the source's")
    with_kind(verb)
    verb.set_defaults(run=_correct)


def add_cost(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("input", type=Path)
    verb.add_argument("--json", type=Path, required=True, metavar="OUT.json")
    with_treatment(verb)
    verb.set_defaults(run=_cost)


def add_glass(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("input", type=Path)
    with_range(verb)
    verb.add_argument("--json", type=Path, required=True, metavar="OUT.json")
    with_care(verb)
    verb.add_argument(
        "--even", type=Path, metavar="PHOTO", help="a photograph of a wall or the sky"
    )
    verb.add_argument(
        "--lens", type=Path, metavar="LENS.json",
        help="a lens profile: what it knows of its glass is not looked for",
    )  # fmt: skip
    verb.set_defaults(run=_glass)


def _measure(options: argparse.Namespace) -> None:
    found = scanned(options)
    around = as_sphere(options, found)
    if around is not None:
        measure_one(options, around)
        return
    canvas = found.probe.canvas
    with measured(options, found) as tracks:
        estimates = pipeline.Estimates(tracks, canvas)
        motion = pipeline.motion_for(estimates, Treatment().changed(MOTION, model=options.model))
        readout, angle = estimates.readout(), estimates.angle()
        write_json(options.json, pipeline.measure_report(motion, canvas, readout, angle))


def _correct(options: argparse.Namespace) -> None:
    found = scanned(options)
    _check_output(options)
    around = as_sphere(options, found)
    if around is not None:
        correct_one(options, around)
        return
    no_view(treatment_of(options, found))  # what is wrong is said before anything is measured
    first, _ = range_of(options, found)
    started = time.perf_counter()
    with measured(options, found) as tracks:
        measured_at = time.perf_counter()
        treatment, motion = treated(options, found, tracks)
        solution = pipeline.solve(motion, found.probe.canvas, treatment)
        solved_at = time.perf_counter()
        rendered = pipeline.render(
            options.input,
            found,
            drawing_of(solution, treatment, options.lines),
            first,
            options.output,
            encoding=Encoding(crf=QUALITIES[options.quality]),
            progress=Meter("rendering"),
        )
        rendered_at = time.perf_counter()
        again = edges = None
        if options.report:
            again = _again(options, solution, tracks)
            last = first + len(tracks) - 1
            edges = pipeline.edges_report(options.input, found, first, last, options.output)
    seconds = {
        "measure": measured_at - started,
        "solve": solved_at - measured_at,
        "render": rendered_at - solved_at,
        "check": time.perf_counter() - rendered_at,
    }
    report = pipeline.correction_report(solution, treatment, rendered, seconds, again, edges)
    for note in report["notes"]:
        print(note, file=sys.stderr)
    if options.report:
        write_json(options.report, report)


def _again(
    options: argparse.Namespace, solution: pipeline.Solution, tracks: Tracks
) -> pipeline.MeasuredAgain:
    with tempfile.TemporaryDirectory(prefix="keen-") as room:
        meter = Meter("checking")
        return pipeline.measured_again(options.output, solution, tracks, Path(room), meter)


def _check_output(options: argparse.Namespace) -> None:
    """Raise KeenError for an output that cannot be written, before anything is measured."""
    if options.lines is not None and options.lines < 16:
        raise KeenError(f"--lines cannot be {options.lines}; allowed: 16 and more.")
    if options.output.suffix.lower() not in CONTAINERS:
        raise KeenError(
            "only MP4 and MOV files are written.", file=options.output,
            remedy="End its name in .mp4 or .mov.",
        )  # fmt: skip
    if options.output.exists() and options.output.samefile(options.input):
        raise KeenError(
            "the output would overwrite the input.", file=options.output,
            remedy="Choose another name.",
        )  # fmt: skip


def _cost(options: argparse.Namespace) -> None:
    found = scanned(options)
    only_flat(options, found, "cost: nothing of it is cropped")
    treatment_of(options, found)  # as in a correction
    with measured(options, found) as tracks:
        treatment, motion = treated(options, found, tracks)
        curve = pipeline.cost_curve(motion, found.probe.canvas, treatment)
    write_json(
        options.json,
        {
            "treatment": treatment.as_data(),
            "points": [asdict(point) for point in curve],
            "starts": [asdict(point) for point in starts(curve)],
        },
    )


def _glass(options: argparse.Namespace) -> None:
    found = scanned(options)
    only_flat(options, found, "glass that could be told: two lenses were stitched")
    canvas = found.probe.canvas
    even = None
    if options.even is not None:
        even = pipeline.fall_off_of_photograph(options.even, options.even.name, canvas)
    with measured(options, found) as tracks:
        estimates = pipeline.Estimates(tracks, canvas)
        meter = Meter("looking at light")
        fit = pipeline.find_glass(options.input, found, estimates, meter, even)
    if options.lens is not None:
        fit = fit.with_known(fitting_profile(options.lens, canvas), canvas)
    print(fit.words, file=sys.stderr)
    told = pipeline.glass_report(fit, found.probe)
    print(told["light"], file=sys.stderr)
    write_json(options.json, told)
