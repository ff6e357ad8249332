"""Subjects of a picture, as an editor points at them: an area drawn, or a place."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ..values import Place, Value


class Lasso(Value):
    """An area drawn around a subject at one frame; it travels with the marks inside."""

    kind: Literal["lasso"] = "lasso"
    frame: int = Field(ge=0, description="Frame of the recording at which it was drawn.")
    outline: tuple[Place, ...] = Field(
        min_length=3, max_length=400, description="Corners, as shares of the picture's size."
    )


class Group(Value):
    """The marks that move together with the one nearest to a place."""

    kind: Literal["group"] = "group"
    frame: int = Field(ge=0, description="Frame of the recording at which it was pointed at.")
    at: Place = Field(description="The place, as shares of the picture's size.")


Subject = Annotated[Lasso | Group, Field(discriminator="kind")]
