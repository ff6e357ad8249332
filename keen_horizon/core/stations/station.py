"""What a station of the light path is: its settings, what it adds, what it says of itself.

A station is declared once, as an instance of a subclass of :class:`Station`, and listed once, in
:data:`..stations.STATIONS`. Treatment, schema, cache keys, warp chain, report, price line, light
path, keyframes, copies and the command line are all made from that list.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Generic, TypeVar

from pydantic import BaseModel, ConfigDict

from ..geometry.canvas import Canvas
from ..geometry.chain import WarpChain
from ..geometry.live_area import LiveArea
from ..geometry.stage import WarpStage
from ..motion.camera_motion import CameraMotion
from ..picture.pixel_stage import AnyStage
from ..types import Real
from .setting import Kind, SettingFacts, facts_of, has_effect, setting

Report = dict[str, Any]


class StationSettings(BaseModel):
    """Settings of a station; every one has a switch."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)

    on: bool = setting(True, label="On", affects="tracks", hint="Whether the station works at all.")


S = TypeVar("S", bound=StationSettings)


@dataclass(frozen=True)
class Scene:
    """The clip that a station works on: its ``canvas``, pixels as wide as they were recorded; its
    ``motion``; ``values`` gives a keyed setting (``station.name``) at each of its ``n`` frames.
    ``live`` is where the recorded picture is one, None for all over. ``chain`` is what it is drawn
    through, once that is settled."""

    canvas: Canvas
    motion: CameraMotion
    values: Callable[[str], Real]
    live: LiveArea | None = None
    chain: WarpChain | None = None

    def __len__(self) -> int:
        return len(self.motion)


@dataclass(frozen=True)
class Solved:
    """A clip whose ``chain`` is settled. ``corrections`` are the stages of the chain that steady
    it; ``needed`` ``(n,)`` the least zoom of each frame."""

    scene: Scene
    chain: WarpChain
    corrections: tuple[WarpStage, ...]
    needed: Real

    @property
    def motion(self) -> CameraMotion:
        return self.scene.motion


@dataclass(frozen=True)
class Figure:
    """A number as it is shown: what it is called, and its text with the unit. ``amber`` if an
    editor would wince; ``frame`` of the recording that it comes from; ``on_price_line`` if it
    stays in view while the clip is worked on."""

    label: str
    text: str
    amber: bool = False
    frame: int | None = None
    on_price_line: bool = False


@dataclass(frozen=True)
class Tools:
    """What a station's tools on the page are made of, for a ``kind`` of clip: names below the
    templates' and the scripts' folder."""

    kind: Kind
    template: str = ""
    script: str = ""


class Station(Generic[S]):
    """A station of the light path. Subclasses give the class variables and whichever of the methods
    they have something to say to."""

    name: ClassVar[str]
    title: ClassVar[str]
    icon: ClassVar[str]  # what is inside an SVG of 40 by 40
    Settings: type[S]
    serves: ClassVar[frozenset[Kind]] = frozenset({"flat"})
    tools: ClassVar[tuple[Tools, ...]] = ()

    # --- settings ---------------------------------------------------------------------------------

    def serving(self, kind: Kind) -> dict[str, SettingFacts]:
        """What is known of the settings that a kind of clip has, by their name; none of a station
        that does not serve it."""
        if kind not in self.serves:
            return {}
        return {n: facts for n, facts in self.facts.items() if kind in (facts.serves or (kind,))}

    def tools_for(self, kind: Kind) -> Tools:
        """Its tools for a kind of clip; without a template they are its settings, as declared."""
        return next((one for one in self.tools if one.kind == kind), Tools(kind))

    @cached_property
    def facts(self) -> dict[str, SettingFacts]:
        """What is known of each setting, by its name."""
        return {name: facts_of(self.Settings, name) for name in self.Settings.model_fields}

    def in_force(self, settings: S) -> S:
        """The settings with what has no effect as things are set back to its default, so that it
        makes no difference to what is worked out."""
        if not settings.on:
            return type(settings)(on=False)
        idle = {name for name in type(settings).model_fields if not has_effect(settings, name)}
        return type(settings)(**settings.model_dump(exclude=idle))

    def heeds_keys(self, settings: S) -> bool:
        """Whether its keyframes have any effect as things are set."""
        return settings.on

    def copied(self, settings: S) -> S:
        """What the settings are on another clip; what belongs to a clip is left out already."""
        return settings

    def fault(self, settings: S) -> str | None:
        """What is wrong with settings that are each in their range, in words; None if nothing."""
        return None

    # --- what it adds -----------------------------------------------------------------------------

    def recorded_canvas(self, settings: S, canvas: Canvas) -> Canvas:
        """The canvas of the recorded picture, if this station knows better than the file."""
        return canvas

    def live_area(self, settings: S, canvas: Canvas) -> LiveArea | None:
        """Where the recorded picture is one, if that is not all over."""
        return None

    def stages(self, settings: S, scene: Scene) -> tuple[WarpStage, ...]:
        """What it adds to the warp chain, the output's side first."""
        return ()

    def pixels(self, settings: S, scene: Scene) -> Sequence[AnyStage]:
        """What it does to pixels."""
        return ()

    # --- what it says -----------------------------------------------------------------------------

    def report(self, settings: S, solved: Solved) -> Report:
        """Its part of the report: see ``docs/formats.md``."""
        return {}

    def pixel_report(self, settings: S, scene: Scene) -> Report:
        """Its part of the report about what is done to pixels, by settings that affect nothing
        else: these do not ask for a clip to be solved again."""
        return {}

    def notes(self, settings: S, solved: Solved, report: Report) -> list[str]:
        """Plain sentences about what the numbers mean."""
        return []

    def warnings(self, settings: S, report: Report) -> list[str]:
        """Sentences where something costs more than an editor would want, each with the setting
        that helps most."""
        return []

    def summary(self, settings: S, report: Report | None) -> str:
        """What it does now, in a few words."""
        return "on" if settings.on else "off"

    def figures(self, settings: S, report: Report) -> list[Figure]:
        """Its numbers, those of the price line among them."""
        return []

    def details(self, settings: S, report: Report) -> dict[str, str]:
        """Further sentences that its tools show, by name."""
        return {}
