"""How a file's pictures are a sphere's: what it says of them, its two eyes, parts and lenses."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from ..errors import BadSetting
from ..geometry.canvas import Canvas
from ..geometry.twin import Twin
from ..media.decode import frame_at
from ..media.part_of_sphere import PartLayout
from ..media.probe import Probe, Scan
from ..media.spherical import SphereTag
from ..picture.around import has_shape_of_sphere
from ..picture.twin_warp import TwinLayout
from ..picture.working_space import space_of

ALIKE, ALIKE_SIZE = 0.6, (96, 48)  # correlation of two eyes from which on they look alike


def whole_probe(probe: Probe, twin: Twin | None = None) -> Probe:
    """What is known of a file, of its pictures all around: as ``twin`` lays them out, or with what
    its file says is missing."""
    tag = tag_of(probe)
    if twin is not None:
        size = twin.whole.width, twin.whole.height
    elif any(tag.bounds) and tag.stereo == "mono":
        part = PartLayout.of(probe.width, probe.height, tag.bounds)
        size = (probe.width + part.left + part.right, probe.height + part.above + part.below)
    else:
        return probe
    whole = replace(tag, bounds=SphereTag().bounds)
    return replace(probe, width=size[0], height=size[1], pixel_aspect=1.0, sphere=whole)


def whole_scan(scan: Scan, twin: Twin | None = None) -> Scan:
    """A scan whose pictures come all around."""
    probe, size = whole_probe(scan.probe, twin), (scan.probe.width, scan.probe.height)
    if twin is not None:
        lenses = TwinLayout(twin, space_of(scan.probe))
        return replace(scan, probe=probe, layout=lenses, file_size=size)
    if probe is scan.probe:
        return scan
    black = 0 if space_of(scan.probe).full_range else 16
    layout = PartLayout.of(*size, tag_of(scan.probe).bounds, black)
    return replace(scan, probe=probe, layout=layout, file_size=size)


def tag_of(probe: Probe) -> SphereTag:
    """What is known of a clip that is taken for a sphere: a plain one, if its file says nothing."""
    return probe.sphere or SphereTag()


def first_eye(probe: Probe) -> Canvas:
    """The size of a sphere's picture, for one eye. Raises BadSetting for one that is none."""
    width, height = probe.width, probe.height
    tag = tag_of(probe)
    if tag.projection != "equirectangular":
        raise BadSetting(
            f"the file says that its projection is a {tag.projection}, which is not read here.",
            remedy="Export it as equirectangular first.",
        )
    if any(tag.bounds):
        raise BadSetting(
            "the file holds only a part of a sphere, for two eyes, which cannot be steadied here.",
            remedy="Export it whole, the missing part black.",
        )
    if tag.stereo == "top-bottom":
        height //= 2
    elif tag.stereo == "left-right":
        width //= 2
    if not has_shape_of_sphere(width, height):
        raise BadSetting(
            f"a picture of {width} × {height} does not go all around: a sphere is twice as wide as "
            "it is high.",
            remedy="Work on it as a flat clip.",
        )
    return Canvas(width, height)


def eyes_words(path: Path, scan: Scan, frame: int) -> str:
    """A sentence where the two eyes of a sphere do not look alike; nothing where they do, or where
    there is one."""
    tag = tag_of(scan.probe)
    if tag.stereo == "mono":
        return ""
    picture = frame_at(path, scan, frame, luma_only=True)
    small = [
        cv2.resize(eye.planes[0], ALIKE_SIZE, interpolation=cv2.INTER_AREA).astype(float)
        for eye in eyes_of(replace(picture, planes=(picture.planes[0],) * 3), tag)
    ]
    one, other = (eye - eye.mean() for eye in small)
    alike = float((one * other).sum() / max(np.sqrt((one**2).sum() * (other**2).sum()), 1e-9))
    if alike >= ALIKE:
        return ""
    return (
        f"The file says that its two eyes lie {tag.stereo}, but they do not look alike (likeness "
        f"{alike:.2f} of 1). Both get one correction, which may be wrong for the other."
    )


def eyes_of(picture: Any, tag: SphereTag) -> Iterator[Any]:
    """A picture of two eyes as two, by views of the same memory."""
    axis = 0 if tag.stereo == "top-bottom" else 1
    for half in (0, 1):
        parts = []
        for plane in picture.planes:
            middle = plane.shape[axis] // 2
            part = slice(middle * half, middle * (half + 1))
            parts.append(plane[part] if axis == 0 else plane[:, part])
        yield replace(picture, planes=tuple(parts))
