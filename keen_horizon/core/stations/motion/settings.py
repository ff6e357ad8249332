"""Settings of the Motion station."""

from __future__ import annotations

from typing import Any, Literal

from ...motion.held_point import HeldPoint
from ...motion.horizon_marks import HorizonMark
from ...tracking.subjects import Subject
from ...values import Place
from ..setting import Choice, Kind, setting
from ..station import StationSettings

MODELS = {
    "shift": Choice("Shift", "Across and up-down only."),
    "similarity": Choice("Shift, roll, scale", "As a whole; nothing is bent."),
    "rotation": Choice(
        "Rotation", "What turning the camera does to this lens's picture.", by_angle=True
    ),
    "travel": Choice(
        "Turn and slide",
        "Rotation, and what a camera that travels adds: shift and scale.",
        by_angle=True,
    ),
    "perspective": Choice("Perspective", "Keystone and shear too."),
    "mesh": Choice("Mesh", "Each part of the picture by itself, for parallax."),
    "decide": Choice("Let the clip decide"),
}
NEEDING = tuple(name for name, choice in MODELS.items() if choice.by_angle)
TURNING = (*NEEDING, "mesh")  # and those that go by the angle of view where it is known
COMPONENTS = ("across", "updown", "roll", "size")  # of the camera's path


def _own_calm(label: str, serves: tuple[Kind, ...] = ()) -> Any:
    return setting(
        None, 0, 100, label=f"Calm, {label}", affects="path", serves=serves,
        hint=f"Calm of the component {label} alone; null: as calm.",
    )  # fmt: skip


LOCKING, HOLDING = {"aim": ("lock_off",)}, {"aim": ("hold",)}


