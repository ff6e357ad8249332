"""Finding out what a clip's glass does to light and colours: another look at some of its frames."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ..errors import BadSetting
from ..geometry.canvas import Canvas
from ..geometry.similarity import Similarities
from ..media.decode import frame_at, reference_frames
from ..media.photographs import read_photograph
from ..media.probe import Scan
from ..picture.working_space import SRGB, space_of, working_space
from ..progress import Progress, silent
from ..stations.glass.brightness import TELLS, Look, beside, fit_fall_off, gather, light_at
from ..stations.glass.colour_edges import Colours, LateralFit, colours_of, fit_lateral
from ..stations.glass.dead_corners import (
    DeadCorners,
    LightSeen,
    fit_dead_corners,
    live_area_of,
)
from ..stations.glass.even_surface import fit_even
from ..stations.glass.fall_off import fall_off_of
from ..stations.glass.lateral import lateral_of
from ..stations.glass.radial_fit import FallOffFit
from ..stations.glass.settings import GlassSettings
from ..stations.glass.symmetry import fit_symmetry
from ..tracking.tracks import places_of
from ..treatment.lens_profile import LensProfile, glass_from
from ..types import Real
from .estimate_motion import Estimates

LOOKS = 64  # frames that are looked at for light
COLOUR_LOOKS = 8  # and for colours
SAME_SHAPE = 0.02  # by which an even photograph may be wider or higher than the clip
CLEAR = 0.06  # of half the diagonal: how far inside a hood or a ring it still takes light
LIMIT = GlassSettings().limit
RUNS, RUN = 4, 160  # of a longer clip: stretches, and frames in each


@dataclass(frozen=True)
class GlassFit:
    """All that was found of a clip's glass."""

    fall_off: FallOffFit
    lateral: LateralFit
    dead: DeadCorners
    known: dict[str, Any] = field(default_factory=dict)  # what is said of where it comes from

    def with_known(self, profile: LensProfile, canvas: Canvas) -> GlassFit:
        """What a lens profile knows of its glass, in place of what was found."""
        glass, settings = profile.glass, glass_from(profile)
        if glass is None or settings is None:
            return self
        light, colours, dead = self.fall_off, self.lateral, self.dead
        if settings["found_by"] != "nothing":
            words = f"The fall-off is that of the lens profile {profile.name}."
            unsure = np.inf if glass.doubt is None else glass.doubt
            light = FallOffFit(fall_off_of(glass, canvas), unsure, np.inf, 0, words)
        if settings["colour_found_by"] != "nothing":
            words = f"So is where it puts red and blue: {profile.name}."
            unsure = np.inf if glass.colour_doubt is None else glass.colour_doubt
            colours = LateralFit(lateral_of(glass, canvas), (unsure, unsure), np.inf, 0, words)
        if glass.live:
            dead = DeadCorners(live_area_of(glass, canvas), f"Dead corners are of {profile.name}.")
        known: dict[str, Any] = {}
        for by, doubt in (("found_by", "doubt"), ("colour_found_by", "colour_doubt")):
            if settings[by] != "nothing":
                known |= {name: settings[name] for name in (by, doubt)}
        return GlassFit(light, colours, dead, known)

    @property
    def settings(self) -> dict[str, Any] | None:
        """Those of the station, if anything was found."""
        parts = (self.fall_off.settings, self.lateral.settings, self.dead.settings)
        found = {name: value for part in parts for name, value in (part or {}).items()}
        return found | self.known or None

    @property
    def words(self) -> str:
        return f"{self.fall_off.words} {self.dead.words} {self.lateral.words}"


def find_glass(
    path: Path, scan: Scan, estimates: Estimates, progress: Progress = silent,
    even: FallOffFit | None = None, limit: float = LIMIT,
) -> GlassFit:  # fmt: skip
    """What the glass of a measured range does to light and colours; to light, what an ``even``
    surface told, if it was asked. Dead is what would need more than ``limit`` stops."""
    first, last = estimates.tracks.first, estimates.tracks.first + len(estimates.tracks) - 1
    with ThreadPoolExecutor(1) as beside:  # decoding and arrays do not hold each other up
        colours = beside.submit(find_lateral, path, scan, first, last)
        looks, seen = _look(path, scan, estimates, progress)
        lateral = colours.result()
    canvas = estimates.canvas
    light = even or _fall_off(looks, seen, fit_dead_corners(seen, canvas, limit), canvas)
    return GlassFit(light, lateral, fit_dead_corners(seen, canvas, limit, light.fall_off))


