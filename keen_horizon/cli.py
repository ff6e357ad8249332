"""The pipeline without a server: ``./keen measure``, ``correct``, ``cost``, ``treatment``, and
``lens`` (:mod:`.lens_cli`)."""

from __future__ import annotations

import argparse
import json
import os
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import Any

from .core import pipeline
from .core.errors import KeenError, disk_errors
from .core.media.encode import QUALITIES, Encoding
from .core.media.mp4 import CONTAINERS
from .core.media.probe import Scan, scan
from .core.motion.camera_motion import CameraMotion, PointTrack
from .core.motion.estimate import base_motion, fitted_motion
from .core.motion.pairwise import camera_motion
from .core.motion.rolling_shutter import estimate_readout
from .core.path.cost_curve import cost_curve, starts
from .core.path.solution import solve
from .core.tracking.tracks import Tracks
from .core.treatment import HeldPoint, Treatment, read, schema, with_settings
from .lens_cli import add_lens, with_lens


def main(arguments: list[str] | None = None) -> int:
    """Run one command; exit status 0 only on success."""
    options = _parser().parse_args(arguments)
    try:
        options.run(options)
    except KeenError as error:
        print(f"keen: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("keen: stopped; nothing was written.", file=sys.stderr)
        return 130
    return 0


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="keen", description=__doc__)
    verbs = parser.add_subparsers(required=True, metavar="command")

    verb = verbs.add_parser("measure", help="measure the camera's motion")
    verb.add_argument("input", type=Path)
    verb.add_argument("--range", metavar="A:B", help="first and last frame, both included")
    verb.add_argument("--json", type=Path, required=True, metavar="OUT.json")
    verb.add_argument("--model", choices=["shift", "similarity"], default="similarity")
    _with_care(verb)
    verb.set_defaults(run=_measure)

    verb = verbs.add_parser("correct", help="measure, solve and render")
    verb.add_argument("input", type=Path)
    verb.add_argument("output", type=Path)
    _with_treatment(verb)
    verb.add_argument("--report", type=Path, metavar="FILE.json")
    verb.add_argument("--quality", choices=list(QUALITIES), default="good")
    verb.add_argument("--lines", type=int, help="height of the output, no more than the source's")
    verb.set_defaults(run=_correct)

    verb = verbs.add_parser("cost", help="what more or less calm would cost")
    verb.add_argument("input", type=Path)
    verb.add_argument("--json", type=Path, required=True, metavar="OUT.json")
    _with_treatment(verb)
    verb.set_defaults(run=_cost)

    verb = verbs.add_parser("treatment", help="print the default treatment or its schema")
    what = verb.add_mutually_exclusive_group(required=True)
    what.add_argument("--default", action="store_true")
    what.add_argument("--schema", action="store_true")
    verb.set_defaults(run=_treatment)
    add_lens(verbs)
    return parser


def _with_treatment(verb: argparse.ArgumentParser) -> None:
    _with_care(verb)
    verb.add_argument("--treatment", type=Path, metavar="FILE.json")
    verb.add_argument("--lens", type=Path, metavar="LENS.json", help="a lens profile, or a YAML")
    verb.add_argument("--set", action="append", default=[], metavar="motion.calm=60")
    verb.add_argument("--range", metavar="A:B", help="first and last frame, both included")


