"""Settings of the Frame station."""

from __future__ import annotations

from typing import Any, Literal

from ..setting import Choice, setting
from ..station import StationSettings

CORNERS = ("top_left", "top_right", "bottom_right", "bottom_left")  # clockwise
SIDES = ("left", "right", "top", "bottom")
BORROWING = {"edge": ("borrow",)}
SQUARED = {"square_up": (True,)}
SHOWN = {"edge": ("leave", "fill", "borrow")}  # what is trimmed is not zoomed or moved besides


def _corner(name: str, side: str, value: float) -> Any:
    return setting(
        float(value), -100, 200, label=f"Corner {name}, {'across' if side == 'width' else 'down'}",
        unit="%", step=0.1, keyed=True, affects="map", needs=[SQUARED],
        hint=f"Square up: its {name} corner, in percent of the {side} of the steadied picture.",
    )  # fmt: skip


def _pull(side: str) -> Any:
    return setting(
        0.0, 0, 25, label=f"Edge stretch, {side}", unit="%", step=0.1, keyed=True, affects="map",
        hint=f"Edge stretch: how far the {side} is pulled outwards, in percent of half the "
        "picture.",
    )  # fmt: skip


class FrameSettings(StationSettings):
    """What happens at the edges."""

    on: bool = setting(True, label="On", affects="map", hint="Off leaves bare edges as they come.")
    edge: Literal["leave", "trim", "fill", "borrow"] = setting(
        "fill", label="Edge rule", affects="path",
        hint="leave: bare edges stay. trim: smaller output. fill: zoom until covered. "
        "borrow: from neighbouring frames, and fill for what none covers.",
        choices={
            "leave": Choice("Leave", "Bare edges stay black: see what the correction does."),
            "trim": Choice("Trim", "A smaller output without bare edges; nothing is scaled."),
            "fill": Choice("Fill", "Zoom until no edge is bare."),
            "borrow": Choice(
                "Borrow", "From neighbouring frames; hatched here, filled in what is exported."
            ),
        },
    )  # fmt: skip
    borrow_reach: int = setting(
        18, 1, 60, label="Reach", unit="frames", affects="map", needs=[BORROWING],
        hint="How far away a neighbour may lend to a bare edge.",
    )  # fmt: skip
    borrow_width: float = setting(
        6.0, 0.5, 25, label="Widest edge", unit="%", step=0.5, affects="map", needs=[BORROWING],
        hint="That is borrowed, in percent of the output; what is wider is zoomed away.",
    )  # fmt: skip
    zoom_ceiling: float = setting(
        1.25, 1, 4, label="Zoom ceiling", unit="×", step=0.01, reach=(1, 2), keyed=True,
        affects="path", hint="The most zoom that may be spent; calm gives way first.",
    )  # fmt: skip
    zoom_speed: float = setting(
        0.0, 0, 50, label="Drifting zoom", unit="%/s", step=0.1, reach=(0, 10), keyed=True,
        affects="map", needs=[{"edge": ("fill", "borrow")}],
        hint="Its most change, in percent a second; at 0 one zoom serves the whole clip.",
    )  # fmt: skip
    extra_zoom: float = setting(
        1.0, 0.1, 4, label="Extra zoom", unit="×", step=0.01, reach=(0.1, 2), keyed=True,
        affects="map", needs=[SHOWN],
        hint="On top of what the edges need; below 1, only where bare edges stay.",
    )  # fmt: skip
    offset_x: float = setting(
        0.0, -50, 50, label="Offset across", unit="%", step=0.1, reach=(-20, 20), keyed=True,
        affects="map", needs=[SHOWN],
        hint="Moves the picture to the right, in percent of its width.",
    )  # fmt: skip
    offset_y: float = setting(
        0.0, -50, 50, label="Offset down", unit="%", step=0.1, reach=(-20, 20), keyed=True,
        affects="map", needs=[SHOWN], hint="Moves the picture down, in percent of its height.",
    )  # fmt: skip
    turn: float = setting(
        0.0, -180, 180, label="Turn", unit="°", step=0.05, reach=(-45, 45), keyed=True,
        affects="map", hint="Turns the picture clockwise, in degrees.",
    )  # fmt: skip
    square_up: bool = setting(
        False, label="Square up", affects="map", hint="Whether four corners are squared up."
    )
    top_left_x: float = _corner("top left", "width", 0)
    top_left_y: float = _corner("top left", "height", 0)
    top_right_x: float = _corner("top right", "width", 100)
    top_right_y: float = _corner("top right", "height", 0)
    bottom_right_x: float = _corner("bottom right", "width", 100)
    bottom_right_y: float = _corner("bottom right", "height", 100)
    bottom_left_x: float = _corner("bottom left", "width", 0)
    bottom_left_y: float = _corner("bottom left", "height", 100)
    pull_left: float = _pull("left")
    pull_right: float = _pull("right")
    pull_top: float = _pull("top")
    pull_bottom: float = _pull("bottom")
    swell: float = setting(
        1.0, 0.4, 2.5, label="Swell", unit="×", step=0.01, keyed=True, affects="map",
        hint="Magnification inside the disc; below 1 a pinch.",
    )  # fmt: skip
    swell_x: float = setting(
        25.0, -20, 120, label="Swell, centre across", unit="%", step=0.1, keyed=True, affects="map",
        hint="Centre of the disc, in percent of the width.",
    )  # fmt: skip
    swell_y: float = setting(
        50.0, -20, 120, label="Swell, centre down", unit="%", step=0.1, keyed=True, affects="map",
        hint="Centre of the disc, in percent of the height.",
    )  # fmt: skip
    swell_radius: float = setting(
        30.0, 2, 150, label="Swell, radius", unit="%", step=0.5, keyed=True, affects="map",
        hint="Radius of the disc, in percent of the height.",
    )  # fmt: skip
    swell_rim: float = setting(
        80.0, 20, 100, label="Swell, soft rim", unit="%", affects="map",
        hint="How much of the radius is a soft rim, in percent.",
    )  # fmt: skip
    swell_twin: bool = setting(
        False, label="Swell, and its twin across the centre", affects="map",
        hint="Another disc, across the picture's centre.",
    )  # fmt: skip
    trim_shape: str = setting(
        "source", label="Shape of what is left", affects="map", needs=[{"edge": ("trim",)}],
        pattern=r"^(source|free|[1-9]\d{0,4}(\.\d{1,3})?:[1-9]\d{0,4}(\.\d{1,3})?)$",
        hint="Shape of what trim leaves: source, free, or width:height as in 16:9.",
    )  # fmt: skip
    width: int | None = setting(
        None, 16, 8192, label="Output width", unit="px", step=2, affects="path", needs=[SHOWN],
        hint="Output width in px; null: as the source or the height.",
    )  # fmt: skip
    height: int | None = setting(
        None, 16, 8192, label="Output height", unit="px", step=2, affects="path", needs=[SHOWN],
        hint="Output height in px; null: as the source or the width.",
    )  # fmt: skip

    @property
    def rule(self) -> Literal["leave", "trim", "fill", "borrow"]:
        """The edge rule in force."""
        return self.edge if self.on else "leave"
