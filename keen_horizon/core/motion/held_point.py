"""Points of the picture that are to be held: where they were placed."""

from __future__ import annotations

from pydantic import Field

from ..values import Place, Value


class Placing(Value):
    """Where a held point is at a frame."""

    frame: int = Field(ge=0, description="Frame of the recording.")
    at: Place = Field(description="The place, as shares of the picture's size.")


class HeldPoint(Placing):
    """A point of the picture that is followed, to be held."""

    pattern: float = Field(
        0.08, ge=0.02, le=0.5, description="Side of the pattern box, as a share of the height."
    )
    search: float = Field(
        0.08, ge=0.01, le=0.5, description="How far around it is looked for, likewise."
    )
    again: tuple[Placing, ...] = Field(
        (), max_length=50, description="Frames at which it was placed again by hand."
    )
