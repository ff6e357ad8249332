"""YUV as recorded to linear light and back, for pictures on which pixel stages are at work.

Matrices and ranges: ITU-T H.273; transfer functions: ITU-R BT.709 and BT.601 (the same curve), IEC
61966-2-1 (sRGB), ITU-R BT.2100 (PQ and HLG). A clip without a tag counts as BT.709 above 576 lines
and BT.601 below, as players have it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.decode import Plane, working_format
from ..media.probe import Probe
from ..types import Real
from .warp import Places, chroma_matrix

LinearPicture = NDArray[np.float32]  # (height, width, 3) red, green, blue; linear light, 1 is white

LUMA_SHARES = {  # of red and blue, by H.273's matrix number
    1: (0.2126, 0.0722), 4: (0.30, 0.11), 5: (0.299, 0.114), 6: (0.299, 0.114),
    7: (0.212, 0.087), 9: (0.2627, 0.0593), 10: (0.2627, 0.0593),
}  # fmt: skip
FULL_RANGE = 2  # H.273's number, as the decoder tells it
SRGB, PQ, HLG = 13, 16, 18
LIKE_709 = (1, 6, 14, 15)  # the curve of BT.709, under the names of BT.601 and BT.2020 too
UNTOLD, WIDE_PRIMARIES = 2, 9
_NAMES = {SRGB: "sRGB", PQ: "PQ", HLG: "HLG"}
STANDARD_LINES = 576  # up to which a clip without a tag counts as standard definition
Curve = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class WorkingSpace:
    """How one clip's code values and linear light belong together; see :func:`working_space`."""

    depth: int
    full_range: bool
    shares: tuple[float, float]
    transfer: int

    def to_linear(
        self, planes: tuple[Plane, ...], chroma: tuple[int, int], site: tuple[float, float]
    ) -> LinearPicture:
        """The whole picture, chroma interpolated at its true ``site``."""
        return self._linear(self._colours(planes, chroma, site)).astype(np.float32)

    def _colours(
        self, planes: tuple[Plane, ...], chroma: tuple[int, int], site: tuple[float, float]
    ) -> LinearPicture:
        """Red, green and blue in code values, from black 0 to white 1."""
        luma = planes[0]
        height, width = luma.shape
        large = [at_full_size(plane, chroma, site, width, height) for plane in planes[1:]]
        y, u, v = (self._scaled(p, k > 0) for k, p in enumerate([luma, *large]))
        kr, kb = self.shares
        red, blue = y + 2 * (1 - kr) * v, y + 2 * (1 - kb) * u
        green = (y - kr * red - kb * blue) / (1 - kr - kb)
        return np.asarray(np.stack([red, green, blue], axis=-1), np.float32)

    def to_bgr(
        self, planes: tuple[Plane, ...], chroma: tuple[int, int], site: tuple[float, float]
    ) -> NDArray[np.uint8]:
        """``(height, width, 3)`` blue, green, red in code values of eight bits, by no other curve
        than the clip's own."""
        coded = self._colours(planes, chroma, site)[..., ::-1]
        return np.asarray(cv2.convertScaleAbs(cv2.max(coded, 0.0), alpha=255))

    def from_linear(
        self, picture: LinearPicture, out: tuple[Plane, ...], chroma: tuple[int, int],
        site: tuple[float, float],
    ) -> None:  # fmt: skip
        """Fill planes with a picture of their size; chroma averaged about its ``site``."""
        coded = self._coded(np.clip(picture, 0.0, None))
        kr, kb = self.shares
        y = kr * coded[..., 0] + (1 - kr - kb) * coded[..., 1] + kb * coded[..., 2]
        u, v = (coded[..., 2] - y) / (2 * (1 - kb)), (coded[..., 0] - y) / (2 * (1 - kr))
        for k, (values, plane) in enumerate(zip((y, u, v), out, strict=True)):
            if k:
                values = at_chroma_size(values, chroma, site, plane.shape)
            np.copyto(plane, self._quantised(values, k > 0), casting="unsafe")

    def grey_value(self, codes: Real) -> Real:
        """Luma codes from black 0 to white 1."""
        _, low, span, _ = self._levels(False)
        return (codes - low) / span

    def light(self, value: Real) -> Real:
        """The linear light of greys from black 0 to white 1."""
        return self._linear(value)

    def raise_light(
        self, planes: tuple[Plane, ...], stops: NDArray[np.float32], places: Places, most: float
    ) -> None:
        """Multiply the light of a picture, or of its luma alone, by 2 to the power of ``stops``, in
        place.

        ``stops`` are those at ``places``, from 0 to ``most``. Luma follows the transfer curve;
        chroma, what the curve does to small differences at that luma. For colours of which every
        part lies on the power law of BT.709 or sRGB that is the same as a gain of linear light;
        for greys it always is.
        """
        height, width = planes[0].shape
        luma_table, chroma_table = _gain_tables(self, most)
        scaled = stops * np.float32((GAIN_STEPS - 1) / most)
        step = _whole(places.spread(scaled, width, height))
        luma, chroma = planes[0], planes[1:]
        if chroma:
            rows, columns = chroma[0].shape
            across, down = round(width / columns), round(height / rows)
            at = step[::down, ::across][:rows, :columns].astype(np.uint32)
            at *= chroma_table.shape[1]
            at += luma[::down, ::across][:rows, :columns]
            factor = chroma_table.ravel().take(at, mode="clip")
        index = step.astype(np.uint32)
        index *= luma_table.shape[1]
        index += luma
        luma_table.ravel().take(index, out=luma, mode="clip")
        whole, _, _, grey = self._levels(True)
        for plane in chroma:
            changed = (plane.astype(np.float32) - np.float32(grey)) * factor + np.float32(grey)
            np.copyto(plane, np.clip(np.rint(changed), 0, whole), casting="unsafe")

    def _scaled(self, plane: np.ndarray, is_chroma: bool) -> np.ndarray:
        _, low, span, grey = self._levels(is_chroma)
        return (plane.astype(np.float32) - (grey if is_chroma else low)) / span

    def _quantised(self, values: np.ndarray, is_chroma: bool) -> np.ndarray:
        whole, low, span, grey = self._levels(is_chroma)
        return np.clip(np.rint(values * span + (grey if is_chroma else low)), 0, whole)

    @property
    def luma_span(self) -> float:
        """Codes from black to white."""
        return self._levels(False)[2]

    @property
    def chroma_span(self) -> float:
        """Codes from end to end of chroma."""
        return self._levels(True)[2]

    @property
    def black(self) -> float:
        """The code of black."""
        return self._levels(False)[1]

    @property
    def grey(self) -> float:
        """The code of chroma that has no colour."""
        return self._levels(True)[3]

    def round_into(self, plane: Plane, values: np.ndarray) -> None:
        """Fill a plane with codes, rounded, none beyond the largest."""
        cv2.add(values, 0.0, dst=plane, dtype=self.code_type)
        self.bound(plane)

    @property
    def code_type(self) -> int:
        """OpenCV's number for the type of codes."""
        return cv2.CV_8U if self.depth == 8 else cv2.CV_16U

    def bound(self, plane: Plane) -> None:
        """Hold a plane to the largest code, in place; of eight bits it cannot be above."""
        if self.depth > 8:
            np.minimum(plane, 2**self.depth - 1, out=plane)

    def _levels(self, is_chroma: bool) -> tuple[float, float, float, float]:
        """Largest code, black, from black to white (of chroma, from end to end), and grey."""
        unit = 2.0 ** (self.depth - 8)
        whole = 2.0**self.depth - 1
        if self.full_range:
            return whole, 0.0, whole, 2.0 ** (self.depth - 1)
        return whole, 16 * unit, (224 if is_chroma else 219) * unit, 128 * unit

    def _linear(self, coded: np.ndarray) -> np.ndarray:
        return _TO_LINEAR.get(self.transfer, _bt709_to_linear)(np.clip(coded, 0.0, None))

    def _coded(self, linear: np.ndarray) -> np.ndarray:
        return _FROM_LINEAR.get(self.transfer, _bt709_from_linear)(linear)


