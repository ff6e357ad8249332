"""Bare edges from neighbours, against the picture that would have been there."""

import cv2
import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.decode import Picture
from keen_horizon.core.motion.camera_motion import CameraMotion
from keen_horizon.core.path.edge_fill_plan import Lenders
from keen_horizon.core.picture.edge_fill import warp_with_lenders
from keen_horizon.core.picture.painter import Painter
from keen_horizon.core.picture.warp import sampler_of
from keen_horizon.core.picture.working_space import working_space
from keen_horizon.core.pipeline import solve
from keen_horizon.core.treatment import Treatment, parse

from ..conftest import texture
from ..motions import chain_of, motion_of

N = 40
CANVAS = Canvas(320, 240)
PLAIN = Painter(working_space({}, 8, 240))


def jolted(cut: int | None = None) -> CameraMotion:
    """A still camera that is jolted by 24 px at frame 20."""
    place = np.zeros(N, complex)
    place[20] = 24 - 10j
    return motion_of(place, cuts=np.array([] if cut is None else [cut], np.intp))


def treatment(edge: str, **frame) -> Treatment:
    return parse(
        {
            "motion": {"aim": "lock_off", "calm": 100.0},
            "frame": {"edge": edge, "borrow_width": 15.0, **frame},
        }
    )


def test_borrowing_spares_zoom_and_says_how_much_was_borrowed():
    fill = solve(jolted(), CANVAS, treatment("fill")).report
    lent = solve(jolted(), CANVAS, treatment("borrow")).report
    assert fill["zoom"] > 1.1
    assert lent["zoom"] < 1.03
    assert lent["borrowed_most"] > 4
    assert lent["borrowed"] == pytest.approx(lent["borrowed_most"] / N, rel=0.2)
    assert fill["borrowed"] == 0


def test_a_width_limit_and_cuts_leave_the_rest_to_zoom():
    narrow = solve(jolted(), CANVAS, treatment("borrow", borrow_width=2.0)).report
    assert narrow["zoom"] > 1.05
    alone = Lenders(jolted(cut=21), 18)
    assert all(other < 21 for other in alone.of(20))
    assert set(alone.of(30)) <= set(range(21, N))
    near = Lenders(jolted(), 3)
    assert max(abs(other - 20) for other in near.of(20)) == 3


def shifted(*places: complex) -> WarpChain:
    """A chain that shifts each frame."""
    b = np.array(places, complex)
    return chain_of(Similarities(np.ones(len(b), complex), b), canvas=CANVAS)


def picture(wide: np.ndarray, at: complex, gain: float = 1.0) -> Picture:
    m = np.array([[1.0, 0, 100 - at.real], [0, 1, 100 - at.imag]])
    seen = cv2.warpAffine(wide, m, (320, 240), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)
    luma = np.clip(seen * gain, 0, 255).astype(np.uint8)
    grey = np.full((120, 160), 128, np.uint8)
    return Picture(0, 0, (luma, grey, grey), (2, 2), (0.0, 0.5), "yuv420p")


def test_what_is_borrowed_looks_as_the_picture_would_have():
    wide = cv2.GaussianBlur(cv2.cvtColor(texture(520, 440), cv2.COLOR_BGR2GRAY), (0, 0), 2)
    chain = shifted(24.3 - 10.6j, 0)
    own, other = picture(wide, 24.3 - 10.6j), picture(wide, 0j, gain=0.9)
    lent = shifted(0)
    out = (np.zeros((240, 320), np.uint8), *(np.zeros((120, 160), np.uint8) for _ in range(2)))
    share = warp_with_lenders(own, sampler_of(chain[0:1]), [(other, sampler_of(lent))], out, PLAIN)
    true = picture(wide, 0j).planes[0]
    bare = np.zeros((240, 320), bool)
    bare[:, -24:] = bare[:10] = True
    assert share == pytest.approx(bare.mean(), rel=0.2)
    off = out[0].astype(float) - true
    assert np.sqrt((off[bare] ** 2).mean()) < 0.03 * 255
    assert np.sqrt((off[~bare] ** 2).mean()) < 2.0
    assert (out[1] == 128).all()


def test_what_nobody_covers_repeats_the_edge():
    wide = cv2.cvtColor(texture(520, 440), cv2.COLOR_BGR2GRAY)
    chain = shifted(30)
    own = picture(wide, 0j)
    out = (np.zeros((240, 320), np.uint8), *(np.zeros((120, 160), np.uint8) for _ in range(2)))
    assert warp_with_lenders(own, sampler_of(chain), [], out, PLAIN) == 0.0
    assert np.abs(out[0][:, -1].astype(int) - own.planes[0][:, -1]).max() <= 2
