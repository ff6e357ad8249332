"""A camera's calibration as OpenCV keeps it in YAML: read and written without a general parser.

The dialect is small (a few scalars, two matrices of numbers), and files come from anywhere: it is
scanned line by line, never descended into, so that nothing in it can be nested too deeply.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from ...errors import BadSetting

_KEY = re.compile(r"^(\s*)([A-Za-z_]\w*)\s*:\s*(.*)$")
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
MOST_NUMBERS = 64  # of a matrix: a calibration has 14 at most


@dataclass(frozen=True)
class Calibration:
    """What such a file holds: ``focal`` and ``centre`` across and down, px; ``coefficients`` k1 k2
    p1 p2 [k3], or k1 to k4 of a fisheye. ``pixel_aspect`` is None where the file does not say."""

    name: str
    width: int
    height: int
    fisheye: bool
    focal: tuple[float, float]
    centre: tuple[float, float]
    coefficients: Sequence[float]
    pixel_aspect: float | None = None
    residual: float | None = None


def write_calibration(calibration: Calibration) -> str:
    """A calibration as text that ``cv2.FileStorage`` reads."""
    c = calibration
    (fx, fy), (cx, cy) = c.focal, c.centre
    name = c.name.replace("\\", " ").replace('"', " ")
    lines = [
        "%YAML:1.0",
        "---",
        f"image_width: {c.width}",
        f"image_height: {c.height}",
        f'camera_name: "{name}"',
        f'distortion_model: "{"fisheye" if c.fisheye else "plumb_bob"}"',
        *_matrix("camera_matrix", 3, 3, [fx, 0, cx, 0, fy, cy, 0, 0, 1]),
        *_matrix("distortion_coefficients", len(c.coefficients), 1, c.coefficients),
    ]
    if c.pixel_aspect is not None:
        lines.append(f"pixel_aspect: {c.pixel_aspect!r}")
    if c.residual is not None:
        lines.append(f"avg_reprojection_error: {float(c.residual)!r}")
    return "\n".join(lines) + "\n"


def _matrix(name: str, rows: int, columns: int, values: Sequence[float]) -> list[str]:
    data = ", ".join(repr(float(value)) for value in values)
    return [
        f"{name}: !!opencv-matrix",
        f"   rows: {rows}",
        f"   cols: {columns}",
        "   dt: d",
        f"   data: [ {data} ]",
    ]


def read_calibration(text: str, file: str) -> Calibration:
    """The calibration in ``text``. Raises BadSetting that names ``file``."""
    if not text.lstrip().startswith("%YAML"):
        raise BadSetting(
            "is neither a lens profile nor a calibration YAML.", file=file,
            remedy="Export it again as JSON or as OpenCV's YAML.",
        )  # fmt: skip
    scalars, matrices = _scan(text)
    matrix = _numbers(matrices.get("camera_matrix"), "camera_matrix", file)
    k = _numbers(matrices.get("distortion_coefficients"), "distortion_coefficients", file)
    width, height = (_whole(scalars.get(f"image_{side}")) for side in ("width", "height"))
    if len(matrix) != 9 or not k or width < 16 or height < 16:
        raise BadSetting(
            "has no camera_matrix, distortion_coefficients, image_width and image_height.",
            file=file, remedy="Export it again with all of them.",
        )  # fmt: skip
    if not 4 <= len(k) <= 5:
        raise BadSetting(
            f"has {len(k)} distortion coefficients; four or five can be used.", file=file,
            remedy="Calibrate with k1, k2, p1, p2, k3, or as a fisheye with k1 to k4.",
        )  # fmt: skip
    kind = scalars.get("distortion_model", "")
    return Calibration(
        name=scalars.get("camera_name", ""),
        width=width,
        height=height,
        fisheye=kind == "fisheye" or (not kind and len(k) == 4 and "fisheye" in text),
        focal=(matrix[0], matrix[4]),
        centre=(matrix[2], matrix[5]),
        coefficients=k,
        pixel_aspect=_positive(scalars.get("pixel_aspect")),
        residual=_positive(scalars.get("avg_reprojection_error")),
    )


@dataclass
class _Matrix:
    rows: int = 0
    columns: int = 0
    numbers: list[float] = field(default_factory=list)


def _numbers(matrix: _Matrix | None, name: str, file: str) -> list[float]:
    """The numbers of a matrix, none without one. Raises BadSetting if there are not as many as it
    says."""
    if matrix is None:
        return []
    if matrix.rows * matrix.columns != len(matrix.numbers):
        raise BadSetting(
            f"says that {name} has {matrix.rows} rows and {matrix.columns} columns, but gives "
            f"{len(matrix.numbers)} numbers.",
            file=file, remedy="Export it again.",
        )  # fmt: skip
    return matrix.numbers


def _scan(text: str) -> tuple[dict[str, str], dict[str, _Matrix]]:
    """Scalars of the outermost level, and the matrices, by name."""
    scalars: dict[str, str] = {}
    matrices: dict[str, _Matrix] = {}
    outer, filling = "", ""
    for line in text.splitlines():
        found = _KEY.match(line)
        if found and not filling:
            indent, key, value = found.groups()
            if not indent:
                outer = key
                scalars[key] = value.strip().strip("\"'")
                continue
            matrix = matrices.setdefault(outer, _Matrix())
            if key == "rows":
                matrix.rows = _whole(value)
            elif key == "cols":
                matrix.columns = _whole(value)
            if key != "data":
                continue
            filling, line = outer, value
        if filling:
            numbers = matrices[filling].numbers
            numbers += [float(number) for number in _NUMBER.findall(line)]
            del numbers[MOST_NUMBERS:]
            if "]" in line:
                filling = ""
    return scalars, matrices


def _whole(text: str | None) -> int:
    found = _NUMBER.fullmatch((text or "").strip())
    value = float(found.group()) if found else 0.0
    return int(value) if math.isfinite(value) and value < 1e6 else 0


def _positive(text: str | None) -> float | None:
    found = _NUMBER.fullmatch((text or "").strip())
    value = float(found.group()) if found else 0.0
    return value if math.isfinite(value) and value > 0 else None