GAIN_STEPS = 1024  # of a table of gains


def _whole(values: NDArray[np.float32]) -> NDArray[np.uint16]:
    return np.asarray(np.rint(values), np.uint16)


@lru_cache(maxsize=4)
def _gain_tables(space: WorkingSpace, most: float) -> tuple[NDArray[Any], NDArray[np.float32]]:
    """By steps of stops up to ``most`` and code value: the luma that becomes of it, and the factor
    of chroma beside it."""
    whole, low, span, _ = space._levels(False)
    value = space.grey_value(np.arange(whole + 1))
    gain = np.exp2(np.linspace(0, most, GAIN_STEPS))[:, None]

    def raised(v: np.ndarray) -> np.ndarray:
        # Below black there is no light: such codes stay as far below.
        return np.where(v > 0, space._coded(gain * space._linear(np.maximum(v, 0))), v)

    luma = np.clip(np.rint(raised(value) * span + low), 0, whole)
    step = 0.5 / span
    factor = (raised(value + step) - raised(np.maximum(value - step, 0))) / (
        np.minimum(step, value + step).clip(1e-9) + step
    )
    factor = np.where(value > 0, factor, gain)
    kind = np.uint8 if space.depth == 8 else np.uint16
    return luma.astype(kind), factor.astype(np.float32)


def working_space(colour: dict[str, Any], depth: int, lines: int) -> WorkingSpace:
    """The working space of a clip by its tags (``matrix``, ``range``, ``transfer``, numbers of
    H.273), bits a sample, and lines."""
    matrix = colour.get("matrix")
    if matrix not in LUMA_SHARES:
        matrix = 6 if lines <= STANDARD_LINES else 1
    return WorkingSpace(
        depth, colour.get("range") == FULL_RANGE, LUMA_SHARES[matrix], colour.get("transfer") or 1
    )


