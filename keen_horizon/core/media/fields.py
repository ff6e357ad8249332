"""Interlaced footage: pictures of two fields, one of every other line, taken one after the other.

Recognised by what its file says, else by combs in its pictures: where something moves, lines differ
from both of their neighbours.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from ..errors import BadSetting
from ..types import AnyArray

Each = Literal["pair", "field", "whole"]
First = Literal["file", "upper", "lower"]
LOOKS, COLUMNS = 9, 480  # pictures that are looked at, and columns of them
STEP = 5.0  # code values by which a line of a comb differs from its neighbours, at least
SHARE = 0.002  # of a picture's places that may be in combs by chance
TIMES = 1.2  # as many combs, of fields that are further apart in time, at least
MOVED = 1.02  # as many combs as in the pictures themselves, where something moves
ALIKE = 0.8  # of the combs of fields that are close in time, that their own pictures have at least


@dataclass(frozen=True)
class Way:
    """A way to make frames of fields, in words: to choose it by, what it comes to, what a clip is
    called that is made so, and what to expect."""

    label: str
    words: str
    name: str
    hint: str


WAYS: dict[Each, Way] = {
    "pair": Way(
        "Each pair", "Each pair of fields a frame", "pairs of fields",
        "As many frames as pictures; the second field's lines are made up.",
    ),
    "field": Way(
        "Each field", "Each field a frame", "single fields",
        "Twice as many frames, with all of the movement; half of each one's lines are made up.",
    ),
    "whole": Way(
        "As they are", "Frames as they are", "whole frames",
        "Nothing is made up: where something moves, there are combs.",
    ),
}  # fmt: skip
ORDERS: dict[First, str] = {"file": "As it says", "upper": "Upper first", "lower": "Lower first"}


@dataclass(frozen=True)
class Fields:
    """How pictures of two fields become frames: one of ``each`` pair, one of each field (twice as
    many), or whole as they are; and which of the two lines' fields came ``first``, if not as the
    file has it."""

    each: Each = "pair"
    first: First = "file"

    @classmethod
    def from_json(cls, data: object) -> Fields:
        """Raises BadSetting for what is none."""
        if not isinstance(data, dict):
            raise BadSetting("fields are given as what becomes a frame, and which comes first.")
        each, first = data.get("each", "pair"), data.get("first", "file")
        if each not in get_args(Each) or first not in get_args(First):
            known = ", ".join((*get_args(Each), *get_args(First)))
            raise BadSetting(f"fields can be: {known}.")
        return cls(each, first)

    @property
    def parity(self) -> str:
        """As the deinterlacer has it."""
        return {"file": "auto", "upper": "tff", "lower": "bff"}[self.first]

    @property
    def count(self) -> int:
        """Frames that one picture becomes."""
        return 2 if self.each == "field" else 1


def times_of_fields(pts: NDArray[np.int64]) -> NDArray[np.int64]:
    """``(2 n,)`` times of the fields of ``n`` pictures, in half the unit of theirs: the second of
    a picture lies in the middle between two pictures.

    >>> times_of_fields(np.array([0, 10, 20])).tolist()
    [0, 10, 20, 30, 40, 50]
    """
    after = np.append(pts[1:], 2 * pts[-1] - pts[-2])
    return np.stack([2 * pts, pts + after], axis=1).reshape(-1)


def order_told(lumas: Sequence[AnyArray]) -> First | None:
    """Which field comes first in successive pictures ``(h, w)``, 8 bits, as far as they move; None
    if they are no pictures of two fields.

    Two successive pictures are woven anew, the lower field of one with the upper one of the next,
    and the other way about. Of fields, one such pair is closer in time, and has as few combs as the
    pictures themselves, the other has more; of whole pictures, both are alike, and have more than
    the pictures themselves.
    """
    combed = upper = 0
    lumas = [_middle(luma) for luma in lumas]
    for one, after in pairwise(lumas):
        own = (_in_combs(one) + _in_combs(after)) / 2
        ways = _in_combs(_woven(after, one)), _in_combs(_woven(one, after))
        near, far = min(ways), max(ways)
        parted = far > TIMES * near + SHARE and own > ALIKE * near
        # All over a texture everything differs from everything; there, a line differs less only
        # from those of its own field. What stands still, as a drawing of lines, tells nothing.
        natural = max(_in_combs(one[::2]), _in_combs(one[1::2]))
        moves = far > MOVED * own + SHARE
        if parted or (moves and own > TIMES * natural + SHARE):
            combed += 1
            upper += 1 if ways[0] == near else -1
    if combed < max((len(lumas) - 1) / 2, 2):
        return None
    return "upper" if upper >= 0 else "lower"


def _middle(luma: AnyArray) -> AnyArray:
    """So many columns as tell enough."""
    aside = max(0, (luma.shape[1] - COLUMNS) // 2)
    return luma[:, aside : luma.shape[1] - aside]


def _woven(upper: AnyArray, lower: AnyArray) -> AnyArray:
    """The upper field of one picture and the lower one of another."""
    woven = lower.copy()
    woven[::2] = upper[::2]
    return woven


def _in_combs(luma: AnyArray) -> float:
    """The share of places that differ from those above and below to the same side."""
    step = np.diff(luma.astype(np.float32), axis=0)
    return float(np.mean(-step[:-1] * step[1:] > STEP**2))
