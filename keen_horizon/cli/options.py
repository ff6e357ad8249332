"""What several commands share: options, the clip they name, progress, files that they write."""

from __future__ import annotations

import argparse
import json
import os
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, get_args

from ..core import pipeline
from ..core.errors import BadSetting, KeenError, disk_errors
from ..core.geometry.canvas import Canvas
from ..core.media.fields import Each, Fields, First
from ..core.media.probe import Scan, scan
from ..core.motion.camera_motion import CameraMotion, PointTrack
from ..core.motion.held_point import HeldPoint
from ..core.stations.glass import GLASS
from ..core.stations.lens import LENS
from ..core.tracking.tracks import Tracks
from ..core.treatment import Treatment, read, with_settings
from ..core.treatment.lens_profile import (
    LensProfile,
    glass_from,
    read_profile,
    refusal,
    settings_from,
)


def with_treatment(verb: argparse.ArgumentParser) -> None:
    """Options that say how a clip is treated."""
    with_care(verb)
    verb.add_argument("--treatment", type=Path, metavar="FILE.json")
    verb.add_argument("--lens", type=Path, metavar="LENS.json", help="a lens profile, or a YAML")
    verb.add_argument("--set", action="append", default=[], metavar="motion.calm=60")
    with_range(verb)


def with_care(verb: argparse.ArgumentParser) -> None:
    """How closely the clip is measured."""
    verb.add_argument("--closer", action="store_true", help="a closer measure; takes longer")


def with_range(verb: argparse.ArgumentParser) -> None:
    """Which frames, and what they are made of."""
    with_fields(verb)
    verb.add_argument("--range", metavar="A:B", help="first and last frame, both included")


def with_fields(verb: argparse.ArgumentParser) -> None:
    """What becomes a frame where the clip is interlaced."""
    verb.add_argument(
        "--fields", choices=get_args(Each),
        help="interlaced footage: a frame of each pair of fields, of each field, or as they are",
    )  # fmt: skip
    verb.add_argument("--first-field", choices=get_args(First), help="which field comes first")


def scanned(options: argparse.Namespace) -> Scan:
    """The clip that the options name, its fields as they say."""
    if options.fields is None and options.first_field is None:
        return scan(options.input)
    return scan(options.input, Fields(options.fields or "pair", options.first_field or "file"))


def treatment_of(
    options: argparse.Namespace, found: Scan, estimates: pipeline.Estimates | None = None
) -> Treatment:
    """The treatment that the options ask for. Where they name none, it begins as a new clip's does,
    once there are ``estimates``."""
    treatment = Treatment()
    if options.treatment:
        treatment = read(options.treatment)
    elif estimates is not None:
        treatment = pipeline.first_treatment(estimates)
    if options.lens is not None:
        treatment = with_lens(treatment, options.lens, found.probe.canvas)
    return with_settings(treatment, options.set)


def with_lens(treatment: Treatment, path: Path, canvas: Canvas) -> Treatment:
    """The treatment with a profile's lens and glass. Raises BadSetting where it does not fit the
    clip."""
    profile = fitting_profile(path, canvas)
    return treatment.changed(LENS, **settings_from(profile)).changed(
        GLASS, **(glass_from(profile) or {})
    )


def fitting_profile(path: Path, canvas: Canvas) -> LensProfile:
    """The lens profile in a file. Raises BadSetting where it does not fit pictures of size
    ``canvas``."""
    profile = profile_at(path, canvas.pixel_aspect)
    why_not = refusal(profile, canvas)
    if why_not:
        raise BadSetting(why_not, file=path)
    return profile


def profile_at(path: Path, pixel_aspect: float | None = None) -> LensProfile:
    """The lens profile in a file."""
    try:
        return read_profile(path.read_text("utf-8"), path.name, pixel_aspect=pixel_aspect)
    except OSError as error:
        raise BadSetting(f"cannot be read ({error.strerror}).", file=path) from error
    except UnicodeDecodeError as error:
        raise BadSetting("is not text.", file=path) from error


def range_of(options: argparse.Namespace, found: Scan) -> tuple[int, int]:
    """The first and the last frame that are wanted."""
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


@contextmanager
def measured(options: argparse.Namespace, found: Scan) -> Iterator[Tracks]:
    """The tracks of the input, on disk only as long as they are needed."""
    first, last = range_of(options, found)
    with tempfile.TemporaryDirectory(prefix="keen-") as folder:
        yield pipeline.measure(
            options.input, found, first, last, Path(folder), Meter("measuring"),
            closer=options.closer,
        )  # fmt: skip


class _FileEstimates(pipeline.Estimates):
    """Estimates of a file: points that are to be held are followed in it."""

    def __init__(self, tracks: Tracks, path: Path, found: Scan) -> None:
        super().__init__(tracks, found.probe.canvas)
        self._path, self._found = path, found

    def held(self, point: HeldPoint) -> PointTrack:
        motion = self.recorded("similarity")
        return pipeline.follow(
            self._path, self._found, self.canvas, motion, point, Meter("following")
        )


def treated(
    options: argparse.Namespace, found: Scan, tracks: Tracks
) -> tuple[Treatment, CameraMotion]:
    """The treatment of a measured input, and the motion that it stands on."""
    estimates = _FileEstimates(tracks, options.input, found)
    treatment = treatment_of(options, found, estimates)
    if treatment.of(GLASS).on and treatment.of(GLASS).find:
        fit = pipeline.find_glass(
            options.input, found, estimates, Meter("looking at light"),
            limit=treatment.of(GLASS).limit,
        )  # fmt: skip
        print(fit.words, file=sys.stderr)
        treatment = treatment.changed(GLASS, find=False, **(fit.settings or {}))
    return treatment, pipeline.motion_for(estimates, treatment)


def write_json(path: Path, data: dict[str, Any]) -> None:
    """Write JSON data; the file appears whole or not at all."""
    part = path.with_name(path.name + ".part")
    with disk_errors(path):
        try:
            part.write_text(json.dumps(data, allow_nan=False) + "\n", "utf-8")
            part.replace(path)
        except OSError:
            part.unlink(missing_ok=True)
            raise


class Meter:
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
