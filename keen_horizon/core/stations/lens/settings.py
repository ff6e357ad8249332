"""Settings of the Lens station."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from ...geometry.distortion import DISTORTION_MODELS, LensModel
from ...values import Place, Value
from ..setting import Choice, setting
from ..station import StationSettings

OPTICS = "optics"  # the group of settings that describe the lens itself: what a profile holds
NOMINAL_FOCAL = 0.832  # over the picture's width: 62 degrees across


class StraightEdge(Value):
    """Something that is straight in the world, traced in the picture of one frame."""

    frame: int = Field(ge=0, description="Frame of the recording at which it was traced.")
    points: tuple[Place, ...] = Field(
        min_length=2, max_length=200, description="Along it, as shares of the picture's size."
    )
    pins: tuple[Place, ...] = Field(
        (), max_length=12, description="Where it was clicked or dragged to, likewise."
    )
    runs: Literal["any", "level", "upright"] = Field(
        "any", description="How it runs in the world: level and upright edges also level."
    )


def _coefficient(label: str, hint: str, most: float, reach: float, step: float = 0.001) -> Any:
    return setting(
        0.0, -most, most, label=label, step=step, reach=(-reach, reach), affects="tracks",
        hint=hint, group=OPTICS,
    )  # fmt: skip


class LensSettings(StationSettings):
    """How the lens bends straight rays. Coefficients act on normalised image coordinates."""

    on: bool = setting(True, label="On", affects="tracks", hint="Whether the lens is corrected.")
    model: LensModel = setting(
        "rectilinear", label="Model", affects="tracks",
        hint="rectilinear: bends nothing. brown: k1 k2 k3 p1 p2 (Brown-Conrady). fisheye: "
        "k1 k2 k3 k4 (Kannala-Brandt). division: k1 (one parameter).",
        choices={name: Choice(model.label) for name, model in DISTORTION_MODELS.items()},
        group=OPTICS,
    )  # fmt: skip
    focal: float = setting(
        NOMINAL_FOCAL, 0.05, 20, label="Focal length", unit="widths", step=0.001, reach=(0.05, 2),
        keyed=True, affects="tracks", hint="Focal length over the picture's width.", group=OPTICS,
    )  # fmt: skip
    k1: float = _coefficient("k1", "First radial coefficient.", 10, 1.5)
    k2: float = _coefficient("k2", "Second radial coefficient.", 10, 1.5)
    k3: float = _coefficient("k3", "Third radial coefficient.", 10, 1)
    k4: float = _coefficient("k4", "Fourth, of fisheye alone.", 10, 1)
    p1: float = _coefficient("p1", "First tangential coefficient, of brown.", 1, 0.05, 0.0001)
    p2: float = _coefficient("p2", "Second tangential coefficient, of brown.", 1, 0.05, 0.0001)
    centre_x: float = setting(
        0.0, -25, 25, label="Centre across", unit="%", step=0.05, keyed=True, affects="tracks",
        hint="Optical centre right of the picture's, in percent of its width.", group=OPTICS,
    )  # fmt: skip
    centre_y: float = setting(
        0.0, -25, 25, label="Centre down", unit="%", step=0.05, keyed=True, affects="tracks",
        hint="Optical centre below the picture's, in percent of its height.", group=OPTICS,
    )  # fmt: skip
    squeeze: float = setting(
        1.0, 0.5, 2.5, label="Squeeze", unit="×", step=0.01, affects="tracks",
        hint="How much an anamorphic lens squeezed the picture across.", group=OPTICS,
    )  # fmt: skip
    amount: float = setting(
        100.0, 0, 100, label="Amount", unit="%", keyed=True, affects="tracks",
        hint="Percent of the correction applied.",
    )  # fmt: skip
    found_by: Literal[
        "nothing", "angle", "edges", "motion", "chart", "numbers", "profile", "clip"
    ] = setting(
        "nothing", label="Found by", affects="report",
        hint="Where the numbers come from; clip: copied from another one.",
    )  # fmt: skip
    residual: float | None = setting(
        None, 0, 1000, label="Residual", unit="px", affects="report",
        hint="What was left when they were fitted, px.",
    )  # fmt: skip
    profile: int | None = setting(
        None, 1, label="Profile", affects="report",
        hint="Its number in the lens cabinet, if it is from there.",
    )  # fmt: skip
    edition: int | None = setting(
        None, 1, label="Edition", affects="report", hint="Which edition of that profile it is."
    )
    edges: tuple[StraightEdge, ...] = setting(
        (), label="Straight edges", affects="report", of_clip=True, max_length=60,
        hint="Straight edges that the lens was fitted to.",
    )  # fmt: skip
