"""Settings of the View station."""

from __future__ import annotations

from typing import Literal

from ...geometry.looks import NARROWEST, WIDEST
from ...motion.held_point import HeldPoint
from ..setting import Choice, setting
from ..station import StationSettings

FREE = [{"follow": (None,)}]  # it looks where it is set


class ViewSettings(StationSettings):
    """A flat camera inside the sphere."""

    on: bool = setting(
        False, label="On", affects="map",
        hint="Whether a flat picture is taken out of the sphere; off: a sphere comes out.",
    )  # fmt: skip
    projection: Literal["rectilinear", "stereographic", "cylindrical"] = setting(
        "rectilinear", label="Projection", affects="map",
        hint="rectilinear: straight things stay straight, up to 120°. stereographic: circles stay "
        "circles, up to a small planet. cylindrical: uprights stay even, for panoramas.",
        choices={
            "rectilinear": Choice("Rectilinear", "Straight things stay straight; to 120°."),
            "stereographic": Choice("Stereographic", "Circles stay circles; a small planet."),
            "cylindrical": Choice("Cylindrical", "Uprights stay even; for panoramas."),
        },
    )  # fmt: skip
    yaw: float = setting(
        0.0, -180, 180, label="To the right", unit="°", step=0.1, keyed=True, affects="map",
        needs=FREE,
        hint="Where the view looks, from the middle of the steadied sphere; between keys it turns "
        "along a great circle, the short way.",
    )  # fmt: skip
    pitch: float = setting(
        0.0, -90, 90, label="Upwards", unit="°", step=0.1, keyed=True, affects="map", needs=FREE,
        hint="How far above the middle it looks.",
    )  # fmt: skip
    roll: float = setting(
        0.0, -180, 180, label="Roll", unit="°", step=0.1, keyed=True, affects="map",
        hint="How far it leans, clockwise.",
    )  # fmt: skip
    angle: float = setting(
        90.0, NARROWEST, max(WIDEST.values()), label="Angle of view", unit="°", step=0.5,
        keyed=True, affects="map", hint="Across the picture, in degrees.",
    )  # fmt: skip
    width: int = setting(
        1920, 64, 7680, label="Width", unit="px", step=2, affects="map", hint="Of the output.",
    )  # fmt: skip
    height: int = setting(
        1080, 64, 4320, label="Height", unit="px", step=2, affects="map", hint="Of the output.",
    )  # fmt: skip
    follow: HeldPoint | None = setting(
        None, label="Follow", affects="map", of_clip=True,
        hint="A thing that the view keeps in its middle, evenly; null: it looks as it is set.",
    )  # fmt: skip
    fastest: float = setting(
        60.0, 1, 360, label="Fastest turn", unit="°/s", affects="map",
        hint="From key to key the view gets going sooner rather than turn faster; where keys are "
        "too close together for that, it is pointed out.",
    )  # fmt: skip