class MotionSettings(StationSettings):
    """What the steadied camera should do."""

    on: bool = setting(
        True, label="On", affects="path", hint="Whether the shake is removed at all."
    )
    aim: Literal["follow", "lock_off", "hold"] = setting(
        "follow", label="Aim", affects="motion",
        hint="follow: keep the move, lose the shake. lock_off: as from a tripod. hold: "
        "keep chosen points where they are.",
        choices={
            "follow": Choice("Follow", "Keep the move, lose the shake."),
            "lock_off": Choice("Lock off", "As from a tripod, room allowing."),
            "hold": Choice("Hold", "Keep a point still in the frame."),
        },
    )  # fmt: skip
    calm: float = setting(
        40.0, 0, 100, label="Calm", affects="path",
        hint="How strongly shake is removed: how far the picture may be shifted for it.",
    )  # fmt: skip
    calm_across: float | None = _own_calm("across")
    calm_updown: float | None = _own_calm("up-down")
    calm_roll: float | None = _own_calm("roll")
    calm_size: float | None = _own_calm("size", serves=("flat",))
    ease: float = setting(
        0.0, 0, 100, label="Ease", unit="%", keyed=True, affects="path", serves=("flat",),
        hint="Percent of the calm given up; meant to be keyed.",
    )  # fmt: skip
    slack: float = setting(
        0.0, 0, 100, label="Slack", affects="path", serves=("flat",),
        needs=[LOCKING], hint="How freely a locked-off picture may drift, slowly.",
    )  # fmt: skip
    lock_frame: int | None = setting(
        None, 0, label="View", affects="path", of_clip=True,
        needs=[LOCKING],
        hint="Frame whose view a lock-off gives; null: the one that costs least.",
    )  # fmt: skip
    hold: tuple[HeldPoint, ...] = setting(
        (), label="Held points", affects="motion", of_clip=True, max_length=4, needs=[HOLDING],
        hint="Points to hold: one for position, two for roll and size too, four for perspective.",
    )  # fmt: skip
    hold_at: Place | None = setting(
        None, label="Held at", affects="path", serves=("flat",), of_clip=True, needs=[HOLDING],
        hint="Where the first is held, as shares of the steadied picture before zoom; "
        "null: where it is.",
    )  # fmt: skip
    tightness: float = setting(
        100.0, 0, 100, label="Tightness", affects="path", serves=("flat",),
        needs=[HOLDING], hint="100: dead still; 0: gently brought back.",
    )  # fmt: skip
    model: Literal[
        "shift", "similarity", "rotation", "travel", "perspective", "mesh", "decide"
    ] = setting(
        "decide", label="Model", affects="motion", serves=("flat",),
        hint="shift: across and up-down. similarity: shift, roll and scale. perspective: "
        "keystone and shear too. rotation: what turning the camera does. travel: that, and what "
        "its travel does to the depth that fills the picture. "
        "mesh: local warps, for parallax. decide: the simplest that leaves hardly more shake "
        "than any.",
        choices=MODELS,
    )  # fmt: skip
    stiffness: float = setting(
        50.0, 0, 100, label="Stiffness", affects="motion", serves=("flat",),
        needs=[{"model": ("mesh", "decide")}], hint="How little a mesh bends.",
    )  # fmt: skip
    stretch_limit: float = setting(
        4.0, 0.5, 20, label="Most stretch", unit="%", step=0.5, affects="path", serves=("flat",),
        needs=[{"model": ("perspective", "mesh", "decide")}, HOLDING],
        hint="Most that any region is stretched, in percent.",
    )  # fmt: skip
    wobble_limit: float = setting(
        1.0, 0.05, 10, label="Most wobble", unit="px", step=0.05, reach=(0.05, 5),
        affects="report", serves=("flat",), hint="Wobble, in px, above which it is pointed out.",
    )  # fmt: skip
    angle_of_view: float | None = setting(
        None, 5, 150, label="Angle of view", unit="°", step=0.1, affects="motion", serves=("flat",),
        needs=[{"model": (*TURNING, "decide")}],
        hint="Across the picture, in degrees; where it is not given, by the lens or the clip's own "
        "motion.",
    )  # fmt: skip
    level: Literal["off", "uprights", "horizon", "both"] = setting(
        "uprights", label="Level", affects="path", serves=("sphere",),
        hint="Of a sphere: whether its horizon stays level, and what tells it: uprights, where "
        "enough of them are seen; the horizon as it was drawn; or both.",
        choices={
            "off": Choice("As recorded"),
            "uprights": Choice("By uprights", "Walls, masts and posts tell which way is down."),
            "horizon": Choice("By the horizon", "Drawn in one frame or in several."),
            "both": Choice("By both", "Each counts as much as it is sure."),
        },
    )  # fmt: skip
    horizon: tuple[HorizonMark, ...] = setting(
        (), label="Drawn horizon", affects="path", of_clip=True, max_length=50,
        serves=("sphere",), needs=[{"level": ("horizon", "both")}],
        hint="Of a sphere: lines along its horizon, each drawn in a frame.",
    )  # fmt: skip
    heading: Literal["recorded", "fixed", "travel"] = setting(
        "recorded", label="Heading", affects="path", serves=("sphere",),
        needs=[{"aim": ("follow",)}],
        hint="Of a sphere that is followed: recorded: it turns with the camera, smoothed. fixed: "
        "its middle looks the same way throughout. travel: it looks where the camera goes.",
        choices={
            "recorded": Choice("As recorded", "It turns with the camera, smoothed."),
            "fixed": Choice("Fixed", "Its middle looks the same way throughout."),
            "travel": Choice("Ahead", "Its middle looks where the camera goes."),
        },
    )  # fmt: skip
    upside_down: bool = setting(
        False, label="Upside down", affects="path", serves=("sphere",),
        hint="Of a sphere: whether the camera hung upside down.",
    )  # fmt: skip
    stitch: bool = setting(
        True, label="Take out stitching wobble", affects="path", serves=("sphere",),
        hint="Of a sphere: whether what stitching bends from frame to frame is taken out, where "
        "marks tell of it.",
    )  # fmt: skip
    nadir: float = setting(
        35.0, 0, 90, label="Cone below", unit="°", affects="motion", serves=("sphere",),
        hint="Of a sphere: what lies so near to straight down, the stick and who holds it, does "
        "not steer.",
    )  # fmt: skip
    aside: tuple[Subject, ...] = setting(
        (), label="Set aside", affects="motion", serves=("flat",), of_clip=True, max_length=50,
        hint="Subjects whose marks must not steer.",
    )  # fmt: skip
    steer_by: Subject | None = setting(
        None, label="Steered by", affects="motion", serves=("flat",), of_clip=True,
        hint="The subject whose marks alone steer; null: all that are not set aside.",
    )  # fmt: skip

    @property
    def calms(self) -> dict[str, float]:
        """The calm of each component, by name; those that have none of their own share ``calm``."""
        own = {name: getattr(self, f"calm_{name}") for name in COMPONENTS}
        return {name: self.calm if value is None else value for name, value in own.items()}

    @property
    def narrow(self) -> bool:
        """Whether one subject steers, with few tracks close together."""
        return self.steer_by is not None