def space_of(probe: Probe) -> WorkingSpace:
    """The working space of a recording, at the depth that it is worked on."""
    depth = 10 if working_format(probe.pixel_format).endswith("10le") else 8
    return working_space(probe.colour, depth, probe.height)


def curve_words(colour: dict[str, Any]) -> str:
    """By which curve light is told from a clip's code values, and how that is known."""
    transfer = colour.get("transfer")
    name = _NAMES.get(transfer or UNTOLD, "BT.709")
    if transfer in _NAMES or transfer in LIKE_709:
        return f"Light by the curve of {name}, as the clip's tag says."
    if colour.get("primaries") == WIDE_PRIMARIES:
        return (
            "The clip's colours are those of BT.2020, but it does not say by which curve its light "
            "is coded; that of BT.709 is taken, which is wrong if it is PQ or HLG. Tag the file, "
            "and take it in again."
        )
    told = "has no tag" if transfer in (None, UNTOLD) else "has a tag that is not known"
    return f"Light by the curve of BT.709: the clip {told}."


def at_full_size(
    plane: Plane, chroma: tuple[int, int], site: tuple[float, float], width: int, height: int
) -> np.ndarray:
    """What is known at chroma samples, interpolated at each pixel ``(height, width)``."""
    if chroma == (1, 1):
        return plane
    m = np.linalg.inv(chroma_matrix(chroma, site))
    return np.asarray(
        cv2.warpAffine(
            plane, m[:2], (width, height), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
            borderMode=cv2.BORDER_REPLICATE,
        )
    )  # fmt: skip


def at_chroma_size(
    values: np.ndarray, chroma: tuple[int, int], site: tuple[float, float], shape: tuple[int, ...]
) -> np.ndarray:
    """What is known at each pixel, averaged about chroma samples, of which there are ``shape``."""
    if chroma == (1, 1):
        return values
    # A tent of the subsampling's width about each chroma sample.
    kernels = []
    for factor, at in zip(chroma, site, strict=True):
        tent = [1, 3, 3, 1] if (at % 1) == 0.5 else [1, 2, 1]
        kernel = np.array(tent if factor == 2 else [1], np.float32)
        kernels.append(kernel / kernel.sum())
    across, down = kernels
    anchor = (len(across) - 1) // 2, (len(down) - 1) // 2
    mean = cv2.sepFilter2D(
        values, cv2.CV_32F, across, down, anchor=anchor, borderType=cv2.BORDER_REPLICATE
    )
    return np.ascontiguousarray(mean[:: chroma[1], :: chroma[0]][: shape[0], : shape[1]])


def _bt709_to_linear(v: np.ndarray) -> np.ndarray:
    return np.where(v < 0.081, v / 4.5, ((v + 0.099) / 1.099) ** (1 / 0.45))


def _bt709_from_linear(v: np.ndarray) -> np.ndarray:
    return np.where(v < 0.018, 4.5 * v, 1.099 * v**0.45 - 0.099)


def _srgb_to_linear(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)


def _srgb_from_linear(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.0031308, 12.92 * v, 1.055 * v ** (1 / 2.4) - 0.055)


_M1, _M2 = 2610 / 16384, 2523 / 32
_C1, _C2, _C3 = 3424 / 4096, 2413 / 128, 2392 / 128
_PQ_WHITE = 203 / 10000  # of the curve's peak: reference white, ITU-R BT.2408


def _pq_to_linear(v: np.ndarray) -> np.ndarray:
    p = np.clip(v, 0, 1) ** (1 / _M2)
    return (np.maximum(p - _C1, 0) / (_C2 - _C3 * p)) ** (1 / _M1) / _PQ_WHITE


def _pq_from_linear(v: np.ndarray) -> np.ndarray:
    p = np.clip(v * _PQ_WHITE, 0, 1) ** _M1
    return ((_C1 + _C2 * p) / (1 + _C3 * p)) ** _M2


_A, _B, _C = 0.17883277, 0.28466892, 0.55991073


def _hlg_to_linear(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.5, v * v / 3, (np.exp((v - _C) / _A) + _B) / 12)


def _hlg_from_linear(v: np.ndarray) -> np.ndarray:
    low = np.sqrt(3 * np.clip(v, 0, 1 / 12))
    return np.where(v <= 1 / 12, low, _A * np.log(np.maximum(12 * v - _B, 1e-9)) + _C)


_TO_LINEAR: dict[int, Curve] = {SRGB: _srgb_to_linear, PQ: _pq_to_linear, HLG: _hlg_to_linear}
_FROM_LINEAR: dict[int, Curve] = {
    SRGB: _srgb_from_linear, PQ: _pq_from_linear, HLG: _hlg_from_linear,
}  # fmt: skip
