"""A lens profile: what is known of a lens and its glass, to be used on any clip of the same camera
and mode.

As JSON with a published schema, and as a calibration YAML in OpenCV's layout. Focal lengths are
over the picture's width, so a profile holds for every resolution of the same crop of the sensor.
"""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..errors import BadSetting
from ..geometry.canvas import Canvas
from ..stations.glass import GLASS, GlassSettings
from ..stations.glass.settings import COLOURS, FALL_OFF
from ..stations.lens.calibration_yaml import Calibration, read_calibration, write_calibration
from ..stations.lens.optics import OPTICAL
from ..stations.lens.settings import LensSettings

SAME_SHAPE = 0.012  # by which the shapes of two pictures of the same crop may differ
# Settings of the glass that a profile carries: those that describe it, and what is known of them.
OF_GLASS = (*(n for n, facts in GLASS.facts.items() if facts.group), "doubt", "colour_doubt")
EVEN = GlassSettings()  # of which nothing is known
NOT_SQUEEZED = 0.01  # by which two focal lengths of a calibration may differ
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
    glass: GlassSettings | None = Field(
        None, description="What the glass does to light and colours; its amounts are not used."
    )
    residual: float | None = Field(None, ge=0, description="What was left when it was found, px.")
    found_by: str = Field("", max_length=60, description="How: angle, edges, chart, numbers.")

    @property
    def shape(self) -> float:
        """Width over height of the picture."""
        return self.width * self.pixel_aspect / self.height


def profile_of(
    name: str, settings: LensSettings, canvas: Canvas, glass: GlassSettings = EVEN, **told: Any
) -> LensProfile:
    """A profile of what a treatment's lens is now, and its glass, if anything is known of it."""
    optics = LensSettings(**{key: getattr(settings, key) for key in OPTICAL})
    known = GlassSettings(**{key: getattr(glass, key) for key in OF_GLASS})
    return LensProfile(
        name=name, width=canvas.width, height=canvas.height, pixel_aspect=canvas.pixel_aspect,
        optics=optics, glass=None if known == EVEN else known,
        residual=settings.residual, found_by=settings.found_by, **told,
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
    kept = {key: getattr(profile.optics, key) for key in OPTICAL}
    return kept | {"found_by": "profile", "residual": profile.residual}


def glass_from(profile: LensProfile) -> dict[str, Any] | None:
    """What a profile knows of its glass as settings of a treatment; None if it knows nothing."""
    if profile.glass is None:
        return None
    kept = {key: getattr(profile.glass, key) for key in OF_GLASS}
    told = {
        by: "copy" if any(kept[key] != getattr(EVEN, key) for key in keys) else "nothing"
        for by, keys in (("found_by", _keys(FALL_OFF)), ("colour_found_by", _keys(COLOURS)))
    }
    return kept | told


def _keys(group: str) -> list[str]:
    return [name for name, facts in GLASS.facts.items() if facts.group == group]


def to_json(profile: LensProfile) -> str:
    data = profile.model_dump(mode="json")
    data["optics"] = {key: data["optics"][key] for key in OPTICAL}
    if profile.glass is not None:
        data["glass"] = {key: data["glass"][key] for key in OF_GLASS}
    return json.dumps(data, indent=2) + "\n"


def profile_schema() -> dict[str, Any]:
    """JSON schema of a profile."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Keen Horizon lens profile",
        **{k: v for k, v in LensProfile.model_json_schema().items() if k != "title"},
    }


def read_profile(
    text: str, file: str, name: str = "", pixel_aspect: float | None = None
) -> LensProfile:
    """A profile from JSON, or from a calibration YAML, which has no name of its own, and does not
    always tell a squeezed picture from wide pixels: ``pixel_aspect`` is that of the clip it is for.
    Raises BadSetting that names ``file``."""
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
    return _from_yaml(text, file, name or file.rsplit(".", 1)[0], pixel_aspect)


def to_yaml(profile: LensProfile) -> str:
    """The calibration as OpenCV keeps it. Raises BadSetting for a model it has not."""
    o = profile.optics
    if o.model not in ("brown", "fisheye"):
        raise BadSetting(
            f"a calibration YAML holds Brown-Conrady and fisheye lenses, not {o.model}.",
            remedy="Export it as JSON.",
        )
    fx = o.focal * profile.width
    k = (o.k1, o.k2, o.p1, o.p2, o.k3) if o.model == "brown" else (o.k1, o.k2, o.k3, o.k4)
    return write_calibration(
        Calibration(
            name=profile.name,
            width=profile.width,
            height=profile.height,
            fisheye=o.model == "fisheye",
            focal=(fx, fx * profile.pixel_aspect * o.squeeze),
            centre=(
                (profile.width - 1) / 2 + o.centre_x / 100 * profile.width,
                (profile.height - 1) / 2 + o.centre_y / 100 * profile.height,
            ),
            coefficients=k,
            pixel_aspect=profile.pixel_aspect,
            residual=profile.residual,
        )
    )


def _from_yaml(text: str, file: str, name: str, pixel_aspect: float | None) -> LensProfile:
    found = read_calibration(text, file)
    k = found.coefficients
    if found.fisheye:
        told: dict[str, Any] = {"model": "fisheye", "k1": k[0], "k2": k[1], "k3": k[2], "k4": k[3]}
    else:
        told = {"model": "brown", "k1": k[0], "k2": k[1], "p1": k[2], "p2": k[3]}
        told["k3"] = k[4] if len(k) == 5 else 0.0
    (fx, fy), (cx, cy) = found.focal, found.centre
    try:
        own = found.pixel_aspect or pixel_aspect or 1.0
        squeeze = fy / fx / own
        optics = told | {
            "focal": fx / found.width,
            "centre_x": 100 * (cx - (found.width - 1) / 2) / found.width,
            "centre_y": 100 * (cy - (found.height - 1) / 2) / found.height,
            "squeeze": squeeze if abs(squeeze - 1) > NOT_SQUEEZED else 1.0,
        }
        return LensProfile(
            name=(found.name or name)[:120] or "lens", width=found.width, height=found.height,
            pixel_aspect=own, optics=LensSettings(**optics), residual=found.residual,
            found_by="chart",
        )  # fmt: skip
    except (ValidationError, ZeroDivisionError) as error:
        raise BadSetting(
            "holds numbers that no lens has.", file=file, remedy="Calibrate again."
        ) from error