def _with_care(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--closer", action="store_true", help="a closer measure; takes longer")


def _measure(options: argparse.Namespace) -> None:
    found = scan(options.input)
    first, last = _range(options, found)
    with _measured(options, found, first, last) as measured:
        motion = camera_motion(measured, found.probe.canvas, options.model)
        readout = estimate_readout(measured, found.probe.canvas, motion)
        _write_json(options.json, pipeline.measure_report(motion, found.probe.canvas, readout))


def _correct(options: argparse.Namespace) -> None:
    found = scan(options.input)
    treatment = _chosen(options, found)
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
    first, last = _range(options, found)
    canvas = found.probe.canvas
    started = time.perf_counter()
    with _measured(options, found, first, last) as measured:
        measured_at = time.perf_counter()
        motion = _fitted(options, found, measured, treatment)
        solution = solve(motion, canvas, treatment)
    solved_at = time.perf_counter()
    rendered = pipeline.render(
        options.input,
        found,
        solution.chain,
        first,
        options.output,
        bare=treatment.edge == "leave",
        lenders=pipeline.lenders_of(solution, treatment),
        encoding=Encoding(crf=QUALITIES[options.quality]),
        lines=options.lines,
        progress=_Meter("rendering"),
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
        _write_json(options.report, report)


def _cost(options: argparse.Namespace) -> None:
    found = scan(options.input)
    treatment = _chosen(options, found)
    first, last = _range(options, found)
    canvas = found.probe.canvas
    with _measured(options, found, first, last) as measured:
        motion = _fitted(options, found, measured, treatment)
        curve = cost_curve(motion, canvas, treatment)
    _write_json(
        options.json,
        {
            "treatment": treatment.model_dump(mode="json"),
            "points": [asdict(point) for point in curve],
            "starts": [asdict(point) for point in starts(curve)],
        },
    )


def _fitted(
    options: argparse.Namespace, found: Scan, measured: Tracks, treatment: Treatment
) -> CameraMotion:
    """The motion a treatment stands on; points that are to be held are followed."""
    canvas = found.probe.canvas

    def followed(point: HeldPoint) -> PointTrack:
        motion = base_motion(measured, canvas, "similarity")
        return pipeline.follow(options.input, found, canvas, motion, point, _Meter("following"))

    return fitted_motion(measured, canvas, treatment, followed=followed)


@contextmanager
def _measured(options: argparse.Namespace, found: Scan, first: int, last: int) -> Iterator[Tracks]:
    """A measure of the input, on disk only as long as it is needed."""
    with tempfile.TemporaryDirectory(prefix="keen-") as folder:
        yield pipeline.measure(
            options.input, found, first, last, Path(folder), _Meter("measuring"),
            closer=options.closer,
        )  # fmt: skip


def _chosen(options: argparse.Namespace, found: Scan) -> Treatment:
    treatment = read(options.treatment) if options.treatment else Treatment()
    if options.lens is not None:
        treatment = with_lens(treatment, options.lens, found.probe.canvas)
    return with_settings(treatment, options.set)


def _treatment(options: argparse.Namespace) -> None:
    data = schema() if options.schema else Treatment().model_dump(mode="json")
    print(json.dumps(data, indent=2))


def _range(options: argparse.Namespace, found: Scan) -> tuple[int, int]:
    count = found.probe.frame_count
    if options.range is None:
        return 0, count - 1
    first, colon, last = options.range.partition(":")
    try:
        bounds = (int(first or 0), int(last) if last else count - 1)
    except ValueError:
        bounds = (-1, -1)
    if not colon or bounds == (-1, -1):
        raise KeenError(
            f"--range {options.range} is not understood.",
            remedy="Write it as A:B, the first and the last frame.",
        )
    try:
        pipeline.check_range(found, *bounds)
    except KeenError as error:
        raise error.renamed(options.input.name) from error
    return bounds


def _write_json(path: Path, data: dict[str, Any]) -> None:
    part = path.with_name(path.name + ".part")
    with disk_errors(path):
        try:
            part.write_text(json.dumps(data, allow_nan=False) + "\n", "utf-8")
            part.replace(path)
        except OSError:
            part.unlink(missing_ok=True)
            raise


class _Meter:
    """Progress on standard error, if somebody is looking."""

    def __init__(self, word: str) -> None:
        self._word = word
        self._shown = sys.stderr.isatty() and os.environ.get("TERM") != "dumb"
        self._last = 0.0

    def __call__(self, done: int, total: int) -> None:
        now = time.monotonic()
        if self._shown and (done == total or now - self._last > 0.1):
            self._last = now
            end = "\n" if done == total else ""
            print(f"\r{self._word}: frame {done} of {total}", end=end, file=sys.stderr, flush=True)


if __name__ == "__main__":
    sys.exit(main())
