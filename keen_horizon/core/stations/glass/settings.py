"""Settings of the Glass station."""

from __future__ import annotations

from typing import Any, Literal

from ...values import Place
from ..setting import setting
from ..station import StationSettings

FALL_OFF = "fall_off"  # the group of settings that describe what light the glass loses
COLOURS = "colours"  # those that describe where it puts red and blue
DEAD = "dead"  # and those that describe where it ends
CORNERS = 40  # of what is left of the picture, at most


def _loss(power: str) -> Any:
    return setting(
        0.0, -8, 8, label=f"Stops by {power}", unit="stops", step=0.01, reach=(-1, 3),
        affects="pixels", group=FALL_OFF,
        hint=f"Light lost in stops, where half the diagonal counts as 1: its part by {power}.",
    )  # fmt: skip


def _apart(colour: str, power: str) -> Any:
    return setting(
        0.0, -50, 50, label=f"{colour} by {power}", unit="‰", step=0.01, reach=(-3, 3),
        affects="pixels", group=COLOURS,
        hint=f"How much further out than green {colour.lower()} lies, in thousandths of half the "
        f"diagonal, where that counts as 1: its part by {power}.",
    )  # fmt: skip


def _middle(*, across: bool, what: str, group: str) -> Any:
    way = ("across", "right of", "width") if across else ("down", "below", "height")
    return setting(
        0.0, -25, 25, label=f"Middle {way[0]}{', colours' if group == COLOURS else ''}", unit="%",
        step=0.1, affects="pixels", group=group,
        hint=f"{what} {way[1]} the picture's{' middle' if group == COLOURS else ''}, in percent of "
        f"its {way[2]}.",
    )  # fmt: skip


class GlassSettings(StationSettings):
    """What the glass did to light on its way."""

    on: bool = setting(
        True, label="On", affects="pixels", hint="Whether light and colours are evened."
    )
    find: bool = setting(
        False, label="Find first", affects="report",
        hint="On the command line: light and colours are found in the clip before it is corrected.",
    )  # fmt: skip
    loss_r2: float = _loss("r²")
    loss_r4: float = _loss("r⁴")
    loss_r6: float = _loss("r⁶")
    centre_x: float = _middle(across=True, what="Middle of the fall-off", group=FALL_OFF)
    centre_y: float = _middle(across=False, what="Middle of the fall-off", group=FALL_OFF)
    roundness: float = setting(
        1.0, 0.5, 2, label="Roundness", step=0.01, affects="pixels", group=FALL_OFF,
        hint="Width of what loses the same light over its height; 1: a circle.",
    )  # fmt: skip
    amount: float = setting(
        100.0, 0, 150, label="Amount", unit="%", keyed=True, affects="pixels",
        hint="Percent of the lost light that is brought back.",
    )  # fmt: skip
    limit: float = setting(
        2.0, 0.25, 4, label="Most gain", unit="stops", step=0.05, affects="pixels",
        hint="Light is never raised by more, however much was lost.",
    )  # fmt: skip
    live: tuple[Place, ...] = setting(
        (), label="What is left of the picture", affects="path", group=DEAD, max_length=CORNERS,
        hint="Corners of what lies inside a hood or a ring, as shares of the picture; what is "
        "outside counts as bare edge. None: all of it.",
    )  # fmt: skip
    found_by: Literal["nothing", "clip", "even", "hand", "copy"] = setting(
        "nothing", label="Found by", affects="report",
        hint="Where the numbers come from: this clip, an even surface, by hand, or another clip.",
    )  # fmt: skip
    doubt: float | None = setting(
        None, 0, 8, label="Doubt", unit="stops", affects="report",
        hint="How far the fall-off that was found may be off over the picture, rms.",
    )  # fmt: skip
    red_r: float = _apart("Red", "r")
    red_r3: float = _apart("Red", "r³")
    blue_r: float = _apart("Blue", "r")
    blue_r3: float = _apart("Blue", "r³")
    colour_x: float = _middle(across=True, what="Where colours agree,", group=COLOURS)
    colour_y: float = _middle(across=False, what="Where colours agree,", group=COLOURS)
    colour_amount: float = setting(
        100.0, 0, 150, label="Amount, colours", unit="%", keyed=True, affects="pixels",
        hint="Percent of the way that red and blue are brought back.",
    )  # fmt: skip
    halo: float = setting(
        0.0, 0, 100, label="Halo", unit="%", keyed=True, affects="pixels",
        hint="Percent of the rims beside bright edges that is taken away; 0 leaves them.",
    )  # fmt: skip
    halo_width: float = setting(
        0.8, 0.1, 4, label="Width", unit="%", step=0.1, reach=(0.1, 2), affects="pixels",
        hint="How wide a rim may be, in percent of the picture's height.",
    )  # fmt: skip
    halo_hue: float = setting(
        280.0, 0, 360, label="Hue", unit="°", affects="pixels",
        hint="Of the rims: 0 is red, 120 green, 240 blue; purple lies about 280.",
    )  # fmt: skip
    halo_other: float = setting(
        130.0, 0, 360, label="Other hue", unit="°", affects="pixels",
        hint="Of rims on the other side of where the lens is in focus: green, mostly.",
    )  # fmt: skip
    colour_found_by: Literal["nothing", "clip", "hand", "copy"] = setting(
        "nothing", label="Colours found by", affects="report",
        hint="Where the numbers of red and blue come from: this clip, by hand, or another clip.",
    )  # fmt: skip
    colour_doubt: float | None = setting(
        None, 0, 20, label="Doubt, colours", unit="px", affects="report",
        hint="How far red or blue may be off where they were found, rms over the picture.",
    )  # fmt: skip