def fall_off_of_photograph(source: Path | bytes, name: str, canvas: Canvas) -> FallOffFit:
    """The fall-off that a photograph of an even surface speaks for, taken as clips of size
    ``canvas`` are. Raises MediaError for what is no photograph, BadSetting for one of another
    shape."""
    luma = read_photograph(source, name)
    own = Canvas(luma.shape[1], luma.shape[0])
    shape, wanted = (one.width * one.pixel_aspect / one.height for one in (own, canvas))
    if abs(shape / wanted - 1) > SAME_SHAPE:
        raise BadSetting(
            f"is {own.width} × {own.height}, the clip {canvas.width} × {canvas.height}: another "
            "shape, so another part of the lens.", file=name,
            remedy="Photograph the surface as the clip was recorded.",
        )  # fmt: skip
    space = working_space({"transfer": SRGB}, 8, own.height)
    light = space.light(luma.astype(np.float32) / 255)
    return fit_even(np.asarray(light, np.float32), own)


def fall_off_of_frame(path: Path, scan: Scan, frame: int) -> FallOffFit:
    """The fall-off that a frame of an even surface speaks for."""
    space = space_of(scan.probe)
    picture = frame_at(path, scan, frame, luma_only=True)
    light = space.light(space.grey_value(picture.planes[0].astype(np.float32)))
    return fit_even(np.asarray(light, np.float32), scan.probe.canvas)


def find_lateral(path: Path, scan: Scan, first: int, last: int) -> LateralFit:
    """The lateral colour that the edges of frames ``first`` to ``last`` speak for."""
    space = space_of(scan.probe)
    # Of frames that are coded by what changes, codecs leave out the faint colours of fringes first.
    among = scan.keys_within(first, last) or list(range(first, last + 1))
    spread = np.linspace(0, len(among) - 1, min(COLOUR_LOOKS, len(among))).round().astype(int)
    seen: list[Colours] = []
    for index in (among[k] for k in spread.tolist()):
        seen.append(colours_of(frame_at(path, scan, index), space))
    return fit_lateral(seen, scan.probe.canvas)


def _fall_off(
    looks: list[tuple[Look, Real]], seen: LightSeen, dead: DeadCorners, canvas: Canvas
) -> FallOffFit:
    """The fall-off that the marks speak for, where no hood or ring is near; if they cannot tell,
    what the pictures themselves do."""
    clear = None if dead.live is None else dead.live.shrunk(CLEAR * canvas.radius)
    if clear is not None:
        looks = [
            (look, np.where(clear.covers(canvas.to_scene(look[1])), light, np.nan))
            for look, light in looks
        ]
    told = fit_fall_off(gather(looks), canvas)
    if told.fall_off is not None or told.doubt <= TELLS:
        return told
    return fit_symmetry(np.asarray(seen.mean, np.float32), canvas, clear)


def _look(
    path: Path, scan: Scan, estimates: Estimates, progress: Progress
) -> tuple[list[tuple[Look, Real]], LightSeen]:
    """The light beside the marks of a measured range, and that of each place of the picture."""
    tracks, canvas = estimates.tracks, estimates.canvas
    steps = estimates.recorded("similarity").steps
    assert isinstance(steps, Similarities)
    turned = np.cumprod(steps.a)
    space = space_of(scan.probe)
    light = LightSeen(space)
    seen: list[tuple[Look, Real]] = []
    runs = _runs(len(tracks))
    total, done = sum(stop - start for start, stop in runs), 0
    every = max(1, total // LOOKS)
    for start, stop in runs:
        first, wanted = tracks.first, start
        for picture in reference_frames(path, scan, first + start, first + stop - 1):
            at = picture.index - first
            if at >= wanted:
                wanted = at + every
                records = tracks.frame(at)
                look = beside(records["id"], places_of(records), turned[at], canvas.height)
                seen.append((look, light_at(picture.planes[0], look[1], space)))
                light.look(picture.planes[0])
            progress(done + at - start + 1, total)
        done += stop - start
    return seen, light


def _runs(count: int) -> list[tuple[int, int]]:
    """Stretches of the range that are looked at, each from a frame to before another."""
    if count <= RUNS * RUN:
        return [(0, count)]
    starts = np.linspace(0, count - RUN, RUNS).astype(int)
    return [(int(start), int(start) + RUN) for start in starts]
