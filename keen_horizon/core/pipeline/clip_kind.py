"""What kind of clip a file is taken for, until somebody says otherwise."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..errors import BadSetting
from ..media.decode import frame_at
from ..media.probe import Scan
from ..picture.around import goes_around, has_shape_of_sphere
from ..stations.setting import Kind
from .sphere_tracks import first_eye

LOOKS = 3  # frames that are asked whether they go around


@dataclass(frozen=True)
class ClipKind:
    """A ``kind`` of clip, in ``words`` why, empty where nobody would ask; ``may_differ`` if the
    same file could be worked on as the other kind."""

    kind: Kind
    words: str = ""
    may_differ: bool = False


def clip_kind(path: Path, scan: Scan, first: int, last: int) -> ClipKind:
    """A sphere if the file says so, or if its pictures, from frame ``first`` to ``last``, are twice
    as wide as high and go on at one side where they end at the other."""
    if scan.probe.sphere is not None:
        try:
            first_eye(scan.probe)
        except BadSetting as error:
            said = error.message
            return ClipKind("flat", f"{said[:1].upper()}{said[1:]} It is taken for a flat clip.")
        return ClipKind("sphere", "The file says that its picture goes all around.", True)
    if not has_shape_of_sphere(scan.probe.width * scan.probe.pixel_aspect, scan.probe.height):
        return ClipKind("flat")
    at = sorted({first + (last - first) * k // (LOOKS - 1) for k in range(LOOKS)})
    around = goes_around(frame_at(path, scan, index, luma_only=True).planes[0] for index in at)
    words = (
        "The picture is twice as wide as high, and its file does not say what it is. By its edges "
        f"it is taken for a {'sphere' if around else 'flat clip'}."
    )
    return ClipKind("sphere" if around else "flat", words, True)
