"""The commands, and the one that takes them."""

from __future__ import annotations

import argparse
import json
import os
import sys
import time
from dataclasses import asdict
from pathlib import Path

from ..core import pipeline
from ..core.errors import KeenError
from ..core.media.encode import QUALITIES, Encoding
from ..core.media.mp4 import CONTAINERS
from ..core.media.probe import scan
from ..core.motion.angle_of_view import angle_of_view
from ..core.motion.pairwise import pairwise_motion
from ..core.motion.rolling_shutter import estimate_readout
from ..core.pipeline.cost_curve import starts
from ..core.pipeline.render_clip import drawing_of
from ..core.treatment import Treatment, schema
from ..core.treatment.schema import settings_table
from . import lens
from .options import (
    Meter,
    measured,
    motion_of,
    range_of,
    treatment_of,
    with_care,
    with_range,
    with_treatment,
    write_json,
)


def main(arguments: list[str] | None = None) -> int:
    """Run one command; exit status 0 only on success."""
    options = _parser().parse_args(arguments)
    try:
        options.run(options)
        sys.stdout.flush()
    except KeenError as error:
        print(f"keen: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("keen: stopped; nothing was written.", file=sys.stderr)
        return 130
    except BrokenPipeError:
        # Whoever read the output has seen enough; nothing is left to flush at the end.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 141  # as a shell has it for SIGPIPE
    return 0


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="keen", description=sys.modules[__package__].__doc__)
    verbs = parser.add_subparsers(required=True, metavar="command")

    verb = verbs.add_parser("measure", help="measure the camera's motion")
    verb.add_argument("input", type=Path)
    with_range(verb)
    verb.add_argument("--json", type=Path, required=True, metavar="OUT.json")
    verb.add_argument("--model", choices=["shift", "similarity"], default="similarity")
    with_care(verb)
    verb.set_defaults(run=_measure)

    verb = verbs.add_parser("correct", help="measure, solve and render")
    verb.add_argument("input", type=Path)
    verb.add_argument("output", type=Path)
    with_treatment(verb)
    verb.add_argument("--report", type=Path, metavar="FILE.json")
    verb.add_argument("--quality", choices=list(QUALITIES), default="good")
    verb.add_argument("--lines", type=int, help="height of the output, no more than the source's")
    verb.set_defaults(run=_correct)

    verb = verbs.add_parser("cost", help="what more or less calm would cost")
    verb.add_argument("input", type=Path)
    verb.add_argument("--json", type=Path, required=True, metavar="OUT.json")
    with_treatment(verb)
    verb.set_defaults(run=_cost)

    verb = verbs.add_parser(
        "treatment", help="print the default treatment, its schema, or a table of settings"
    )
    what = verb.add_mutually_exclusive_group(required=True)
    what.add_argument("--default", action="store_true")
    what.add_argument("--schema", action="store_true")
    what.add_argument("--table", action="store_true")
    verb.set_defaults(run=_treatment)
    lens.add_lens(verbs)
    return parser


def _measure(options: argparse.Namespace) -> None:
    found = scan(options.input)
    canvas = found.probe.canvas
    with measured(options, found) as tracks:
        motion = pairwise_motion(tracks, canvas, options.model)
        readout = estimate_readout(tracks, canvas, motion)
        similar = motion
        if options.model != "similarity":
            similar = pairwise_motion(tracks, canvas, "similarity")
        angle = angle_of_view(tracks, canvas, similar)
        write_json(options.json, pipeline.measure_report(motion, canvas, readout, angle))


def _correct(options: argparse.Namespace) -> None:
    found = scan(options.input)
    treatment = treatment_of(options, found)
    _check_output(options)
    first, _ = range_of(options, found)
    started = time.perf_counter()
    with measured(options, found) as tracks:
        measured_at = time.perf_counter()
        motion = motion_of(options, found, tracks, treatment)
        solution = pipeline.solve(motion, found.probe.canvas, treatment)
    solved_at = time.perf_counter()
    rendered = pipeline.render(
        options.input,
        found,
        drawing_of(solution, treatment),
        first,
        options.output,
        encoding=Encoding(crf=QUALITIES[options.quality]),
        lines=options.lines,
        progress=Meter("rendering"),
    )
    seconds = {
        "measure": measured_at - started,
        "solve": solved_at - measured_at,
        "render": time.perf_counter() - solved_at,
    }
    report = pipeline.correction_report(solution, treatment, rendered, seconds)
    for note in report["notes"]:
        print(note, file=sys.stderr)
    if options.report:
        write_json(options.report, report)


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
    found = scan(options.input)
    treatment = treatment_of(options, found)
    with measured(options, found) as tracks:
        motion = motion_of(options, found, tracks, treatment)
        curve = pipeline.cost_curve(motion, found.probe.canvas, treatment)
    write_json(
        options.json,
        {
            "treatment": treatment.as_data(),
            "points": [asdict(point) for point in curve],
            "starts": [asdict(point) for point in starts(curve)],
        },
    )


def _treatment(options: argparse.Namespace) -> None:
    if options.table:
        print(settings_table(), end="")
        return
    data = schema() if options.schema else Treatment().as_data()
    print(json.dumps(data, indent=2))
