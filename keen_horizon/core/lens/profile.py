"""A lens profile: what is known of a lens, to be used on any clip of the same camera and mode.

As JSON with a published schema, and as a calibration YAML in OpenCV's layout. Focal lengths are
over the picture's width, so a profile holds for every resolution of the same crop of the sensor.
"""

from __future__ import annotations

import json
from typing import Any, Literal

import cv2
import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..errors import BadSetting
from ..geometry.canvas import Canvas
from ..treatment import LensSettings

SAME_SHAPE = 0.012  # by which the shapes of two pictures of the same crop may differ
OPTICS = (
    "model", "focal", "k1", "k2", "k3", "k4", "p1", "p2", "centre_x", "centre_y", "squeeze",
)  # fmt: skip
LARGEST_FILE = 200_000  # bytes of a profile that is read


class LensProfile(BaseModel):
    """A lens of the house."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)
    version: Literal[1] = Field(1, description="Version of this format.")
    name: str = Field(min_length=1, max_length=120, description="What it is called.")
    camera: str = Field("", max_length=120, description="The camera.")
    lens: str = Field("", max_length=120, description="The lens, or its setting.")
    mode: str = Field("", max_length=120, description="The camera's mode: size, rate, crop.")
    width: int = Field(ge=16, le=100_000, description="Width of the picture it was found in, px.")
    height: int = Field(ge=16, le=100_000, description="Height, px.")
    pixel_aspect: float = Field(1.0, ge=0.2, le=5, description="Width of a pixel over its height.")
    optics: LensSettings = Field(description="The lens; its edges, amount and origin are not used.")
    residual: float | None = Field(None, ge=0, description="What was left when it was found, px.")
    found_by: str = Field("", max_length=60, description="How: angle, edges, chart, numbers.")

    @property
    def shape(self) -> float:
        """Width over height of the picture."""
        return self.width * self.pixel_aspect / self.height


def profile_of(name: str, settings: LensSettings, canvas: Canvas, **told: Any) -> LensProfile:
    """A profile of what a treatment's lens is now."""
    optics = LensSettings(**{key: getattr(settings, key) for key in OPTICS})
    return LensProfile(
        name=name, width=canvas.width, height=canvas.height, pixel_aspect=canvas.pixel_aspect,
        optics=optics, residual=settings.residual, found_by=settings.found_by, **told,
    )  # fmt: skip


def same_crop(shape: float, canvas: Canvas) -> bool:
    """Whether a picture of ``shape``, width over height, shows the crop that ``canvas`` does."""
    own = canvas.width * canvas.pixel_aspect / canvas.height
    return abs(own / shape - 1) <= SAME_SHAPE


def refusal(profile: LensProfile, canvas: Canvas) -> str:
    """Why a profile does not fit pictures of size ``canvas``; empty if it does."""
    if same_crop(profile.shape, canvas):
        return ""
    return (
        f"{profile.name} was found in a picture of {profile.width} × {profile.height}, this clip "
        f"has {canvas.width} × {canvas.height}: another crop of the sensor, for which its numbers "
        "do not hold."
    )


def settings_from(profile: LensProfile) -> dict[str, Any]:
    """A profile as settings of a treatment's lens."""
    kept = {key: getattr(profile.optics, key) for key in OPTICS}
    return kept | {"found_by": "profile", "residual": profile.residual}


def to_json(profile: LensProfile) -> str:
    data = profile.model_dump(mode="json")
    data["optics"] = {key: data["optics"][key] for key in OPTICS}
    return json.dumps(data, indent=2) + "\n"


