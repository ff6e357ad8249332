"""What kind of clip a file is taken for, until somebody says otherwise."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ..errors import BadSetting
from ..geometry.twin import Twin
from ..media.decode import eight_bits, frames_at
from ..media.probe import Scan
from ..motion.twin_fit import SECTORS, TwinFit, fit_twin
from ..motion.twin_light import fit_twin_light
from ..picture.around import goes_around, has_shape_of_sphere
from ..picture.round_pictures import halves_of, looks_like_twin, may_be_twin
from ..picture.working_space import space_of
from ..stations.setting import Kind
from ..types import Luma
from .sphere_source import first_eye, whole_probe

LOOKS = 3  # frames that are asked whether they go around
TWIN_LOOKS = 8  # frames that two fisheyes are told by
MOMENT = 0.27  # seconds, about, after which frames are looked at again for how things moved


@dataclass(frozen=True)
class ClipKind:
    """A ``kind`` of clip, in ``words`` why, empty where nobody would ask; ``may_differ`` if the
    same file could be worked on as the other kind; as a sphere by two lenses, where there is a
    ``twin``."""

    kind: Kind
    words: str = ""
    may_differ: bool = False
    twin: Twin | None = None


def clip_kind(path: Path, scan: Scan, first: int, last: int) -> ClipKind:
    """A sphere if the file says so, or if its pictures, from frame ``first`` to ``last``, are two
    fisheyes', or twice as wide as high and go on at one side where they end at the other."""
    if scan.probe.sphere is not None:
        try:
            first_eye(whole_probe(scan.probe))
        except BadSetting as error:
            said = error.message
            return ClipKind("flat", f"{said[:1].upper()}{said[1:]} It is taken for a flat clip.")
        if any(scan.probe.sphere.bounds):
            return ClipKind("sphere", "The file says that its picture is a part of a sphere; what "
                                      "is missing is black.", True)  # fmt: skip
        return ClipKind("sphere", "The file says that its picture goes all around.", True)
    if halves_of(scan.probe.canvas) is not None:
        twin = _twin(path, scan, first, last)
        if twin is not None:
            return twin
    if not has_shape_of_sphere(scan.probe.width * scan.probe.pixel_aspect, scan.probe.height):
        return ClipKind("flat")
    at = sorted({_entered(scan, first, last, k) for k in range(LOOKS)})
    around = goes_around(p.planes[0] for p in frames_at(path, scan, at, luma_only=True))
    words = (
        "The picture is twice as wide as high, and its file does not say what it is. By its edges "
        f"it is taken for a {'sphere' if around else 'flat clip'}."
    )
    return ClipKind("sphere" if around else "flat", words, True)


def _entered(scan: Scan, first: int, last: int, look: int) -> int:
    """Which frame is looked at: one that can be seen at once, if there is one in that part of the
    range."""
    at = first + (last - first) * look // (LOOKS - 1)
    since = at - (last - first) // LOOKS
    return max(scan.keys_within(max(since, first), at), default=at)


def _twin(path: Path, scan: Scan, first: int, last: int) -> ClipKind | None:
    """What a clip is taken for whose pictures are two round ones; None for others."""

    def lumas_at(indices: list[int]) -> dict[int, Luma]:
        pictures = frames_at(path, scan, indices, luma_only=True)
        return {picture.index: eight_bits(picture.planes[0]) for picture in pictures}

    apart = max(1, round(MOMENT * scan.probe.rate))
    at = np.unique(np.linspace(first, max(first, last - apart), TWIN_LOOKS).astype(int)).tolist()
    # The first is there at once; others may lie far from where the file can be entered.
    if not may_be_twin(lumas_at(at[:1])[at[0]]):
        return None
    later = [min(index + apart, last) for index in at]
    known = lumas_at([*at, *later])
    if not looks_like_twin([known[index] for index in at]):
        return None
    found = fit_twin([known[index] for index in at], [known[index] for index in later])
    if found.twin is None:
        return ClipKind("flat", f"{found.words} It is taken for a flat clip.")
    pairs = list(zip(at, later, strict=True))
    light = fit_twin_light(found.twin, known, pairs, found.moves, space_of(scan.probe))
    words = f"{_seam_words(found, found.twin)} {light.words}".rstrip()
    return ClipKind("sphere", words, True, replace(found.twin, light=light.light))


def _seam_words(found: TwinFit, twin: Twin) -> str:
    wide = np.degrees([2 * lens.reach for lens in twin.lenses]).mean()
    pixels = found.left * twin.whole.width / (2 * np.pi)
    side = "side by side" if twin.canvas.width > twin.canvas.height else "one above the other"
    words = (
        f"The picture is two fisheyes, {side}, of about {wide:.0f}° each. Where they meet, they "
        f"agree to {pixels:.1f} px of the sphere"
    )
    missing = SECTORS - found.sectors
    if missing:
        return f"{words}; {missing} of {SECTORS} places around show nothing to tell it by."
    return f"{words}, all around."
