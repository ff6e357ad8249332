"""Settings of the Finish station."""

from __future__ import annotations

from ..setting import setting
from ..station import StationSettings


class FinishSettings(StationSettings):
    """What is done to the delivered picture, last of all."""

    on: bool = setting(
        False, label="On", affects="pixels", hint="Whether the delivered picture is sharpened."
    )
    put_back: float = setting(
        100.0, 0, 100, label="Put back", unit="%", affects="pixels", keyed=True,
        hint="Percent of the sharpness that scaling took.",
    )  # fmt: skip
    beyond: float = setting(
        0.0, 0, 200, label="Beyond", unit="%", affects="pixels", keyed=True, reach=(0, 100),
        hint="On top of that: by how much detail is raised, in percent of itself.",
    )  # fmt: skip
    overshoot: float = setting(
        4.0, 0, 30, label="Overshoot", unit="%", step=0.5, affects="pixels", reach=(0, 15),
        hint="The most by which an edge may swing over, in percent of its own height.",
    )  # fmt: skip
    even: float = setting(
        0.0, 0, 100, label="Even sharpness", unit="%", affects="pixels", serves=("flat",),
        hint="Frames that motion blurred take detail of sharper neighbours, where the two agree; "
        "percent of what these have more. 0 leaves them.",
    )  # fmt: skip
    even_reach: int = setting(
        5, 1, 18, label="From up to", unit="frames", affects="pixels", serves=("flat",),
        hint="How far away a neighbour may lend detail.",
    )  # fmt: skip
    grain: float = setting(
        0.0, 0, 100, label="Match grain", unit="%", affects="pixels", serves=("flat",), keyed=True,
        hint="Percent of the source's noise, as measured in each frame, that is put back where "
        "drawing smoothed it away. 0 adds none.",
    )  # fmt: skip
    floor: float = setting(
        0.8, 0, 10, label="Noise floor", unit="%", step=0.1, affects="pixels", reach=(0, 5),
        hint="Detail fainter than this, in percent from black to white, counts as noise and is "
        "left as it is.",
    )  # fmt: skip