def profile_schema() -> dict[str, Any]:
    """JSON schema of a profile."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Keen Horizon lens profile",
        **{k: v for k, v in LensProfile.model_json_schema().items() if k != "title"},
    }


def read_profile(text: str, file: str, name: str = "") -> LensProfile:
    """A profile from JSON, or from a calibration YAML, which has no name of its own. Raises
    BadSetting that names ``file``."""
    if len(text) > LARGEST_FILE:
        raise BadSetting("is too large for a lens profile.", file=file)
    if text.lstrip().startswith("{"):
        try:
            return LensProfile.model_validate_json(text)
        except ValidationError as error:
            fault = error.errors()[0]
            where = ".".join(str(p) for p in fault["loc"]) or "the file"
            raise BadSetting(
                f"is not a lens profile: {where}: {fault['msg']}.", file=file,
                remedy="Compare it with lens.schema.json.",
            ) from error  # fmt: skip
    return _from_yaml(text, file, name or file.rsplit(".", 1)[0])


def to_yaml(profile: LensProfile) -> str:
    """The calibration as OpenCV keeps it: ``camera_matrix`` and ``distortion_coefficients`` for a
    picture of ``image_width`` x ``image_height``. Raises BadSetting for a model it has not."""
    o = profile.optics
    if o.model not in ("brown", "fisheye"):
        raise BadSetting(
            f"a calibration YAML holds Brown-Conrady and fisheye lenses, not {o.model}.",
            remedy="Export it as JSON.",
        )
    fx = o.focal * profile.width
    matrix = np.array(
        [
            [fx, 0, (profile.width - 1) / 2 + o.centre_x / 100 * profile.width],
            [0, fx * profile.pixel_aspect * o.squeeze,
             (profile.height - 1) / 2 + o.centre_y / 100 * profile.height],
            [0, 0, 1],
        ]
    )  # fmt: skip
    k = [o.k1, o.k2, o.p1, o.p2, o.k3] if o.model == "brown" else [o.k1, o.k2, o.k3, o.k4]
    store = cv2.FileStorage(".yml", cv2.FILE_STORAGE_WRITE | cv2.FILE_STORAGE_MEMORY)
    store.write("image_width", profile.width)
    store.write("image_height", profile.height)
    store.write("camera_name", profile.name)
    store.write("distortion_model", "plumb_bob" if o.model == "brown" else "fisheye")
    store.write("camera_matrix", matrix)
    store.write("distortion_coefficients", np.array(k).reshape(-1, 1))
    if profile.residual is not None:
        store.write("avg_reprojection_error", float(profile.residual))
    return str(store.releaseAndGetString())


def _from_yaml(text: str, file: str, name: str) -> LensProfile:
    wrong = BadSetting(
        "is neither a lens profile nor a calibration YAML.", file=file,
        remedy="Export it again as JSON or as OpenCV's YAML.",
    )  # fmt: skip
    if not text.lstrip().startswith("%YAML"):
        raise wrong
    try:
        store = cv2.FileStorage(text, cv2.FILE_STORAGE_READ | cv2.FILE_STORAGE_MEMORY)
        matrix = store.getNode("camera_matrix").mat()
        node = store.getNode("distortion_coefficients").mat()
        width, height = (int(store.getNode(f"image_{side}").real()) for side in ("width", "height"))
        kind = store.getNode("distortion_model").string()
        name = store.getNode("camera_name").string() or name
        error_node = store.getNode("avg_reprojection_error")
        residual = None if error_node.empty() else float(error_node.real())
    except (cv2.error, SystemError, ValueError, TypeError) as error:
        raise wrong from error
    if matrix is None or node is None or matrix.shape != (3, 3) or width < 16 or height < 16:
        raise BadSetting(
            "has no camera_matrix, distortion_coefficients, image_width and image_height.",
            file=file, remedy="Export it again with all of them.",
        )  # fmt: skip
    k = np.asarray(node, float).ravel()
    fisheye = kind == "fisheye" or (kind == "" and len(k) == 4 and "fisheye" in text)
    if len(k) > 5 or len(k) < 4:
        raise BadSetting(
            f"has {len(k)} distortion coefficients; four or five can be used.", file=file,
            remedy="Calibrate with k1, k2, p1, p2, k3, or as a fisheye with k1 to k4.",
        )  # fmt: skip
    fx, fy = float(matrix[0, 0]), float(matrix[1, 1])
    if fisheye:
        told: dict[str, Any] = {"model": "fisheye", "k1": k[0], "k2": k[1], "k3": k[2], "k4": k[3]}
    else:
        told = {"model": "brown", "k1": k[0], "k2": k[1], "p1": k[2], "p2": k[3]}
        told["k3"] = k[4] if len(k) == 5 else 0.0
    optics: dict[str, Any] = {key: v if isinstance(v, str) else float(v) for key, v in told.items()}
    optics |= {
        "focal": fx / width,
        "centre_x": 100 * (float(matrix[0, 2]) - (width - 1) / 2) / width,
        "centre_y": 100 * (float(matrix[1, 2]) - (height - 1) / 2) / height,
    }
    aspect = fy / fx
    try:
        return LensProfile(
            name=name[:120] or "lens", width=width, height=height,
            pixel_aspect=aspect if abs(aspect - 1) > 0.01 else 1.0,
            optics=LensSettings(**optics), residual=residual, found_by="chart",
        )  # fmt: skip
    except (ValidationError, ZeroDivisionError) as error:
        raise BadSetting(
            "holds numbers that no lens has.", file=file, remedy="Calibrate again."
        ) from error
