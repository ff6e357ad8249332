"""Drawing one picture: sampled through a warp, then changed by the pixel stages."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import cv2
import numpy as np

from ..media.decode import Picture, Plane
from .colours import parted_samplers, warp_colours
from .pixel_stage import AnyStage, CodedStage
from .warp import Sampler, warp_planes
from .working_space import WorkingSpace


@dataclass(frozen=True)
class Painter:
    """How the pictures of a clip are drawn, in its working ``space``. ``first`` is the frame of the
    recording that its range begins with."""

    space: WorkingSpace
    stages: tuple[AnyStage, ...] = ()
    first: int = 0

    def paint(
        self, picture: Picture, sampler: Sampler, out: tuple[Plane, ...], *, bare: bool
    ) -> None:
        """Fill ``out`` as :func:`.warp_planes` does, with what is done at the source's end."""
        for stage in self._at("recorded"):
            picture = stage.apply(picture, self.space, self._frame(picture))
        colours = self._at("colours")
        if colours:
            height, width = out[0].shape
            source = sampler.places(width, height).source
            parted = sum(stage.parted(source, self._frame(picture)) for stage in colours)
            samplers = parted_samplers(sampler, source, np.asarray(parted))
            warp_colours(picture, samplers, out, self.space, bare=bare)
        else:
            warp_planes(picture, sampler, out, bare=bare, full_range=self.space.full_range)
        self._apply("source", picture, sampler, out)

    def finish(self, picture: Picture, sampler: Sampler, out: tuple[Plane, ...]) -> None:
        """What is done to a whole picture at the output's end."""
        self._apply("output", picture, sampler, out)
        for stage in self._at("detail"):
            stage.apply(out[0], self.space, self._frame(picture))
        for stage in self._at("grain"):
            frame = self._frame(picture)
            stage.apply(out[0], picture.planes[0], self.space, frame, picture.index)

    def _frame(self, picture: Picture) -> int:
        """Which frame of the range a picture is."""
        return picture.index - self.first

    def _at(self, end: str) -> list[Any]:
        """The stages at one end; which that is tells what they can do."""
        return [stage for stage in self.stages if stage.end == end]

    def _apply(
        self, end: Literal["source", "output"], picture: Picture, sampler: Sampler,
        out: tuple[Plane, ...],
    ) -> None:  # fmt: skip
        stages = self._at(end)
        if not stages:
            return
        height, width = out[0].shape
        places = sampler.places(width, height)
        frame = self._frame(picture)
        coded = [stage for stage in stages if isinstance(stage, CodedStage)]
        if len(coded) == len(stages):
            for stage in coded:
                stage.apply_coded(out, self.space, places, frame)
            return
        site = picture.natural_site
        light = self.space.to_linear(out, picture.chroma, site)
        for each in stages:
            light = each.apply(light, places, frame)
        positive = np.asarray(cv2.max(light, 0.0), np.float32)
        self.space.from_linear(positive, out, picture.chroma, site)
