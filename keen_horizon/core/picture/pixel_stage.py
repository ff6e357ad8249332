"""One stage of what is done to pixels: the same rule for whole arrays and for a graphics card.

Pixel stages run where the light did. Those at the *source* end belong to the recorded picture: they
go by the place in it that a pixel is looked up at. Those at the *output* end go by the place in
what is delivered. They speak of linear light. One that can say the same in code values, which is
many times faster, is a :class:`CodedStage`; where there are no others, pictures never leave YUV.
A :class:`ColourStage` comes before them all: it says where red and blue are looked up. A
:class:`DetailStage` comes late, and sees what lies about a pixel; a :class:`GrainStage` comes last,
and sees the recorded picture.
"""

from __future__ import annotations

from typing import ClassVar, Literal, Protocol, runtime_checkable

from ..media.decode import Picture, Plane
from ..types import AnyArray, Real
from .warp import Places
from .working_space import LinearPicture, WorkingSpace


class PixelStage(Protocol):
    """A change of pixels, frame by frame."""

    end: ClassVar[Literal["source", "output"]]
    name: ClassVar[str]
    """Of the function in :attr:`shader`, which is unique among all stages."""
    shader: ClassVar[str]
    """GLSL: ``vec3 name(vec3 light, vec2 at)``, the same rule; ``at`` is the share of the picture's
    size, and ``light`` linear, or code values of sRGB if the rule is ``coded``, which spares
    graphics cards the curve both ways. Its uniforms are called ``name_…``."""
    coded: ClassVar[bool]

    def apply(self, picture: LinearPicture, places: Places, frame: int) -> LinearPicture:
        """The output picture of one ``frame`` of the range, changed; may work in place. ``places``
        tells where in the source its pixels come from."""
        ...

    def uniforms(self) -> dict[str, Real]:
        """The shader's uniforms by their names, at all frames at once: ``(n,)`` numbers, or
        ``(n, k)`` with ``k`` of up to four."""
        ...


@runtime_checkable
class CodedStage(Protocol):
    """A pixel stage that knows its rule in code values too."""

    def apply_coded(
        self, planes: tuple[Plane, ...], space: WorkingSpace, places: Places, frame: int
    ) -> None:
        """As :meth:`PixelStage.apply`, on the planes of the output picture, in place."""
        ...


class ColourStage(Protocol):
    """Where red and blue lie off green in the recorded picture. Each colour is then sampled once,
    at its own place."""

    end: ClassVar[Literal["colours"]]
    name: ClassVar[str]
    shader: ClassVar[str]
    """GLSL: ``vec2 name(vec2 at, float colour)``, the share of the picture's size at which red
    (``colour`` 0) or blue (1) is looked up where green is at ``at``."""

    def parted(self, points: AnyArray, frame: int) -> Real:
        """``(..., 2, 2)`` by how many pixels, x and y, red and blue lie off green at pixels
        ``(..., 2)`` of one ``frame`` of the range."""
        ...

    def uniforms(self) -> dict[str, Real]:
        """As :meth:`PixelStage.uniforms`."""
        ...


class RecordedStage(Protocol):
    """What becomes of the colours of the recorded picture by what lies about each pixel of it,
    before it is sampled."""

    end: ClassVar[Literal["recorded"]]
    name: ClassVar[str]
    shader: ClassVar[str]
    """GLSL: ``vec3 name(vec3 seen, sampler2D from, vec2 at)``, code values 0 to 1; what lies about
    ``at`` is had by ``texture2D(from, …)``. Luma is left alone."""

    def apply(self, picture: Picture, space: WorkingSpace, frame: int) -> Picture:
        """The recorded picture of one ``frame`` of the range, changed."""
        ...

    def uniforms(self) -> dict[str, Real]:
        """As :meth:`PixelStage.uniforms`."""
        ...


class DetailStage(Protocol):
    """What becomes of the luma of a delivered picture by what lies about each pixel."""

    end: ClassVar[Literal["detail"]]
    name: ClassVar[str]
    reach: ClassVar[float]
    """Of the blur that detail is told from: standard deviation, source pixels."""
    shader: ClassVar[str]
    """GLSL: ``float name(float here, float detail, float low, float high)``, a luma of code values
    0 to 1; ``detail`` is the picture less its blur, ``low`` and ``high`` the least and greatest
    about it."""

    def apply(self, luma: Plane, space: WorkingSpace, frame: int) -> None:
        """Change a luma plane of one ``frame`` of the range, in place."""
        ...

    def uniforms(self) -> dict[str, Real]:
        """As :meth:`PixelStage.uniforms`."""
        ...


class GrainStage(Protocol):
    """What is added to the luma of a delivered picture, last of all, for its noise to be that of
    the recorded one."""

    end: ClassVar[Literal["grain"]]
    name: ClassVar[str]
    shader: ClassVar[str]
    """Nothing: a proxy shows no noise."""

    def apply(
        self, luma: Plane, recorded: Plane, space: WorkingSpace, frame: int, seed: int
    ) -> None:
        """Change a luma plane of one ``frame`` of the range, in place; always the same with a
        ``seed``."""
        ...

    def uniforms(self) -> dict[str, Real]:
        """Nothing."""
        ...


AnyStage = PixelStage | ColourStage | RecordedStage | DetailStage | GrainStage
